"""Slide over the flat view and Cast over the form, driven by plain events."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from jacket.core.flatten.overlap import flipped_faces
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import PIN, PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.uv.areas import face_uv_areas
from jacket.core.uv.projections import Caster, fitted_caster
from jacket.core.uv.sets import cut_flags, island_labels
from jacket.document.document import Document
from jacket.document.edits.layers import lock_layer
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.stages.flatten.tools.brushes import with_pins
from jacket.stages.flatten.tools.casting import Cast
from jacket.stages.flatten.tools.sliding import Slide
from jacket.tools.base import ToolSettings
from jacket.tools.view import FormCamera
from tests.conftest import cube, grid
from tests.core.flatten.test_editing import dome
from tests.hands import Hand, tube
from tests.host import Headless
from tests.stages.flatten.test_flat_tools import at, document, drag, mesh_of


def flat_grid(n: int = 6) -> PolyMesh:
    """An n × n grid mapped onto the middle of the sheet, from 0.2 to 0.8."""
    mesh = grid(n)
    return mesh.with_uv(0.2 + 0.6 * mesh.points[mesh.corners][:, :2] / n)


def columns(mesh: PolyMesh) -> np.ndarray:
    """Where the columns of the grid lie on the sheet, by the place of each on the form; they are straight."""
    x = np.round(mesh.points[mesh.corners][:, 0]).astype(int)
    out = np.array([mesh.uv[x == k, 0].mean() for k in range(x.max() + 1)])
    assert all(np.ptp(mesh.uv[x == k, 0]) < 1e-12 for k in range(x.max() + 1))
    return out


def test_a_loop_slides_as_a_whole_and_nothing_else_moves() -> None:
    doc = document(flat_grid())
    before = columns(mesh_of(doc))
    tool = Slide(doc, ToolSettings())
    tool.hover(at(0.5, 0.45, shift=True))
    assert tool.ghost.what == "Slide 6 edges across" and len(tool.ghost.lines) == 12
    drag(tool, (0.5, 0.45), (0.55, 0.47), shift=True)
    after = columns(mesh_of(doc))
    assert np.allclose(after - before, [0, 0, 0, 0.05, 0, 0, 0]) and doc.last_step == "slide on the sheet"
    drag(tool, (0.55, 0.45), (0.1, 0.45), shift=True)
    assert columns(mesh_of(doc))[3] == pytest.approx(0.4 + 0.15 * 0.1)  # to 90 % of the way, never onto the next
    assert np.allclose(mesh_of(doc).uv[:, 1], flat_grid().uv[:, 1])  # straight across
    doc.undo()
    assert np.allclose(mesh_of(doc).uv[:, 1], flat_grid().uv[:, 1])
    doc.undo()
    assert np.array_equal(columns(mesh_of(doc)), before)


def test_one_edge_one_point_and_what_is_pinned() -> None:
    doc = document(flat_grid())
    tool = Slide(doc, ToolSettings())
    drag(tool, (0.5, 0.45), (0.53, 0.45))
    moved = np.abs(mesh_of(doc).uv - flat_grid().uv).max(axis=1) > 1e-12
    assert len(np.unique(mesh_of(doc).corners[moved])) == 2
    doc.undo()
    tool.hover(at(0.5, 0.5))
    assert tool.ghost.what == "Slide the point along an edge"
    drag(tool, (0.5, 0.5), (0.51, 0.56))  # most of the way up: only up it goes
    where = mesh_of(doc).uv[mesh_of(doc).corners == 24]
    assert np.allclose(where, [0.5, 0.56])
    doc.undo()
    mesh = mesh_of(doc)
    doc.edit_jacket("pin", with_pins(mesh, (mesh.corners == 24).astype(float)))
    assert PIN + mesh_of(doc).active_uv in mesh_of(doc).corner_data
    drag(tool, (0.5, 0.45), (0.55, 0.45), shift=True)
    assert np.allclose(mesh_of(doc).uv[mesh_of(doc).corners == 24], [0.5, 0.5])
    assert np.allclose(mesh_of(doc).uv[mesh_of(doc).corners == 17], [0.55, 0.4])


def test_on_a_seam_only_the_side_under_the_pointer_slides() -> None:
    mesh = flat_grid()
    x = mesh.points[mesh.topology.edge_points][:, :, 0]
    cut = cut_edges(mesh, np.flatnonzero((x == 3).all(axis=1)).astype(np.int32))
    assert island_labels(cut)[0] == 2
    doc = document(cut)
    drag(Slide(doc, ToolSettings(reach=14)), (0.495, 0.45), (0.46, 0.45), shift=True)
    u = mesh_of(doc).uv[:, 0]
    left = mesh.points[mesh.corners][:, 0][:, None] == 3
    own = np.repeat(mesh.points[mesh.corners].reshape(-1, 4, 3)[:, :, 0].mean(axis=1) < 3, 4)
    assert np.allclose(u[left[:, 0] & own], 0.465) and np.allclose(u[left[:, 0] & ~own], 0.5)


@settings(max_examples=15, deadline=None)
@given(st.lists(st.tuples(*[st.floats(0.25, 0.75)] * 4, st.booleans()), min_size=1, max_size=4))
def test_no_sequence_of_slides_turns_a_face_over(gestures: list[tuple[float, float, float, float, bool]]) -> None:
    doc = document(dome(6))
    tool = Slide(doc, ToolSettings(reach=30))
    for x, y, u, v, loop in gestures:
        drag(tool, (x, y), (u, v), shift=loop)
        assert len(flipped_faces(mesh_of(doc), mesh_of(doc).uv)) == 0


# ---- Cast ---------------------------------------------------------------------------------------------------------


def leaning() -> PolyMesh:
    """A tube of radius 1 and height 4 that leans by 40° to the side."""
    mesh = tube(around=32, along=8)
    a = np.radians(40)
    return mesh.with_points(mesh.points @ np.array([[np.cos(a), np.sin(a), 0], [-np.sin(a), np.cos(a), 0], [0, 0, 1]]))


def hand(mesh: PolyMesh, kind: str) -> Hand:
    state = State((SourceObject(1, "s", mesh),), (JacketObject(2, "j", mesh),), active=2, next_id=3)
    h = Hand(Document(state), Cast, FormCamera(np.zeros(3), 14.0, yaw=0, pitch=0, width=800, height=800))
    h.tool.set_option("kind", kind)
    return h


def test_a_leaning_tube_is_cast_along_its_own_axis() -> None:
    """A cylinder unrolls truly: 2πr wide for h high (of 32 flat sides), whichever way it stands."""
    h = hand(leaning(), "cylinder")
    caster = fitted_caster(leaning(), np.ones(leaning().n_faces, bool), "cylinder")
    assert np.allclose(np.abs(caster.frame[1] @ [np.sin(np.radians(-40)), np.cos(np.radians(40)), 0]), 1, atol=1e-6)
    h.hover((0, 0, 1))
    assert h.tool.ghost.what == "Cast all onto a cylinder" and len(h.tool.ghost.lines) == 3 * 48 + 1
    h.click((0, 0, 1))
    span = np.ptp(h.mesh.uv, axis=0)
    assert span[0] / span[1] == pytest.approx(2 * np.pi / 4, rel=1e-6) and cut_flags(h.mesh).sum() == 8
    assert h.document.last_step == "cast onto a cylinder"


def test_handles_turn_the_seam_and_the_axis_and_escape_puts_them_back() -> None:
    h = hand(tube(around=32, along=8), "cylinder")
    h.click((0, 0, 1))
    first = h.mesh
    middle, axis, seam = h.tool._handles(h.mesh, h.tool.caster)
    h.hover(middle)
    assert h.tool.ghost.what == "Move what it is cast from"
    # The seam's handle lies towards the eye: from the side it is turned by a quarter.
    h.camera = FormCamera(np.zeros(3), 14.0, yaw=90, pitch=0, width=800, height=800)
    h.hover(seam)
    assert h.tool.ghost.what == "Turn it round its axis"
    h.drag([seam, (0.0, 0.0, -1.3)])
    back = h.mesh.points[np.unique(h.mesh.topology.edge_points[cut_flags(h.mesh)])]
    assert np.allclose(back[:, 2], 1)  # the cut lies in front now
    h.document.undo()
    assert h.mesh is first
    h.tool.caster = Caster(np.zeros(3), np.eye(3))
    h.hover(axis)
    pointer = h.at(axis)
    h.tool.press(pointer)
    h.tool.move(h.at((0.0, 2.0, 1.0)))
    assert h.tool.busy and not np.array_equal(h.mesh.uv, first.uv)
    assert h.tool.cancel() and h.mesh is first and np.array_equal(h.tool.caster.frame, np.eye(3))


def test_only_what_is_held_is_cast_and_each_kind_says_what_it_does() -> None:
    box = cube()
    h = hand(box, "plane")
    h.hover((0, 0, 0.5))
    assert h.tool.ghost.what.startswith("These faces look every way alike")
    h.tool.step()
    h.hover((0, 0, 0.5))
    assert h.tool.kind == "box" and h.tool.ghost.what == "Cast all onto a box" and len(h.tool.ghost.lines) == 12
    h.document.hold("faces", [0])
    h.hover((0, 0, 0.5))
    assert h.tool.ghost.what == "Cast 1 faces onto a box"
    h.click((0, 0, 0.5))
    assert np.isfinite(h.mesh.uv).sum() == 2 * 4
    for kind, lines in (("sphere", 48 * 2 + 23), ("view", 4)):
        h.tool.set_option("kind", kind)
        h.hover((0, 0, 0.5))
        assert len(h.tool.ghost.lines) == lines


def test_the_shortest_turn_takes_one_row_where_it_is_wanted() -> None:
    rng = np.random.default_rng(2)
    for _ in range(20):
        frame = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        frame *= np.sign(np.linalg.det(frame))
        way = rng.normal(size=3)
        which = int(rng.integers(3))
        turned = Caster(np.zeros(3), frame).turned(way, which).frame
        assert np.allclose(turned[which], way / np.linalg.norm(way)) and np.allclose(turned @ turned.T, np.eye(3)) and np.linalg.det(turned) > 0
    over = Caster(np.zeros(3), np.eye(3)).turned(np.array([0.0, -1.0, 0.0]), 1).frame
    assert np.allclose(over[1], [0, -1, 0]) and np.linalg.det(over) == pytest.approx(1)


def test_several_layers_are_laid_flat_side_by_side_at_one_density() -> None:
    """Areas and distances by shapely; a locked layer is refused, a hidden one left alone."""
    small, large = dome(5), dome(8).with_points(dome(8).points * 2 + [5, 0, 0])
    layers = tuple(JacketObject(k, f"layer {k}", m) for k, m in ((1, small), (2, large), (3, small)))
    p = Headless(State((), (*layers[:2], replace(layers[2], visible=False)), active=1, next_id=4))
    p.do("flatten-layers")
    a, b, hidden = (j.mesh for j in p.document.state.jackets)
    assert np.array_equal(hidden.uv, small.uv) and p.document.last_step == "flatten the layers" and "2 layers lie side by side" in p.front.said[-1]
    shapes = [shapely.unary_union([shapely.Polygon(m.uv[s:e]) for s, e in itertools.pairwise(m.starts)]) for m in (a, b)]
    assert shapes[0].distance(shapes[1]) > 0 and all(shapely.box(0, 0, 1, 1).contains(s) for s in shapes)
    density = [face_uv_areas(m, m.uv).sum() / face_areas(m).sum() for m in (a, b)]
    assert density[0] == pytest.approx(density[1], rel=1e-6)
    p.document.undo()
    assert np.array_equal(p.document.state.jackets[0].mesh.uv, small.uv)
    lock_layer(p.document, 2)
    with pytest.raises(JacketError, match="layer 2 is locked"):
        p.do("flatten-layers")
