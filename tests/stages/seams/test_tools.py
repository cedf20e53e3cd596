"""Cut, Sew and Hold on seams, driven by plain events."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.uv.sets import cut_flags, island_labels
from jacket.stages.seams.tools.cut import Cut, Sew
from jacket.tools.base import ToolSettings
from jacket.tools.holding import Hold
from tests.hands import at, click, drag, mesh_of, sheet_document


def test_hold_and_cut_and_sew() -> None:
    document = sheet_document(6)
    hold = Hold(document, ToolSettings())
    click(hold, 0.15, 0.0, shift=True)
    assert document.state.held.kind == "edges" and len(document.state.held) == 6 and not document.history.done
    cut, sew = Cut(document, ToolSettings()), Sew(document, ToolSettings())
    click(cut, 0.15, 0.0, shift=True)
    assert len(mesh_of(document).cuts) == 6
    click(sew, 0.15, 0.0)
    assert len(mesh_of(document).cuts) == 5
    click(cut, -0.6, -0.6)
    cut.hover(at(-0.6, 0.6))
    assert cut.ghost.what == "Cut the path by straight rows" and len(cut.ghost.lines) == 4
    click(cut, -0.6, 0.6)
    assert len(mesh_of(document).cuts) == 9
    assert [s.name for s in document.history.done] == ["cut the loop", "sew the edge", "cut the path by straight rows"]


def test_space_steps_through_what_else_is_near() -> None:
    document = sheet_document(6)
    cut = Cut(document, ToolSettings())
    place = at(0.15, 0.0)
    seen = []
    for _ in range(5):
        cut.hover(place)
        assert cut.asks is not None
        seen.append((cut.ghost.what, len(cut.asks.edges), cut.asks.turn))
        cut.step()
    # A horizontal edge of the middle row: itself, its loop, the loops beside, and the rungs of its row.
    assert [w for w, _, _ in seen] == ["Cut the edge", "Cut the loop", "Cut the loop one row further",
                                       "Cut the loop one row further", "Cut the row of rungs"]  # fmt: skip
    assert [n for _, n, _ in seen] == [1, 6, 6, 6, 7] and [t for _, _, t in seen] == [0, 1, 2, 3, 4]
    cut.hover(at(0.15, 0.3))
    assert cut.ghost.what == "Cut the edge"  # elsewhere it begins anew
    cut.leave()
    assert cut.asks is None


def test_the_wheel_over_what_is_gone_meanwhile_offers_nothing() -> None:
    """Hidden edges were stepped through where nothing is seen, then the layer was emptied."""
    document = sheet_document(6)
    cut = Cut(document, ToolSettings())
    cut.hover(at(5.0, 5.0))
    cut._nth = 1
    cut.hover(at(5.0, 5.0))
    assert cut.ghost.what == ""
    document.edit_jacket("empty it", PolyMesh.empty())
    cut._nth = 1
    cut.hover(at(5.0, 5.0))
    assert cut.ghost.what == ""


def test_a_sweep_cuts_or_sews_by_its_first_edge() -> None:
    document = sheet_document(6)
    cut = Cut(document, ToolSettings())
    drag(cut, (-0.75, 0.0), (0.75, 0.0))
    swept = mesh_of(document).cuts
    assert len(swept) >= 3 and document.last_step == f"cut {len(swept):,} edges" and len(document.history.done) == 1
    drag(cut, (-0.75, 0.0), (0.75, 0.0))
    assert len(mesh_of(document).cuts) == 0 and document.last_step == f"sew {len(swept):,} edges"
    click(cut, 0.15, 0.0)
    assert document.last_step == "cut the edge"
    cut.hover(at(0.15, 0.0))
    assert cut.ghost.what == "Sew the edge"
    cut.press(at(0.45, 0.0))
    assert cut.busy and cut.cancel()
    assert len(mesh_of(document).cuts) == 1 and not document.in_gesture


def test_the_last_path_is_bent_by_dragging_it() -> None:
    document = sheet_document(6)
    cut = Cut(document, ToolSettings())
    click(cut, -0.6, 0.0)
    click(cut, 0.6, 0.0)
    assert len(mesh_of(document).cuts) == 4
    drag(cut, (0.15, 0.0), (0.0, 0.6))
    mesh = mesh_of(document)
    assert document.last_step == "bend the path" and len(mesh.cuts) == 8
    through = int(np.argmin(np.linalg.norm(mesh.points - [0, 0.6, 0], axis=1)))
    assert through in mesh.cuts
    document.undo()
    assert len(mesh_of(document).cuts) == 4


@pytest.mark.parametrize(("option", "edges"), [("stop_seams", 3), ("stop_sharp", 3), ("", 6)])
def test_loops_stop_where_they_are_told_to(option: str, edges: int) -> None:
    """A loop up the sheet meets one across it, which is a seam and, since the far half is folded up, sharp too."""
    document = sheet_document(6)
    mesh = mesh_of(document)
    points = mesh.points.copy()
    up = points[:, 1] > 1e-9
    if option == "stop_sharp":
        points[up, 2] = points[up, 1]
    mesh = mesh.with_points(points)
    across = [mesh.topology.find_edge(21 + k, 22 + k) for k in range(6)]
    document.edit_jacket("prepare", cut_edges(mesh, np.array(across)) if option == "stop_seams" else mesh)
    cut = Cut(document, ToolSettings())
    cut.stop_seams, cut.stop_poles, cut.stop_sharp = option == "stop_seams", True, option == "stop_sharp"
    mesh = mesh_of(document)
    assert len(cut.loop(mesh, mesh.topology.find_edge(3, 10))) == edges


def test_loops_go_on_through_poles_where_they_may() -> None:
    """Where two triangles stand for a quad a point has five edges: a loop ends there or goes as straight on as it can."""
    from jacket.core.mesh.polymesh import PolyMesh
    from tests.conftest import grid

    sheet = grid(4)
    faces = [sheet.face(f).tolist() for f in range(16)]
    a, b, c, d = faces.pop(5)
    mesh = PolyMesh.from_faces(sheet.points, [*faces, [a, b, c], [a, c, d]])
    document = sheet_document(6)
    document.edit_jacket("other faces", mesh)
    cut = Cut(document, ToolSettings())
    edge = mesh.topology.find_edge(5, 6)
    assert len(cut.loop(mesh, edge)) == 1
    cut.stop_poles = False
    assert len(cut.loop(mesh, edge)) == 4


def test_sewing_on_the_sheet_brings_the_smaller_island_to_the_larger() -> None:
    document = sheet_document(6)
    mesh = mesh_of(document)
    row = np.array([mesh.topology.find_edge(14 + k, 15 + k) for k in range(6)])
    flat, _ = unwrap(cut_edges(mesh, row))
    uv = flat.uv.copy()
    small = island_labels(flat)[1][flat.face_of_corner] == island_labels(flat)[1][0]
    uv = uv * 0.2 + 0.5
    uv[small] = uv[small] @ np.array([[0, 1], [-1, 0]]) + [0.3, 0.1]
    document.edit_jacket("lay apart", flat.with_uv(uv))
    big = uv[~small].copy()
    sew = Sew(document, ToolSettings())
    click(sew, 0.15, -0.3, shift=True)
    mesh = mesh_of(document)
    assert not cut_flags(mesh).any() and island_labels(mesh)[0] == 1
    assert mesh.uv is not None and np.array_equal(mesh.uv[~small], big)
    # It lies as if it had been one: every point of the sheet is where a similar grid has it.
    place = np.zeros((mesh.n_points, 2))
    place[mesh.corners] = mesh.uv
    steps = place[mesh.topology.edge_points]
    assert np.allclose(np.linalg.norm(steps[:, 0] - steps[:, 1], axis=1), 0.3 * 0.2, atol=1e-9)
