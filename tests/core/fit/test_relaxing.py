"""Relaxing on a surface: against a plain loop that projects with libigl after every round, and against trimesh's neighbours."""

from __future__ import annotations

import igl
import numpy as np
import trimesh

from jacket.core.fit.relax import _means, _neighbours, lines_of, relaxed, square_aims
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.space.bvh import Bvh
from tests.conftest import grid, icosphere


def shaken_ball() -> tuple[PolyMesh, PolyMesh, Bvh]:
    """Quads over a lumpy ball, shaken along it; the ball."""
    ball = icosphere(5)
    lumpy = ball.with_points(ball.points * (1 + 0.12 * np.sin(4 * ball.points).prod(axis=1))[:, None])
    surface = Bvh.build(lumpy.points, lumpy.triangle_points)
    quads = split_to_quads(icosphere(2))
    rng = np.random.default_rng(8)
    return quads.with_points(surface.project(quads.points + 0.02 * rng.normal(size=quads.points.shape))), lumpy, surface


def test_points_laid_back_every_few_rounds_come_to_lie_as_if_they_were_after_each() -> None:
    quads, lumpy, surface = shaken_ball()
    plain = quads.points
    for _ in range(40):
        aims = square_aims(plain, quads.corners, quads.starts, 0.2)
        plain = igl.point_mesh_squared_distance(aims, lumpy.points, lumpy.triangle_points.astype(np.int64))[2]
    new = relaxed(quads, surface, 40, evenness=0.2, brisk=True)
    assert np.sqrt(igl.point_mesh_squared_distance(new.points, lumpy.points, lumpy.triangle_points.astype(np.int64))[0]).max() < 1e-9
    step = float(np.linalg.norm(np.diff(quads.points[quads.topology.edge_points], axis=1), axis=2).mean())
    assert np.linalg.norm(new.points - plain, axis=1).max() < 0.02 * step
    before, after = scaled_jacobian(quads).mean(), scaled_jacobian(new).mean()
    assert after > before + 0.02 and abs(after - scaled_jacobian(quads.with_points(plain)).mean()) < 1e-3


def test_points_on_lines_slide_along_them_between_too_and_what_is_held_stays() -> None:
    mesh = grid(8)
    rng = np.random.default_rng(2)
    rim = mesh.topology.border_points
    points = mesh.points.copy()
    points[~rim, :2] += 0.2 * rng.uniform(-1, 1, (int((~rim).sum()), 2))
    for side, free in ((0.0, 0), (8.0, 0)):
        along = rim & (points[:, 1] == side) & (points[:, 0] > 0) & (points[:, 0] < 8)
        points[along, free] += 0.2 * rng.uniform(-1, 1, int(along.sum()))
    shaken = mesh.with_points(points)
    big = np.array([[-1, -1, 0], [9, -1, 0], [9, 9, 0], [-1, 9, 0]], float)
    surface = Bvh.build(big, np.array([[0, 1, 2], [0, 2, 3]]))
    corners = np.array([[0, 0, 0], [8, 0, 0], [8, 8, 0], [0, 8, 0]], float)
    lines = lines_of(shaken, np.stack([corners, np.roll(corners, -1, axis=0)], axis=1), corners, 1e-6)
    held = np.zeros(mesh.n_points, bool)
    held[40] = True
    new = relaxed(shaken, surface, 200, held=held, lines=lines, evenness=0.3, brisk=True)
    assert np.array_equal(new.points[40], shaken.points[40])
    assert np.allclose(new.points[rim] - mesh.points[rim], 0, atol=0.06), "evenly along their sides, as in the plain grid"
    inside = np.array([0.0, 8.0])
    assert all(np.isin(new.points[p, :2], inside).any() for p in np.flatnonzero(rim)), "on their lines exactly"
    free = relaxed(shaken, surface, 200, lines=lines, evenness=0.3, brisk=True)
    assert np.abs(free.points - mesh.points).max() < 0.02 and scaled_jacobian(free).min() > 0.999


def test_each_point_listens_to_the_neighbours_that_trimesh_names_and_border_points_to_the_border() -> None:
    ball = icosphere(2)
    start, other = _neighbours(ball)
    ids = np.arange(ball.n_points)
    known = trimesh.Trimesh(ball.points, ball.triangle_points, process=False).vertex_neighbors
    assert all(sorted(other[start[p] : start[p + 1]].tolist()) == sorted(known[p]) for p in ids)
    assert np.allclose(_means(ball.points, start, other, ids), [ball.points[known[p]].mean(axis=0) for p in ids], atol=1e-15)
    sheet = grid(3)
    start, other = _neighbours(sheet)
    counts = np.diff(start)
    rim = sheet.topology.border_points
    assert (counts[rim] == 2).all() and (counts[~rim] == 4).all()
    assert all(rim[other[start[p] : start[p + 1]]].all() for p in np.flatnonzero(rim))
