"""Lightmap coordinates, packing into pages, and the texel table."""
