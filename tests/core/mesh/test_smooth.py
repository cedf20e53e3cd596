"""Smoothing against the published rule and its limit."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.smooth import limit_points, smoothed, with_sharpness
from tests.conftest import cube, grid


def big_cube() -> PolyMesh:
    return cube().with_points(2 * cube().points - 1)


def test_one_round_on_a_cube_is_the_published_rule() -> None:
    """Catmull and Clark 1978, on the cube ±1: corners go to (Q + 2R) / 3 = 5/9, edges to 3/4, faces to 1."""
    new = smoothed(big_cube(), 1).mesh
    assert (new.n_points, new.n_faces) == (8 + 12 + 6, 24)
    assert np.allclose(np.abs(new.points[:8]), 5 / 9)
    assert np.allclose(np.sort(np.abs(new.points[8:20]), axis=1), [0, 0.75, 0.75])
    assert np.allclose(np.sort(np.abs(new.points[20:]), axis=1), [0, 0, 1])


def test_many_rounds_come_to_the_limit(spot: PolyMesh) -> None:
    """Halstead et al. 1993 give the limit in closed form; six rounds come near it, and nearer than five."""
    box = big_cube()
    goal = limit_points(box)
    off = [np.abs(smoothed(box, k).mesh.points[:8] - goal).max() for k in (2, 4, 6)]
    assert off[0] > 4 * off[1] > 16 * off[2] and off[2] < 1e-3
    assert np.allclose(np.abs(goal), np.abs(goal)[0, 0])


def test_sharp_edges_stay_and_weights_fade() -> None:
    """DeRose et al. 1998: edges sharp for ever keep a cube a cube; a weight of 1 is one sharp round, then smooth."""
    box = big_cube()
    every = np.arange(12)
    hard = smoothed(with_sharpness(box, every, 10), 3).mesh
    assert np.allclose(np.abs(hard.points[:8]), 1)
    assert np.allclose(np.abs(hard.points).max(axis=1), 1)
    once = smoothed(with_sharpness(box, every, 1), 1).mesh
    assert np.allclose(np.abs(once.points[:8]), 1)
    twice = smoothed(with_sharpness(box, every, 1), 2).mesh
    assert np.abs(twice.points[:8]).max() < 1
    assert len(with_sharpness(with_sharpness(box, every, 1), every, 0).marks.get("weight:1", [])) == 0


def test_borders_smooth_as_curves() -> None:
    """A border is a cubic B-spline of its own: (a + 6 S + b) / 8, whatever lies inside."""
    flat = grid(3)
    new = smoothed(flat, 1)
    assert np.allclose(new.mesh.points[1], (flat.points[0] + 6 * flat.points[1] + flat.points[2]) / 8)
    ends = new.mesh.points[new.lines]
    assert len(ends) == 2 * flat.topology.n_edges
    assert (new.mesh.topology.find_edges(new.lines) >= 0).all()


def test_sharpness_fades_by_one_a_round() -> None:
    """DeRose, Kass and Truong 1998: an edge of weight 2 is a crease for two rounds and smooth after them."""
    mesh = cube()
    sharp = with_sharpness(mesh, np.array([mesh.topology.find_edge(*mesh.topology.edge_points[0].tolist())]), 2.0)
    for rounds, left in ((1, 1.0), (2, 0.0), (3, 0.0)):
        found = smoothed(sharp, rounds).sharpness
        assert found[np.isfinite(found)].max() == left
