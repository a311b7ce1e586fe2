"""Recipes, stages and digests, the build process, its journal and what it leaves behind."""
