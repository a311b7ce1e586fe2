"""Measurements of this machine, as ratios within one run."""

from ropebell.bench.measure import report, run

__all__ = ["report", "run"]
