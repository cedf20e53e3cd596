"""Edits of large layers beside the window: the same result to the bit as at once, whatever happens meanwhile."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.commands import beside
from jacket.core.mesh.edits import points_moved
from jacket.document.edits import layers
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, State
from jacket.stages.topology import tidy_commands
from tests.core.bake.forms import boxed
from tests.host import Headless


def program() -> Headless:
    state = State((), (JacketObject(2, "box", boxed(6, True)), JacketObject(3, "other", boxed(2, True))), active=2, next_id=4)
    p = Headless(with_island_numbers(State(), state))
    p.document.hold("faces", np.arange(20))
    return p


COMMANDS = ("relax-all", "remove-held", "copy-layer", "split-layer", "mirror-layer-x", "radial-layer", "grow-held", "rings-held", "outline-held",
            "as-edges", "sharpen", "hard-by-angle", "planar-faces")  # fmt: skip


@pytest.mark.parametrize("command", COMMANDS)
def test_beside_the_window_the_same_comes_out(command: str, monkeypatch: pytest.MonkeyPatch) -> None:
    at_once = program()
    at_once.do(command)
    for module in (beside, tidy_commands):
        monkeypatch.setattr(module, "LARGE", 1)
    p = program()
    seen: list[str] = []
    # What the user does meanwhile to other things stays: the other layer is named and hidden.
    p.at_once.meanwhile = lambda: (seen.append(p.tasks.running.name), layers.rename_layers(p.document, [3], "renamed"))  # type: ignore[func-returns-value, union-attr]
    p.do(command)
    assert len(seen) == 1
    one, two = at_once.document.state, p.document.state
    assert [j.name for j in two.jackets] == [j.name.replace("other", "renamed") for j in one.jackets]
    assert (two.active, two.next_id) == (one.active, one.next_id)
    for a, b in zip(one.jackets, two.jackets, strict=True):
        assert np.array_equal(a.mesh.points, b.mesh.points) and np.array_equal(a.mesh.corners, b.mesh.corners)
        assert set(a.mesh.marks) == set(b.mesh.marks) and a.islands == b.islands
        assert all(np.array_equal(a.mesh.face_data[k], b.mesh.face_data[k]) for k in a.mesh.face_data)
    assert {h.kind: h.ids.tolist() for h in one.held.parts} == {h.kind: h.ids.tolist() for h in two.held.parts}
    if at_once.document.history.done:
        assert p.document.last_step == at_once.document.last_step
        p.document.undo()
        assert p.document.state.jackets[0].mesh.n_faces == 216 and p.document.state.jackets[1].name == "renamed"


def test_a_layer_that_was_changed_meanwhile_is_left_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(beside, "LARGE", 1)
    p = program()
    mesh = p.document.require_jacket().mesh
    moved = points_moved(mesh, np.array([0]), mesh.points[[0]] + 1.0)
    p.at_once.meanwhile = lambda: p.document.edit_jacket("nudge", moved)
    p.do("relax-all")
    assert p.document.last_step == "nudge" and len(p.front.offered) == 1
    p.at_once.meanwhile = None
    p.front.offered[0]()
    assert p.document.last_step == "relax the jacket"
    # What is refused is said, as at once.
    p.document.hold("faces", np.arange(p.document.require_jacket().mesh.n_faces))
    before = p.document.state
    p.commands["path-held"].run(p)
    assert p.document.state is before and "Hold two" in p.said[-1]


def test_a_layer_that_came_meanwhile_stays(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(beside, "LARGE", 1)
    p = program()
    p.at_once.meanwhile = lambda: layers.add_layer(p.document)
    p.do("relax-all")
    assert p.document.last_step == "relax the jacket" and [j.name for j in p.document.state.jackets] == ["box", "other", "Layer"]
    # A command that adds a layer itself would give it the same number: it is refused, and nothing is lost.
    p.at_once.meanwhile = lambda: layers.add_layer(p.document)
    layers.choose_layer(p.document, 2)
    p.commands["copy-layer"].run(p)
    assert "Layers were added meanwhile" in p.said[-1]
    names = [j.id for j in p.document.state.jackets]
    assert len(names) == 4 and len(set(names)) == 4
