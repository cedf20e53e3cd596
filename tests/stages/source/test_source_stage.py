"""The Source stage through the real window, and its verbs on the command line."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QComboBox, QInputDialog, QPushButton

from jacket.cli.main import main
from jacket.core.derive import crossings_of
from jacket.core.mesh.geometry import point_normals, volume
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.health import examine
from jacket.document.document import Document
from jacket.document.edits import sources as sources_steps
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.formats.mesh.registry import read_mesh, write_mesh
from jacket.formats.project.records import load_project, save_project
from jacket.qt.app import settle
from jacket.qt.fields import NumberField, evaluate
from jacket.qt.window import Window
from jacket.settings import Settings
from tests.conftest import cube, gone, icosphere, torus
from tests.core.source.test_mend import cap_removed, joined, triangles
from tests.host import put


@pytest.fixture
def window(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    """A window in the Source stage, the bench empty."""
    made = Window(Document(), Settings())
    made.show()
    qtbot.waitExposed(made)
    made.show_stage("source")
    made.filing.ask_to_leave = lambda: __import__("PySide6.QtWidgets").QtWidgets.QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
    yield made
    gone(made)


def with_source(window: Window, mesh: PolyMesh, name: str = "thing", path: str = "") -> None:
    sources_steps.add_source(window.document, name, mesh, path)
    window.frame(True)
    assert settle(window, 30)


def do(window: Window, command: str, take: bool = False) -> None:
    window.run(window.commands[command])
    assert settle(window, 60)
    if take:
        assert window.program.proposal is not None, window.strip.hint.text()
        window.run(window.commands["take-proposal"])
        assert settle(window, 60)


def source(window: Window) -> PolyMesh:
    chosen = window.document.state.chosen_source
    assert chosen is not None
    return chosen.mesh


def scan() -> PolyMesh:
    """A ball with a hole, debris, faces turned over, and doubled ones."""
    ball, dirt = cap_removed(0.93), icosphere(0)
    dirt = dirt.with_points(dirt.points * 0.05 + [1.3, 0.4, 0])
    both = joined(ball, dirt)
    tri = both.triangle_points.copy()
    tri[40:90] = tri[40:90, ::-1]
    return PolyMesh.from_faces(both.points, np.concatenate([tri, tri[100:104]]))


# ---- putting right -------------------------------------------------------------------------------------


def test_a_scan_is_put_right_step_by_step(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    """Each mend is shown first, done by Enter, named in the history, and undone."""
    with_source(window, scan())
    values = {c.check.id: c.check.value for c in window.strip.chips}
    assert values["holes"] == "2" or int(values["holes"]) >= 1
    assert values["duplicates"] == "4" and values["parts"] == "2" and values["winding"] != "0"
    put(window.program, hole=100.0)
    before = source(window)
    for command in ("drop-repeats", "keep-largest", "turn-outward", "close-holes"):
        do(window, command)
        assert window.program.proposal is not None and source(window) is not None
        assert window.panel.proposal_card.isVisible()
        scene = window.form.scene
        assert len(scene.layers) > 0  # what it would touch is drawn
        qtbot.keyClick(window, Qt.Key.Key_Return)
        assert settle(window, 60) and window.program.proposal is None
    assert examine(source(window)).sound and window.top.tickets["source"].line.endswith("· sound")
    names = [s.name for s in window.document.history.done]
    assert names[1:] == ["drop repeated and flat faces", "keep the largest parts", "turn faces outward", "close holes"]
    for _ in range(4):
        window.run(window.commands["undo"])
    assert source(window) is before


def test_a_proposal_is_left_by_escape_and_dropped_when_the_source_changes(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    with_source(window, cap_removed(0.9))
    mesh = source(window)
    do(window, "close-holes")
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert window.program.proposal is None and source(window) is mesh and not window.panel.proposal_card.isVisible()
    do(window, "close-holes")
    do(window, "to-ground")
    assert window.program.proposal is None
    do(window, "drop-repeats")
    assert window.program.proposal is None and "no repeated" in window.strip.hint.text()
    do(window, "close-holes")
    window.show_stage("topology")
    assert window.program.proposal is None


def test_the_other_mends_in_the_window(window: Window) -> None:
    ball = icosphere(4)
    soup = PolyMesh.from_faces(ball.points[ball.corners], np.arange(ball.n_corners).reshape(-1, 3))
    rng = np.random.default_rng(0)
    with_source(window, soup.with_points(soup.points + rng.normal(0, 1e-5, soup.points.shape)))
    put(window.program, weld=1e-3)
    do(window, "weld-points", take=True)
    assert source(window).n_points == ball.n_points
    do(window, "smooth-noise", take=True)
    put(window.program, reduce=1000)
    do(window, "reduce", take=True)
    assert source(window).n_faces == 1000
    leaves = PolyMesh.from_faces(
        [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]], [[0, 1, 2], [1, 0, 3], [0, 1, 4]]
    )
    with_source(window, leaves, "leaves")
    do(window, "split-nonmanifold", take=True)
    assert source(window).n_points == 7
    do(window, "count-crossings")
    assert crossings_of(source(window)) is not None and "crossings" in {c.id for c in window.strip.checks}


def test_locked_sources_are_neither_mended_nor_moved(window: Window) -> None:
    with_source(window, cap_removed(0.9))
    do(window, "lock-source")
    mesh = source(window)
    for command in ("close-holes", "to-ground", "up-axis", "remove-source", "freeze"):
        do(window, command)
    assert source(window) is mesh and window.program.proposal is None
    do(window, "to-ground")
    assert "locked" in window.strip.hint.text()
    do(window, "lock-source")
    do(window, "to-ground")
    assert source(window).points[:, 1].min() == 0


# ---- tools ---------------------------------------------------------------------------------------------


class Hand:
    """The mouse over the form view."""

    def __init__(self, qtbot, window: Window) -> None:  # type: ignore[no-untyped-def]
        self.qtbot, self.window = qtbot, window

    def over(self, place: np.ndarray) -> QPoint:
        x, y, _ = self.window.form.camera.project(np.asarray(place, float))[0]
        return QPoint(round(x), round(y))

    def click(self, place: np.ndarray, keys=Qt.KeyboardModifier.NoModifier) -> None:  # type: ignore[no-untyped-def]
        at = self.over(place)
        self.qtbot.mouseMove(self.window.form, at)
        self.qtbot.mouseClick(self.window.form, Qt.MouseButton.LeftButton, keys, at)


def front(window: Window, mesh: PolyMesh, k: int = 0) -> np.ndarray:
    """A point of a mesh that faces the camera."""
    facing = point_normals(mesh) @ window.form.camera.rotation[2]
    return mesh.points[np.argsort(-facing)[k]]


def test_sift_picks_parts_and_drops_them(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    small = icosphere(1)
    parts = [
        icosphere(3),
        small.with_points(small.points * 0.2 + [1.6, 0, 0]),
        small.with_points(small.points * 0.2 + [-1.6, 0, 0]),
    ]
    with_source(window, joined(*parts))
    hand = Hand(qtbot, window)
    assert window.tool.id == "sift"
    hand.click(front(window, parts[1]))
    assert len(window.document.state.picked) == 80 and window.panel.picked_card.isVisible()
    hand.click(front(window, parts[2]), Qt.KeyboardModifier.ControlModifier)
    assert len(window.document.state.picked) == 160
    hand.click(front(window, parts[1]), Qt.KeyboardModifier.ControlModifier)
    assert len(window.document.state.picked) == 80
    hand.click(front(window, parts[0]), Qt.KeyboardModifier.ShiftModifier)
    assert len(window.document.state.picked) == 160  # all parts smaller than the one clicked
    do(window, "drop-picked", take=True)
    assert examine(source(window)).part_faces == (1280,) and len(window.document.state.picked) == 0
    window.run(window.commands["undo"])
    sources_steps.pick_faces(window.document, np.arange(1280, 1360))
    do(window, "keep-picked", take=True)
    assert source(window).n_faces == 80


def test_gauge_measures_and_scales_to_what_is_typed(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    ball = icosphere(5)
    with_source(window, ball)
    window.take_tool("gauge")
    hand = Hand(qtbot, window)
    a, b = front(window, ball), front(window, ball, 900)
    hand.click(a)
    hand.click(b)
    tool = window.program.tools["gauge"]
    assert tool.distance == pytest.approx(np.linalg.norm(a - b), abs=0.03)
    field = next(f for f in window.panel.tool_card.findChildren(NumberField) if f.isEnabled())
    field.setText("30 cm")
    field.editingFinished.emit()
    assert tool.distance == pytest.approx(0.3) and window.document.last_step == "scale to 0.3"
    assert window.document.state.chosen_source.was_placed
    hand.click(a * 0)  # a third click begins anew
    assert not tool.whole


def test_ground_stands_the_source_on_three_points(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    box = triangles(cube())
    with_source(window, box.with_points(box.points - 0.5))
    window.form.camera = window.form.camera.turned(0, 20)
    window.take_tool("ground")
    hand = Hand(qtbot, window)
    for place in ([-0.3, 0.5, -0.3], [0.3, 0.5, -0.3], [0.0, 0.5, 0.3]):
        hand.click(np.array(place))
    assert window.document.last_step == "stand on three points"
    points = source(window).points
    assert points[:, 1].min() == pytest.approx(0, abs=0.02) and points[:, 1].max() == pytest.approx(1, abs=0.02)
    assert volume(source(window)) == pytest.approx(1)


def test_typed_lengths() -> None:
    assert evaluate("30 cm", lengths=True) == 0.3 and evaluate("2*12 in", lengths=True) == pytest.approx(24 * 0.0254)
    assert evaluate("1.5", "u", lengths=True) == 1.5 and evaluate("4 u", "u", lengths=True) == 4
    with pytest.raises(ValueError):
        evaluate("cm", lengths=True)


# ---- placing -------------------------------------------------------------------------------------------


def test_the_jacket_goes_where_the_source_goes(window: Window) -> None:
    window.document.open(
        State(
            (SourceObject(1, "ring", triangles(torus(40, 20))),),
            (JacketObject(2, "j", torus(20, 10)),),
            active=2,
            next_id=3,
        ),
        "",
    )
    window.show_stage("source")
    settle(window, 30)
    jacket = window.document.require_jacket().mesh
    put(window.program, up="z")
    do(window, "up-axis")
    put(window.program, factor=2.5)
    do(window, "scale-factor")
    do(window, "to-ground")
    moved = window.document.require_jacket().mesh
    placing = window.document.state.chosen_source.placing
    assert (
        np.allclose(moved.points, jacket.points @ placing[:3, :3].T + placing[:3, 3])
        and moved.points[:, 1].min() > -1e-9
    )
    assert np.array_equal(moved.corners, jacket.corners)
    do(window, "back-to-file")
    assert np.allclose(window.document.require_jacket().mesh.points, jacket.points)
    do(window, "stand-flat")
    do(window, "centre")
    do(window, "freeze")
    assert not window.document.state.chosen_source.was_placed
    put(window.program, unit="inches")
    do(window, "from-unit")
    assert window.document.state.chosen_source.placing[0, 0] == 0.0254
    put(window.program, factor=1.0)
    do(window, "scale-factor")
    assert "stands so already" in window.strip.hint.text()


def test_the_mirror_plane_is_found_shown_and_set(window: Window, spot: PolyMesh) -> None:
    turn = np.array([[np.cos(0.6), 0, np.sin(0.6)], [0, 1, 0], [-np.sin(0.6), 0, np.cos(0.6)]])
    with_source(window, spot.with_points(spot.points @ turn.T + [0.3, 0, 0.2]))
    do(window, "find-mirror")
    assert window.display.heat is not None and window.form.scene.look.shade == "heat"
    do(window, "mirror-to-x")
    assert window.display.heat is None and window.document.state.mirror == "x"
    window.program.measure_mirror("x")
    settle(window, 60)
    assert window.display.heat is not None and window.display.heat.values.mean() < 0.3
    window.program.measure_mirror("")
    assert window.display.heat is None and window.form.scene.look.shade == "smooth"


def test_looks(window: Window) -> None:
    with_source(window, icosphere(4))
    look = next(c for c in window.panel.stage_cards if "Look" in c.title.text())
    shade, cut = look.findChildren(QComboBox)[:2]
    shade.activated.emit(2)
    assert window.form.scene.look.shade == "clay"
    cut.activated.emit(2)
    assert window.form.scene.look.cut == (0.0, 1.0, 0.0, 0.0)
    window.program.show(replace(window.display, cut_share=1.0))
    assert window.form.scene.look.cut[3] == pytest.approx(1.0)
    look.fold(True)
    assert look.folded and not look.body.isVisible() and look.fold_mark.text() == "▸"


# ---- several sources, several files --------------------------------------------------------------------


def test_several_files_are_dropped_and_what_is_bad_holds_up_nothing(window: Window, tmp_path: Path) -> None:
    for k, mesh in enumerate((icosphere(2), cube(), torus(12, 8))):
        write_mesh(mesh, tmp_path / f"{k}.obj")
    (tmp_path / "bad.obj").write_text("v 1 2\nf 1 2 3\n")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / n)) for n in ("0.obj", "bad.obj", "1.obj", "2.obj")])
    event = QDropEvent(
        QPointF(300, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
    assert settle(window, 60)
    assert [s.name for s in window.document.state.sources] == ["0", "1", "2"]
    assert str(tmp_path / "2.obj") in window.settings.recent
    rows = [
        b
        for b in window.panel.bench_card.findChildren(QPushButton)
        if b.objectName() in ("row", "chosen") and not b.isHidden()
    ]
    assert len(rows) == 4
    rows[0].click()  # chooses …
    assert settle(window, 30)
    assert window.document.state.chosen_source.name == "0" and window.document.state.sources[0].visible
    rows = [
        b
        for b in window.panel.bench_card.findChildren(QPushButton)
        if b.objectName() in ("row", "chosen") and not b.isHidden()
    ]
    rows[0].click()  # … and then hides
    assert not window.document.state.sources[0].visible


def test_sources_are_renamed_joined_and_removed(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    with_source(window, icosphere(2), "ball")
    with_source(window, triangles(cube()).with_points(cube().points + 3), "ball")
    assert [s.name for s in window.document.state.sources] == ["ball", "ball 2"]
    both = window.document.state.source
    assert both is not None and both.mesh.n_faces == 332 and both is window.document.state.source
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("box", True))
    do(window, "rename-source")
    assert window.document.state.chosen_source.name == "box"
    do(window, "join-sources")
    assert len(window.document.state.sources) == 1 and source(window).n_faces == 332
    assert len(window.form.scene.base) == 1
    do(window, "remove-source")
    assert not window.document.state.sources and not window.form.scene.base
    window.run(window.commands["undo"])
    window.run(window.commands["undo"])
    assert len(window.document.state.sources) == 2 and len(window.form.scene.base) == 2
    with pytest.raises(JacketError):
        sources_steps.source_of(window.document, 999)


def test_checks_light_their_offenders_one_after_another(window: Window) -> None:
    ball = icosphere(4)
    z = ball.points[ball.triangle_points][:, :, 2]
    with_source(
        window,
        PolyMesh.from_faces(ball.points, ball.triangle_points[~((z > 0.95).all(axis=1) | (z < -0.9).all(axis=1))]),
    )
    holes = next(c for c in window.strip.checks if c.id == "holes")
    counts = []
    for _ in range(3):
        window.checking.show(holes, window._frame_places)
        settle(window, 30)
        counts.append(len(window.program.lit))
    assert counts[0] == counts[1] + counts[2] and "u round" in window.strip.hint.text()
    for check in window.strip.checks:
        window.checking.show(check, window._frame_places)
        assert settle(window, 30)


# ---- a newer file --------------------------------------------------------------------------------------


def test_a_newer_file_is_offered_and_the_jacket_refitted(window: Window, tmp_path: Path, qtbot) -> None:  # type: ignore[no-untyped-def]
    ring = triangles(torus(80, 40))
    path = tmp_path / "ring.ply"
    write_mesh(ring, path)
    window.filing.open_path(path)
    assert settle(window, 30)
    put(window.program, factor=2.0)
    do(window, "scale-factor")
    jacket = torus(24, 12)
    jacket = jacket.with_points(jacket.points * 2).with_uv(np.random.default_rng(0).random((jacket.n_corners, 2)))
    window.document.edit_jacket("draw", jacket)
    assert not window.panel.newer_card.isVisible()
    swollen = ring.points.copy()
    swollen[:, 2] *= 1.3
    write_mesh(ring.with_points(swollen), path)
    os.utime(path, ns=(1, window.document.state.sources[0].stamp[0] + 10**9))
    qtbot.waitUntil(lambda: window.panel.newer_card.isVisible(), timeout=15_000)
    button = next(b for b in window.panel.newer_card.findChildren(QPushButton) if b.objectName() == "main")
    button.click()
    assert settle(window, 60) and not window.panel.newer_card.isVisible()
    state = window.document.state
    new, refitted = state.sources[0].mesh, window.document.require_jacket().mesh
    assert np.allclose(new.points, swollen * 2) and np.array_equal(refitted.corners, jacket.corners)
    assert np.array_equal(refitted.uv, jacket.uv)
    assert refitted.points[:, 2].max() == pytest.approx(2 * 1.3 * 0.7, abs=0.02)
    assert window.display.is_on("moved") and refitted.point_data["moved"].max() > 1
    assert window.document.last_step == "take the new ring"
    window.show_stage("topology")
    settle(window, 30)
    assert "refitted-badly" in {c.id for c in window.strip.checks}
    save_project(window.document.state, tmp_path / "p.jacket")
    assert np.array_equal(
        load_project(tmp_path / "p.jacket").jackets[0].mesh.point_data["moved"], refitted.point_data["moved"]
    )
    do(window, "forget-moves")
    assert "moved" not in window.document.require_jacket().mesh.point_data
    window.document.undo()
    window.document.undo()
    assert np.allclose(window.document.state.sources[0].mesh.points, ring.points * 2)


def test_a_newer_file_can_be_left(window: Window, tmp_path: Path, qtbot) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "ball.obj"
    write_mesh(icosphere(2), path)
    window.filing.open_path(path)
    assert settle(window, 30)
    write_mesh(icosphere(3), path)
    qtbot.waitUntil(lambda: window.panel.newer_card.isVisible(), timeout=15_000)
    next(b for b in window.panel.newer_card.findChildren(QPushButton) if b.objectName() == "").click()
    assert not window.panel.newer_card.isVisible() and window.watching.changed() is None
    do(window, "take-new-file")  # asked for by hand it is taken all the same
    assert source(window).n_faces == 1280


def test_a_source_without_a_file_has_no_newer_one(window: Window) -> None:
    with_source(window, icosphere(1))
    do(window, "take-new-file")
    assert "came from no file" in window.strip.hint.text()


# ---- heavy sources -------------------------------------------------------------------------------------


def test_a_heavy_source_is_seen_before_it_can_be_picked(window: Window, tmp_path: Path, qtbot) -> None:  # type: ignore[no-untyped-def]
    write_mesh(icosphere(7), tmp_path / "heavy.ply")  # 327,680 triangles
    start, later = window.looking.preparer.start, []
    window.looking.preparer.start = lambda *job: later.append(job)  # type: ignore[method-assign]
    window.filing.open_path(tmp_path / "heavy.ply")
    qtbot.waitUntil(lambda: len(window.document.state.sources) == 1, timeout=60_000)
    assert window.form.scene.base[0].triangles <= 60_000 and not window.form.ready()
    window.form.act(lambda: pytest.fail("a tool was asked before the source could be picked"))
    window.looking.preparer.start = start  # type: ignore[method-assign]
    window.looking.preparer.start(*later[0])
    assert settle(window, 120)
    assert window.form.scene.base[0].triangles == 327_680 and window.form.ready()
    assert window.form.scene.lights[0][0].triangles <= 60_000
    mesh = source(window)
    do(window, "to-ground")
    assert source(window) is not mesh and source(window).points[:, 1].min() == 0
    window.run(window.commands["undo"])
    assert source(window) is mesh and settle(window, 60)


# ---- the command line ----------------------------------------------------------------------------------


def run(capsys, *words: str) -> tuple[int, str]:  # type: ignore[no-untyped-def]
    code = main([*map(str, words)])
    out = capsys.readouterr()
    return code, out.out + out.err


def test_inspect_reports_everything_as_json(tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    write_mesh(scan(), tmp_path / "scan.ply")
    code, text = run(capsys, "inspect", tmp_path / "scan.ply", "--json", "--crossings", "--mirror")
    report = json.loads(text)
    assert code == 0 and report["health"]["duplicate_faces"] == 4 and report["health"]["parts"] == 2
    assert len(report["health"]["border_perimeters"]) == report["health"]["borders"]
    assert set(report["mirror"]) == {"x", "y", "z", "best"} and "self_intersections" in report
    assert {c["id"] for c in report["checks"]} >= {"holes", "ties", "winding", "inside-out", "spikes", "density"}
    assert run(capsys, "inspect", tmp_path / "scan.ply")[1].count("\n") > 12


def test_prepare_mends_and_places(tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    write_mesh(scan(), tmp_path / "scan.ply")
    code, text = run(capsys, "prepare", tmp_path / "scan.ply", tmp_path / "out.obj", "--mend", "--keep", "1", "--close-holes", "all",
                     "--unit", "centimetres", "--up", "z", "--ground", "--centre", "--report", tmp_path / "r.json")  # fmt: skip
    assert code == 0, text
    out, report = read_mesh(tmp_path / "out.obj"), json.loads((tmp_path / "r.json").read_text())
    health = examine(out)
    assert health.sound and health.volume == pytest.approx(4 / 3 * np.pi * 1e-6, rel=0.02)
    assert (
        out.points[:, 1].min() == pytest.approx(0, abs=1e-9)
        and report["after"]["sound"]
        and not report["before"]["sound"]
    )
    code, text = run(capsys, "prepare", tmp_path / "scan.ply", tmp_path / "few.ply", "--mend", "--weld", "0", "--smooth", "2", "--reduce", "800",
                     "--scale", "3", "--stand-flat", "--mirror-to-x")  # fmt: skip
    assert code in (0, 2), text  # a ball has no flat part: then it is said
    assert "no flat part" in text or read_mesh(tmp_path / "few.ply").n_faces <= 820
    for words, said in (
        (["--close-holes", "wide"], "no sense"),
        (["--keep", "0"], "--keep: 0 is out of range"),
        (["--scale", "-1"], "--scale: -1 is out of range"),
    ):
        code, text = run(capsys, "prepare", tmp_path / "scan.ply", tmp_path / "x.ply", *words)
        assert code == 2 and said in text.lower() and not (tmp_path / "x.ply").exists()


def test_refit_of_meshes_and_projects(tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    ring, jacket = triangles(torus(80, 40)), torus(24, 12)
    write_mesh(jacket, tmp_path / "jacket.obj")
    write_mesh(ring, tmp_path / "old.ply")
    write_mesh(ring.with_points(ring.points * [1.2, 1.2, 1]), tmp_path / "new.ply")
    code, text = run(capsys, "refit", tmp_path / "jacket.obj", tmp_path / "new.ply", tmp_path / "out.obj", "--old", tmp_path / "old.ply",
                     "--report", tmp_path / "r.json")  # fmt: skip
    assert code == 0, text
    out = read_mesh(tmp_path / "out.obj")
    assert (
        np.array_equal(out.corners, jacket.corners) and np.abs(out.points - jacket.points * [1.2, 1.2, 1]).max() < 0.06
    )
    report = json.loads((tmp_path / "r.json").read_text())
    assert report["poor"] == [] and report["moved_percent"]["largest"] > 3
    scale = np.diag([2.0, 2, 2, 1])
    state = State((SourceObject(1, "ring", ring.with_points(ring.points * 2), placing=scale),),
                  (JacketObject(2, "j", jacket.with_points(jacket.points * 2)),), active=2, next_id=3)  # fmt: skip
    save_project(state, tmp_path / "p.jacket")
    assert run(capsys, "refit", tmp_path / "p.jacket", tmp_path / "new.ply", tmp_path / "q.jacket")[0] == 0
    after = load_project(tmp_path / "q.jacket")
    assert np.allclose(after.sources[0].mesh.points, read_mesh(tmp_path / "new.ply").points * 2)
    assert after.sources[0].path == str(tmp_path / "new.ply") and after.sources[0].was_placed
    assert after.jackets[0].mesh.points.max() == pytest.approx(2.7 * 1.2 * 2, rel=0.02)
    code, text = run(capsys, "refit", tmp_path / "p.jacket", tmp_path / "new.ply", tmp_path / "q.obj")
    assert code == 2 and "project" in text
