"""Rays and closest points against libigl and closed formulas."""

from __future__ import annotations

import os
import select

import igl
import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.bvh import LEAF, Bvh
from jacket.core.space.sample import gap, sample_surface
from tests.conftest import cube, icosphere


def test_closest_points_agree_with_libigl(spot: PolyMesh) -> None:
    rng = np.random.default_rng(1)
    queries = rng.uniform(-1.5, 1.5, (800, 3))
    surface = Bvh.build(spot.points, spot.triangle_points)
    place, triangle, far = surface.closest(queries)
    square, _, there = igl.point_mesh_squared_distance(queries, spot.points, spot.triangle_points.astype(np.int64))
    assert np.allclose(far, np.sqrt(square), atol=1e-12)
    assert np.allclose(np.linalg.norm(place - queries, axis=1), far)
    assert np.abs(place - there).max() < 1e-7 or np.allclose(np.linalg.norm(there - queries, axis=1), far)
    assert (triangle >= 0).all()


def test_corners_laid_out_or_looked_up_give_the_same_answers_to_the_bit(spot: PolyMesh, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of too many triangles their corners are not held a second time: what they are found by makes no difference."""
    queries = np.random.default_rng(3).uniform(-1.5, 1.5, (2000, 3))
    held = Bvh.build(spot.points, spot.triangle_points)
    moved = spot.points + [0.1, 0.0, -0.2]
    assert np.array_equal(held.refit(moved).leaves, moved[spot.triangle_points[held.order]])
    monkeypatch.setattr("jacket.core.space.bvh.MOST_LAID_OUT", spot.n_faces - 1)
    sparse = Bvh.build(spot.points, spot.triangle_points)
    assert len(held.leaves) == len(spot.triangle_points) and len(sparse.leaves) == 0
    for one, other in zip(held.closest(queries), sparse.closest(queries), strict=True):
        assert np.array_equal(one, other)


def test_every_run_is_halved_across_its_longest_side(spot: PolyMesh) -> None:
    """Against NumPy's sorting: the halves hold the lower and the upper centres along the axis on which they spread widest."""
    tree = Bvh.build(spot.points, spot.triangle_points[:1000])
    assert np.array_equal(np.sort(tree.order), np.arange(1000))
    centre = spot.points[spot.triangle_points[tree.order]].mean(axis=1)
    runs = [(0, 256)]
    while runs:
        first, count = runs.pop()
        own, half = centre[first * LEAF : (first + count) * LEAF], count // 2
        if len(own) <= LEAF or half * LEAF >= len(own):
            continue
        along = own[:, int(np.argmax(np.ptp(own, axis=0)))]
        assert np.allclose(np.sort(along)[: half * LEAF], np.sort(along[: half * LEAF]))
        runs += [(first, half), (first + half, half)]


def test_rays_against_the_sphere() -> None:
    """A ray at a unit sphere of fine facets enters near the root of |o + t d| = 1."""
    ball = icosphere(5)
    surface = Bvh.build(ball.points, ball.triangle_points)
    rng = np.random.default_rng(2)
    hits = 0
    for _ in range(300):
        origin = rng.normal(size=3)
        origin *= 3 / np.linalg.norm(origin)
        direction = -origin + rng.normal(size=3) * 0.8
        direction /= np.linalg.norm(direction)
        b = origin @ direction
        inside = b * b - (origin @ origin - 1)
        hit = surface.ray(origin, direction)
        if inside > 0.02:
            assert hit is not None and abs(hit.distance - (-b - np.sqrt(inside))) < 0.01
            hits += 1
        elif inside < -0.01:
            assert hit is None
    assert hits > 100


def test_rays_along_edges_and_tiny_units_do_not_slip_through() -> None:
    for scale in (1e-9, 1.0, 1e6):
        box = cube()
        surface = Bvh.build(box.points * scale, box.triangle_points)
        for place in ([0.5, 0.5], [0.25, 0.25], [1.0, 0.5], [0.0, 0.0]):
            hit = surface.ray(np.array([*place, 5.0]) * scale, np.array([0.0, 0.0, -1.0]))
            assert hit is not None and abs(hit.distance / scale - 4) < 1e-9, (scale, place)
    assert Bvh.build(np.zeros((0, 3)), np.zeros((0, 3), np.int32)).ray(np.zeros(3), np.ones(3)) is None


def test_refitting_follows_moved_points(spot: PolyMesh) -> None:
    surface = Bvh.build(spot.points, spot.triangle_points)
    moved = surface.refit(spot.points + [0, 0, 3])
    assert np.allclose(moved.project(spot.points[:50] + [0, 0, 3]), spot.points[:50] + [0, 0, 3])


def test_samples_are_uniform_by_area() -> None:
    box = cube()
    samples = sample_surface(box.points, box.triangle_points, 12_000)
    on = [np.isclose(samples[:, k], v).sum() for k in range(3) for v in (0, 1)]
    assert np.abs(np.array(on) / 2000 - 1).max() < 0.02
    shifted = Bvh.build(box.points + [0, 0, 0.1], box.triangle_points)
    assert 0 < gap(box.points, box.triangle_points, shifted, 1.0, 5000).largest <= 10.0 + 1e-9


def test_a_bound_that_is_too_small_changes_nothing() -> None:
    """Where the surface lies farther off than was thought the search is made again; against libigl."""
    ball = icosphere(3)
    surface = Bvh.build(ball.points, ball.triangle_points)
    queries = np.random.default_rng(3).normal(size=(200, 3)) * 3
    square, _, places = igl.point_mesh_squared_distance(queries, ball.points, ball.triangle_points.astype(np.int64))
    for within in (1e-9, 0.1, 1.0, 50.0):
        found, _, far = surface.closest(queries, np.full(200, within))
        assert np.allclose(far, np.sqrt(square), atol=1e-12) and np.abs(found - places).max() < 1e-9


def test_a_forked_process_asks_for_closest_points_too() -> None:
    """Threads do not come along into a fork; what is shared out among them has to be answered there all the same."""
    ball = icosphere(3)
    surface = Bvh.build(ball.points, ball.triangle_points)
    queries = np.random.default_rng(5).normal(size=(4000, 3))
    far = surface.closest(queries)[2]
    alone = np.concatenate([surface.closest(queries[k : k + 500])[2] for k in range(0, 4000, 500)])
    assert far.tobytes() == alone.tobytes()
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        os.write(write, b"1" if surface.closest(queries)[2].tobytes() == far.tobytes() else b"0")
        os._exit(0)
    os.close(write)
    assert select.select([read], [], [], 20)[0], "the fork hangs"
    assert os.read(read, 1) == b"1"
    os.waitpid(child, 0)
    os.close(read)
