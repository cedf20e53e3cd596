"""Draft, driven by plain events."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.edits import faces_removed
from jacket.stages.topology.tools.draft import Draft
from jacket.tools.base import ToolSettings
from jacket.tools.mirror import partners
from tests.hands import at, click, drag, mesh_of, sheet_document


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


def test_a_drag_that_is_given_up_leaves_draft_idle() -> None:
    """Checks wait for a tool that is busy: one that is put away in the middle of a drag is not."""
    document = sheet_document(2)
    draft, before = Draft(document, ToolSettings()), mesh_of(document)
    draft.hover(at(0.0, 0.0))
    draft.press(at(0.0, 0.0))
    draft.move(at(0.3, 0.3))
    assert draft.busy and document.in_gesture
    assert draft.cancel() and not draft.busy and not document.in_gesture and mesh_of(document) is before
    draft.move(at(0.6, 0.6))
    draft.release(at(0.6, 0.6))
    assert mesh_of(document) is before and not draft.cancel()


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
