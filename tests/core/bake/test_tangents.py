"""Tangents against the published code of MikkTSpace."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.bake.tangents import tangents
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.shading import HARD, corner_normals, hard_by_angle, hard_edges, with_hard
from tests.core.bake.forms import boxed, torus
from tests.core.bake.reference import published_tangents


def _cut_torus() -> PolyMesh:
    """A torus whose UVs run round both ways, the upper half mirrored onto the lower: both handednesses, sewn and apart."""
    mesh = torus(1.0, 0.4, 24, 16)
    faces = np.arange(mesh.n_faces)
    i, j = faces // 16, faces % 16
    corner = np.stack([np.stack([i, j], 1), np.stack([i + 1, j], 1), np.stack([i + 1, j + 1], 1), np.stack([i, j + 1], 1)], 1)
    uv = corner.reshape(-1, 2) / np.array([24.0, 16.0])
    uv[:, 1] = np.abs(uv[:, 1] - 0.5) * 0.9 + 0.02
    return mesh.with_uv(uv)


def _spoilt() -> PolyMesh:
    """A cube with faces that have no area on the sheet, and one of no area in space."""
    mesh = boxed(3, False)
    uv = mesh.uv.copy()
    uv[:4] = uv[0]
    uv[40:44, 0] = uv[40, 0]
    points = mesh.points.copy()
    points[mesh.corners[20]] = points[mesh.corners[21]]
    return mesh.with_points(points).with_uv(uv)


@pytest.mark.parametrize("form", [boxed(5, True), hard_by_angle(boxed(3, False), 40), _cut_torus(), _spoilt()],
                         ids=["ball", "hard cube", "mirrored torus", "spoilt"])  # fmt: skip
def test_tangents_are_those_of_the_published_code(form: PolyMesh) -> None:
    normals, tri = corner_normals(form), short_diagonals(form)
    places = form.points[form.corners]
    ours = tangents(places, normals, form.uv, tri)
    theirs = published_tangents(places[tri], normals[tri], form.uv[tri])
    assert (ours[..., 3] == theirs[..., 3]).all()
    assert np.abs(ours[..., :3] - theirs[..., :3]).max() < 2e-5


def test_corner_normals_break_at_hard_edges_only() -> None:
    """A soft cube's corner looks along its diagonal, a hard one's along its faces; one hard edge changes nothing where the
    fan around a point is still whole."""
    cube = boxed(1, False)
    soft = corner_normals(cube)
    assert np.allclose(np.abs(soft), 1 / np.sqrt(3))
    hard = hard_by_angle(cube, 45)
    assert hard_edges(hard).all() and np.allclose(np.sort(np.abs(corner_normals(hard)), axis=1), [0, 0, 1])
    one = np.zeros(12, bool)
    one[0] = True
    assert np.allclose(corner_normals(with_hard(cube, one, True)), soft)
    assert len(with_hard(hard, np.ones(12, bool), False).mark(HARD)) == 0
