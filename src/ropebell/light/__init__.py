"""Rays, direct light, transport, the solve, and the fields it gives.

Inside this package positions are float32 and relative to the level's centre (`RaySpace.centre`), so that
levels far from the origin keep their precision. N is the number of texels, R of gather rays, S of footprint
samples per texel, T of triangles.
"""
