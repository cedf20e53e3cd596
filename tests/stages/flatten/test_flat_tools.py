"""Brushes and Square up over the flat view, and the commands of the Flatten stage, driven by plain events."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable
from concurrent.futures import Future

import numpy as np
import pytest

from jacket.core.derive import islands_of, known_reasons
from jacket.core.flatten.overlap import flipped_faces
from jacket.core.flatten.stretch import measure_stretch
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import PIN, Ints, PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.cuts import cut_edges
from jacket.core.uv.projections import projected
from jacket.core.uv.sets import cut_flags
from jacket.core.uv.sheets import Sheet
from jacket.document.document import Document
from jacket.document.state import JacketObject, State
from jacket.errors import EditRefused
from jacket.stages.flatten.tools.brushes import FlatNudge, FlatRelax, Pin, Pinch, Refine
from jacket.stages.flatten.tools.carrying import Carry
from jacket.stages.flatten.tools.squaring import SquareUp
from jacket.stages.flatten.tuning import mend
from jacket.tools.base import ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.view import FlatCamera
from tests.conftest import grid, icosphere
from tests.core.flatten.test_editing import dome
from tests.host import Headless

CAMERA = FlatCamera(np.array([0.5, 0.5]), 600.0, width=800, height=800)


def at(x: float, y: float, **keys: bool) -> Pointer:
    """A pointer over a place of the sheet."""
    px, py = CAMERA.project(np.array([[x, y]]))[0]
    return Pointer(float(px), float(py), flat=CAMERA, **keys)


def drag(tool, start: tuple[float, float], end: tuple[float, float], steps: int = 4, **keys: bool) -> None:  # type: ignore[no-untyped-def]
    tool.hover(at(*start, **keys))
    tool.press(at(*start, **keys))
    for k in range(1, steps + 1):
        tool.move(at(*(np.array(start) + (np.array(end) - start) * k / steps), **keys))
    tool.release(at(*end, **keys))


def document(mesh: PolyMesh) -> Document:
    return Document(State((), (JacketObject(1, "j", mesh),), active=1, next_id=2))


def mesh_of(doc: Document) -> PolyMesh:
    return doc.require_jacket().mesh


def stretch(mesh: PolyMesh) -> float:
    return measure_stretch(mesh, islands_of(mesh).places).dirichlet


def test_nudge_carries_what_was_grabbed_and_stops_before_a_face_turns() -> None:
    doc = document(dome())
    before = mesh_of(doc).uv.copy()
    drag(FlatNudge(doc, ToolSettings(brush=70)), (0.5, 0.5), (0.53, 0.5))
    moved = np.linalg.norm(mesh_of(doc).uv - before, axis=1)
    assert 0.01 < moved.max() <= 0.0301 and (moved == 0).sum() > 100 and doc.last_step == "nudge on the sheet"
    tool = FlatNudge(doc, ToolSettings(brush=70))
    drag(tool, (0.5, 0.5), (0.9, 0.7), 12)
    assert len(flipped_faces(mesh_of(doc), mesh_of(doc).uv)) == 0
    doc.undo()
    doc.undo()
    assert np.array_equal(mesh_of(doc).uv, before)
    tool.hover(at(0.5, 0.5))
    tool.press(at(0.5, 0.5))
    tool.move(at(0.55, 0.5))
    assert tool.busy and tool.cancel() and np.array_equal(mesh_of(doc).uv, before)


def test_relax_and_refine_even_what_was_shaken() -> None:
    rng = np.random.default_rng(1)
    mesh = dome()
    mesh = mesh.with_uv(mesh.uv + 0.006 * rng.normal(size=(mesh.n_points, 2))[mesh.corners])
    doc = document(mesh)
    drag(FlatRelax(doc, ToolSettings(brush=120)), (0.45, 0.45), (0.55, 0.55), 6)
    relaxed = stretch(mesh_of(doc))
    drag(Refine(doc, ToolSettings(brush=200)), (0.45, 0.45), (0.55, 0.55), 6)
    assert stretch(mesh_of(doc)) < relaxed < stretch(mesh) and len(flipped_faces(mesh_of(doc), mesh_of(doc).uv)) == 0


def test_pinch_draws_together_and_apart() -> None:
    doc = document(dome())
    before = mesh_of(doc).uv.copy()
    near = np.linalg.norm(before - 0.5, axis=1) < 0.08
    drag(Pinch(doc, ToolSettings(brush=120)), (0.5, 0.5), (0.5, 0.5), 4)
    together = mesh_of(doc).uv.copy()
    assert np.linalg.norm(together[near] - 0.5, axis=1).sum() < np.linalg.norm(before[near] - 0.5, axis=1).sum()
    drag(Pinch(doc, ToolSettings(brush=120)), (0.5, 0.5), (0.5, 0.5), 8, ctrl=True)
    assert np.linalg.norm(mesh_of(doc).uv[near] - 0.5, axis=1).sum() > np.linalg.norm(together[near] - 0.5, axis=1).sum()


@pytest.mark.parametrize("seed", range(4))
def test_no_gestures_turn_a_face_or_move_a_full_pin(seed: int) -> None:
    """Random strokes of all brushes, with pins of all strengths painted in between."""
    rng = np.random.default_rng(seed)
    doc = document(dome(10))
    whole = Pin(doc, ToolSettings(brush=25, strength=1.0))
    drag(whole, tuple(rng.uniform(0.3, 0.7, 2)), tuple(rng.uniform(0.3, 0.7, 2)))
    drag(Pin(doc, ToolSettings(brush=60, strength=0.4)), tuple(rng.uniform(0.3, 0.7, 2)), tuple(rng.uniform(0.3, 0.7, 2)))
    pins = np.asarray(mesh_of(doc).corner_data[PIN + mesh_of(doc).active_uv])
    assert (pins == 1).any() and ((pins > 0) & (pins < 1)).any()
    fixed = mesh_of(doc).uv[pins >= 1].copy()
    for _ in range(12):
        kind = (FlatNudge, FlatRelax, Pinch, Refine)[rng.integers(4)]
        tool = kind(doc, ToolSettings(brush=float(rng.uniform(20, 150)), strength=float(rng.uniform(0.2, 1))))
        drag(tool, tuple(rng.uniform(0.15, 0.85, 2)), tuple(rng.uniform(0.1, 0.9, 2)), 5, ctrl=bool(rng.integers(2)))
        mesh = mesh_of(doc)
        assert len(flipped_faces(mesh, mesh.uv)) == 0 and np.array_equal(mesh.uv[pins >= 1], fixed)


def test_pins_by_brush_and_by_commands() -> None:
    host = Headless(State((), (JacketObject(1, "j", dome(6)),), active=1, next_id=2))
    host.show_stage("flatten")
    key = PIN + "uv"
    host.document.hold("points", [24])
    assert host.do("pin-held").corner_data[key].sum() == 4
    host.do("pin-border")
    border = np.asarray(host.document.require_jacket().mesh.corner_data[key]) > 0
    mesh = host.document.require_jacket().mesh
    assert (border == (mesh.topology.border_points[mesh.corners] | (mesh.corners == 24))).all()
    assert (np.asarray(host.do("invert-pins").corner_data[key]) == 1 - border).all()
    assert key not in host.do("clear-pins").corner_data
    drag(Pin(host.document, ToolSettings(brush=40, strength=1.0)), (0.5, 0.5), (0.5, 0.5))
    assert host.document.require_jacket().mesh.corner_data[key].max() == 1
    drag(Pin(host.document, ToolSettings(brush=80, strength=1.0)), (0.5, 0.5), (0.5, 0.5), ctrl=True)
    assert key not in host.document.require_jacket().mesh.corner_data


def test_square_up_tells_the_stretch_before_and_refuses_in_a_sentence() -> None:
    doc = document(dome(8, 1.0))
    tool = SquareUp(doc, ToolSettings())
    tool.hover(at(0.5, 0.5))
    assert tool.ghost.what.startswith("8 × 8 squares, stretch 1.0") and len(tool.ghost.lines) == 32
    told = float(tool.ghost.what.split("stretch ")[1].split(" ")[0])
    tool.press(at(0.5, 0.5))
    uv = mesh_of(doc).uv
    assert doc.last_step == "square up an island" and len(np.unique(np.round(uv[:, 0], 9))) == 9
    assert stretch(mesh_of(doc)) == pytest.approx(told, abs=1e-3)
    tool.step()
    assert tool.way == "rows"
    cap = split_to_quads(icosphere(0))
    flat, _ = unwrap(cut_edges(cap, np.arange(0, cap.topology.n_edges, 3)))
    round_ = SquareUp(document(flat.with_uv(flat.uv * 0.1 + 0.5)), ToolSettings())
    with pytest.raises(EditRefused):
        for x in np.linspace(0.3, 0.7, 15):
            round_.press(at(float(x), 0.5))


def test_brushes_say_when_nothing_is_flat() -> None:
    with pytest.raises(EditRefused, match="flatten the jacket first"):
        FlatNudge(document(grid(3)), ToolSettings()).press(at(0.5, 0.5))


def test_truing_refining_and_straightening_as_commands() -> None:
    mesh = dome()
    host = Headless(State((), (JacketObject(1, "j", mesh),), active=1, next_id=2))
    host.show_stage("flatten")

    def distortion() -> tuple[float, float]:
        now = host.document.require_jacket().mesh
        places = islands_of(now).places
        figures = measure_stretch(now, places)
        return figures.angle, figures.dirichlet

    host.set(balance=5.0)
    host.do("true-islands")
    angles = distortion()[0]
    host.set(balance=95.0)
    host.do("true-islands")
    assert distortion()[0] > angles and host.document.last_step == "true the islands"
    host.set(balance=50.0)
    host.document.hold("faces", np.arange(60))
    before = host.document.require_jacket().mesh.uv.copy()
    after = host.do("refine-held").uv
    outside = ~np.isin(mesh.corners, np.unique(mesh.corners[: 4 * 60]))
    assert np.array_equal(before[outside], after[outside]) and not np.array_equal(before, after)
    row = [mesh.topology.find_edge(5 * 13 + k, 5 * 13 + k + 1) for k in range(12)]
    host.document.hold("edges", row)
    host.set(direction="own", spacing="even")
    uv = host.do("straighten-held").uv
    line = np.array([uv[np.flatnonzero(mesh.corners == p)[0]] for p in range(65, 78)])
    away = line - line.mean(axis=0)
    assert np.linalg.svd(away, compute_uv=False)[1] < 1e-9
    host.do("round-held")
    assert "closed loop" in host.said[-1] and host.document.last_step == "straighten edges"


def test_what_warps_is_found_and_mended() -> None:
    """Three quarters of a ball cut nowhere inside: a cut towards its far point helps most; what is closed is told first."""
    ball = split_to_quads(icosphere(2))
    keep = np.flatnonzero(ball.points[ball.corners.reshape(-1, 4)].mean(axis=1)[:, 2] > -0.5)
    cup = PolyMesh.from_faces(ball.points, [ball.face(int(f)).tolist() for f in keep])
    cup, _ = unwrap(cup)
    host = Headless(State((), (JacketObject(1, "j", cup.with_uv(cup.uv * 0.1 + 0.5)),), active=1, next_id=2))
    host.show_stage("flatten")
    host.do("why-warps")
    found = known_reasons(host.document.require_jacket().mesh)
    assert found and found[0].kind == "cut" and found[0].gain > 0.02 and "reason" in host.said[-1]
    before = stretch(host.document.require_jacket().mesh)
    mend(host.document, found[0])
    host.document.hold("faces", found[0].faces)
    after = stretch(host.do("flatten-held"))
    assert after < before and before - after == pytest.approx(found[0].gain, abs=0.35 * found[0].gain)
    closed = Headless(State((), (JacketObject(1, "j", ball),), active=1, next_id=2))
    closed.do("why-warps")
    reason = known_reasons(ball)[0]
    assert reason.kind == "closed" and len(reason.cut) and not cut_flags(ball).any()
    mend(closed.document, reason)
    assert unwrap(closed.document.require_jacket().mesh)[1][0].flat


def test_carry_moves_what_is_here_or_held_and_the_rest_follows_or_stays() -> None:
    doc = document(dome())
    before = mesh_of(doc).uv.copy()
    tool = Carry(doc, ToolSettings())
    corner = np.flatnonzero(mesh_of(doc).corners == 168)
    start = tuple(before[corner[0]])
    drag(tool, start, (start[0] + 0.04, start[1] + 0.03))
    after = mesh_of(doc).uv
    assert np.allclose(after[corner], np.array(start) + [0.04, 0.03], atol=1e-9) and doc.last_step == "carry on the sheet"
    assert (np.abs(after - before).max(axis=1) > 1e-9).mean() > 0.9  # the rest followed
    assert len(flipped_faces(mesh_of(doc), after)) == 0
    doc.undo()
    tool.rest = "stays"
    drag(tool, start, (start[0] + 0.02, start[1] + 0.01))
    moved = np.abs(mesh_of(doc).uv - before).max(axis=1) > 0
    assert moved.sum() == len(corner)
    drag(tool, tuple(mesh_of(doc).uv[corner[0]]), (0.0, 0.0), 8)
    assert len(flipped_faces(mesh_of(doc), mesh_of(doc).uv)) == 0


def test_carry_turns_scales_and_takes_typed_numbers() -> None:
    mesh = dome()
    doc = document(mesh)
    tool = Carry(doc, ToolSettings())
    tool.rest = "stays"
    doc.hold("faces", np.arange(mesh.n_faces))
    tool.typed((64.0, 0.0))
    assert np.allclose(mesh_of(doc).uv - mesh.uv, [64 / 1024, 0])
    tool.typed((0.0, 0.0), 90.0)
    before, after = mesh.uv - mesh.uv.mean(axis=0), mesh_of(doc).uv - mesh_of(doc).uv.mean(axis=0)
    assert np.allclose(np.linalg.norm(before, axis=1), np.linalg.norm(after, axis=1), atol=1e-3)
    tool.typed((0.0, 0.0), 0.0, 0.5)
    assert np.ptp(mesh_of(doc).uv, axis=0).max() == pytest.approx(0.5 * np.ptp(after, axis=0).max(), rel=1e-6)
    doc.hold("faces", [])
    with pytest.raises(EditRefused, match="Hold points"):
        tool.typed((1.0, 0.0))


def test_a_full_pin_is_not_carried() -> None:
    mesh = dome(6)
    pins = np.where(mesh.corners == 48, 1.0, 0.0).astype(np.float32)
    doc = document(mesh.with_(corner_data={**mesh.corner_data, PIN + mesh.active_uv: pins}))
    for rest in ("follows", "stays"):
        tool = Carry(doc, ToolSettings())
        tool.rest = rest
        at48 = tuple(mesh.uv[np.flatnonzero(mesh.corners == 48)[0]])
        drag(tool, at48, (at48[0] + 0.05, at48[1]))
        assert np.array_equal(mesh_of(doc).uv[pins > 0], mesh.uv[pins > 0])


def test_turning_held_islands_leaves_the_others() -> None:
    ball = split_to_quads(icosphere(2))
    ball = projected(ball, np.ones(ball.n_faces, bool), "box", Sheet())
    askew = ball.with_uv(ball.uv @ np.array([[0.8, -0.6], [0.6, 0.8]]))
    host = Headless(State((), (JacketObject(1, "j", askew),), active=1, next_id=2), orient="rows")
    host.show_stage("flatten")
    mesh = host.document.open_jacket().mesh
    held = islands_of(mesh).labels == 0
    host.document.hold("faces", np.flatnonzero(held))
    turned = host.do("turn-islands")
    moved = (turned.uv != mesh.uv).any(axis=1)
    assert islands_of(mesh).count == 6 and moved[held[mesh.face_of_corner]].any() and not moved[~held[mesh.face_of_corner]].any()


def at_once(call: Callable[[], object]) -> Future[object]:
    """What is usually made on another thread, made here and now."""
    future: Future[object] = Future()
    future.set_result(call())
    return future


@pytest.mark.parametrize(("rest", "ahead"), [("stays", None), ("follows", None), ("follows", at_once)])
def test_a_point_let_go_over_its_other_side_closes_a_dart(
    rest: str, ahead: Callable[..., object] | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A dart of two edges into a sheet of 6 × 6 quads: the first point welded sews the edge to the tip, the next one the other;
    also where what leads the rest is ready before anybody asks."""
    if ahead is not None:
        monkeypatch.setattr("jacket.core.flatten.carrying.ahead", ahead)
    mesh = grid(6)
    ids = [k * 7 + 3 for k in range(3)]
    edges = [mesh.topology.find_edge(a, b) for a, b in itertools.pairwise(ids)]
    cut = cut_edges(mesh.with_uv(0.2 + 0.1 * mesh.points[mesh.corners][:, :2]), np.array(edges))
    # The right side of the dart opens, widest at the border.
    uv, right = cut.uv.copy(), mesh.points[mesh.corners].reshape(-1, 4, 3)[:, :, 0].mean(axis=1).repeat(4) > 3
    for p, wide in ((ids[0], 0.05), (ids[1], 0.03)):
        uv[right & (mesh.corners == p), 0] += wide
    cut = cut.with_uv(uv)
    doc = document(cut)
    assert cut_flags(mesh_of(doc)).sum() == 2
    tool = Carry(doc, ToolSettings())
    tool.rest = rest
    for n in (1, 0):
        place = cut.uv[np.flatnonzero(~right & (cut.corners == ids[n]))[0]]
        now = mesh_of(doc).uv[np.flatnonzero(right & (cut.corners == ids[n]))[0]]
        near = place + [0.004, 0.002]
        tool.hover(at(*now))
        tool.press(at(*now))
        tool.move(at(*(now + near) / 2))
        tool.move(at(*near))
        assert tool.ghost.what == "Weld it to its other side"
        tool.release(at(*near))
        assert cut_flags(mesh_of(doc)).sum() == n and doc.last_step == "weld on the sheet"
        assert len(flipped_faces(mesh_of(doc), mesh_of(doc).uv)) == 0 and len(np.unique(mesh_of(doc).uv[cut.corners == ids[n]], axis=0)) == 1
    doc.undo()
    assert cut_flags(mesh_of(doc)).sum() == 1
    doc.undo()
    assert np.array_equal(mesh_of(doc).uv, cut.uv)


def test_an_island_held_whole_is_carried_as_it_is_while_the_rest_of_another_follows() -> None:
    ball = split_to_quads(icosphere(2))
    ball = projected(ball, np.ones(ball.n_faces, bool), "box", Sheet())
    doc = document(ball)
    label = islands_of(ball, doc.state.sheets).labels
    places = ball.uv.reshape(-1, 4, 2).mean(axis=1)
    second = np.flatnonzero(label == 1)
    middle = second[np.argmin(np.linalg.norm(places[second] - places[second].mean(axis=0), axis=1))]
    doc.hold("faces", np.union1d(np.flatnonzero(label == 0), [middle]))
    tool = Carry(doc, ToolSettings())
    tool.typed((8.0, -4.0))
    moved = (mesh_of(doc).uv - ball.uv).reshape(-1, 4, 2)
    shift = np.array([8.0, -4.0]) / 1024
    assert np.allclose(moved[label == 0], shift, rtol=0, atol=1e-14), "as it is"
    assert np.allclose(moved[middle], shift, rtol=0, atol=1e-9)
    rest = moved[second[second != middle]]
    assert np.abs(rest).max() > 0 and not np.allclose(rest, shift), "the rest of it follows as it can"
    assert not moved[label > 1].any() and len(flipped_faces(mesh_of(doc), mesh_of(doc).uv)) == 0


def held_in_part() -> tuple[Document, PolyMesh, Ints]:
    """Six flat sides of a ball, of each of which the middle face is held."""
    ball = split_to_quads(icosphere(2))
    ball = projected(ball, np.ones(ball.n_faces, bool), "box", Sheet())
    doc = document(ball)
    label, places = islands_of(ball, doc.state.sheets).labels, ball.uv.reshape(-1, 4, 2).mean(axis=1)
    middles = [(own := np.flatnonzero(label == k))[np.argmin(np.linalg.norm(places[own] - places[own].mean(axis=0), axis=1))] for k in range(6)]
    doc.hold("faces", np.array(middles))
    return doc, ball, np.array(middles)


@pytest.mark.parametrize("waits", [False, True])
def test_what_is_held_of_several_islands_all_gets_there_whether_one_waits_or_not(waits: bool) -> None:
    doc, ball, middles = held_in_part()
    shift = np.array([0.006, -0.004])
    start = tuple(ball.uv.reshape(-1, 4, 2)[middles[3]].mean(axis=0))
    tool = Carry(doc, ToolSettings())
    tool.hover(at(*start))
    tool.press(at(*start))
    tool.move(at(*(np.array(start) + shift)))
    end = time.monotonic() + 20
    while waits and tool.lags and time.monotonic() < end:
        tool.move(at(*(np.array(start) + shift)))
    assert not (waits and tool.lags), "what follows comes to rest"
    tool.release(at(*(np.array(start) + shift)))
    moved = (mesh_of(doc).uv - ball.uv).reshape(-1, 4, 2)
    assert np.allclose(moved[middles], shift, rtol=0, atol=1e-9)
    assert len(flipped_faces(mesh_of(doc), mesh_of(doc).uv)) == 0
    labels = islands_of(ball, doc.state.sheets).labels
    followed = [np.abs(moved[labels == k]).max(axis=(1, 2)) > 1e-6 for k in range(6)]
    assert min(f.mean() for f in followed) > (0.9 if waits else 0.1)
    doc.undo()
    assert np.array_equal(mesh_of(doc).uv, ball.uv)


def test_an_island_that_cannot_be_carried_stops_the_whole_gesture() -> None:
    doc, ball, middles = held_in_part()
    label, uv = islands_of(ball, doc.state.sheets).corner_labels, ball.uv.copy()
    corner = ball.starts[middles[5]]
    uv[(ball.corners == ball.corners[corner]) & (label == label[corner])] += 3 * (uv[corner + 2] - uv[corner])
    folded = ball.with_uv(uv)
    doc.edit_jacket("fold", folded, doc.state.held)
    before = mesh_of(doc)
    start = tuple(folded.uv.reshape(-1, 4, 2)[middles[0]].mean(axis=0))
    tool = Carry(doc, ToolSettings())
    tool.hover(at(*start))
    tool.press(at(*start))
    with pytest.raises(EditRefused, match="flipped faces"):
        for _ in range(100):
            tool.move(at(start[0] + 0.003, start[1]))
        tool.release(at(start[0] + 0.003, start[1]))
    assert not tool.busy and not doc.in_gesture and mesh_of(doc) is before


def test_islands_under_the_brush_that_had_no_turn_have_it_in_the_next_dab(monkeypatch: pytest.MonkeyPatch) -> None:
    doc, ball, _ = held_in_part()
    rng = np.random.default_rng(4)
    label = islands_of(ball, doc.state.sheets).corner_labels
    shaken = ball.uv + (0.004 * rng.normal(size=(6, ball.n_points, 2)))[label, ball.corners]
    if len(flipped_faces(ball, shaken)):
        shaken = ball.uv + (0.0005 * rng.normal(size=(6, ball.n_points, 2)))[label, ball.corners]
    doc.edit_jacket("shake", ball.with_uv(shaken), doc.state.held)
    before = mesh_of(doc)
    monkeypatch.setattr("jacket.stages.flatten.tools.brushes.DAB", -1.0)
    tool = Refine(doc, ToolSettings(brush=2000))
    tool.hover(at(0.5, 0.5))
    tool.press(at(0.5, 0.5))
    seen = []
    for _ in range(6):
        moved = np.abs(mesh_of(doc).uv - before.uv).reshape(-1, 4, 2).max(axis=(1, 2)) > 0
        seen.append(sorted(set(label[::4][moved].tolist())))
        if not tool.lags:
            break
        tool.move(at(0.5, 0.5))
    assert seen == [list(range(k + 1)) for k in range(6)], "one island more with each dab"
    tool.release(at(0.5, 0.5))
    assert stretch(mesh_of(doc)) < stretch(before) and not tool.lags


def test_a_whole_island_is_dragged_by_itself_and_typed_numbers_are_not_carried_once_more_by_a_click() -> None:
    doc, ball, _ = held_in_part()
    label = islands_of(ball, doc.state.sheets).labels
    doc.hold("faces", np.flatnonzero(label == 2))
    before = mesh_of(doc).uv
    start = tuple(before.reshape(-1, 4, 2)[label == 2].mean(axis=(0, 1)))
    tool = Carry(doc, ToolSettings())
    drag(tool, start, (start[0] + 0.01, start[1] - 0.02))
    moved = (mesh_of(doc).uv - before).reshape(-1, 4, 2)
    assert np.allclose(moved[label == 2], [0.01, -0.02], atol=1e-9) and not moved[label != 2].any()
    doc.hold("faces", np.flatnonzero(label == 2)[:1])
    tool.typed((4.0, 0.0))
    typed = mesh_of(doc).uv
    tool.press(at(*start))
    tool.release(at(*start))
    assert np.array_equal(mesh_of(doc).uv, typed)
