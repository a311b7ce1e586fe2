"""Shadow rays for one light and a run of texels: where they go and what each would bring, white, unit strength.

Every kernel fills the rays of texels `first` … `end` and returns how many there are. Directions are not of unit
length: the light lies at parameter 1, except for directional lights, which lie at infinity.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ropebell.light.piercing import weights_along, wrapped
from ropebell.light.sampling import frame, hash32, sobol
from ropebell.light.surface import sample_point
from ropebell.light.triangle_light import SMALL_ANGLE, directions_to, solid_angle, spherical_sample

# Emitters of up to this many triangles are sampled by solid angle, larger ones by area.
FEW_TRIANGLES = 64


@njit(cache=True, nogil=True)
def window(distance: float, reach: float) -> float:
    """The fade to nothing at a light's reach: max(min(1 − (d/r)⁴, 1), 0), `KHR_lights_punctual`."""
    if reach <= 0.0:
        return 1.0
    ratio = distance / reach
    return max(1.0 - ratio * ratio * ratio * ratio, 0.0)


@njit(cache=True, nogil=True)
def cone(cosine: float, inner: float, outer: float) -> float:
    """Angular fade of a spot: clamp((cos − cos outer) / (cos inner − cos outer))², `KHR_lights_punctual`.

    Args:
        inner, outer: cosines of the half angles.
    """
    fade = min(max((cosine - outer) / max(inner - outer, 1e-4), 0.0), 1.0)
    return fade * fade


@njit(cache=True, nogil=True)
def point_rays(
    vertices: NDArray, normals: NDArray, faces: NDArray, extent: float, count: NDArray, triangle: NDArray,
    weights: NDArray, first: int, end: int, light: NDArray, axis: NDArray, reach: float, inner: float,
    outer: float, origins: NDArray, directions: NDArray, value: NDArray, owner: NDArray,
) -> int:  # fmt: skip
    """Rays to a point or spot light; E = cos θ / d² per candela.

    Args:
        light: (3,) position relative to the centre.
        axis: (3,) unit direction of a spot.
        inner, outer: cosines of its half angles; outer −2 for a point light.
    """
    made = 0
    for i in range(first, end):
        if reach > 0.0 and count[i] > 0:
            # Most texels of a large level are out of a lamp's reach; two points tell.
            far, spread = _distance_and_spread(vertices, triangle[i], weights[i], count[i], light)
            if far - spread > reach:
                continue
        for s in range(count[i]):
            t = triangle[i, s]
            x, y, z, nx, ny, nz = sample_point(vertices, normals, faces, t, weights[i, s, 0], weights[i, s, 1], extent)
            dx, dy, dz = light[0] - x, light[1] - y, light[2] - z
            square = dx * dx + dy * dy + dz * dz
            if square < 1e-12 or dx * faces[t, 0] + dy * faces[t, 1] + dz * faces[t, 2] <= 0.0:
                continue
            distance = math.sqrt(square)
            brought = (dx * nx + dy * ny + dz * nz) / (distance * square) * window(distance, reach)
            if outer > -1.5:
                along = -(dx * axis[0] + dy * axis[1] + dz * axis[2]) / distance
                brought *= cone(along, inner, outer)
            if brought <= 0.0:
                continue
            origins[made, 0], origins[made, 1], origins[made, 2] = x, y, z
            directions[made, 0], directions[made, 1], directions[made, 2] = dx, dy, dz
            value[made], owner[made] = brought / count[i], i
            made += 1
    return made


@njit(cache=True, nogil=True)
def _distance_and_spread(vertices: NDArray, triangle: NDArray, weights: NDArray, count: int, light: NDArray) -> tuple:
    """Distance of a texel's first sample from a light, and a bound on how much nearer its others can be."""
    far, spread = 0.0, 0.0
    for axis in range(3):
        p0 = _coordinate(vertices, triangle[0], weights[0], axis)
        p1 = _coordinate(vertices, triangle[count - 1], weights[count - 1], axis)
        far += (p0 - light[axis]) ** 2
        spread += (p0 - p1) ** 2
    # Samples of a texel lie within its square, of which the lattice's ends span most of one side.
    return math.sqrt(far), 3.0 * math.sqrt(spread)


@njit(cache=True, nogil=True)
def _coordinate(vertices: NDArray, t: int, weights: NDArray, axis: int) -> float:
    b, c = weights[0], weights[1]
    return (1.0 - b - c) * vertices[t, 0, axis] + b * vertices[t, 1, axis] + c * vertices[t, 2, axis]


@njit(cache=True, nogil=True)
def round_light_rays(
    vertices: NDArray, normals: NDArray, faces: NDArray, extent: float, count: NDArray, triangle: NDArray,
    weights: NDArray, first: int, end: int, light: NDArray, axis: NDArray, reach: float, inner: float,
    outer: float, radius: float, per_texel: int, seed: int, key: NDArray, origins: NDArray, directions: NDArray,
    value: NDArray, owner: NDArray,
) -> int:  # fmt: skip
    """Rays to a point or spot light that is a glowing ball, or to a sun with a disk, by the cone that it fills.

    A ball of intensity I and radius R has the radiance I / (π R²); a disk of half angle α that brings E₀ to a surface
    facing it has E₀ / (π sin² α). Directions are even over the cone: P. Shirley et al., "Monte Carlo techniques for
    direct lighting calculations", ACM TOG 15.1 (1996).

    Args:
        light: (3,) position relative to the centre; not used for a sun.
        axis: (3,) unit direction of a spot or sun.
        inner, outer: cosines of a spot's half angles; outer −2 for a point light, −4 for a sun.
        radius: metres; radians for a sun.
        per_texel: rays of a texel, spread over its samples.
        key: (N,) uint32 what makes each texel's rays its own.
    """
    made = 0
    sun = outer < -3.0
    for i in range(first, end):
        if count[i] == 0:
            continue
        mine = hash32(key[i] ^ hash32(np.uint32(seed) + np.uint32(7)))
        for k in range(per_texel):
            s = k % count[i]
            t = triangle[i, s]
            x, y, z, nx, ny, nz = sample_point(vertices, normals, faces, t, weights[i, s, 0], weights[i, s, 1], extent)
            fade, far = 1.0, 1.0
            if sun:
                dx, dy, dz = -axis[0], -axis[1], -axis[2]
                sine = math.sin(radius)
                glow = 1.0 / (math.pi * sine * sine)
            else:
                dx, dy, dz = light[0] - x, light[1] - y, light[2] - z
                far = math.sqrt(dx * dx + dy * dy + dz * dz)
                if far <= radius:
                    continue
                dx, dy, dz = dx / far, dy / far, dz / far
                sine = radius / far
                glow = 1.0 / (math.pi * radius * radius)
                fade = window(far, reach)
                if outer > -1.5:
                    fade *= cone(-(dx * axis[0] + dy * axis[1] + dz * axis[2]), inner, outer)
                if fade <= 0.0:
                    continue
            cosine = math.sqrt(max(1.0 - sine * sine, 0.0))
            lost = sine * sine / (1.0 + cosine)  # 1 − cos α without loss of digits
            c = 1.0 - sobol(k, 0, mine) * lost
            r = math.sqrt(max(1.0 - c * c, 0.0))
            turn = 2.0 * math.pi * sobol(k, 1, mine)
            ax, ay, az, bx, by, bz = frame(dx, dy, dz)
            p, q = r * math.cos(turn), r * math.sin(turn)
            wx, wy, wz = p * ax + q * bx + c * dx, p * ay + q * by + c * dy, p * az + q * bz + c * dz
            if wx * faces[t, 0] + wy * faces[t, 1] + wz * faces[t, 2] <= 0.0:
                continue
            brought = glow * 2.0 * math.pi * lost * (wx * nx + wy * ny + wz * nz) * fade
            if brought <= 0.0:
                continue
            length = 1.0
            if not sun:
                length = far * c - math.sqrt(max(radius * radius - far * far * r * r, 0.0))
            origins[made, 0], origins[made, 1], origins[made, 2] = x, y, z
            directions[made, 0], directions[made, 1], directions[made, 2] = wx * length, wy * length, wz * length
            value[made], owner[made] = brought / per_texel, i
            made += 1
    return made


@njit(cache=True, nogil=True)
def directional_rays(
    vertices: NDArray, normals: NDArray, faces: NDArray, extent: float, count: NDArray, triangle: NDArray,
    weights: NDArray, first: int, end: int, axis: NDArray, origins: NDArray, directions: NDArray,
    value: NDArray, owner: NDArray,
) -> int:  # fmt: skip
    """Rays against a directional light that shines along the unit vector `axis`; E = cos θ per lux."""
    made = 0
    for i in range(first, end):
        for s in range(count[i]):
            t = triangle[i, s]
            if axis[0] * faces[t, 0] + axis[1] * faces[t, 1] + axis[2] * faces[t, 2] >= 0.0:
                continue
            x, y, z, nx, ny, nz = sample_point(vertices, normals, faces, t, weights[i, s, 0], weights[i, s, 1], extent)
            brought = -(axis[0] * nx + axis[1] * ny + axis[2] * nz)
            if brought <= 0.0:
                continue
            origins[made, 0], origins[made, 1], origins[made, 2] = x, y, z
            directions[made, 0], directions[made, 1], directions[made, 2] = -axis[0], -axis[1], -axis[2]
            value[made], owner[made] = brought / count[i], i
            made += 1
    return made


@njit(cache=True, nogil=True)
def emitter_rays(
    vertices: NDArray, normals: NDArray, faces: NDArray, extent: float, count: NDArray, triangle: NDArray,
    weights: NDArray, first: int, end: int, glow: NDArray, areas: NDArray, both_sides: bool, gathered: NDArray,
    rays: int, seed: int, key: NDArray, source: NDArray, origins: NDArray, directions: NDArray, value: NDArray,
    owner: NDArray,
) -> int:  # fmt: skip
    """Rays to random points of an emitter; E = L · ∫ cos θ dω, for L = 1 cd/m².

    A triangle is chosen in proportion to its solid angle times the cosine at its middle, then a direction
    within it; emitters of many triangles are sampled by area instead. Unbiased either way.

    Args:
        glow: (n,) int32 triangles of the emitter.
        areas: (n,) float64 running sum of their areas.
        gathered: (N,) bool, texels that take this emitter from their gather rays instead.
        rays: shadow rays per texel.
        key: (N,) uint32 what makes each texel's rays its own.
        source: (n,) int32, written: which of the emitter's triangles each ray goes to.
    """
    made = 0
    few = len(glow) <= FEW_TRIANGLES
    chance = np.empty(len(glow))
    angles = np.empty(len(glow))
    corners = np.empty((3, 3))
    w = np.empty((3, 3))
    for i in range(first, end):
        if count[i] == 0 or gathered[i]:
            continue
        mine = hash32(key[i] ^ hash32(np.uint32(seed)))
        current = -1
        total = 0.0
        x, y, z, nx, ny, nz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        t = 0
        for k in range(rays):
            s = k * count[i] // rays if rays >= count[i] else k
            if s != current:
                current = s
                t = triangle[i, s]
                x, y, z, nx, ny, nz = sample_point(
                    vertices, normals, faces, t, weights[i, s, 0], weights[i, s, 1], extent
                )
                if few:
                    total = _chances(vertices, faces, glow, both_sides, x, y, z, nx, ny, nz, w, angles, chance)
            pick = sobol(k, 2, mine)
            if few:
                if total <= 0.0:
                    continue
                e = _choose(chance, pick * total)
                likelihood = chance[e] / total
            else:
                e = min(np.searchsorted(areas, pick * areas[-1], side="right"), len(glow) - 1)
                likelihood = (areas[e] - (areas[e - 1] if e > 0 else 0.0)) / areas[-1]
            g = glow[e]
            u, v = sobol(k, 0, mine), sobol(k, 1, mine)
            for c in range(3):
                corners[c, 0], corners[c, 1], corners[c, 2] = (
                    vertices[g, c, 0],
                    vertices[g, c, 1],
                    vertices[g, c, 2],
                )
            if few and angles[e] > SMALL_ANGLE:
                directions_to(corners, x, y, z, w)
                dx, dy, dz, density = spherical_sample(w, angles[e], nx, ny, nz, u, v)
                facing = dx * faces[g, 0] + dy * faces[g, 1] + dz * faces[g, 2]
                gap = (
                    (corners[0, 0] - x) * faces[g, 0]
                    + (corners[0, 1] - y) * faces[g, 1]
                    + (corners[0, 2] - z) * faces[g, 2]
                )
                if facing == 0.0 or gap / facing <= 0.0 or density <= 0.0:
                    continue
                far = gap / facing
                brought = (dx * nx + dy * ny + dz * nz) / (density * likelihood)
                dx, dy, dz = dx * far, dy * far, dz * far
            else:
                root = math.sqrt(u)
                b, c2 = root * (1.0 - v), root * v
                a = 1.0 - b - c2
                dx = a * corners[0, 0] + b * corners[1, 0] + c2 * corners[2, 0] - x
                dy = a * corners[0, 1] + b * corners[1, 1] + c2 * corners[2, 1] - y
                dz = a * corners[0, 2] + b * corners[1, 2] + c2 * corners[2, 2] - z
                square = dx * dx + dy * dy + dz * dz
                if square < 1e-12:
                    continue
                facing = -(dx * faces[g, 0] + dy * faces[g, 1] + dz * faces[g, 2])
                if both_sides:
                    facing = abs(facing)
                size = areas[e] - (areas[e - 1] if e > 0 else 0.0)
                brought = (dx * nx + dy * ny + dz * nz) * facing * size / (square * square * likelihood)
            if brought <= 0.0 or dx * faces[t, 0] + dy * faces[t, 1] + dz * faces[t, 2] <= 0.0:
                continue
            origins[made, 0], origins[made, 1], origins[made, 2] = x, y, z
            directions[made, 0], directions[made, 1], directions[made, 2] = dx, dy, dz
            value[made], owner[made], source[made] = brought / rays, i, e
            made += 1
    return made


@njit(cache=True, nogil=True)
def _chances(
    vertices: NDArray, faces: NDArray, glow: NDArray, both_sides: bool, x: float, y: float, z: float,
    nx: float, ny: float, nz: float, w: NDArray, angles: NDArray, chance: NDArray,
) -> float:  # fmt: skip
    """Solid angle of each triangle of an emitter from a point, and its weight for being chosen; their sum."""
    total = 0.0
    for e in range(len(glow)):
        g = glow[e]
        gap = (
            (vertices[g, 0, 0] - x) * faces[g, 0]
            + (vertices[g, 0, 1] - y) * faces[g, 1]
            + (vertices[g, 0, 2] - z) * faces[g, 2]
        )
        angles[e] = chance[e] = 0.0
        if gap >= 0.0 and not both_sides:
            continue
        directions_to(vertices[g], x, y, z, w)
        high = -1.0
        middle = 0.0
        for c in range(3):
            cosine = w[c, 0] * nx + w[c, 1] * ny + w[c, 2] * nz
            high = max(high, cosine)
            middle += max(cosine, 0.0) / 3.0
        if high <= 0.0:
            continue
        angles[e] = solid_angle(w)
        chance[e] = angles[e] * max(middle, 0.05)
        total += chance[e]
    return total


@njit(cache=True, nogil=True)
def _choose(chance: NDArray, mark: float) -> int:
    """Index at which the running sum of `chance` passes `mark`; never one of chance zero."""
    last = 0
    for e in range(len(chance)):
        if chance[e] > 0.0:
            last = e
            mark -= chance[e]
            if mark < 0.0:
                return e
    return last


@njit(cache=True, nogil=True)
def emitter_solid_angle(
    vertices: NDArray, faces: NDArray, extent: float, normals: NDArray, count: NDArray, triangle: NDArray,
    weights: NDArray, first: int, end: int, glow: NDArray, both_sides: bool, out: NDArray,
) -> None:  # fmt: skip
    """(N,) solid angle of an emitter's facing triangles from the first open sample of each texel."""
    w = np.empty((3, 3))
    angles = np.empty(len(glow))
    chance = np.empty(len(glow))
    for i in range(first, end):
        out[i] = 0.0
        if count[i] == 0:
            continue
        x, y, z, nx, ny, nz = sample_point(
            vertices, normals, faces, triangle[i, 0], weights[i, 0, 0], weights[i, 0, 1], extent
        )
        _chances(vertices, faces, glow, both_sides, x, y, z, nx, ny, nz, w, angles, chance)
        out[i] = angles.sum()


@njit(cache=True, nogil=True)
def accumulate_pictured(
    made: int, blocked: NDArray, value: NDArray, owner: NDArray, source: NDArray, origins: NDArray,
    directions: NDArray, vertices: NDArray, glow: NDArray, uv: NDArray, pixels: NDArray, wrap: NDArray, out: NDArray,
) -> None:  # fmt: skip
    """`accumulate` for an emitter with a picture, looked up where each ray ends; out (N, 3) float32.

    Args:
        source: (n,) triangle of `glow` that a ray goes to. uv, pixels, wrap: of `EmissionPicture`.
    """
    for m in range(made):
        if blocked[m]:
            continue
        e = source[m]
        b, c = weights_along(
            vertices[glow[e]], origins[m, 0], origins[m, 1], origins[m, 2], directions[m, 0], directions[m, 1],
            directions[m, 2],
        )  # fmt: skip
        a = 1.0 - b - c
        u = a * uv[e, 0, 0] + b * uv[e, 1, 0] + c * uv[e, 2, 0]
        v = a * uv[e, 0, 1] + b * uv[e, 1, 1] + c * uv[e, 2, 1]
        y, x = wrapped(v, wrap[1], pixels.shape[0]), wrapped(u, wrap[0], pixels.shape[1])
        for channel in range(3):
            out[owner[m], channel] += value[m] * pixels[y, x, channel]


@njit(cache=True, nogil=True)
def accumulate(made: int, blocked: NDArray, value: NDArray, owner: NDArray, out: NDArray) -> None:
    """Add what the open rays bring to their texels; out (N,) float32."""
    for m in range(made):
        if not blocked[m]:
            out[owner[m]] += value[m]
