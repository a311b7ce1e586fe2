"""Rope Bell: bake the light of a level, see it, find what is wrong with it."""

__version__ = "0.1.0"
