"""Every command against a host without a window: what it changes, what it refuses, that undo takes it back."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from jacket.core.derive import islands_of, stretch_of
from jacket.core.layout.margins import least_margin
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.uv.islands import Islands, texel_densities
from jacket.document.document import Document
from jacket.document.edits import trials as trials_steps
from jacket.document.state import STAGES, Held, JacketObject, SourceObject, State
from jacket.errors import Cancelled, JacketError
from jacket.jobs.pack import sheets_of
from jacket.progress import part, silent
from jacket.stages.checks import checks_of, key_numbers
from jacket.stages.commands import build_commands, project_name, search
from jacket.stages.topology.hand_commands import HAND_VALUES
from tests.conftest import cube, grid, icosphere, torus


class FakeHost:
    """Runs long work at once and remembers what it was told."""

    def __init__(self, state: State) -> None:
        self.document = Document(state)
        self.values: dict[str, Any] = {**HAND_VALUES, "quads": 200, "sharp": 38.0, "angle": 45.0, "turn": "quarter"}
        self.said: list[str] = []
        self.calls: list[tuple[str, Any]] = []
        self.meanwhile: Callable[[], None] | None = None

    def work(self, name: str, job: Callable[..., Any], done: Callable[[Any], None]) -> None:
        result = job(silent)
        if self.meanwhile is not None:
            self.meanwhile()
        done(result)

    def say(self, text: str) -> None:
        self.said.append(text)

    def __getattr__(self, name: str) -> Callable[..., None]:
        return lambda *a: self.calls.append((name, a))


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def host(mesh: PolyMesh | None = None, **extra: Any) -> FakeHost:
    mesh = box() if mesh is None else mesh
    return FakeHost(
        State((SourceObject(1, "s", icosphere(3)),), (JacketObject(2, "j", mesh),), active=2, next_id=3, **extra)
    )


def run(h: FakeHost, *commands: str) -> PolyMesh:
    table = build_commands()
    for command in commands:
        assert table[command].available(h.document.state), command
        table[command].run(h)  # type: ignore[arg-type]
    return h.document.require_jacket().mesh


def test_the_flat_half_of_the_job() -> None:
    h = host(sheets=sheets_of(512, margin=6.0))
    mesh = run(h, "cut-angle")
    assert islands_of(mesh).count == 6
    mesh = run(h, "flatten")
    assert np.isfinite(mesh.uv).all() and np.abs(stretch_of(mesh)).max() < 1e-6  # a box opens without stretch
    mesh = run(h, "pack")
    assert least_margin(Islands.of(mesh, h.document.state.sheets)).pixels >= 6 - 1e-6
    assert [s.name for s in h.document.history.done] == ["cut above an angle", "flatten", "pack the sheet"]
    assert not [
        c
        for stage in STAGES[1:]
        for c in checks_of(h.document.state, stage)
        if c.level == "wrong" and c.id != "largest-gap"
    ]
    numbers = key_numbers(h.document.state)
    assert (
        numbers["topology"] == "96 quads" and numbers["seams"] == "6 islands" and numbers["flatten"] == "stretch 1.00"
    )
    assert "% of sheet" in numbers["layout"] and "of" in numbers["deliver"]
    for _ in range(3):
        run(h, "undo")
    assert h.document.require_jacket().mesh.uv is None and h.said[-1] == "Undone: cut above an angle."
    run(h, "undo")
    assert h.said[-1] == "There is nothing to undo."
    run(h, "redo", "redo", "redo")
    assert h.document.require_jacket().mesh is mesh


def test_suggesting_clearing_and_held_seams() -> None:
    h = host(torus(24, 12))
    assert islands_of(run(h, "suggest-seams")).count >= 2
    assert len(run(h, "clear-seams").cuts) == 0
    h.document.hold("faces", np.arange(24))
    mesh = run(h, "cut-held")
    assert islands_of(mesh).count == 2 and (islands_of(mesh).labels[:24] == islands_of(mesh).labels[0]).all()
    h.document.hold("edges", mesh.topology.find_edges(mesh.cuts))
    assert islands_of(run(h, "sew-held")).count == 1
    h.document.hold("points", [0])
    with pytest.raises(JacketError, match="points cannot be cut"):
        run(h, "cut-held")


def test_flattening_only_what_is_held_leaves_the_rest_in_place() -> None:
    h = host()
    mesh = run(h, "cut-angle", "flatten", "pack")
    first = islands_of(mesh).labels == 0
    h.document.hold("faces", np.flatnonzero(first)[:1])
    again = run(h, "flatten-held")
    other = ~first[mesh.face_of_corner]
    assert np.array_equal(again.uv[other], mesh.uv[other])
    middle = [(m.uv[~other].min(axis=0) + m.uv[~other].max(axis=0)) / 2 for m in (mesh, again)]
    assert np.allclose(*middle, atol=1e-9)  # and it stays where it was, at its scale
    density = texel_densities(Islands.of(again))
    assert np.ptp(density) / density.mean() < 1e-6
    h.document.amend(h.document.state.with_(held=Held("edges", np.array([0], np.int32))))
    with pytest.raises(JacketError, match="Hold a face"):
        run(h, "flatten-held")


def test_even_density_keeps_centres_and_total_area() -> None:
    h = host()
    mesh = run(h, "cut-angle", "flatten")
    islands = islands_of(mesh)
    grown = mesh.with_uv(mesh.uv * np.where(islands.corner_labels == 2, 3.0, 1.0)[:, None])
    h.document.edit_jacket("grow one", grown)
    even = run(h, "even-density")
    density = texel_densities(Islands.of(even))
    assert np.ptp(density) / density.mean() < 1e-9
    assert Islands.of(even).pixel_area.sum() == pytest.approx(Islands.of(grown).pixel_area.sum())


def test_trials_are_kept_taken_and_thrown_away() -> None:
    h = host(PolyMesh.empty())
    run(h, "make-trial", "make-trial")
    one, two = h.document.state.trials
    assert one.mesh.points.tobytes() == two.mesh.points.tobytes() and one.name != two.name
    assert one.settings["quads"] == 200 and one.settings["mirror"] == "" and one.figures["not_quads"] == 0
    run(h, "drop-trial")
    assert h.document.state.trials == (one,)
    assert run(h, "take-trial") is one.mesh and not h.document.state.trials
    with pytest.raises(JacketError, match="gone"):
        trials_steps.take_trial(h.document, 99)


def test_results_are_dropped_when_what_they_came_from_is_gone() -> None:
    h = host()
    h.meanwhile = lambda: h.document.edit_jacket("something else", grid(2))
    with pytest.raises(JacketError, match="changed meanwhile"):
        run(h, "suggest-seams")
    assert h.document.last_step == "something else"
    h = host()
    h.meanwhile = lambda: h.document.amend(h.document.state.with_(sources=()))
    with pytest.raises(JacketError, match="source is gone"):
        run(h, "make-trial")


def test_removing_relaxing_mirroring() -> None:
    h = host(grid(4))
    h.document.hold("faces", [0, 1])
    assert run(h, "remove-held").n_faces == 14 and len(h.document.state.held) == 0
    h.document.hold("edges", [int(h.document.require_jacket().mesh.topology.find_edge(6, 7))])
    run(h, "remove-held")
    h.document.hold("points", [5])
    run(h, "remove-held", "mirror-y")
    assert h.document.state.mirror == "y"
    run(h, "mirror-off")
    assert h.document.state.mirror == ""
    ball = split_to_quads(icosphere(1))
    h = host(ball)
    relaxed = run(h, "relax-all")
    assert np.abs(np.linalg.norm(relaxed.points, axis=1) - 1).max() < 0.02  # on the source sphere's facets


def test_what_does_not_fit_is_not_offered() -> None:
    table = build_commands()
    empty = State()
    offered = {c.id for c in search(table, "", empty)}
    assert {"open-source", "save", "undo"} <= offered
    assert not {"make-trial", "flatten", "pack", "deliver", "cut-held", "clear-seams", "take-trial"} & offered
    full = {c.id for c in search(table, "", host().document.state)}
    assert {"make-trial", "flatten", "deliver"} <= full and "pack" not in full
    found = search(table, "unwrap", host().document.state)
    assert [c.id for c in found][:1] == ["flatten"]  # found by the trade's word, not only by ours
    assert not search(table, "no such thing", empty)


def test_stages_and_displays_reach_the_host() -> None:
    h = host()
    run(h, "stage-seams", "show-stretch", "frame-all", "save-as", "deliver")
    assert h.calls == [
        ("show_stage", ("seams",)),
        ("toggle", ("stretch",)),
        ("frame", (True,)),
        ("save", (True,)),
        ("deliver", ()),
    ]
    assert project_name("/a/b/lamp.jacket") == "lamp" and project_name("") == "unsaved project"


def test_parts_of_progress_fill_their_share_and_pass_on_stopping() -> None:
    seen: list[float] = []
    inner = part(part(lambda f, w: seen.append(f), 0.5, 1.0), 0.0, 0.5)
    inner(0.0, "a"), inner(1.0, "b"), inner(7.0, "c")
    assert seen == [0.5, 0.75, 0.75]

    def stop(fraction: float, what: str) -> None:
        raise Cancelled

    with pytest.raises(Cancelled):
        part(stop, 0, 1)(0.5, "x")


def test_failures_on_impossible_islands_say_which() -> None:
    h = host(icosphere(1))
    with pytest.raises(JacketError, match="closed"):
        run(h, "flatten")
    flat = host(grid(3))
    with pytest.raises(JacketError, match="lower the angle"):
        run(flat, "cut-angle")
