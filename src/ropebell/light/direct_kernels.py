"""Shadow rays for one light and a run of texels: where they go and what each would bring, white, unit strength.

Every kernel fills the rays of texels `first` … `end` and returns how many there are. Directions are not of unit
length: the light lies at parameter 1, except for directional lights, which lie at infinity.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ropebell.kernel import kernel
from ropebell.level.model import F32, F64, I32, Mask
from ropebell.light.piercing import weights_along, wrapped
from ropebell.light.sampling import frame, hash32, sobol
from ropebell.light.shadow_rays import ShadowRays, put
from ropebell.light.surface import Ground, Spots, sample_point
from ropebell.light.triangle_light import SMALL_ANGLE, directions_to, solid_angle, spherical_sample

# Emitters of up to this many triangles are sampled by solid angle, larger ones by area.
FEW_TRIANGLES = 64


class Lamp(NamedTuple):
    """A punctual light, as kernels take it.

    Attributes:
        position: (3,) relative to the centre; not used for a sun. axis: (3,) unit direction of a spot or sun.
        reach: metres, 0 for none.
        inner, outer: cosines of a spot's half angles; outer −2 for a point light, −4 for a sun.
        radius: metres; radians for a sun.
    """

    position: F64
    axis: F64
    reach: float
    inner: float
    outer: float
    radius: float


class Glow(NamedTuple):
    """An emitter, as kernels take it.

    Attributes:
        triangles: (n,) int32 of the ground. areas: (n,) running sum of their areas. both_sides: it shines to both.
    """

    triangles: I32
    areas: F64
    both_sides: bool


@kernel
def window(distance: float, reach: float) -> float:
    """The fade to nothing at a light's reach: max(min(1 − (d/r)⁴, 1), 0), `KHR_lights_punctual`."""
    if reach <= 0.0:
        return 1.0
    ratio = distance / reach
    return max(1.0 - ratio * ratio * ratio * ratio, 0.0)


@kernel
def cone(cosine: float, inner: float, outer: float) -> float:
    """Angular fade of a spot: clamp((cos − cos outer) / (cos inner − cos outer))², `KHR_lights_punctual`.

    Args:
        inner, outer: cosines of the half angles.
    """
    fade = min(max((cosine - outer) / max(inner - outer, 1e-4), 0.0), 1.0)
    return fade * fade


@kernel
def point_rays(ground: Ground, spots: Spots, first: int, end: int, lamp: Lamp, rays: ShadowRays) -> int:
    """Rays to a point or spot light; E = cos θ / d² per candela."""
    count, faces, light, axis = spots.open, ground.faces, lamp.position, lamp.axis
    made = 0
    for i in range(first, end):
        if lamp.reach > 0.0 and count[i] > 0:
            # Most texels of a large level are out of a lamp's reach; two points tell.
            far, spread = _distance_and_spread(ground, spots, i, light)
            if far - spread > lamp.reach:
                continue
        for s in range(count[i]):
            t = spots.triangle[i, s]
            x, y, z, nx, ny, nz = sample_point(ground, spots, i, s)
            dx, dy, dz = light[0] - x, light[1] - y, light[2] - z
            square = dx * dx + dy * dy + dz * dz
            if square < 1e-12 or dx * faces[t, 0] + dy * faces[t, 1] + dz * faces[t, 2] <= 0.0:
                continue
            distance = math.sqrt(square)
            brought = (dx * nx + dy * ny + dz * nz) / (distance * square) * window(distance, lamp.reach)
            if lamp.outer > -1.5:
                along = -(dx * axis[0] + dy * axis[1] + dz * axis[2]) / distance
                brought *= cone(along, lamp.inner, lamp.outer)
            if brought <= 0.0:
                continue
            put(rays, made, x, y, z, dx, dy, dz)
            rays.value[made], rays.owner[made] = brought / count[i], i
            made += 1
    return made


@kernel
def _distance_and_spread(ground: Ground, spots: Spots, i: int, light: F64) -> tuple[float, float]:
    """Distance of a texel's first sample from a light, and a bound on how much nearer its others can be."""
    far, spread, last = 0.0, 0.0, spots.open[i] - 1
    for axis in range(3):
        p0 = _coordinate(ground.vertices, spots, i, 0, axis)
        p1 = _coordinate(ground.vertices, spots, i, last, axis)
        far += (p0 - light[axis]) ** 2
        spread += (p0 - p1) ** 2
    # Samples of a texel lie within its square, of which the lattice's ends span most of one side.
    return math.sqrt(far), 3.0 * math.sqrt(spread)


@kernel
def _coordinate(vertices: F32, spots: Spots, i: int, s: int, axis: int) -> float:
    t, b, c = spots.triangle[i, s], spots.weights[i, s, 0], spots.weights[i, s, 1]
    at: float = (1.0 - b - c) * vertices[t, 0, axis] + b * vertices[t, 1, axis] + c * vertices[t, 2, axis]
    return at


@kernel
def round_light_rays(
    ground: Ground, spots: Spots, first: int, end: int, lamp: Lamp, per_texel: int, seed: int, rays: ShadowRays
) -> int:
    """Rays to a point or spot light that is a glowing ball, or to a sun with a disk, by the cone that it fills.

    A ball of intensity I and radius R has the radiance I / (π R²); a disk of half angle α that brings E₀ to a surface
    facing it has E₀ / (π sin² α). Directions are even over the cone: P. Shirley et al., "Monte Carlo techniques for
    direct lighting calculations", ACM TOG 15.1 (1996).

    Args:
        per_texel: rays of a texel, spread over its samples.
    """
    faces, sun, made = ground.faces, lamp.outer < -3.0, 0
    for i in range(first, end):
        if spots.open[i] == 0:
            continue
        mine = hash32(spots.key[i] ^ hash32(np.uint32(seed) + np.uint32(7)))
        for k in range(per_texel):
            s = k % spots.open[i]
            t = spots.triangle[i, s]
            x, y, z, nx, ny, nz = sample_point(ground, spots, i, s)
            dx, dy, dz, far, sine, glow = _seen(lamp, x, y, z)
            if glow <= 0.0:
                continue
            cosine = math.sqrt(max(1.0 - sine * sine, 0.0))
            lost = sine * sine / (1.0 + cosine)  # 1 − cos α without loss of digits
            c = 1.0 - sobol(k, 0, mine) * lost
            r = math.sqrt(max(1.0 - c * c, 0.0))
            turn = 2.0 * math.pi * sobol(k, 1, mine)
            ax, ay, az, bx, by, bz = frame(dx, dy, dz)
            p, q = r * math.cos(turn), r * math.sin(turn)
            wx, wy, wz = p * ax + q * bx + c * dx, p * ay + q * by + c * dy, p * az + q * bz + c * dz
            brought = glow * 2.0 * math.pi * lost * (wx * nx + wy * ny + wz * nz)
            if brought <= 0.0 or wx * faces[t, 0] + wy * faces[t, 1] + wz * faces[t, 2] <= 0.0:
                continue
            length = 1.0
            if not sun:
                length = far * c - math.sqrt(max(lamp.radius * lamp.radius - far * far * r * r, 0.0))
            put(rays, made, x, y, z, wx * length, wy * length, wz * length)
            rays.value[made], rays.owner[made] = brought / per_texel, i
            made += 1
    return made


@kernel
def _seen(lamp: Lamp, x: float, y: float, z: float) -> tuple[float, float, float, float, float, float]:
    """A lamp with a size from a point: unit direction to its middle, its distance, the sine of the half angle that it
    fills, and its radiance for unit strength there; that is 0 where it brings nothing, such as within the ball."""
    axis, radius = lamp.axis, lamp.radius
    if lamp.outer < -3.0:
        sine = math.sin(radius)
        return -axis[0], -axis[1], -axis[2], 1.0, sine, 1.0 / (math.pi * sine * sine)
    dx, dy, dz = lamp.position[0] - x, lamp.position[1] - y, lamp.position[2] - z
    far = math.sqrt(dx * dx + dy * dy + dz * dz)
    if far <= radius:
        return 0.0, 0.0, 0.0, far, 1.0, 0.0
    dx, dy, dz = dx / far, dy / far, dz / far
    fade = window(far, lamp.reach)
    if lamp.outer > -1.5:
        fade *= cone(-(dx * axis[0] + dy * axis[1] + dz * axis[2]), lamp.inner, lamp.outer)
    return dx, dy, dz, far, radius / far, fade / (math.pi * radius * radius)


@kernel
def directional_rays(ground: Ground, spots: Spots, first: int, end: int, axis: F64, rays: ShadowRays) -> int:
    """Rays against a directional light that shines along the unit vector `axis`; E = cos θ per lux."""
    faces, count, made = ground.faces, spots.open, 0
    for i in range(first, end):
        for s in range(count[i]):
            t = spots.triangle[i, s]
            if axis[0] * faces[t, 0] + axis[1] * faces[t, 1] + axis[2] * faces[t, 2] >= 0.0:
                continue
            x, y, z, nx, ny, nz = sample_point(ground, spots, i, s)
            brought = -(axis[0] * nx + axis[1] * ny + axis[2] * nz)
            if brought <= 0.0:
                continue
            put(rays, made, x, y, z, -axis[0], -axis[1], -axis[2])
            rays.value[made], rays.owner[made] = brought / count[i], i
            made += 1
    return made


@kernel
def emitter_rays(
    ground: Ground, spots: Spots, first: int, end: int, glow: Glow, gathered: Mask, per_texel: int, seed: int,
    rays: ShadowRays,
) -> int:  # fmt: skip
    """Rays to random points of an emitter; E = L · ∫ cos θ dω, for L = 1 cd/m².

    A triangle is chosen in proportion to its solid angle times the cosine at its middle, then a direction
    within it; emitters of many triangles are sampled by area instead. Unbiased either way.

    Args:
        gathered: (N,) bool, texels that take this emitter from their gather rays instead.
        per_texel: shadow rays.
        rays: written; `source` is which of the emitter's triangles each goes to.
    """
    faces, areas, made = ground.faces, glow.areas, 0
    few = len(glow.triangles) <= FEW_TRIANGLES
    chance, angles, w = np.empty(len(glow.triangles)), np.empty(len(glow.triangles)), np.empty((3, 3))
    for i in range(first, end):
        count = spots.open[i]
        if count == 0 or gathered[i]:
            continue
        mine = hash32(spots.key[i] ^ hash32(np.uint32(seed)))
        current, total, t = -1, 0.0, 0
        x, y, z, nx, ny, nz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for k in range(per_texel):
            s = k * count // per_texel if per_texel >= count else k
            if s != current:
                current, t = s, spots.triangle[i, s]
                x, y, z, nx, ny, nz = sample_point(ground, spots, i, s)
                if few:
                    total = _chances(ground, glow, x, y, z, nx, ny, nz, w, angles, chance)
            if few and total <= 0.0:
                continue
            pick = sobol(k, 2, mine)
            if few:
                e = _choose(chance, pick * total)
                likelihood = chance[e] / total
            else:
                e = min(np.searchsorted(areas, pick * areas[-1], side="right"), len(areas) - 1)
                likelihood = _size(areas, e) / areas[-1]
            u, v = sobol(k, 0, mine), sobol(k, 1, mine)
            if few and angles[e] > SMALL_ANGLE:
                way = _way_by_angle(ground, glow, e, angles[e], x, y, z, nx, ny, nz, u, v, w)
            else:
                way = _way_by_area(ground, glow, e, x, y, z, nx, ny, nz, u, v)
            dx, dy, dz, brought = way
            if brought <= 0.0 or dx * faces[t, 0] + dy * faces[t, 1] + dz * faces[t, 2] <= 0.0:
                continue
            put(rays, made, x, y, z, dx, dy, dz)
            rays.value[made], rays.owner[made], rays.source[made] = brought / likelihood / per_texel, i, e
            made += 1
    return made


@kernel
def _size(areas: F64, e: int) -> float:
    """Area of one triangle of a running sum."""
    before: float = areas[e - 1] if e > 0 else 0.0
    size: float = areas[e] - before
    return size


@kernel
def _way_by_angle(
    ground: Ground, glow: Glow, e: int, angle: float, x: float, y: float, z: float, nx: float, ny: float, nz: float,
    u: float, v: float, w: F64,
) -> tuple[float, float, float, float]:  # fmt: skip
    """A way from a point with a normal to a triangle of an emitter, even over its solid angle, and what it brings.

    Args:
        angle: steradian. u, v: point of the unit square. w: (3, 3) room.
    """
    g = glow.triangles[e]
    corner, face = ground.vertices[g, 0], ground.faces[g]
    directions_to(ground.vertices[g], x, y, z, w)
    dx, dy, dz, density = spherical_sample(w, angle, nx, ny, nz, u, v)
    facing = dx * face[0] + dy * face[1] + dz * face[2]
    gap = (corner[0] - x) * face[0] + (corner[1] - y) * face[1] + (corner[2] - z) * face[2]
    if facing == 0.0 or gap / facing <= 0.0 or density <= 0.0:
        return 0.0, 0.0, 0.0, 0.0
    far = gap / facing
    return dx * far, dy * far, dz * far, (dx * nx + dy * ny + dz * nz) / density


@kernel
def _way_by_area(
    ground: Ground, glow: Glow, e: int, x: float, y: float, z: float, nx: float, ny: float, nz: float, u: float,
    v: float,
) -> tuple[float, float, float, float]:  # fmt: skip
    """The same even over the triangle's area."""
    g = glow.triangles[e]
    p, face = ground.vertices[g], ground.faces[g]
    root = math.sqrt(u)
    b, c = root * (1.0 - v), root * v
    a = 1.0 - b - c
    dx = a * p[0, 0] + b * p[1, 0] + c * p[2, 0] - x
    dy = a * p[0, 1] + b * p[1, 1] + c * p[2, 1] - y
    dz = a * p[0, 2] + b * p[1, 2] + c * p[2, 2] - z
    square = dx * dx + dy * dy + dz * dz
    if square < 1e-12:
        return 0.0, 0.0, 0.0, 0.0
    facing = -(dx * face[0] + dy * face[1] + dz * face[2])
    if glow.both_sides:
        facing = abs(facing)
    return dx, dy, dz, (dx * nx + dy * ny + dz * nz) * facing * _size(glow.areas, e) / (square * square)


@kernel
def _chances(
    ground: Ground, glow: Glow, x: float, y: float, z: float, nx: float, ny: float, nz: float, w: F64, angles: F64,
    chance: F64,
) -> float:  # fmt: skip
    """Solid angle of each triangle of an emitter from a point, and its weight for being chosen; their sum."""
    vertices, faces = ground.vertices, ground.faces
    total = 0.0
    for e in range(len(glow.triangles)):
        g = glow.triangles[e]
        gap = (
            (vertices[g, 0, 0] - x) * faces[g, 0]
            + (vertices[g, 0, 1] - y) * faces[g, 1]
            + (vertices[g, 0, 2] - z) * faces[g, 2]
        )
        angles[e] = chance[e] = 0.0
        if gap >= 0.0 and not glow.both_sides:
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


@kernel
def _choose(chance: F64, mark: float) -> int:
    """Index at which the running sum of `chance` passes `mark`; never one of chance zero."""
    last = 0
    for e in range(len(chance)):
        if chance[e] > 0.0:
            last = e
            mark -= chance[e]
            if mark < 0.0:
                return e
    return last


@kernel
def emitter_solid_angle(ground: Ground, spots: Spots, first: int, end: int, glow: Glow, out: F32) -> None:
    """(N,) solid angle of an emitter's facing triangles from the first open sample of each texel."""
    chance, angles, w = np.empty(len(glow.triangles)), np.empty(len(glow.triangles)), np.empty((3, 3))
    for i in range(first, end):
        out[i] = 0.0
        if spots.open[i] == 0:
            continue
        x, y, z, nx, ny, nz = sample_point(ground, spots, i, 0)
        _chances(ground, glow, x, y, z, nx, ny, nz, w, angles, chance)
        out[i] = angles.sum()


@kernel
def accumulate_pictured(
    made: int, blocked: Mask, rays: ShadowRays, vertices: F32, glow: I32, uv: F32, pixels: F32, wrap: I32, out: F32
) -> None:
    """`accumulate` for an emitter with a picture, looked up where each ray ends; out (N, 3) float32.

    Args:
        glow: (n,) its triangles. uv, pixels, wrap: of `EmissionPicture`.
    """
    origins, directions, value, owner = rays.origins, rays.directions, rays.value, rays.owner
    for m in range(made):
        if blocked[m]:
            continue
        e = rays.source[m]
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


@kernel
def accumulate(made: int, blocked: Mask, rays: ShadowRays, out: F32) -> None:
    """Add what the open rays bring to their texels; out (N,) float32."""
    for m in range(made):
        if not blocked[m]:
            out[rays.owner[m]] += rays.value[m]
