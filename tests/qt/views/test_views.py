"""The two views in a real window: drags, sizes, chips, folding, where the seams are drawn."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QMenu

from jacket.core.checks.model import Check
from jacket.core.seams.cuts import cut_edges, sew_edges
from jacket.core.uv.islands import Islands
from jacket.document.edits import layers, uvs
from jacket.jobs.pack import pack
from jacket.jobs.unwrap import unwrap
from jacket.qt.app import settle
from jacket.qt.scene.seams import PLAIN, WIDE, stitch_layers, stitch_width
from jacket.qt.theme import DAY
from jacket.qt.window import Window
from tests.conftest import cube

NONE = Qt.KeyboardModifier.NoModifier
LEFT, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton


def run(window: Window, *commands: str) -> None:
    for command in commands:
        window.run(window.commands[command])
        assert settle(window, 60), command


def mouse(view, kind, at, button, buttons) -> None:  # type: ignore[no-untyped-def]
    event = QMouseEvent(kind, at, view.mapToGlobal(at), button, buttons, NONE)
    QApplication.sendEvent(view, event)


def test_another_button_during_a_drag_leaves_the_drag_alone(window: Window) -> None:
    """The right button pressed during a left drag left the gesture open for ever, and the checks with it."""
    run(window, "relax-all")
    window.take_tool("nudge")
    form, document = window.form, window.document
    # The point in the middle of what faces the eye.
    points = document.require_jacket().mesh.points
    eye = form.camera.eye
    x, y = form.camera.project(points[[int(np.argmin(np.linalg.norm(points - eye, axis=1)))]])[0, :2]
    at, to = QPointF(x, y), QPointF(x + 30, y + 10)
    mouse(form, QEvent.Type.MouseButtonPress, at, LEFT, LEFT)
    assert document.in_gesture
    mouse(form, QEvent.Type.MouseMove, to, Qt.MouseButton.NoButton, LEFT)
    yaw = form.camera.yaw
    mouse(form, QEvent.Type.MouseButtonPress, to, RIGHT, LEFT | RIGHT)
    mouse(form, QEvent.Type.MouseMove, at, Qt.MouseButton.NoButton, LEFT | RIGHT)
    mouse(form, QEvent.Type.MouseButtonRelease, at, RIGHT, LEFT)
    assert document.in_gesture and form.camera.yaw == yaw
    mouse(form, QEvent.Type.MouseButtonRelease, to, LEFT, Qt.MouseButton.NoButton)
    assert not document.in_gesture and settle(window, 60)


def test_the_flat_view_opens_with_the_first_flattening_and_folds_again(window: Window) -> None:
    window.show_stage("topology")
    assert window.dock.folded and window.dock.tab.isVisible()
    window.show_stage("flatten")
    run(window, "cut-angle", "flatten")
    assert not window.dock.folded and window.flat.width() >= 240
    window.dock.fold_button.click()
    assert window.dock.folded
    window.show_stage("layout")
    assert not window.dock.folded  # folded in one stage only
    window.show_stage("flatten")
    assert window.dock.folded  # and remembered there
    window.dock.tab.click()
    assert not window.dock.folded
    run(window, "undo", "undo")
    window.show_stage("seams")
    assert window.dock.folded


def test_flattening_lays_out_apart_and_frames(window: Window) -> None:
    window.show_stage("flatten")
    run(window, "cut-angle", "flatten")
    mesh = window.document.require_jacket().mesh
    islands = Islands.of(mesh)
    boxes = islands.boxes
    for i in range(islands.count):
        for j in range(i):
            apart = (boxes[i, :2] >= boxes[j, 2:]).any() or (boxes[j, :2] >= boxes[i, 2:]).any()
            assert apart, (i, j)
    assert islands.pixel_area.max() / islands.pixel_area.min() == pytest.approx(1.0)  # six equal sides of a cube
    at = window.flat.camera.project(mesh.uv)
    assert (at >= 0).all() and (at <= [window.flat.width(), window.flat.height()]).all()


def test_labels_and_islands_stay_together_when_the_view_is_resized(window: Window) -> None:
    """The flat view kept a picture of its old size: squashed islands with the labels elsewhere."""
    window.show_stage("flatten")
    run(window, "cut-angle", "flatten")
    flat = window.flat
    for sizes in ([900, 260], [300, 860]):
        window.dock.splitter.setSizes(sizes)
        assert settle(window, 30)
        assert (flat.camera.width, flat.camera.height) == (flat.width(), flat.height())
        assert flat.overlay.size() == flat.size()
        # What is seen at the middle of an island is an island, where the camera says it is.
        mesh = window.document.require_jacket().mesh
        middle = flat.camera.project(mesh.uv[:4].mean(axis=0))[0]
        picture = flat.grabFramebuffer()
        ratio = picture.width() / flat.width()
        colour = picture.pixelColor(round(middle[0] * ratio), round(middle[1] * ratio))
        sheet = picture.pixelColor(2, picture.height() - 3)
        assert colour != sheet


@pytest.mark.parametrize("width", [240, 420, 620, 980])
def test_chips_that_do_not_fit_are_in_a_menu_and_none_is_cut_off(window: Window, width: int) -> None:
    window.show_stage("flatten")
    run(window, "cut-angle", "flatten")
    for view in (window.form, window.flat):
        bar = view.chip_bar
        bar.setGeometry(0, 8, width, 30)
        bar.fit(width)
        QApplication.processEvents()
        shown = [chip for chip in bar.chips.values() if not chip.isHidden()]
        for chip in (*shown, *([bar.more] if not bar.more.isHidden() else [])):
            assert chip.width() >= chip.sizeHint().width() and chip.geometry().right() <= width
        assert bool(bar.put_away) == (not bar.more.isHidden())


def test_what_is_behind_the_last_chip_can_be_switched(window: Window) -> None:
    bar = window.form.chip_bar
    bar.fit(300)
    assert bar.put_away
    bar.more.click()
    menu = next(m for m in bar.findChildren(QMenu) if m.isVisible())
    assert [a.text() for a in menu.actions()] == [bar.chips[n].text() for n in bar.put_away]
    name = bar.put_away[-1]
    before = window.display.is_on(name)
    menu.actions()[-1].trigger()
    assert window.display.is_on(name) != before
    menu.close()


def test_and_n_more_opens_the_checks_it_stands_for(window: Window) -> None:
    """It lit what had the name of the chip, which was nothing, or the wrong things."""
    window.show_stage("deliver")
    window.resize(900, 700)
    assert settle(window, 60)
    strip = window.strip
    chip = next(c for c in strip.chips if c.check.id == "more")
    chip.click()
    menu = next(m for m in strip.findChildren(QMenu) if m.isVisible())
    assert len(menu.actions()) == len(strip.rest) == len(strip.checks) - (len(strip.chips) - 1)
    seen = []
    strip.check_clicked.disconnect()
    strip.check_clicked.connect(seen.append)
    menu.actions()[1].trigger()
    assert seen == [strip.rest[1]]
    menu.close()


def test_a_click_on_a_check_while_another_is_looked_for_says_so(window: Window) -> None:
    window.show_stage("source")
    assert settle(window, 60)
    wrong = Check("holes", "Holes", "1", "wrong")
    window.checking.show(wrong, lambda _: None)
    window.checking.show(wrong, lambda _: None)  # raised before: one worker, two jobs
    assert "moment" in window.strip.hint.text()
    assert settle(window, 60)


def test_a_small_island_has_a_thin_seam_and_a_tiny_one_a_line() -> None:
    widths = stitch_width(np.array([1000.0, 60.0, 20.0, np.nan]))
    assert widths[0] == WIDE and widths[1] == pytest.approx(3.0) and widths[2] < PLAIN and widths[3] == WIDE
    assert (np.diff(stitch_width(np.linspace(1, 300, 50))) >= 0).all()
    rows = np.zeros((3, 2, 3))
    layers_ = stitch_layers(rows, widths[:3], DAY, 0.0)
    assert [layer.stitch > 0 for layer in layers_] == [False, True, False, False]
    # The widest line over an island 20 pixels wide leaves most of it to be seen.
    assert max(layer.lines[:, 10].max() for layer in layers_[2:]) < 4


def test_an_anchor_of_cut_goes_with_its_layer(window: Window) -> None:
    window.show_stage("seams")
    window.take_tool("cut")
    document, form = window.document, window.form
    points = document.require_jacket().mesh.points
    near = int(np.argmin(np.linalg.norm(points - form.camera.eye, axis=1)))
    spot = QPointF(*form.camera.project(points[[near]])[0, :2])
    mouse(form, QEvent.Type.MouseButtonPress, spot, LEFT, LEFT)
    mouse(form, QEvent.Type.MouseButtonRelease, spot, LEFT, Qt.MouseButton.NoButton)
    assert window.tool.anchor == near
    window.tool.hover(form.pointer(spot, NONE))
    assert window.tool.anchor == near  # still the same layer
    layers.copy_layer(document)
    window.tool.hover(form.pointer(spot, NONE))
    assert window.tool.anchor == -1


def test_sewn_but_apart_is_checked_and_measured(window: Window) -> None:
    """Sewing after flattening left the stretch at 3 and outlines open: what lies apart stays an island of its own and the
    strip says so."""
    document = window.document
    flat = unwrap(cut_edges(cube(), np.arange(12))).mesh
    document.edit_jacket("sew", sew_edges(pack(flat).mesh, np.arange(12)))
    window.show_stage("seams")
    assert settle(window, 60)
    found = {c.label: c for c in window.strip.checks}
    assert any("apart" in label.lower() for label in found), list(found)
    assert Islands.of(document.require_jacket().mesh).count == 6


def test_tabs_choose_among_uv_sets(window: Window) -> None:
    window.show_stage("flatten")
    run(window, "cut-angle", "flatten")
    uvs.copy_set(window.document, "light")
    assert settle(window, 30)
    tabs = window.set_tabs.tabs
    assert [t.text() for t in tabs] == ["uv", "light"] and tabs[1].isChecked()
    tabs[0].click()
    assert window.document.require_jacket().mesh.active_uv == "uv" and window.set_tabs.tabs[0].isChecked()


def test_pixels_of_the_sheet_are_drawn_once_they_are_large(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    """Lines lie where pixels end, one for each across what is seen; from afar there are none."""
    window.show_stage("layout")
    run(window, "flatten")
    flat, sheet = window.flat, window.document.state.sheet

    def drawn() -> list[tuple[float, float]]:
        seen: list[tuple[float, float]] = []
        painter = SimpleNamespace(setRenderHint=lambda *a: None, setPen=lambda *a: None,
                                  drawLines=lambda lines: seen.extend((q.x1(), q.x2()) for q in lines if q.x1() == q.x2()))  # fmt: skip
        flat._pixels(painter, sheet)  # type: ignore[arg-type]
        return seen

    flat.frame_sheet()
    assert settle(window, 30) and drawn() == []
    middle = sheet.origin + 0.5
    flat.frame_uv(np.array([middle - 20 / sheet.width, middle + 20 / sheet.width]))
    assert settle(window, 30)
    low, high = flat.camera.project(np.array([sheet.origin, sheet.origin + 1.0]))[:, 0]
    wide = (high - low) / sheet.width
    places = np.array(sorted(x for x, _ in drawn()))
    assert wide >= 7 and len(places) == pytest.approx(flat.width() / wide, abs=1.5)
    assert np.allclose(np.diff(places), wide)
    steps = (places - low) / wide
    assert np.abs(steps - np.round(steps)).max() < 1e-6
