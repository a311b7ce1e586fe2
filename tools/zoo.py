"""Run every command on every level of the zoo: `./run zoo [NAME…] [--out FILE]`. Exit status 1 if any of them ends in
a traceback, in a status that is not of the contract, after more than a minute, or without the words it must say."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from odd_levels import ZOO
from visits import visit


def main() -> int:
    """Visit them, and say which did not do well."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("names", nargs="*")
    options.add_argument("--quick", action="store_true", help="no build")
    options.add_argument("--verbose", action="store_true")
    chosen = options.parse_args()
    began, runs, bad = time.monotonic(), 0, 0
    for name in chosen.names or ZOO:
        with tempfile.TemporaryDirectory(prefix="ropebell-zoo-") as folder:
            for run in visit(name, Path(folder), not chosen.quick):
                runs += 1
                bad += bool(run.trouble)
                if run.trouble or chosen.verbose:
                    print(f"{name:24} {run.command:9} {run.status:4} {run.seconds:5.1f} s  {run.trouble or 'well'}")
                    print("    " + run.said[-600:].replace("\n", "\n    "), flush=True)
    print(f"{runs} runs on {len(chosen.names or ZOO)} levels, {bad} not well, {time.monotonic() - began:.0f} s")
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
