"""Edits keep meshes sound and carry UVs, marks and held points through their maps."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jacket.core.mesh.edits import (
    borders_pulled,
    face_added,
    faces_removed,
    loop_inserted,
    point_added,
    points_moved,
    points_removed,
    points_welded,
)
from jacket.core.mesh.geometry import face_normals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import edge_loop, euler_characteristic
from jacket.errors import EditRefused
from tests.conftest import cube, grid, torus


def with_flat_uv(mesh: PolyMesh) -> PolyMesh:
    return mesh.with_uv(mesh.points[mesh.corners][:, :2] / 10)


def test_a_loop_through_a_grid() -> None:
    sheet = with_flat_uv(grid(5)).with_cuts([[7, 8], [8, 9]])
    edge = sheet.topology.find_edge(7, 8)
    edited = loop_inserted(sheet, edge, 0.3).mesh
    assert edited.n_faces == 30 and edited.is_quads and euler_characteristic(edited) == 1
    fresh = edited.points[36:]
    assert len(fresh) == 6 and np.allclose(fresh[:, 0], fresh[0, 0]) and np.allclose(np.sort(fresh[:, 1]), range(6))
    # UVs follow the same proportion, and the seam is now two edges in place of one.
    assert np.allclose(edited.uv, edited.points[edited.corners][:, :2] / 10)
    assert len(edited.cuts) == 3
    assert np.allclose(np.abs(edited.points[edited.cuts][:, 0, 1] - 1), 0)


def test_a_loop_round_a_torus_keeps_its_topology() -> None:
    ring = torus(10, 6)
    edited = loop_inserted(ring, 0, 0.5).mesh
    assert euler_characteristic(edited) == 0 and not edited.topology.border_edges.size and edited.is_quads


def test_a_self_crossing_row() -> None:
    """Three quads round a point of valence three, two of whose free sides are joined: one row passes a quad twice."""
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, 0], [2, 1, 1], [1, 2, 1], [0, 2, 0]], float)
    # Quad 0 has quads 1 and 2 at its right and top; quad 3 joins the far sides of those two.
    mesh = PolyMesh.from_faces(points, [[0, 1, 2, 3], [1, 4, 5, 2], [2, 6, 7, 3], [4, 7, 6, 5]])
    edge = mesh.topology.find_edge(1, 2)
    edited = loop_inserted(with_flat_uv(mesh), edge, 0.3).mesh
    assert edited.is_quads and len(edited.topology.nonmanifold_edges) == 0
    assert edited.n_faces == 4 + 2 + 2 + 2  # quad 0 is passed twice and becomes four
    assert euler_characteristic(edited) == euler_characteristic(mesh)
    inside = edited.uv[np.isfinite(edited.uv).all(axis=1)]
    assert len(inside) == edited.n_corners


def test_a_loop_needs_quads() -> None:
    with pytest.raises(EditRefused, match="No row of quads"):
        loop_inserted(PolyMesh.from_faces([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]]), 0, 0.5)


def test_pulling_borders_and_joining_what_is_there() -> None:
    sheet = grid(3)
    bottom = edge_loop(sheet, sheet.topology.find_edge(0, 1))
    bottom = [e for e in bottom if (sheet.points[sheet.topology.edge_points[e]][:, 1] == 0).all()]
    targets = {p: sheet.points[p] - [0, 1, 0] for p in range(4)}
    pulled = borders_pulled(sheet, bottom, targets).mesh
    assert pulled.n_faces == 12 and pulled.is_quads and euler_characteristic(pulled) == 1
    assert (face_normals(pulled)[:, 2] > 0.99).all()  # wound like their neighbours
    with pytest.raises(EditRefused, match="Only border edges"):
        borders_pulled(sheet, [sheet.topology.find_edge(5, 6)], {5: [0, 0, 1], 6: [1, 0, 1]})


def test_faces_are_wound_with_their_neighbours_or_refused() -> None:
    sheet = grid(2)
    two = point_added(point_added(sheet, [3, 0, 0]).mesh, [3, 1, 0]).mesh
    for face in ([2, 9, 10, 5], [5, 10, 9, 2]):
        assert (face_normals(face_added(two, face).mesh)[:, 2] > 0.99).all()
    with pytest.raises(EditRefused, match="third"):
        face_added(two, [1, 4, 9, 10])
    with pytest.raises(EditRefused, match="different points"):
        face_added(two, [1, 1, 9, 10])


def test_removing_takes_lonely_points_along() -> None:
    sheet = grid(2)
    less = faces_removed(sheet, [0]).mesh
    assert less.n_faces == 3 and less.n_points == 8
    assert faces_removed(sheet, [0], keep_points=True).mesh.n_points == 9
    assert points_removed(sheet, [4]).mesh.n_points == 0  # the middle takes all four faces


def test_welding() -> None:
    sheet = grid(2)
    welded = points_welded(sheet, [[0, 1]]).mesh
    assert sorted(welded.sizes.tolist()) == [3, 4, 4, 4] and welded.n_points == 8
    with pytest.raises(EditRefused, match="pinch"):
        points_welded(sheet, [[0, 4]])
    with pytest.raises(EditRefused, match="three faces"):
        # Two leaves of one book laid on one another.
        points = [
            [0, 0, 0],
            [0, 1, 0],
            [1, 0, 0],
            [1, 1, 0],
            [-1, 0, 0],
            [-1, 1, 0],
            [2, 2, 2],
            [2, 3, 2],
            [3, 2, 2],
            [3, 3, 2],
        ]
        book = PolyMesh.from_faces(points, [[0, 2, 3, 1], [1, 5, 4, 0], [6, 8, 9, 7]])
        points_welded(book, [[6, 0], [7, 1]])


@given(st.data())
@settings(max_examples=25, deadline=None, derandomize=True)
def test_random_edits_keep_the_mesh_sound(data: st.DataObject) -> None:
    """Any sequence of edits leaves consistent arrays, no repeated point in a face, no third face."""
    mesh = data.draw(st.sampled_from([grid(4), torus(6, 5), cube()]))
    mesh = with_flat_uv(mesh).with_cuts(mesh.topology.edge_points[:3])
    for _ in range(data.draw(st.integers(1, 12))):
        if mesh.n_faces == 0:
            break
        kind = data.draw(st.sampled_from(["loop", "faces", "points", "pull", "weld", "move"]))
        pick = lambda n: data.draw(st.integers(0, n - 1))  # noqa: E731
        try:
            if kind == "loop" and mesh.n_faces < 400:
                mesh = loop_inserted(mesh, pick(mesh.topology.n_edges), data.draw(st.floats(0.05, 0.95))).mesh
            elif kind == "faces":
                mesh = faces_removed(mesh, [pick(mesh.n_faces)]).mesh
            elif kind == "points":
                mesh = points_removed(mesh, [pick(mesh.n_points)]).mesh
            elif kind == "pull" and len(mesh.topology.border_edges):
                edge = int(mesh.topology.border_edges[pick(len(mesh.topology.border_edges))])
                a, b = mesh.topology.edge_points[edge].tolist()
                mesh = borders_pulled(mesh, [edge], {a: mesh.points[a] + [0, 0, 1], b: mesh.points[b] + [0, 0, 1]}).mesh
            elif kind == "weld":
                mesh = points_welded(mesh, [mesh.topology.edge_points[pick(mesh.topology.n_edges)]]).mesh
            else:
                mesh = points_moved(mesh, [pick(mesh.n_points)], [[0.5, 0.5, 0.5]])
        except EditRefused:
            continue
        PolyMesh.checked(mesh.points, mesh.corners, mesh.starts)
        assert all(len(set(mesh.face(f).tolist())) == mesh.sizes[f] for f in range(mesh.n_faces))
        assert len(mesh.topology.nonmanifold_edges) == 0
        assert mesh.uv.shape == (mesh.n_corners, 2)
        assert (mesh.topology.find_edges(mesh.cuts) >= 0).all()
