"""Meshes cut to disks, and manifold copies."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.field import smooth_field
from jacket.core.source.whole import sheets_parted
from tests.conftest import grid, icosphere, torus

NONE = np.zeros((0, 2), np.int32)


def triangles(mesh: PolyMesh) -> PolyMesh:
    return PolyMesh.from_faces(mesh.points, mesh.triangle_points)


@pytest.mark.parametrize("make", [lambda: icosphere(3), lambda: triangles(torus(24, 12)), lambda: triangles(grid(6))])
def test_cut_meshes_are_disks_with_singular_points_on_the_cut(make) -> None:  # type: ignore[no-untyped-def]
    """V − E + F of the cut-open mesh is 1, and all turning is across the cut."""
    mesh = make()
    field = smooth_field(mesh, NONE)
    cut = cut_mesh(mesh, field)
    opened = PolyMesh.from_faces(np.zeros((cut.n_classes, 3)), cut.corner_class.reshape(-1, 3))
    assert euler_characteristic(opened) == 1
    assert not cut.turn[~cut.cut].any()
    singular = np.flatnonzero(field.index)
    assert np.isin(singular, mesh.corners[cut.cut]).all()
    assert sum(len(s) for s in cut.segments) == len(np.unique(mesh.topology.edge[cut.cut]))


def test_manifold_copies_of_pinched_points() -> None:
    """Two tetrahedra that share one point come apart there (each keeps its four points)."""
    tetra = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]], np.int32)
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [-1, 0, 0], [0, -1, 0], [0, 0, -1]], float)
    second = np.array([0, 4, 5, 6], np.int32)[tetra]
    opened, tri = sheets_parted(points, np.concatenate([tetra, second]))
    assert len(opened) == 8 and euler_characteristic(PolyMesh.from_faces(opened, tri)) == 4
