"""Channels through edits: what lies on corners, edges, points and faces is still there, and right, afterwards."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh import edits
from jacket.core.mesh.channels import carried, kind_of, stacked
from jacket.core.mesh.pieces import mirrored_copy, put_side_by_side, split_off
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.areas import face_uv_areas
from jacket.core.uv.sets import uv_set
from tests.conftest import grid


def dressed(n: int = 3) -> PolyMesh:
    """A grid whose channels are linear in place, so that the right value is known anywhere on it: u, v = x, y; a second
    set at half the size with pins = x / n; red = 20 x; materials by column; numbers of islands by row."""
    mesh = grid(n)
    at = mesh.points[mesh.corners]
    colour = np.zeros((mesh.n_points, 4), np.uint8)
    colour[:, 0] = 20 * mesh.points[:, 0]
    colour[:, 3] = 255
    mesh = mesh.with_uv(at[:, :2], "a").with_uv(at[:, :2] / 2, "b").with_cuts([[0, 1], [4, 5]], "b")
    faces = np.arange(mesh.n_faces)
    return mesh.with_(
        point_data={"colour": colour},
        face_data={"material": (faces % n).astype(np.int32), "island:a": (faces // n + 1).astype(np.int32)},
        corner_data={**mesh.corner_data, "pin:b": (at[:, 0] / n).astype(np.float32)},
    )


def linear(mesh: PolyMesh, faces: np.ndarray | None = None) -> None:
    """Every channel has the value of its place, on all faces or on some."""
    here = np.ones(mesh.n_corners, bool) if faces is None else np.isin(mesh.face_of_corner, faces)
    at = mesh.points[mesh.corners][here]
    assert np.allclose(mesh.corner_data["uv:a"][here], at[:, :2])
    assert np.allclose(mesh.corner_data["uv:b"][here], at[:, :2] / 2)
    assert np.allclose(mesh.corner_data["pin:b"][here], at[:, 0] / 3, atol=1e-6)
    used = np.unique(mesh.corners[here])
    assert np.abs(mesh.point_data["colour"][used, 0] - 20 * mesh.points[used, 0]).max() <= 0.5
    middle = np.array([mesh.points[mesh.face(f)].mean(axis=0) for f in range(mesh.n_faces)])
    some = np.arange(mesh.n_faces) if faces is None else faces
    assert (mesh.face_data["material"][some] == np.floor(middle[some, 0])).all()
    assert (mesh.face_data["island:a"][some] == np.floor(middle[some, 1]) + 1).all()


def test_an_inserted_loop_mixes_what_mixes_and_keeps_the_rest() -> None:
    mesh = dressed()
    new = edits.loop_inserted(mesh, mesh.topology.find_edge(0, 1), 0.3).mesh
    assert new.n_faces == mesh.n_faces + 3
    linear(new)
    # Cut edges that the loop crosses are cut in both halves: 0–1 and 4–5 lie on edges of the row's ring.
    assert len(uv_set(new, "b").cuts) == 4
    # In the plane the map keeps areas whatever is cut, so nothing was mixed up between corners.
    areas = np.abs(face_uv_areas(new, new.corner_data["uv:a"]))
    assert areas.sum() == pytest.approx(9.0)


def test_removing_turning_and_welding_keep_every_channel() -> None:
    mesh = dressed()
    linear(edits.faces_removed(mesh, [0, 4]).mesh)
    linear(edits.points_removed(mesh, [0]).mesh)
    flip = np.zeros(mesh.n_faces, bool)
    flip[[1, 5]] = True
    turned = edits.faces_turned(mesh, flip)
    linear(turned)
    assert face_uv_areas(turned, turned.corner_data["uv:a"])[1] == pytest.approx(-1.0)
    welded = edits.points_welded(mesh, [[0, 1]]).mesh
    linear(welded, np.flatnonzero([(welded.points[welded.face(f)][:, 1] >= 1).all() for f in range(welded.n_faces)]))


def test_new_faces_are_blank() -> None:
    mesh = edits.faces_removed(dressed(), [4], keep_points=True).mesh
    hole = [5, 6, 10, 9]
    new = edits.face_added(mesh, hole).mesh
    linear(new, np.arange(new.n_faces - 1))
    corners = slice(new.starts[-2], new.starts[-1])
    assert np.isnan(new.corner_data["uv:a"][corners]).all() and (new.corner_data["pin:b"][corners] == 0).all()
    assert new.face_data["material"][-1] == kind_of("material").blank == -1 and new.face_data["island:a"][-1] == 0


def test_split_off_and_put_together_again() -> None:
    mesh = dressed()
    rest, part = split_off(mesh, np.array([0, 1, 2]))
    linear(rest)
    linear(part)
    whole = put_side_by_side([rest, part])
    linear(whole)
    # The cut between 4 and 5 lay where the parts came off, so both have it.
    assert whole.uv_sets == ("a", "b") and len(uv_set(whole, "b").cuts) == 3
    plain = put_side_by_side([mesh, grid(1)])
    assert np.isnan(plain.corner_data["uv:a"][mesh.n_corners :]).all()
    assert (plain.point_data["colour"][mesh.n_points :] == 255).all()


def test_a_mirrored_copy_has_the_same_coordinates_on_the_other_side() -> None:
    copy = mirrored_copy(dressed(), 0)
    at = copy.points[copy.corners]
    assert np.allclose(copy.corner_data["uv:a"][:, 0], np.abs(at[:, 0]))
    assert np.allclose(copy.corner_data["pin:b"], np.abs(at[:, 0]) / 3, atol=1e-6)


def test_tables_by_origin() -> None:
    table = {"uv:x": np.array([[0.0, 0], [1, 2]]), "island:x": np.array([7, 8]), "own": np.array([3, 4])}
    out = carried(table, np.array([1, -1, 0]), [(1, [(0.25, 0), (0.75, 1)])])
    assert out["uv:x"].tolist() == [[1, 2], [0.75, 1.5], [0, 0]]
    assert out["island:x"].tolist() == [8, 0, 7] and out["own"].tolist() == [4, 0, 3]  # never mixed
    both = stacked([table, {"own": np.array([9])}], [2, 1])
    assert both["own"].tolist() == [3, 4, 9] and np.isnan(both["uv:x"][2]).all()
