"""More of the real window: panel, dialogs, search, keys, drops, night, recent files, the strip."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QLabel, QMenu, QMessageBox, QPushButton

from jacket.core.checks.model import Check
from jacket.errors import JacketError
from jacket.formats.mesh.registry import write_mesh
from jacket.qt.app import make_app, settle
from jacket.qt.fields import NumberField
from jacket.qt.icons import icon
from jacket.qt.theme import NIGHT
from jacket.qt.window import Window
from jacket.qt.work import Worker
from jacket.stages.all import STAGES
from tests.conftest import cube


def labels(widget) -> list[str]:  # type: ignore[no-untyped-def]
    QApplication.processEvents()
    return [x.text() for x in widget.findChildren(QLabel) if x.isVisible()]


def test_every_stage_has_its_tools_and_actions(window: Window) -> None:
    for stage in STAGES:
        window.show_stage(stage.id)
        assert [b.tool for b in window.rail.buttons] == list(stage.tools)
        assert window.panel.buttons, stage
        for tool in stage.tools:
            window.take_tool(tool.id)
            assert window.tool.id == tool.id and window.panel.tool_card.title.text() == tool.label
            shown = labels(window.panel.tool_card)
            assert all(gesture in shown and meaning in shown for gesture, meaning in tool.legend)
            assert not icon(tool.id, "#000000").isNull()


def test_buttons_are_enabled_by_what_fits(window: Window) -> None:
    window.show_stage("seams")
    assert not window.panel.buttons["clear-seams"].isEnabled()
    window.document.hold("edges", [0, 1])
    assert window.panel.buttons["cut-held"].isEnabled()
    window.panel.buttons["cut-held"].click()
    assert window.panel.buttons["clear-seams"].isEnabled()
    assert window.strip.status.text().startswith("Undo: cut what is held")
    assert "2 edges" in labels(window.panel.held_card)


def test_objects_are_hidden_and_shown_from_the_bench(window: Window) -> None:
    rows = [b for b in window.panel.bench_card.findChildren(QPushButton) if b.objectName() in ("row", "chosen")]
    assert len(rows) == 2 and rows[1].objectName() == "chosen"
    rows[0].click()
    assert not window.document.state.sources[0].visible and not window.form.scene.base
    assert "hidden" in labels(window.panel.bench_card) and not window.document.history.done


def test_settings_typed_in_the_panel_reach_the_document(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    window.show_stage("layout")
    field = next(f for f in window.panel.findChildren(NumberField) if f.accessibleName() == "Margin")
    field.setFocus()
    field.setText("2*6 px")
    field.editingFinished.emit()
    assert window.document.state.sheet.margin == 12 and field.text() == "12 px"
    field.setText("nonsense")
    field.editingFinished.emit()
    assert window.document.state.sheet.margin == 12 and field.text() == "12 px"
    field.setText("99999")
    field.editingFinished.emit()
    assert window.document.state.sheet.margin == 12  # a margin that leaves no room is refused with a sentence
    assert "does not suit" in window.strip.hint.text()
    window.run(window.commands["undo"])
    assert window.document.state.sheet.margin == 8


def test_search_by_keyboard(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    window.open_search()
    box = window._search
    qtbot.keyClicks(box.field, "mirror across plane")
    assert box.list.count() == 3
    qtbot.keyClick(box.field, Qt.Key.Key_Down)
    qtbot.keyClick(box.field, Qt.Key.Key_Return)
    assert window.document.state.mirror == "y" and not box.isVisible()
    assert "mirror Y on" in window.strip.status.text()


def test_search_finds_tools_and_puts_them_in_hand(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    window.show_stage("topology")
    window.open_search()
    box = window._search
    qtbot.keyClicks(box.field, "cast")
    assert box.list.item(0).text() == "Cast, a tool of Flatten      J"
    qtbot.keyClick(box.field, Qt.Key.Key_Return)
    assert window.stage == "flatten" and window.tool.id == "cast" and not box.isVisible()
    # A tool of several stages stays where it is.
    next(c for c in window.program.search("hold") if c.id == "tool-hold").run(window.program)
    assert window.stage == "flatten" and window.tool.id == "hold"
    # What a legend says finds it as well.
    assert "tool-cast" in [c.id for c in window.program.search("cylinder")]


def test_keys_choose_tools_and_size_brushes(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    window.show_stage("topology")
    qtbot.keyClick(window, "s")
    assert window.tool.id == "relax"
    size = window.program.tool_settings.brush
    qtbot.keyClick(window, "]")
    assert window.program.tool_settings.brush == pytest.approx(size * 1.15)
    qtbot.keyClick(window, "[")
    assert window.program.tool_settings.brush == pytest.approx(size)
    qtbot.keyClick(window, "d")
    assert window.tool.id == "draft"
    qtbot.keyClick(window, "3")
    assert window.stage == "seams"
    qtbot.keyClick(window, "w")
    assert window.tool.id == "sew"


def test_the_context_menu_has_what_fits(window: Window) -> None:
    window.show_stage("seams")
    window.form.menu_wanted.emit(window.mapToGlobal(QPoint(200, 200)))
    menu = next(m for m in window.findChildren(QMenu) if m.isVisible())
    entries = {a.text(): a.isEnabled() for a in menu.actions()}
    assert entries["Suggest seams"] and not entries["Clear all seams"] and not entries["Cut what is held"]
    menu.close()


def test_dropping_a_file_opens_it(window: Window, tmp_path: Path) -> None:
    write_mesh(cube(), tmp_path / "dropped.ply")

    class Drop:
        def mimeData(self) -> QMimeData:  # noqa: N802 - Qt's name
            data = QMimeData()
            data.setUrls([QUrl.fromLocalFile(str(tmp_path / "dropped.ply"))])
            return data

        def acceptProposedAction(self) -> None:  # noqa: N802 - Qt's name
            pass

    window.dragEnterEvent(Drop())
    window.dropEvent(Drop())
    assert settle(window, 60)
    assert [s.name for s in window.document.state.sources] == ["ball", "dropped"]
    assert window.settings.recent[0].endswith("dropped.ply")


def test_saving_opening_and_recent_files(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = str(tmp_path / "lamp")
    # The dialog puts the ending on by itself, so that it can ask about a file that is there.
    seen: list[QFileDialog] = []
    monkeypatch.setattr(QFileDialog, "exec", lambda dialog: seen.append(dialog) or dialog.selectFile(path) or 1)
    window.document.edit_jacket("change", cube())
    assert window.windowTitle().startswith("unsaved project *")
    window.run(window.commands["save"])
    assert settle(window, 60)
    assert (tmp_path / "lamp.jacket").exists() and not window.document.dirty and seen[0].defaultSuffix() == "jacket"
    assert window.windowTitle() == "lamp – Jacket" and window.top.saved.text() == "saved"
    window.document.edit_jacket("another change", cube())
    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (path + ".jacket", ""))
    window.run(window.commands["open-project"])
    assert settle(window, 60)
    assert not window.document.history.done and not window.document.dirty
    window.show_stage("source")
    links = [b.text() for b in window.panel.stage_card.findChildren(QPushButton) if b.objectName() == "link"]
    assert links == ["Open lamp.jacket"]
    # A folder that cannot be written to: said, and the work is still there and still unsaved.
    window.document.edit_jacket("third", cube())
    window.document.path = "/proc/none/lamp.jacket"
    window.run(window.commands["save"])
    assert settle(window, 60)
    assert "could not be written" in window.strip.hint.text() and window.document.dirty


def test_deliver_asks_for_a_folder_and_says_what_is_missing(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a: str(tmp_path))
    window.run(window.commands["deliver"])
    assert settle(window, 60)
    assert "not met: largest gap" in window.strip.hint.text()  # nothing is unwrapped yet, and it says so
    assert {p.suffix for p in tmp_path.iterdir()} == {".obj", ".mtl", ".glb", ".json", ".html"}


def test_night_recolours_everything(window: Window) -> None:
    day = window.form.scene.ground
    window.run(window.commands["show-night"])
    assert window.colours is NIGHT and window.settings.night and window.form.scene.ground != day
    assert window.top.tickets["source"].colours is NIGHT and NIGHT.panel in QApplication.instance().styleSheet()
    window.run(window.commands["show-night"])
    assert window.form.scene.ground == day


def test_checks_that_do_not_fit_are_counted(window: Window) -> None:
    many = [Check(f"c{k}", f"A rather long check {k}", "12", "wrong" if k == 19 else "good") for k in range(20)]
    window.strip.show_checks(many)
    assert window.strip.chips[0].check.id == "c19"  # the one that is wrong comes first
    last = window.strip.chips[-1].check
    assert last.id == "more" and int(last.value.split()[0]) == 20 - (len(window.strip.chips) - 1)


def test_framing_what_is_held(window: Window) -> None:
    window.document.hold("faces", [1])
    window.frame(False)
    mesh = window.document.require_jacket().mesh
    assert np.allclose(window.form.camera.target, mesh.points[mesh.face(1)].mean(axis=0))
    near = window.form.camera.distance
    window.frame(True)
    assert window.form.camera.distance > near


def test_wheel_nears_at_the_pointer_and_alt_drag_turns(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    form = window.form
    place = form._under(QPointF(form.width() / 2, form.height() / 2))
    assert place is not None
    before = form.camera.project(place)[0]
    form.near_camera(2, QPointF(form.width() / 2, form.height() / 2))
    assert np.allclose(form.camera.project(place)[0][:2], before[:2], atol=1e-6)
    yaw = form.camera.yaw
    alt, left = Qt.KeyboardModifier.AltModifier, Qt.MouseButton.LeftButton
    qtbot.mousePress(form, left, alt, QPoint(100, 100))
    at = QPointF(140, 100)
    form.mouseMoveEvent(
        QMouseEvent(QEvent.Type.MouseMove, at, form.mapToGlobal(at), Qt.MouseButton.NoButton, left, alt)
    )
    qtbot.mouseRelease(form, left, alt, QPoint(140, 100))
    assert form.camera.yaw == pytest.approx(yaw - 40 * 0.4) and form._drag == ""


def test_a_broken_tool_is_dropped_with_a_sentence(window: Window) -> None:
    def fails() -> None:
        raise ZeroDivisionError

    before = window.document.state
    window.form.act(fails)
    assert "Something unexpected" in window.strip.hint.text() and window.document.state is before
    window.form._report(RuntimeError("no context"))
    assert "OpenGL 3.3" in window.strip.hint.text()


def test_workers_run_one_job_and_report_failures(qtbot) -> None:  # type: ignore[no-untyped-def]
    make_app(["test"])
    worker = Worker()
    results: list[object] = []
    worker.start("counting", lambda p: 42, results.append, results.append)
    with pytest.raises(JacketError, match="'counting' is still under way"):
        worker.start("more", lambda p: 1, results.append, results.append)
    qtbot.waitUntil(lambda: not worker.busy)

    def fails(progress) -> None:  # type: ignore[no-untyped-def]
        raise JacketError("This is why.")

    worker.start("failing", fails, results.append, results.append)
    qtbot.waitUntil(lambda: not worker.busy)
    worker.start("breaking", lambda p: 1 / 0, results.append, results.append)
    qtbot.waitUntil(lambda: not worker.busy)
    assert results[0] == 42 and results[1] == "This is why." and "unexpected" in str(results[2])

    def long(progress) -> None:  # type: ignore[no-untyped-def]
        import time

        for k in range(1000):
            time.sleep(0.01)
            progress(k / 1000, "working")

    worker.start("long", long, results.append, results.append)
    worker.stop()
    qtbot.waitUntil(lambda: not worker.busy, timeout=3000)
    assert "Stopped" in str(results[3])
