"""Tidying: levelled, straight, evenly spaced, round, flat."""

from __future__ import annotations

import igl
import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from jacket.core.fit.tidy import (
    best_circle,
    evened_path,
    flattened,
    levelled,
    loops_spaced,
    made_planar,
    out_of_plane,
    rounded,
    straightened,
)
from jacket.core.mesh.walks import edge_loop
from jacket.core.space.bvh import Bvh
from jacket.errors import EditRefused
from tests.conftest import grid, icosphere


def test_levelled_points_are_level_and_on_the_source() -> None:
    ball = icosphere(4)
    surface = Bvh.build(ball.points, ball.triangle_points)
    rng = np.random.default_rng(4)
    points = surface.project(rng.normal(size=(30, 3)) * [1, 0.2, 1] + [0, 0.3, 0])
    new = levelled(points, np.arange(30), 1, 0.37, surface)
    assert np.abs(new[:, 1] - 0.37).max() < 1e-15
    far = igl.point_mesh_squared_distance(new, ball.points, ball.corners.reshape(-1, 3))[0]
    assert np.sqrt(far).max() < 1e-9
    with pytest.raises(EditRefused, match="nothing at that height"):
        levelled(points, np.arange(3), 1, 5.0, surface)


def test_straight_paths_keep_or_even_their_spacing() -> None:
    points = np.array([[0, 0, 0], [1, 0.5, 0], [1.5, -0.2, 0.3], [4, 0, 0]], float)
    kept = straightened(points, np.arange(4), even=False)
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    assert np.allclose(kept[:, 1:], 0) and np.allclose(np.diff(kept[:, 0]) / 4, steps / steps.sum())
    assert np.allclose(straightened(points, np.arange(4), even=True)[:, 0], [0, 4 / 3, 8 / 3, 4])
    spread = evened_path(points, np.arange(4), closed=False)
    assert np.allclose(spread[[0, 3]], points[[0, 3]])


def test_loops_are_spaced_between_the_outer_two() -> None:
    g = grid(6, 2)
    points = g.points.copy()
    points[:, 0] = np.round(points[:, 0]) ** 2
    bent = g.with_points(points)
    chosen = [bent.topology.find_edge(int(np.flatnonzero((g.points == [x, 0, 0]).all(1))[0]),
                                      int(np.flatnonzero((g.points == [x, 1, 0]).all(1))[0])) for x in (1, 2, 3, 4)]  # fmt: skip
    edges = np.concatenate([edge_loop(bent, e) for e in chosen])
    new = loops_spaced(bent, edges)
    at = {x: new[np.isclose(g.points[:, 0], x)][:, 0] for x in range(7)}
    assert [float(at[x][0]) for x in range(7)] == pytest.approx([0, 1, 6, 11, 16, 25, 36])
    with pytest.raises(EditRefused, match="three loops"):
        loops_spaced(bent, edges[:2])


def test_best_circles_agree_with_scipy() -> None:
    rng = np.random.default_rng(1)
    turn = Rotation.from_euler("xyz", [0.4, 1.0, -0.3]).as_matrix()
    angle = np.sort(rng.uniform(0, 2 * np.pi, 24))
    flat = np.stack([3 * np.cos(angle) + 1, 3 * np.sin(angle) - 2, 0 * angle], axis=1) + rng.normal(
        scale=0.05, size=(24, 3)
    ) * [1, 1, 0]
    centre, normal, radius = best_circle(flat @ turn.T)
    fit = least_squares(
        lambda v: np.hypot(flat[:, 0] - v[0], flat[:, 1] - v[1]) - v[2], [0.5, -1, 2], xtol=1e-15, ftol=1e-15
    )
    assert centre == pytest.approx(turn @ [fit.x[0], fit.x[1], 0], abs=1e-6) and radius == pytest.approx(
        fit.x[2], abs=1e-6
    )
    assert abs(normal @ turn[:, 2]) == pytest.approx(1)
    ring = rounded(flat, np.arange(24), even=True)
    assert np.allclose(
        np.linalg.norm(np.diff(np.vstack([ring, ring[:1]]), axis=0), axis=1), 2 * radius * np.sin(np.pi / 24), atol=1e-6
    )


def test_flattening_and_planar_faces() -> None:
    rng = np.random.default_rng(2)
    bumpy = grid(3).with_points(grid(3).points + rng.normal(scale=0.05, size=(16, 3)))
    new = flattened(bumpy.points, np.array([0, 5]), np.zeros(3), np.array([0, 0, 1.0]))
    assert np.allclose(new[[0, 5], 2], 0) and np.array_equal(new[1], bumpy.points[1])
    faces = np.array([0, 4, 8])
    before = out_of_plane(bumpy, faces).max()
    after = out_of_plane(bumpy.with_points(made_planar(bumpy, faces)), faces).max()
    assert before > 0.01 and after < 1e-6
