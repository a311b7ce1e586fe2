"""The sample level, the Tide Mill, made by code."""
