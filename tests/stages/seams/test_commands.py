"""Suggesting with wishes, seam sets and sight lines as commands."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.derive import tried_on
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.kept import set_flags, set_names
from jacket.core.uv.sets import cut_flags, piece_labels
from jacket.document.state import JacketObject, State
from jacket.errors import JacketError
from jacket.formats.project.records import load_project, save_project
from tests.conftest import cube, icosphere, torus
from tests.host import Headless


def over(mesh: PolyMesh, **values: object) -> Headless:
    host = Headless(State((), (JacketObject(1, "j", mesh),), active=1, next_id=2), **values)
    host.show_stage("seams")
    return host


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def test_the_first_suggestion_is_put_on_and_the_next_is_tried_on() -> None:
    host = over(torus(24, 12))
    first = host.do("suggest-seams")
    assert set_names(first) == ["Suggested"] and cut_flags(first).any() and host.display.tried == ""
    host.document.edit_jacket("cut", first.with_cuts(first.topology.edge_points[:3]))
    second = host.do("suggest-seams")
    # What was cut by hand is kept beside it and still cut.
    assert set_names(second) == ["Suggested", "As cut", "Suggested 2"] and len(second.cuts) == 3
    assert host.display.tried == "Suggested 2" and "tried on" in host.said[-1]
    shown = tried_on(second, host.display.tried)
    assert (cut_flags(shown) == set_flags(second, "Suggested 2")).all() and shown.uv is None
    on = host.do("put-on-seams")
    assert (cut_flags(on) == set_flags(on, "Suggested 2")).all() and host.display.tried == ""
    assert host.document.undo() == "put on the seams Suggested 2" and len(host.document.require_jacket().mesh.cuts) == 3


def test_one_press_suggests_flattens_and_packs() -> None:
    host = over(box())
    mesh = host.do("suggest-and-pack")
    assert mesh.uv is not None and np.isfinite(mesh.uv).all() and mesh.uv.min() >= 0 and mesh.uv.max() <= 1
    assert host.document.last_step == "suggest, flatten and pack" and len(host.document.history.done) == 1
    assert any(name == "watch_field" for name, _ in host.front.calls)


def test_wishes_are_followed_and_forgotten() -> None:
    mesh = split_to_quads(icosphere(2))
    host = over(mesh)
    plain = cut_flags(host.do("suggest-seams"))
    host.do("clear-seams")
    host.document.hold("edges", np.flatnonzero(plain))
    host.do("never-cut")
    other = cut_flags(host.do("suggest-seams"))
    assert other.any() and not (other & plain).any()
    host.document.hold("faces", np.arange(4))
    host.do("cut-gladly")
    assert len(host.document.require_jacket().mesh.mark("seam wish:gladly")) >= 8
    host.do("forget-wishes", "clear-seams")
    assert (cut_flags(host.do("suggest-seams")) == plain).all()
    # What is cut now stays when that is wished.
    host.do("clear-seams")
    host.document.hold("edges", [0])
    host.do("cut-held")
    host.set(keep_cuts=True)
    host.do("suggest-seams", "put-on-seams")
    assert cut_flags(host.document.require_jacket().mesh)[0]


def test_sets_by_commands() -> None:
    host = over(box(1))
    host.do("cut-angle")
    host.front.answers = ["edges", "corners"]
    host.do("keep-seams", "clear-seams")
    mesh = host.do("rename-seams")
    assert set_names(mesh) == ["corners"] and not cut_flags(mesh).any()
    assert piece_labels(host.do("add-seams"))[0] == 6 and piece_labels(host.do("take-off-seams"))[0] == 1
    host.do("blink-seams")
    assert host.display.tried == "corners"
    host.do("blink-seams")
    assert host.display.tried == "" and set_names(host.do("forget-seams")) == []
    host.front.answers = ["a", "b"]
    host.do("cut-angle", "keep-seams", "clear-seams")
    host.document.hold("edges", [0])
    host.do("cut-held", "keep-seams")
    with pytest.raises(JacketError, match="Click a seam set"):
        host.do("put-on-seams")
    host.show_stage("flatten")
    assert host.display.tried == ""


def test_cutting_along_sharp_marks_and_as_another_set() -> None:
    host = over(box(1))
    host.document.hold("edges", np.arange(5))
    host.do("sharpen")
    assert len(host.do("cut-sharp").cuts) == 5
    host.front.answers = ["second"]
    host.do("add-set")
    assert len(host.document.require_jacket().mesh.cuts) == 0
    assert len(host.do("cut-as-set").cuts) == 5


def test_sight_lines_are_saved_with_the_project(tmp_path) -> None:  # type: ignore[no-untyped-def]
    host = over(torus(24, 12))
    host.do("sight-here", "sight-ring", "sight-around")
    sights = host.document.state.sights
    assert [s.name for s in sights] == ["View", "Turntable", "All around"] and sights[0].eye == (0.0, 1.0, 5.0)
    host.set(eye_height=2.0)
    host.do("sight-walk")
    # Eyes are two units above the lowest point of the torus.
    walk = host.document.state.sights[-1]
    assert walk.name == "Walk" and walk.eye[1] == pytest.approx(host.document.require_jacket().mesh.points[:, 1].min() + 2)
    host.document.undo()
    save_project(host.document.state, tmp_path / "a.jacket")
    assert load_project(tmp_path / "a.jacket").sights == sights
    before = host.do("suggest-seams")
    assert set_names(before) == ["Suggested, for the views"]
    host.do("clear-sights")
    assert host.document.state.sights == () and host.document.undo() == "forget all sight lines"
