"""Thin corners opened: against SciPy's minimiser, and what has to stay."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import minimize

from jacket.core.fit.opening import SOUND, opened
from jacket.core.fit.relax import lines_of
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.bvh import Bvh
from tests.conftest import grid, icosphere


def plane(mesh: PolyMesh) -> Bvh:
    low, high = mesh.points.min(axis=0) - 1, mesh.points.max(axis=0) + 1
    corners = np.array([[low[0], low[1], 0], [high[0], low[1], 0], [high[0], high[1], 0], [low[0], high[1], 0]])
    return Bvh.build(corners, np.array([[0, 1, 2], [0, 2, 3]]))


def short(mesh: PolyMesh) -> float:
    """By how much thin corners fall short, cubed (the measure that is lowered)."""
    return float((np.maximum(SOUND - scaled_jacobian(mesh), 0) ** 3).sum())


def test_one_point_goes_where_scipy_puts_it() -> None:
    """A lone inner point of two by two quads whose border is uneven: the place of the least shortfall, found by Nelder and Mead."""
    rng = np.random.default_rng(3)
    for _ in range(6):
        mesh = grid(2)
        points = mesh.points + np.column_stack([rng.uniform(-0.25, 0.25, (9, 2)), np.zeros(9)])
        points[4, :2] = points[4, :2] + rng.uniform(-0.45, 0.45, 2)
        mesh = mesh.with_points(points)
        new = opened(mesh, plane(mesh), np.zeros(9, bool), rounds=60, thin=0.99)

        def cost(at: np.ndarray, mesh: PolyMesh = mesh) -> float:
            moved = mesh.points.copy()
            moved[4, :2] = at
            return short(mesh.with_points(moved))

        best = min(minimize(cost, start, method="Nelder-Mead", options={"xatol": 1e-6, "fatol": 1e-12}).fun
                    for start in (mesh.points[4, :2], mesh.points.mean(axis=0)[:2]))  # fmt: skip
        assert short(new) <= 1.1 * best + 2e-4 and short(new) <= short(mesh)
        keep = np.arange(9) != 4
        assert np.array_equal(new.points[keep], mesh.points[keep])


def test_thin_corners_open_on_a_ball_and_what_is_held_stays() -> None:
    ball = icosphere(4)
    surface = Bvh.build(ball.points, ball.triangle_points)
    n = 12
    # Quads over a part of a ball, shaken.
    u, v = np.meshgrid(np.linspace(-0.6, 0.6, n), np.linspace(-0.6, 0.6, n), indexing="ij")
    at = np.stack([np.sin(u) * np.cos(v), np.sin(v), np.cos(u) * np.cos(v)], axis=-1).reshape(-1, 3)
    rng = np.random.default_rng(5)
    shaken = surface.project(at + 0.035 * rng.normal(size=at.shape))
    mesh = PolyMesh.from_faces(shaken, grid(n - 1).corners.reshape(-1, 4))
    held = np.zeros(len(at), bool)
    held[[50, 51, 62, 63]] = True
    new = opened(mesh, surface, held)
    before, after = scaled_jacobian(mesh), scaled_jacobian(new)
    assert np.percentile(after, 1) > np.percentile(before, 1) + 0.1 and after.min() >= before.min()
    assert short(new) < 0.4 * short(mesh)
    stay = held | mesh.topology.border_points
    assert np.array_equal(new.points[stay], mesh.points[stay])
    assert surface.closest(new.points)[2].max() < 1e-9
    again = opened(mesh, surface, held)
    assert np.array_equal(again.points, new.points)
    square = opened(grid(4), plane(grid(4)), np.zeros(25, bool))
    assert np.array_equal(square.points, grid(4).points)


@pytest.mark.parametrize("faces", [0, 1])
def test_nothing_to_open(faces: int) -> None:
    mesh = PolyMesh.empty() if faces == 0 else grid(1)
    assert opened(mesh, plane(grid(1)), np.zeros(mesh.n_points, bool)).n_faces == faces


def test_points_of_a_crease_slide_along_it() -> None:
    """Two planes that meet at a right angle along x = 2: shaken points of the crease come to rest on it, its ends stay."""
    mesh = grid(4, 4)
    points = mesh.points.copy()
    inner = ~mesh.topology.border_points
    points[[7, 12, 17], 1] += [0.6, 0.45, -0.5]
    points[:, 2] = np.where(points[:, 0] > 2, 2 - points[:, 0], 0.0)
    points[:, 0] = np.minimum(points[:, 0], 2.0)
    mesh = mesh.with_points(points)
    folded = np.array([[0, -1, 0], [2, -1, 0], [2, 5, 0], [0, 5, 0], [2, -1, -2], [2, 5, -2.0]])
    surface = Bvh.build(folded, np.array([[0, 1, 2], [0, 2, 3], [1, 4, 5], [1, 5, 2]]))
    crease = np.abs(points[:, 0] - 2) + np.abs(points[:, 2]) < 1e-12
    lines = lines_of(mesh, np.array([[[2, 0, 0], [2, 4, 0.0]]]), np.array([[2, 0, 0], [2, 4, 0.0]]), 1e-3)
    assert lines is not None and np.array_equal(lines.sliding | lines.fixed, crease)
    new = opened(mesh, surface, ~crease, lines)
    assert np.abs(new.points[crease][:, [0, 2]] - [2.0, 0.0]).max() < 1e-9
    assert short(new) < 0.5 * short(mesh) and surface.closest(new.points)[2].max() < 1e-9
    moved = np.abs(new.points - mesh.points).max(axis=1) > 0
    assert moved[crease & inner].any()
