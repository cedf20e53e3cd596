"""History and tools, driven by plain events: no window needed."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from jacket.commands.general import registry_of
from jacket.commands.keys import clashes
from jacket.core.mesh.edits import faces_removed
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.qt.fields import evaluate
from jacket.settings import Settings, load_settings, save_settings
from jacket.settings.store import config_dir, from_dict
from jacket.stages.all import STAGES
from jacket.stages.seams.tools.cut import Cut, Sew
from jacket.stages.topology.tools.brushes import Nudge, Relax, Unpick
from jacket.stages.topology.tools.draft import Draft
from jacket.tools.base import ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.holding import Hold
from jacket.tools.mirror import partners
from jacket.tools.view import FlatCamera, FormCamera
from tests.conftest import grid, icosphere

CAMERA = FormCamera(np.array([0.0, 0.0, 0.0]), 6.0, yaw=0, pitch=0, width=800, height=800)


def sheet_document(n: int = 6, mirror: str = "") -> Document:
    """An n × n grid about the origin over a flat source, seen straight on."""
    points = grid(n).points - [n / 2, n / 2, 0]
    jacket = grid(n).with_points(points * 0.3)
    ground = grid(20)
    source = PolyMesh.from_faces((ground.points - [10, 10, 0]) * 0.2, ground.triangle_points)
    return Document(
        State((SourceObject(1, "s", source),), (JacketObject(2, "j", jacket),), active=2, mirror=mirror, next_id=3)
    )


def at(x: float, y: float, **keys: bool) -> Pointer:
    px, py, _ = CAMERA.project(np.array([x, y, 0.0]))[0]
    return Pointer(float(px), float(py), form=CAMERA, **keys)


def click(tool, x: float, y: float, **keys: bool) -> None:  # type: ignore[no-untyped-def]
    tool.hover(at(x, y, **keys))
    tool.press(at(x, y, **keys))
    tool.release(at(x, y, **keys))


def drag(tool, start: tuple[float, float], end: tuple[float, float], **keys: bool) -> None:  # type: ignore[no-untyped-def]
    tool.hover(at(*start, **keys))
    tool.press(at(*start, **keys))
    for t in (0.3, 0.7, 1.0):
        tool.move(at(start[0] + t * (end[0] - start[0]), start[1] + t * (end[1] - start[1]), **keys))
    tool.release(at(*end, **keys))


def mesh_of(document: Document) -> PolyMesh:
    return document.require_jacket().mesh


# ---- cameras ------------------------------------------------------------------------------------


def test_rays_and_projection_are_inverse() -> None:
    camera = FormCamera(np.array([0.3, -0.2, 1.0]), 5.0, yaw=37, pitch=-22, width=640, height=480)
    rng = np.random.default_rng(0)
    for point in rng.normal(size=(20, 3)):
        x, y, depth = camera.project(point)[0]
        origin, direction = camera.ray(x, y)
        along = (point - origin) @ direction
        assert np.allclose(origin + along * direction, point) and depth > 0
        clip = camera.matrix @ np.append(point, 1)
        assert np.allclose([(clip[0] / clip[3] + 1) * 320, (1 - clip[1] / clip[3]) * 240], [x, y])
    flat = FlatCamera(np.array([0.5, 0.5]), 300, 400, 500)
    assert np.allclose(flat.place(*flat.project(np.array([[0.2, 0.9]]))[0]), [0.2, 0.9])
    near = flat.neared(3, 100, 120)
    assert np.allclose(near.place(100, 120), flat.place(100, 120)) and near.scale > flat.scale


def test_nearing_keeps_what_is_under_the_pointer() -> None:
    point = np.array([0.4, 0.5, 0.0])
    before, after = CAMERA.project(point)[0], CAMERA.neared(2, point).project(point)[0]
    assert np.allclose(before[:2], after[:2]) and after[2] < before[2]


# ---- history ------------------------------------------------------------------------------------


def test_undo_gives_the_same_bytes_and_steps_have_names() -> None:
    document = sheet_document()
    first = mesh_of(document)
    draft = Draft(document, ToolSettings())
    drag(draft, (0.0, 0.0), (0.1, 0.05))
    click(draft, 0.15, 0.0)
    assert [s.name for s in document.history.done] == ["move a point", "insert a loop"]
    last = mesh_of(document)
    assert document.undo() == "insert a loop" and document.undo() == "move a point" and document.undo() is None
    assert mesh_of(document) is first
    document.redo(), document.redo()
    assert mesh_of(document) is last


def test_a_failed_transaction_leaves_no_trace() -> None:
    document = sheet_document()
    before = document.state
    with pytest.raises(RuntimeError), document.transaction("try"):
        document.edit_jacket("a", PolyMesh.empty())
        raise RuntimeError
    assert document.state is before and not document.history.done
    with document.transaction("two changes"):
        document.edit_jacket("a", PolyMesh.empty())
        document.edit_jacket("b", grid(1))
    assert [s.name for s in document.history.done] == ["two changes"]


def test_listeners_hear_what_changed() -> None:
    document = sheet_document()
    heard: list[set[str]] = []
    document.listen(heard.append)
    document.hold("faces", [1, 2])
    document.edit_jacket("x", grid(2))
    assert heard[0] == {"held"} and {"jackets", "held", "history"} <= heard[1]
    assert document.dirty
    document.mark_saved("/tmp/x.jacket")
    assert not document.dirty
    with pytest.raises(JacketError, match="no jacket"):
        Document().require_jacket()


# ---- draft --------------------------------------------------------------------------------------


def test_points_on_the_source_and_a_quad_from_four() -> None:
    document = sheet_document(1)
    draft = Draft(document, ToolSettings())
    for x, y in ((1.0, 1.0), (1.3, 1.0), (1.3, 1.3), (1.0, 1.3)):
        click(draft, x, y, ctrl=True)
    draft.hover(at(1.15, 1.15))
    assert draft.ghost.what == "Close quad" and len(draft.ghost.lines) == 4
    draft.step()
    assert draft.ghost.what != "Close quad"  # Space shows what else could happen
    while draft.ghost.what != "Close quad":
        draft.step()
    click(draft, 1.15, 1.15)
    assert mesh_of(document).n_faces == 2 and mesh_of(document).is_quads
    draft.hover(at(5.0, 5.0))
    assert draft.ghost.what == ""  # beside the source nothing can be drawn


def test_corner_fill_adds_the_fourth_point() -> None:
    document = sheet_document(2)
    document.edit_jacket("open a corner", faces_removed(mesh_of(document), [3]).mesh)
    draft = Draft(document, ToolSettings())
    click(draft, 0.33, 0.33)
    mesh = mesh_of(document)
    assert mesh.n_faces == 4 and len(mesh.topology.border_loops) == 1


def test_pulling_an_edge_and_a_border_and_welding_on_the_way() -> None:
    document = sheet_document(4)
    draft = Draft(document, ToolSettings())
    drag(draft, (0.15, 0.6), (0.15, 0.9))
    mesh = mesh_of(document)
    assert mesh.n_faces == 17 and np.isclose(mesh.points[-2:, 1], 0.9, atol=0.02).all()
    # The neighbour pulled beside it joins the point that is there already.
    drag(draft, (-0.15, 0.6), (-0.15, 0.9))
    mesh = mesh_of(document)
    assert mesh.n_faces == 18 and mesh.n_points == 25 + 3
    drag(draft, (0.6, -0.15), (0.75, -0.15), shift=True)
    assert mesh_of(document).n_faces > 30 and len(mesh_of(document).topology.nonmanifold_edges) == 0


def test_dragging_a_point_onto_another_welds() -> None:
    document = sheet_document(3)
    draft = Draft(document, ToolSettings())
    drag(draft, (-0.45, -0.45), (-0.15, -0.45))
    mesh = mesh_of(document)
    assert document.last_step == "weld points" and sorted(mesh.sizes)[:2] == [3, 4]
    document.undo()
    drag(draft, (-0.45, -0.45), (-0.15, -0.45), ctrl=True)  # Ctrl suspends joining
    assert mesh_of(document).n_points == 16


def test_escape_drops_the_gesture_not_the_work() -> None:
    document = sheet_document(3)
    draft = Draft(document, ToolSettings())
    before = mesh_of(document)
    draft.hover(at(-0.15, -0.15))
    draft.press(at(-0.15, -0.15))
    draft.move(at(0.2, 0.2))
    assert mesh_of(document) is not before
    assert draft.cancel() and mesh_of(document) is before and not document.history.done


def test_mirrored_drafting_stays_in_pairs() -> None:
    document = sheet_document(4, mirror="x")
    draft = Draft(document, ToolSettings())
    drag(draft, (0.3, 0.0), (0.35, 0.05))
    click(draft, 0.45, 0.0 + 0.3)  # a loop through the rows right of the middle
    drag(draft, (0.5, 0.6), (0.5, 0.85))
    draft.hover(at(0.6, -0.6))
    draft.remove(at(0.6, -0.6))
    table = partners(mesh_of(document), "x")
    assert (table >= 0).all()
    points = mesh_of(document).points
    assert np.abs(points[table] * [-1, 1, 1] - points).max() < 1e-12 * 10


def test_backspace_removes_what_is_under_the_pointer() -> None:
    document = sheet_document(3)
    draft = Draft(document, ToolSettings())
    for place, left in (((0.0, 0.0), 8), ((-0.3, 0.15), 6), ((0.45, 0.45), 5)):
        draft.remove(at(*place))
        assert mesh_of(document).n_faces == left, place


# ---- brushes, unpick, hold, cut -----------------------------------------------------------------


def test_relax_evens_and_leaves_borders_when_told() -> None:
    document = sheet_document(8)
    rng = np.random.default_rng(3)
    rough = mesh_of(document).points + np.concatenate([rng.normal(scale=0.05, size=(81, 2)), np.zeros((81, 1))], axis=1)
    document.edit_jacket("rough", mesh_of(document).with_points(rough))
    settings = ToolSettings(brush=400, strength=1.0, which="inside")
    relax = Relax(document, settings)
    before = mesh_of(document)
    for _ in range(4):
        drag(relax, (0.0, 0.0), (0.02, 0.0))
    after = mesh_of(document)
    border = before.topology.border_points
    assert np.array_equal(after.points[border], before.points[border])

    def unevenness(mesh: PolyMesh) -> float:
        from jacket.core.mesh.geometry import face_areas

        inner = ~border[mesh.corners.reshape(-1, 4)].any(axis=1)
        return float(np.std(face_areas(mesh)[inner]))

    assert unevenness(after) < 0.5 * unevenness(before) and np.abs(after.points[:, 2]).max() < 1e-12


def test_nudge_carries_only_what_hangs_together() -> None:
    document = sheet_document(2)
    two = mesh_of(document)
    apart = PolyMesh.from_faces(
        np.concatenate([two.points, two.points + [0.62, 0, 0]]),
        np.concatenate([two.corners.reshape(-1, 4), two.corners.reshape(-1, 4) + 9]),
    )
    document.edit_jacket("two sheets", apart)
    nudge = Nudge(document, ToolSettings(brush=150, strength=1.0))
    drag(nudge, (0.2, 0.0), (0.2, 0.2))
    moved = np.abs(mesh_of(document).points - apart.points).max(axis=1)
    assert moved[:9].max() > 0.05 and moved[9:].max() == 0


def test_unpick_sweeps() -> None:
    document = sheet_document(4)
    drag(Unpick(document, ToolSettings()), (-0.45, -0.45), (0.45, -0.45))
    assert 16 - mesh_of(document).n_faces >= 3 and len(document.history.done) == 1


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
    assert cut.ghost.what == "Cut the path" and len(cut.ghost.lines) == 4
    click(cut, -0.6, 0.6)
    assert len(mesh_of(document).cuts) == 9
    assert [s.name for s in document.history.done] == ["cut the loop", "sew the edge", "cut the path"]


# ---- commands, settings, fields -----------------------------------------------------------------


def test_every_command_has_words_and_keys_are_used_once() -> None:
    commands = registry_of(STAGES)
    assert all(c.label and c.words for c in commands) and clashes(STAGES, commands) == []
    with pytest.raises(JacketError, match="two commands"):
        commands.add(commands["undo"])
    full = sheet_document().state
    assert commands.search("seam suggest", full)[0].id == "suggest-seams"
    assert "take-trial" not in [c.id for c in commands.search("", full)]


def test_settings_keep_what_differs_and_forgive(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("JACKET_HOME", str(tmp_path))
    settings = Settings(autosave_seconds=77)
    settings.remember("/a.jacket")
    save_settings(settings)
    assert json.loads((config_dir() / "settings.json").read_text()) == {
        "version": 1,
        "autosave_seconds": 77,
        "recent": ["/a.jacket"],
    }
    assert load_settings() == settings
    assert from_dict({"brush": "many", "reach": 4, "unknown": 1, "splitters": {"x": [1]}, "strength": 7.0}) == Settings(reach=4.0)
    (config_dir() / "settings.json").write_text("{broken")
    assert load_settings() == Settings()


@pytest.mark.parametrize(
    ("text", "value"), [("2*512", 1024), ("4,000 / 2", 2000), ("-(3+1)", -4), ("12 px", 12), ("1e3", 1000)]
)
def test_fields_take_arithmetic(text: str, value: float) -> None:
    assert evaluate(text, "px") == value


@pytest.mark.parametrize("text", ["", "two", "__import__('os')", "9**9", "1/0", "True"])
def test_fields_refuse_the_rest(text: str) -> None:
    with pytest.raises(ValueError):
        evaluate(text)


def test_ball_brush_sees_the_front_only() -> None:
    ball = icosphere(3)
    document = Document(State((SourceObject(1, "s", ball),), (JacketObject(2, "j", ball),), active=2))
    weight = Relax(document, ToolSettings(brush=500)).weights(ball, at(0, 0))
    assert weight[ball.points[:, 2] < -0.3].max() == 0 and weight[ball.points[:, 2] > 0.8].min() > 0
