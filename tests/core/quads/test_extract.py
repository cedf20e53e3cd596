"""Quads out of maps that are given."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.geometry import face_normals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.extract import extract_quads
from jacket.core.quads.gridmap import GridMap
from tests.conftest import grid, torus


def triangles(mesh: PolyMesh) -> PolyMesh:
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points)


def plain_map(mesh: PolyMesh, uv: np.ndarray) -> GridMap:
    return GridMap(uv, np.zeros(mesh.n_corners, np.int32), np.zeros((mesh.n_corners, 2), np.int32), 0)


@pytest.mark.parametrize(("fine", "step"), [(7, 1.0), (5, 0.37), (12, 2.0)])
def test_a_plane_gives_back_its_grid(fine: int, step: float) -> None:
    """A square of fine triangles under uv = xy / step: one quad for each grid square wholly inside."""
    mesh = triangles(grid(fine))
    uv = mesh.points[mesh.corners][:, :2] / step
    quads = extract_quads(mesh, plain_map(mesh, uv))
    assert quads.is_quads and euler_characteristic(quads) == 1
    assert quads.n_faces == round(fine / step) ** 2
    places = quads.points[:, :2] / step
    inner = ~quads.topology.border_points
    assert np.abs(places[inner] - np.rint(places[inner])).max(initial=0) < 1e-9
    assert (face_normals(quads)[:, 2] > 0.99).all()


def test_a_fold_in_the_map_cancels() -> None:
    """A map that runs back over itself by a step and a half still covers each square once."""
    mesh = triangles(grid(24, 4))
    x = mesh.points[mesh.corners][:, 0] / 2
    folded = np.where(x < 5, x, np.where(x < 6.5, 10 - x, x - 3.0))
    uv = np.stack([folded, mesh.points[mesh.corners][:, 1] / 2], axis=1)
    quads = extract_quads(mesh, plain_map(mesh, uv))
    assert quads.is_quads and len(quads.topology.nonmanifold_edges) == 0
    assert quads.n_faces == 9 * 2 and euler_characteristic(quads) == 1  # 12 − 3 columns are left


def test_a_torus_by_its_two_angles() -> None:
    """uv = (12 a / 2π, 5 b / 2π) with whole shifts across the two cuts gives 12 × 5 quads of valence 4."""
    mesh = triangles(torus(48, 25))
    i, j = np.divmod(mesh.corners, 25)
    # Within each triangle the indices are unrolled so that they do not jump.
    i, j = i.reshape(-1, 3).astype(float), j.reshape(-1, 3).astype(float)
    i[(np.ptp(i, axis=1) > 24)[:, None] & (i < 24)] += 48
    j[(np.ptp(j, axis=1) > 12)[:, None] & (j < 12)] += 25
    uv = np.stack([i.ravel() / 4, j.ravel() / 5], axis=1)
    topology = mesh.topology
    shift = np.rint(uv[topology.next[topology.twin]] - uv).astype(np.int32)
    quads = extract_quads(mesh, GridMap(uv, np.zeros(mesh.n_corners, np.int32), shift, 0))
    assert quads.n_faces == 60 and quads.is_quads and euler_characteristic(quads) == 0
    assert (quads.topology.valence == 4).all()
