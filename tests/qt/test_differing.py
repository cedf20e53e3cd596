"""Light and dense seen from one place: angles that are known, and where nothing can be compared."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.bake.dense import Dense
from jacket.core.bake.seen import compared, dense_look, heated, light_look, lit_grey
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sheets import Sheet
from jacket.jobs.bake import BakeLayer, BakeSettings, bake
from jacket.qt.differing import shown_parts
from jacket.tools.view import FormCamera
from tests.core.bake.forms import ball, boxed

SIZE = 96


def camera() -> FormCamera:
    return FormCamera(np.zeros(3), 4.0, 20.0, 15.0, width=SIZE, height=SIZE)


def test_a_plane_turned_by_a_known_angle_is_that_angle_apart() -> None:
    square = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0.0]])
    angle = np.radians(12.0)
    turn = np.array([[1, 0, 0], [0, np.cos(angle), -np.sin(angle)], [0, np.sin(angle), np.cos(angle)]])
    view = FormCamera(np.zeros(3), 5.0, 0.0, 0.0, width=SIZE, height=SIZE)
    flat, turned = (PolyMesh.from_faces(p, [[0, 1, 2, 3]]) for p in (square, square @ turn.T))
    light = light_look(shown_parts(flat, (), None, 0), view.project, SIZE, SIZE)
    dense = dense_look(Dense.of([("d", turned)]), view.project, SIZE, SIZE)
    seen = compared(light, dense, 1.0)
    assert seen.mean == pytest.approx(12.0, abs=1e-3) and seen.percentile(95) == pytest.approx(12.0, abs=1e-3)
    # Further apart than that, something else is seen there: nothing is compared.
    assert 0 < np.isfinite(compared(light, dense, 0.05).degrees).sum() < np.isfinite(seen.degrees).sum()
    assert np.isnan(compared(light, dense, 0.0).mean)
    assert (heated(seen.degrees, 12.0)[np.isfinite(seen.degrees)] == (124, 45, 58)).all()
    assert lit_grey(light)[SIZE // 2, SIZE // 2].mean() > lit_grey(light)[0, 0].mean() + 50


def test_with_its_map_the_light_mesh_shades_as_the_dense_one() -> None:
    box, dense = boxed(6, True), ball(48)
    jacket = box.with_points(box.points / np.linalg.norm(box.points, axis=1, keepdims=True))
    sheets = (Sheet(width=512, height=512, margin=2.0),)
    made = bake([BakeLayer("box", jacket)], [BakeLayer("ball", dense)], sheets, BakeSettings(("normal",)))
    there = dense_look(Dense.of([("ball", dense)]), camera().project, SIZE, SIZE)
    # A ball's own normals are its places: what is seen of it is exact up to the chords of its triangles.
    out = there.places / np.maximum(np.linalg.norm(there.places, axis=2, keepdims=True), 1e-9)
    assert np.abs(there.normals - out)[there.there].max() < 4e-3
    bare, lit, far = (compared(light_look(shown_parts(jacket, sheets, b, mip), camera().project, SIZE, SIZE), there, 0.1).mean
                      for b, mip in ((None, 0), (made, 0), (made, 4)))  # fmt: skip
    # What is left is mostly parallax: the light ball's chords lie inside the dense one.
    assert lit < 1.0 < bare
    # A far mip level is another picture.
    assert far > 0 and abs(far - lit) > 1e-3
