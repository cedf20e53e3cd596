"""Every command against a host without a window: what it changes, what it refuses, that undo takes it back."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from bench.commands import Hunt
from bench.odd_layers import KINDS
from jacket.commands.general import project_name, registry_of
from jacket.core.checks.model import Check
from jacket.core.derive import islands_of, stretch_of
from jacket.core.layout.margins import least_margin
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.uv.islands import Islands, texel_densities
from jacket.document.edits import trials as trials_steps
from jacket.document.state import Held, JacketObject, SourceObject, State
from jacket.errors import Cancelled, JacketError
from jacket.jobs.pack import sheets_of
from jacket.progress import part
from jacket.stages.all import STAGES
from tests.conftest import cube, grid, icosphere, torus
from tests.host import Headless


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def host(mesh: PolyMesh | None = None, **extra: Any) -> Headless:
    mesh = box() if mesh is None else mesh
    state = State((SourceObject(1, "s", icosphere(3)),), (JacketObject(2, "j", mesh),), active=2, next_id=3, **extra)
    return Headless(state, quads=200, sharp=38.0, angle=45.0, turn="quarter")


def checks_of(state: State, stage: str) -> list[Check]:
    return next(s for s in STAGES if s.id == stage).checks(state)


def line(state: State, stage: str) -> str:
    """What the ticket of a stage says."""
    spec = next(s for s in STAGES if s.id == stage)
    return spec.ticket(state, spec.checks(state)).text


def run(h: Headless, *commands: str) -> PolyMesh:
    return h.do(*commands)


def test_the_flat_half_of_the_job() -> None:
    h = host(sheets=sheets_of(512, margin=6.0))
    mesh = run(h, "cut-angle")
    assert islands_of(mesh).count == 6
    mesh = run(h, "flatten")
    assert np.isfinite(mesh.uv).all() and np.abs(stretch_of(mesh)).max() < 1e-6  # a box opens without stretch
    mesh = run(h, "pack")
    assert least_margin(Islands.of(mesh, h.document.state.sheets)).pixels >= 6 - 1e-6
    assert [s.name for s in h.document.history.done] == ["cut above an angle", "flatten", "pack the sheets"]
    assert not [
        c
        for stage in STAGES[1:]
        for c in stage.checks(h.document.state)
        if c.level == "wrong" and c.id != "largest-gap"
    ]
    lines = {s.id: line(h.document.state, s.id) for s in STAGES}
    assert lines["topology"].startswith("96") and lines["seams"] == "6 islands"
    assert lines["flatten"] == "stretch 1.00" and "% of sheet" in lines["layout"] and " of " in lines["deliver"]
    for _ in range(3):
        run(h, "undo")
    assert h.document.require_jacket().mesh.uv is None and h.said[-1] == "Undone: cut above an angle."
    run(h, "undo")
    assert h.said[-1] == "There is nothing to undo."
    run(h, "redo", "redo", "redo")
    assert h.document.require_jacket().mesh is mesh


def test_suggesting_clearing_and_held_seams() -> None:
    h = host(torus(24, 12))
    assert len(run(h, "suggest-seams").cuts) > 24  # round the tube and once round the hole
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
    run(h, "flatten-held")  # an edge stands for the islands beside it
    h.document.amend(h.document.state.with_(held=Held()))
    assert not h.commands["flatten-held"].available(h.document.state)


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
    assert run(h, "take-trial").points is one.mesh.points and not h.document.state.trials
    with pytest.raises(JacketError, match="gone"):
        trials_steps.take_trial(h.document, 99)


def test_results_are_dropped_when_what_they_came_from_is_gone() -> None:
    h = host()
    h.at_once.meanwhile = lambda: h.document.edit_jacket("something else", grid(2))
    run(h, "suggest-seams")
    assert h.document.last_step == "something else" and "changed meanwhile" in h.said[-1]
    h.at_once.meanwhile = None
    h.front.offered.pop()()  # it is offered again, over what is there now
    assert h.document.last_step == "suggest seams"
    h = host()
    h.at_once.meanwhile = lambda: h.document.amend(h.document.state.with_(sources=()))
    run(h, "make-trial")
    assert not h.document.state.trials and "changed meanwhile" in h.said[-1]


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
    table = registry_of(STAGES)
    empty = State()
    offered = {c.id for c in table.search("", empty)}
    assert {"open-source", "save", "undo"} <= offered
    assert not {"make-trial", "flatten", "pack", "deliver", "cut-held", "clear-seams", "take-trial"} & offered
    full = {c.id for c in table.search("", host().document.state)}
    assert {"make-trial", "flatten", "deliver"} <= full and "pack" not in full
    found = table.search("unwrap", host().document.state)
    assert [c.id for c in found][:1] == ["flatten"]  # found by the trade's word, not only by ours
    assert not table.search("no such thing", empty)


def test_stages_and_displays_reach_the_host() -> None:
    h = host()
    run(h, "stage-seams", "show-stretch", "frame-all", "save-as", "deliver")
    assert h.stage.id == "seams" and h.display.is_on("stretch") and not h.display.is_on("islands")
    assert h.front.calls == [("frame", True), ("save", True), ("deliver", None)]
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
    run(h, "flatten")
    assert "closed" in h.said[-1] and h.document.require_jacket().mesh.uv is None
    flat = host(grid(3))
    with pytest.raises(JacketError, match="lower the angle"):
        run(flat, "cut-angle")


def test_two_large_layers_that_coincide_are_joined_beside_the_window_and_an_empty_one_anywhere() -> None:
    """A weld per pair would take minutes here; edges of four faces are not made, so nothing is welded."""
    big = grid(80)
    state = State((), (JacketObject(1, "none", PolyMesh.empty()), JacketObject(2, "a", big), JacketObject(3, "b", big)), active=2, next_id=4)
    program = Headless(state)
    seen: list[str] = []
    program.at_once.meanwhile = lambda: seen.append("beside")
    mesh = program.do("join-layers")
    assert seen == ["beside"] and (mesh.n_faces, mesh.n_points) == (12_800, 2 * big.n_points)
    assert len(mesh.topology.nonmanifold_edges) == 0 and len(program.document.state.jackets) == 1
    assert program.document.undo() == "join the layers" and program.document.state.jackets == state.jackets


@pytest.mark.parametrize("kind", KINDS)
def test_commands_in_any_order_leave_odd_layers_sound(kind: str) -> None:
    """What `bench/commands.py` does at length: nothing fails but with a sentence, and every mesh stays sound."""
    hunt = Hunt()
    hunt.on(kind, 1, 8)
    assert hunt.failed == {} and hunt.made == 8
