"""Tools and commands of the Layout stage, driven by plain events over the flat view."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from jacket.core.derive import islands_of
from jacket.core.layout.arrange import densities
from jacket.core.layout.margins import least_margin
from jacket.core.layout.pieces import stacked_on
from jacket.core.uv.identity import numbers_by_label
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet
from jacket.document.document import Document
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, State
from jacket.errors import EditRefused
from jacket.formats.project.records import load_project, save_project
from jacket.qt.cards.ledger import ledger_rows
from jacket.stages.layout.drawing import draw_to
from jacket.stages.layout.tools.align import Align
from jacket.stages.layout.tools.place import Place
from jacket.stages.layout.tools.stack import Stack
from jacket.stages.layout.tools.weigh import Weigh
from jacket.tools.base import Tool, ToolSettings
from tests.core.layout.test_arrange import BOXES, islands
from tests.core.layout.test_search import circle, flat, lumps, square
from tests.host import Headless, put
from tests.stages.flatten.test_flat_tools import CAMERA, at, drag


def state_of(mesh, sheets=(Sheet(margin=4.0),)) -> State:  # type: ignore[no-untyped-def]
    state = State((), (JacketObject(1, "j", mesh),), active=1, next_id=2, sheets=sheets)
    return with_island_numbers(State(), state)


def boxes_state() -> State:
    """Four rectangles on a square sheet of 800."""
    mesh = islands().mesh
    return state_of(mesh.with_uv(np.asarray(mesh.uv) * [1.0, 0.5]), (Sheet(width=800, height=800, margin=5.0),))


def pixels(document: Document) -> np.ndarray:
    """Boxes of the islands in pixels of an 800 sheet."""
    jacket = document.require_jacket()
    return islands_of(jacket.mesh, document.state.sheets).boxes * 800


def middle(k: int) -> tuple[float, float]:
    a, b, c, d = BOXES[k]
    return ((a + c) / 1600, (b + d) / 1600)


def ready(kind: type[Tool], *held: int) -> tuple[Document, Tool]:
    document = Document(boxes_state())
    if held:
        labels = islands_of(document.require_jacket().mesh, document.state.sheets).labels
        document.hold("faces", np.flatnonzero(np.isin(labels, [int(labels[k]) for k in held])))
    return document, kind(document, ToolSettings())


def test_place_moves_turns_grows_by_handles_and_snaps_each_in_one_step() -> None:
    document, tool = ready(Place)
    drag(tool, middle(1), (middle(1)[0] + 0.1, middle(1)[1] + 0.05))
    assert pixels(document)[1] == pytest.approx([180, 70, 260, 110]) and document.last_step == "move an island"
    assert document.state.held.of("faces").tolist() == [1]
    tool.settings.snap = "px"
    drag(tool, (220 / 800, 90 / 800), (220.4 / 800, 93.3 / 800))
    assert pixels(document)[1] == pytest.approx([180, 73, 260, 113])
    tool.settings.snap = "free"
    # The upper right corner carried out by half the box again: the lower left stays.
    tool.hover(at(220 / 800, 93 / 800))
    assert len(tool.ghost.screen) > 12
    drag(tool, (260 / 800, 113 / 800), (300 / 800, 133 / 800))
    assert pixels(document)[1] == pytest.approx([180, 73, 300, 133], abs=0.5)
    # The knob is a few pixels above the box on the screen; a quarter turn about the middle.
    top = CAMERA.project(np.array([[240 / 800, 133 / 800]]))[0] - [0, 26]
    knob = CAMERA.place(*top)
    centre = np.array([240, 103]) / 800
    arm = knob - centre
    drag(tool, tuple(knob), tuple(centre + [arm[1], -arm[0]]), steps=8)
    box = pixels(document)[1]
    assert box[2] - box[0] == pytest.approx(60, abs=0.5) and box[3] - box[1] == pytest.approx(120, abs=0.5)
    for _ in range(4):
        document.undo()
    assert pixels(document) == pytest.approx(np.array(BOXES, float))
    tool.press(at(*middle(0)))
    tool.move(at(0.6, 0.6))
    tool.cancel()
    assert pixels(document) == pytest.approx(np.array(BOXES, float))


def test_align_lays_what_is_held_along_the_side_that_is_clicked() -> None:
    document, tool = ready(Align, 0, 1)
    near_left = (505 / 800, middle(3)[1])
    tool.hover(at(*near_left))
    assert "2 islands along its left side" in tool.ghost.what
    tool.press(at(*near_left))
    assert pixels(document)[:3, 0] == pytest.approx([500, 500, 300]) and pixels(document)[3] == pytest.approx(BOXES[3])
    document, tool = ready(Align)
    tool.press(at(*middle(2)))
    assert document.state.held.of("faces").tolist() == [2]
    with pytest.raises(EditRefused, match="Only this"):
        tool.press(at(*middle(2)))
    tool.press(at(middle(0)[0], 88 / 800, shift=True))
    assert pixels(document)[0, 3] == pytest.approx(BOXES[2][3])


def test_weigh_makes_islands_denser_and_packing_and_evening_keep_it() -> None:
    document, tool = ready(Weigh)
    start = at(*middle(2))
    tool.press(start)
    tool.move(type(start)(start.x, start.y - 120, flat=CAMERA))
    tool.release(start)
    state = document.state
    density = densities(islands_of(document.require_jacket().mesh, state.sheets))
    assert density[2] / density[0] == pytest.approx(2.0) and document.require_jacket().islands[2].weigh == pytest.approx(2.0)
    program = Headless(document)
    put(program, seconds=1.0)
    program.run(program.commands["pack"])
    density = densities(islands_of(document.require_jacket().mesh, state.sheets))
    assert density[2] / density[0] == pytest.approx(2.0) and density[3] == pytest.approx(density[0])
    document.hold("faces", [0])
    program.run(program.commands["weigh-less"])
    program.run(program.commands["even-density"])
    density = densities(islands_of(document.require_jacket().mesh, state.sheets))
    assert density / density[3] == pytest.approx([1 / 1.5, 1.0, 2.0, 1.0])
    box = islands_of(document.require_jacket().mesh, state.sheets).boxes[2]
    tool.remove(at(*((box[:2] + box[2:]) / 2)))
    assert document.require_jacket().islands[2].weigh == 1.0


def test_stack_lays_twins_point_on_point_and_takes_them_apart_and_packing_keeps_stacks() -> None:
    mesh = flat(*[np.array([[0.0, 0], [3, 0], [3, 1], [0, 2]])] * 3, square(1.0), square(1.5), circle())
    apart = np.array(mesh.uv)
    for k in range(6):
        apart[mesh.starts[k] : mesh.starts[k + 1]] = apart[mesh.starts[k] : mesh.starts[k + 1]] * 40 + [0.15 + 0.3 * (k % 3), 0.2 + 0.4 * (k // 3)]
    document = Document(state_of(mesh.with_uv(apart)))
    tool = Stack(document, ToolSettings())
    over = at(*apart[:4].mean(axis=0))
    tool.hover(over)
    assert "Lay 2 of one shape" in tool.ghost.what
    tool.press(over)
    jacket = document.require_jacket()
    uv = np.asarray(jacket.mesh.uv)
    assert np.array_equal(uv[:4], apart[:4]) and np.array_equal(uv[4:8], uv[:4]) and np.array_equal(uv[8:12], uv[:4])
    assert [bool(r.twin) for r in jacket.islands] == [False, True, True, False, False, False]
    program = Headless(document)
    put(program, seconds=1.0)
    program.run(program.commands["pack"])
    mesh2 = document.require_jacket().mesh
    uv = np.asarray(mesh2.uv)
    assert np.abs(uv[4:8] - uv[:4]).max() < 1e-12 and not np.allclose(uv[:4], apart[:4])
    checks = {c.id: c.level for c in program.stages["layout"].checks(document.state)}
    assert checks["overlap"] == checks["margin"] == "good"
    program.run(program.commands["unstack"])
    islands_now = islands_of(document.require_jacket().mesh, document.state.sheets)
    assert not any(r.twin for r in document.require_jacket().islands) and (islands_now.boxes[[1, 2], 0] > 1).all()
    # The commands find the same twins; nothing held means all.
    program.run(program.commands["hold-twins"])
    assert len(document.state.held.of("faces")) == 3 and "3 of one shape" in program.front.said[-1]
    program.run(program.commands["stack-twins"])
    assert sum(bool(r.twin) for r in document.require_jacket().islands) == 2


def test_packing_only_what_is_held_leaves_the_rest_to_the_bit_and_locks_hold() -> None:
    mesh = flat(*lumps(8, 11))
    program = Headless(state_of(mesh))
    put(program, seconds=1.0)
    program.run(program.commands["pack"])
    document = program.document
    packed = np.asarray(document.require_jacket().mesh.uv)
    put(program, only_held=True)
    program.run(program.commands["pack"])
    assert np.array_equal(document.require_jacket().mesh.uv, packed) and "Hold something" in program.front.said[-1]
    document.hold("faces", [0, 1])
    program.run(program.commands["pack"])
    uv = np.asarray(document.require_jacket().mesh.uv)
    assert np.array_equal(uv[mesh.starts[2] :], packed[mesh.starts[2] :])
    assert least_margin(Islands.of(document.require_jacket().mesh, document.state.sheets)).pixels >= 4
    document.hold("faces", [5])
    program.run(program.commands["lock-islands"])
    put(program, only_held=False)
    before = np.asarray(document.require_jacket().mesh.uv)
    program.run(program.commands["pack"])
    after = np.asarray(document.require_jacket().mesh.uv)
    own = slice(mesh.starts[5], mesh.starts[6])
    assert np.array_equal(after[own], before[own])


def test_packing_is_one_step_watched_and_sentences_say_what_is_wrong() -> None:
    program = Headless(state_of(flat(*lumps(6, 12))))
    document = program.document
    program.run(program.commands["good-enough"])
    assert "Nothing is being packed" in program.front.said[-1]
    program.run(program.commands["pack-on-enough"])
    assert "needs a density" in program.front.said[-1]
    put(program, seconds=0.6)
    program.run(program.commands["pack"])
    assert document.last_step == "pack the sheets" and program.packing is None
    assert any(name == "watch_packing" and n > 0 for name, n in program.front.calls)
    assert "% used" in program.front.said[-1]
    put(program, pack_size="density", density=40.0)
    program.run(program.commands["pack-on-enough"])
    assert densities(islands_of(document.require_jacket().mesh, document.state.sheets)) == pytest.approx(40.0)
    put(program, density=240.0)
    program.run(program.commands["pack-on-enough"])
    assert len(document.state.sheets) > 1 and densities(islands_of(document.require_jacket().mesh, document.state.sheets)) == pytest.approx(240.0)
    put(program, density=4000.0)
    program.run(program.commands["pack-on-enough"])
    assert "too large" in program.front.said[-1]


def test_density_is_set_read_and_matched_by_commands() -> None:
    program = Headless(boxes_state())
    document = program.document

    def now() -> np.ndarray:
        return densities(islands_of(document.require_jacket().mesh, document.state.sheets))

    document.hold("faces", [1])
    put(program, density=0.25)
    program.run(program.commands["set-density"])
    assert now() == pytest.approx([0.5, 0.25, 0.5, 0.5])
    document.hold("faces", [0])
    program.run(program.commands["read-density"])
    program.run(program.commands["match-density"])
    assert now() == pytest.approx(0.5)
    document.hold_all(type(document.state.held)())
    put(program, density=0.3)
    program.run(program.commands["set-density"])
    assert now() == pytest.approx(0.3)


def test_arranging_commands_name_their_steps_and_need_something_held() -> None:
    program = Headless(boxes_state())
    document = program.document
    for name in ("align-left", "turn-left", "stand-box", "fit-sheet", "like-size", "offset-sheet"):
        assert not program.commands[name].available(document.state)
    labels = islands_of(document.require_jacket().mesh, document.state.sheets).labels
    document.hold("faces", [0, 1, 2])
    for name in ("align-top", "spread-across", "turn-left", "mirror-across", "fit-width", "like-place", "offset-sheet", "onset-sheet", "to-sheet"):
        before = document.require_jacket().mesh
        program.run(program.commands[name])
        after = document.require_jacket().mesh
        assert after is not before and np.array_equal(np.asarray(after.uv)[labels[after.face_of_corner] == 3], np.asarray(before.uv)[12:])
    # Two points of each of two islands: the one held last stays.
    corners = document.require_jacket().mesh.corners
    document.hold("points", [int(corners[0]), int(corners[1]), int(corners[12]), int(corners[13])])
    program.run(program.commands["lay-on"])
    uv = np.asarray(document.require_jacket().mesh.uv)
    assert uv[0] == pytest.approx(uv[12]) and uv[1] == pytest.approx(uv[13])
    assert sum(r.twin > 0 for r in document.require_jacket().islands) == 1


def test_a_stack_is_moved_as_one_and_is_none_once_it_lies_apart() -> None:
    """Whoever drags one of a stack drags all of it; twins that lie apart again are islands like others, names and all."""
    mesh = flat(*[np.array([[0.0, 0], [3, 0], [3, 1], [0, 2]])] * 3)
    apart = np.array(mesh.uv)
    for k in range(3):
        apart[mesh.starts[k] : mesh.starts[k + 1]] = apart[mesh.starts[k] : mesh.starts[k + 1]] * 40 + [0.15 + 0.3 * k, 0.3]
    document = Document(state_of(mesh.with_uv(apart)))
    stack = Stack(document, ToolSettings())
    stack.hover(at(*apart[:4].mean(axis=0)))
    stack.press(at(*apart[:4].mean(axis=0)))
    before = np.asarray(document.require_jacket().mesh.uv)
    place = Place(document, ToolSettings())
    drag(place, before[:4].mean(axis=0), before[:4].mean(axis=0) + [0.1, 0.2])
    after = np.asarray(document.require_jacket().mesh.uv)
    assert np.abs(after - before - [0.1, 0.2]).max() < 5e-3 and np.array_equal(after[4:8], after[:4])
    moved = after.copy()
    moved[4:8] += [0.0, -0.3]
    document.edit_jacket("apart", document.require_jacket().mesh.with_uv(moved))
    jacket = document.require_jacket()
    found = islands_of(jacket.mesh, document.state.sheets)
    numbers = numbers_by_label(jacket.mesh, found.labels, found.count)
    under = stacked_on(found, numbers, jacket.islands)
    assert sum(r.twin > 0 for r in jacket.islands) == 2 and (under >= 0).sum() == 1
    assert len(ledger_rows(document.state)) == 2


def test_done_and_left_islands_and_what_a_project_keeps_of_the_layout(tmp_path: Path) -> None:
    program = Headless(state_of(flat(*lumps(4, 13)), (Sheet(margin=3.0, edge=1.0, mip=1, least=12.0),)))
    document = program.document
    document.hold("faces", [1])
    program.run(program.commands["done-islands"])
    program.run(program.commands["weigh-more"])
    program.run(program.commands["hold-left"])
    assert document.state.held.of("faces").tolist() == [0, 2, 3]
    program.run(program.commands["lock-done"])
    program.run(program.commands["lock-done"])
    assert "locked already" in program.front.said[-1]
    save_project(document.state, tmp_path / "a.jacket")
    again = load_project(tmp_path / "a.jacket")
    assert again.sheets == document.state.sheets and again.jackets[0].islands == document.require_jacket().islands
    record = again.jackets[0].islands[1]
    assert record.done and record.lock and record.weigh == pytest.approx(1.5)
    numbers = numbers_by_label(again.jackets[0].mesh, Islands.of(again.jackets[0].mesh).labels, 4)
    assert sorted(numbers.tolist()) == sorted(r.id for r in again.jackets[0].islands)
    program.run(program.commands["pack"])
    put(program, picture_times=2, picture_ground="none")
    draw_to(program, tmp_path / "layout.svg")
    assert (tmp_path / "layout.svg").stat().st_size > 300 and "layout.svg" in program.front.said[-1]
