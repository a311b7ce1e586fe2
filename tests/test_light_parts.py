"""Pieces of the light engine against outside truth."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ropebell.light.direct_kernels import cone, window
from ropebell.light.lookup import BACK, NONE, SKY
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import TO_UNIT, cosine_direction, dimension_seed, frame, owen_reversed, plain_points, sobol
from ropebell.light.solve import bounce, reflectance, scatter, solve
from ropebell.light.transport import Hits, passes
from ropebell.light.triangle_light import directions_to, solid_angle, spherical_sample


@pytest.mark.parametrize("seed", [0, 1, 12345])
@pytest.mark.parametrize("dimension", [0, 1, 2, 3])
def test_every_dimension_is_stratified(seed: int, dimension: int) -> None:
    """Of 2^k points, each of 2^k equal intervals holds one."""
    for count in (16, 64, 256):
        points = np.array([sobol(i, dimension, seed) for i in range(count)])
        assert sorted((points * count).astype(int)) == list(range(count))


@pytest.mark.parametrize("seed", [3, 99])
def test_first_two_dimensions_form_a_net(seed: int) -> None:
    """A (0, 2)-sequence: 64 points fill every elementary box of area 1/64 once."""
    points = np.array([[sobol(i, 0, seed), sobol(i, 1, seed)] for i in range(64)])
    for k in range(7):
        cells = (points * [2**k, 2 ** (6 - k)]).astype(int)
        assert len({tuple(c) for c in cells}) == 64


def test_scrambling_decorrelates_seeds() -> None:
    """Single pairs may agree or oppose, as the first bit is flipped or not; over many seeds nothing is left."""
    base = np.array([sobol(i, 0, 1) for i in range(128)])
    others = [np.array([sobol(i, 0, seed) for i in range(128)]) for seed in range(2, 130)]
    assert abs(np.mean([np.corrcoef(base, other)[0, 1] for other in others])) < 0.15


def test_points_prepared_for_many_seeds_are_the_same_points() -> None:
    plain = plain_points(5, 40)
    for k, dimension in ((0, 0), (7, 1), (34, 2), (34, 3)):
        scrambled = owen_reversed(plain[dimension, k], dimension_seed(dimension, 77)) * TO_UNIT
        assert scrambled == sobol(5 + k, dimension, 77)


def test_frames_are_right_handed() -> None:
    rng = np.random.default_rng(5)
    for n in [*rng.normal(size=(50, 3)), np.array([0, 0, 1.0]), np.array([0, 0, -1.0])]:
        n = n / np.linalg.norm(n)
        t, b = np.split(np.array(frame(*n)), 2)
        np.testing.assert_allclose(np.cross(t, b), n, atol=1e-9)


def test_cosine_directions_have_the_cosine_density() -> None:
    """Mean of cos θ is 2/3 and of its square 1/2 under cos θ / π."""
    directions = np.array([cosine_direction(0, 1, 0, sobol(i, 0, 7), sobol(i, 1, 7)) for i in range(4096)])
    np.testing.assert_allclose(np.linalg.norm(directions, axis=1), 1, atol=1e-6)
    assert directions[:, 1].mean() == pytest.approx(2 / 3, rel=1e-3)
    assert (directions[:, 1] ** 2).mean() == pytest.approx(1 / 2, rel=1e-3)
    np.testing.assert_allclose(directions[:, [0, 2]].mean(axis=0), 0, atol=2e-3)


TRIANGLES = {
    "octant": np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1.0]]),
    "overhead": np.array([[-1, 2, -1], [1, 2, -1], [0, 2, 1.5]]),
    "low": np.array([[3, 0.2, -1], [3, 0.2, 1], [3, 2, 0.0]]),
    "near": np.array([[-5, 0.1, -5], [5, 0.1, -5], [0, 0.1, 9.0]]),
}


def test_solid_angle_of_an_octant() -> None:
    w = np.empty((3, 3))
    directions_to(TRIANGLES["octant"], 0, 0, 0, w)
    assert solid_angle(w) == pytest.approx(math.pi / 2)


@pytest.mark.parametrize("name", TRIANGLES)
def test_spherical_sampling_is_unbiased(name: str) -> None:
    """∫ cos⁺ over the triangle by samples equals Lambert's formula, and ∫ 1 the solid angle; all inside."""
    tri = TRIANGLES[name]
    w = np.empty((3, 3))
    directions_to(tri, 0, 0, 0, w)
    omega = solid_angle(w)
    ones, cosines = [], []
    inside = np.linalg.inv(tri.T)
    for i in range(2048):
        x, y, z, density = spherical_sample(w, omega, 0, 1, 0, sobol(i, 0, 11), sobol(i, 1, 11))
        assert (inside @ [x, y, z]).min() > -1e-6
        ones.append(1 / density)
        cosines.append(max(y, 0) / density)
    assert np.mean(ones) == pytest.approx(omega, rel=0.02)
    lambert = 0.0
    for a, b in zip(w, np.roll(w, -1, axis=0)):
        cross = np.cross(a, b)
        lambert += math.acos(a @ b) * cross[1] / np.linalg.norm(cross)
    assert np.mean(cosines) == pytest.approx(abs(lambert) / 2, rel=0.01)


def test_window_and_cone_follow_the_extension() -> None:
    assert window(1.0, 0.0) == 1.0
    assert window(1.0, 2.0) == pytest.approx(1 - 1 / 16)
    assert window(2.5, 2.0) == 0.0
    assert cone(1.0, 0.9, 0.7) == 1.0
    assert cone(0.8, 0.9, 0.7) == pytest.approx(0.25)
    assert cone(0.6, 0.9, 0.7) == 0.0


def test_bounce_and_scatter_are_transposes() -> None:
    """⟨w, A x⟩ = ⟨Aᵀ w, x⟩ for any hits, with sky, back faces and rays that do not count."""
    rng = np.random.default_rng(2)
    hits = rng.integers(-3, 40, (40, 16)).astype(np.int32)
    hits[7] = NONE
    counted = (hits != NONE).sum(axis=1).astype(np.int32)
    x, w = rng.random((40, 3)).astype(np.float32), rng.random((40, 3))
    forward, back = np.zeros((40, 3), np.float32), np.zeros((40, 3))
    bounce(hits, hits.shape[1], x, 0, 40, forward)
    scatter(hits, counted, w, back)
    np.testing.assert_allclose((w * forward).sum(axis=0), (back * x).sum(axis=0), rtol=1e-5)


def test_solve_equals_the_linear_system() -> None:
    """Converged light solves (1 − Aρ) E = D, here by a dense solver."""
    rng = np.random.default_rng(4)
    hits = rng.integers(-2, 30, (30, 8)).astype(np.int32)
    albedo = rng.uniform(0.1, 0.8, (30, 3)).astype(np.float32)
    direct = rng.random((30, 3)).astype(np.float32)
    got = solve(hits, direct, albedo, None, 2, lambda _: None)
    for c in range(3):
        a = np.zeros((30, 30))
        for i in range(30):
            for h in hits[i][hits[i] >= 0]:
                a[i, h] += albedo[h, c] / 8
        exact = np.linalg.solve(np.eye(30) - a, direct[:, c].astype(float))
        np.testing.assert_allclose(got.total[:, c], exact, rtol=1.1e-3)


def test_reflectance_gain_and_saturation() -> None:
    albedo = np.array([[0.6, 0.2, 0.1]], np.float32)
    grey = float(albedo[0] @ [0.2126, 0.7152, 0.0722])
    np.testing.assert_allclose(reflectance(albedo, 1, 1), albedo)
    np.testing.assert_allclose(reflectance(albedo, 2, 0), np.full((1, 3), 2 * grey), rtol=1e-5)


def test_passes_cover_all_rays_once_and_begin_small() -> None:
    for rays in (4, 5, 16, 64, 512):
        spans = passes(rays)
        assert spans[0][0] == 0 and spans[-1][1] == rays
        assert all(a[1] == b[0] for a, b in zip(spans, spans[1:]))
        assert spans[0][1] <= max(rays // 8, 4)


def test_sky_share_leaves_uncounted_rays_out() -> None:
    hits = np.array([[SKY, SKY, 3, NONE], [BACK, BACK, NONE, NONE]], np.int32)
    np.testing.assert_allclose(Hits.of(hits).sky_share(), [2 / 3, 0])


def test_ray_space_far_from_the_origin_keeps_its_precision() -> None:
    far = np.array([1e5, 2e3, -3e5])
    corners = np.array([[[0, 0, 0], [0, 0, 1], [1, 0, 0]]], dtype=np.float64) + far
    space = RaySpace(corners)
    origin = (far + [0.2, 1.0, 0.2] - space.centre).astype(np.float32)[None]
    down = np.array([[0, -1, 0]], np.float32)
    assert space.first_hit(origin, down)[0] == 0
    assert space.distances(origin, down)[0] == pytest.approx(1.0, abs=1e-4)
    assert space.blocked(origin, down, np.array([2.0], np.float32))[0]
    assert not space.blocked(origin, down, np.array([0.9], np.float32))[0]
    assert RaySpace(np.zeros((0, 3, 3))).first_hit(origin, down)[0] == -1


def test_what_lies_on_a_segment_and_how_far_are_told_in_one() -> None:
    rng = np.random.default_rng(3)
    space = RaySpace(rng.random((200, 1, 3)) + 0.2 * rng.random((200, 3, 3)), np.arange(200) % 3 > 0)
    origins = (rng.random((4000, 3)) - 0.2 - space.centre).astype(np.float32)
    ways = rng.normal(size=(4000, 3)).astype(np.float32)
    hit, far = space.nearest(origins, ways)
    np.testing.assert_array_equal(hit, space.first_hit(origins, ways))
    np.testing.assert_array_equal(far[hit >= 0], space.distances(origins, ways)[hit >= 0])
    assert 0.1 < (hit < 0).mean() < 0.9 and (hit[hit >= 0] % 3 > 0).all()
    lengths = rng.random(4000).astype(np.float32)
    within = space.first_within(origins, ways, lengths)
    np.testing.assert_array_equal(within >= 0, space.blocked(origins, ways, lengths))
    np.testing.assert_array_equal(within, np.where(far < lengths, hit, -1))
