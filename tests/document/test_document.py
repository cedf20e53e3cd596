"""The document: what is a step, what undo leaves alone, what the history may hold."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.edits import points_moved
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.steering import Guide, Paint
from jacket.document.document import Document
from jacket.document.edits import layers, sheets, uvs, view
from jacket.document.edits import sources as source_steps
from jacket.document.edits.sources import layers_over, take_new_source
from jacket.document.history import WARM, History, arrays_of
from jacket.document.state import Held, JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.stages.topology.tools.draft import Draft
from jacket.tools.base import ToolSettings
from tests.conftest import cube, grid, icosphere
from tests.hands import click, drag, mesh_of, sheet_document


def over(mesh=None) -> Document:  # type: ignore[no-untyped-def]
    return Document(
        State((SourceObject(1, "s", cube()),), (JacketObject(2, "j", mesh or grid(3)),), active=2, next_id=3)
    )


def moved(document: Document, point: int, z: float, name: str = "move") -> None:
    mesh = document.require_jacket().mesh
    document.edit_jacket(name, points_moved(mesh, [point], mesh.points[[point]] + [0, 0, z]))


def test_undo_leaves_what_is_shown_as_it_is() -> None:
    document = over()
    moved(document, 0, 1.0)
    view.set_visible(document, 1, False)
    assert document.undo() == "move"
    assert not document.state.sources[0].visible and document.require_jacket().mesh.points[0, 2] == 0
    document.redo()
    assert not document.state.sources[0].visible


def test_a_gesture_without_a_real_change_is_no_step() -> None:
    document = over()
    with document.transaction("hold something"):
        document.hold("faces", [1, 2])
    assert not document.history.done and document.state.held.ids.tolist() == [1, 2] and not document.dirty
    document.begin("nothing")
    document.commit()
    assert not document.history.done


def test_steps_over_the_budget_are_let_go_oldest_first() -> None:
    document = over(grid(40))
    size = document.require_jacket().mesh.points.nbytes
    document.history = History(budget=10 * size)
    for k in range(25):
        moved(document, k, 1.0, f"step {k}")
    history = document.history
    assert history.let_go + len(history.done) == 25 and history.let_go > 0
    assert history.done[-1].name == "step 24" and history.bytes(document.state) <= history.budget
    held = {id(a): a.nbytes for s in history.done for a in arrays_of(s.state)}
    for a in arrays_of(document.state):
        held.pop(id(a), None)
    assert history.bytes(document.state) == sum(held.values())
    while document.undo():
        pass
    assert document.require_jacket().mesh.points[history.let_go :, 2].sum() == 0  # back to the oldest step that is left
    assert (document.require_jacket().mesh.points[: history.let_go, 2] == 1).all()


def test_steps_share_what_did_not_change_and_older_ones_forget_what_was_derived() -> None:
    document = over(grid(20))
    for k in range(WARM + 4):
        assert document.require_jacket().mesh.topology.n_edges > 0
        moved(document, k, 1.0)
    steps = document.history.done
    corners = {id(s.state.jackets[0].mesh.corners) for s in steps}
    assert len(corners) == 1
    assert "topology" in steps[-1].state.jackets[0].mesh.__dict__


def test_what_is_held_of_several_kinds_stays_while_it_fits() -> None:
    document = over()
    document.hold_all(Held.together({"faces": np.array([1]), "edges": np.array([2, 3]), "points": np.array([0])}))
    assert [h.kind for h in document.state.held.parts] and len(document.state.held) == 4
    moved(document, 0, 1.0)
    assert document.state.held.of("edges").tolist() == [2, 3] and document.state.held.of("points").tolist() == [0]


def test_a_newer_file_goes_to_its_own_source_and_the_layers_over_it() -> None:
    far = grid(2)
    far = points_moved(far, np.arange(far.n_points), far.points + 50)
    far_ball = points_moved(icosphere(1), np.arange(42), icosphere(1).points + 50)
    state = State((SourceObject(1, "near", icosphere(1)), SourceObject(2, "far", far_ball)),
                  (JacketObject(3, "a", grid(1)), JacketObject(4, "b", far), JacketObject(5, "shut", grid(1), locked=True)),
                  active=3, next_id=6)  # fmt: skip
    document = Document(state)
    assert [j.id for j in layers_over(state, 1)] == [3, 5] and [j.id for j in layers_over(state, 2)] == [4]
    new = icosphere(2)
    take_new_source(document, 1, new, (5, 6), {3: grid(2)})
    after = document.state
    assert after.sources[0].mesh is new and after.sources[0].stamp == (5, 6) and after.sources[1].mesh is far_ball
    assert after.jackets[0].mesh.n_faces == 4 and after.jackets[1].mesh is far and after.jackets[2].mesh.n_faces == 1


def test_sheets_and_sets_are_steps() -> None:
    document = over()
    sheets.change_sheet(document, 0, width=512, height=256)
    sheets.add_sheet(document)
    assert [(s.tile, s.width) for s in document.state.sheets] == [(1001, 512), (1002, 512)]
    sheets.choose_sheet(document, 1)
    document.undo()
    document.undo()
    assert len(document.state.sheets) == 1 and document.state.sheet.width == 1024  # the one worked on went with it
    uvs.add_set(document, "light")
    uvs.rename_set(document, "light", "glow")
    assert document.require_jacket().mesh.active_uv == "glow"
    document.undo()
    document.undo()
    assert document.require_jacket().mesh.uv_sets == ()


def test_joined_layers_keep_their_sets_and_islands() -> None:
    document = over(grid(2).with_uv(grid(2).points[grid(2).corners][:, :2], "a"))
    moved(document, 0, 0.0)
    layers.copy_layer(document)
    layers.join_layers(document)
    joined = document.require_jacket()
    assert joined.mesh.uv_sets == ("a",) and len(document.state.jackets) == 1


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
    heard: list[set[str]] = []
    document.listen(heard.append)
    with document.transaction("two changes"):
        document.edit_jacket("a", PolyMesh.empty())
        document.hold("faces", [])
        document.edit_jacket("b", grid(1))
        assert not heard
    assert [s.name for s in document.history.done] == ["two changes"]
    assert len(heard) == 1 and {"jackets", "held", "history", "gesture"} <= heard[0]
    with pytest.raises(RuntimeError), document.transaction("try"):
        document.edit_jacket("c", PolyMesh.empty())
        raise RuntimeError
    assert len(heard) == 2 and {"jackets", "gesture"} <= heard[1]


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


def test_a_new_step_forgets_what_was_undone_in_every_way_to_make_one() -> None:
    def begun() -> Document:
        document = Document(State((), (JacketObject(1, "j", cube()),), active=1, next_id=2))
        document.edit_jacket("first", points_moved(cube(), [0], [[9.0, 0, 0]]))
        assert document.undo() == "first"
        return document

    by_apply, by_gesture, by_transaction = begun(), begun(), begun()
    by_apply.edit_jacket("second", points_moved(cube(), [1], [[9.0, 0, 0]]))
    by_gesture.begin("second")
    by_gesture.edit_jacket("second", points_moved(cube(), [1], [[9.0, 0, 0]]))
    by_gesture.commit()
    with by_transaction.transaction("second"):
        by_transaction.edit_jacket("second", points_moved(cube(), [1], [[9.0, 0, 0]]))
    for document in (by_apply, by_gesture, by_transaction):
        assert document.redo() is None and document.last_step == "second"


def test_guides_and_painted_density_go_where_the_source_goes() -> None:
    state = State((SourceObject(1, "s", icosphere(1)),), guides=(Guide(np.eye(3), True, False),), paint=Paint(np.eye(3), np.ones(3)), next_id=2)
    document = Document(state)
    matrix = np.array([[0, -2.0, 0, 5], [2, 0, 0, 6], [0, 0, 2, 7], [0, 0, 0, 1]])
    source_steps.place_source(document, "place", 1, matrix)
    wanted = np.array([[5.0, 8, 7], [3, 6, 7], [5, 6, 9]])
    assert np.allclose(document.state.guides[0].points, wanted)
    assert document.state.paint is not None and np.allclose(document.state.paint.places, wanted)
