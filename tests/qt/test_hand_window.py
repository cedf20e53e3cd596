"""The hand tools in the real window: mouse, pen, keys, cards."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QPointingDevice, QTabletEvent
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QMessageBox, QPushButton

from jacket.core.fit.lifted import lifted_points
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.qt.app import make_app, settle
from jacket.qt.cards.base import ShowingButton
from jacket.qt.fields import NumberField
from jacket.qt.menus import object_menu
from jacket.qt.window import Window
from jacket.settings import Settings
from tests.conftest import gone, icosphere
from tests.hands import document_over, tube
from tests.host import put, toggle
from tests.qt.test_window import Hand


def shown(document: Document, qtbot) -> Window:  # type: ignore[no-untyped-def]
    make_app(["test"])
    window = Window(document, Settings())
    window.show()
    qtbot.waitExposed(window)
    window.frame(True)
    assert settle(window, 120)
    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
    return window


@pytest.fixture
def ball(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    window = shown(document_over(icosphere(5)), qtbot)
    yield window
    gone(window)


@pytest.fixture
def pipe(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    window = shown(document_over(tube()), qtbot)
    yield window
    gone(window)


def mesh_of(window: Window) -> PolyMesh:
    return window.document.require_jacket().mesh


def spot_at(window: Window, x: float, y: float) -> QPoint:
    """A place of the form view by shares of its size from its middle, 1 at the nearer edge."""
    half = min(window.form.width(), window.form.height()) / 2
    return QPoint(round(window.form.width() / 2 + x * half), round(window.form.height() / 2 - y * half))


def lines_drawn(window: Window) -> int:
    """How many bright pixels the overlay shows: the ghost is really there."""
    QApplication.processEvents()
    picture = window.form.overlay.grab().toImage()
    bits = np.frombuffer(picture.constBits(), np.uint8).reshape(picture.height(), -1, 4)
    return int((bits[..., :3].min(axis=2) > 230).sum())


def test_weave_by_mouse_and_enter(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = Hand(qtbot, ball)
    hand.key(Qt.Key.Key_W)
    assert ball.tool.id == "weave"
    for t in (-0.2, 0.0, 0.2):
        hand.drag(spot_at(ball, -0.3, t), spot_at(ball, 0.3, t))
        hand.drag(spot_at(ball, t, -0.3), spot_at(ball, t, 0.3))
    hand.hover(spot_at(ball, 0.02, 0.02))
    assert ball.tool.ghost.what == "Weave 4 quads" and lines_drawn(ball) > 200
    hand.key(Qt.Key.Key_Return)
    assert mesh_of(ball).n_faces == 4
    hand.drag(spot_at(ball, -0.3, 0.3), spot_at(ball, 0.3, 0.32))
    hand.key(Qt.Key.Key_Escape)
    assert not ball.tool.pending and mesh_of(ball).n_faces == 4
    ball.run(ball.commands["undo"])
    assert mesh_of(ball).n_faces == 0


def test_ladder_and_its_width_by_the_wheel(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = Hand(qtbot, ball)
    ball.take_tool("ladder")
    field = next(f for f in ball.panel.tool_card.findChildren(NumberField) if f.accessibleName() == "Width")
    field.setText("2*22")
    field.editingFinished.emit()
    assert ball.tool.width == 44
    hand.drag(spot_at(ball, -0.5, 0.1), spot_at(ball, 0.5, 0.0))
    mesh = mesh_of(ball)
    assert mesh.n_faces >= 5 and mesh.is_quads
    hand.hover(hand.at(mesh.points[mesh.topology.edge_points[mesh.topology.border_edges[0]]].mean(axis=0)))
    assert ball.tool.ghost.what in ("Begin with this edge", "A strip 44 px wide")


def test_sleeve_rows_darn_and_bridge_on_a_tube(pipe: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = Hand(qtbot, pipe)
    pipe.take_tool("sleeve")
    for y in (-0.5, 0.3):
        hand.drag(spot_at(pipe, -0.6, y), spot_at(pipe, 0.6, y))
    assert len(pipe.tool.rings) == 2
    hand.hover(spot_at(pipe, 0.0, 0.9))
    hand.key(Qt.Key.Key_Return)
    mesh = mesh_of(pipe)
    assert mesh.is_quads and len(mesh.topology.border_loops) == 2
    pipe.take_tool("rows")
    pipe.tool.set_option("count", 2)
    before = mesh.n_faces
    upright = [e for e in range(mesh.topology.n_edges) if mesh.topology.edge_uses[e] == 2
               and abs(np.diff(mesh.points[mesh.topology.edge_points[e], 1])[0]) > 0.05]  # fmt: skip
    middles = mesh.points[mesh.topology.edge_points[upright]].mean(axis=1)
    away = np.linalg.norm(middles - pipe.form.camera.eye, axis=1)
    hand.click(hand.at(middles[np.argmin(away)]))
    assert mesh_of(pipe).n_faces > before and mesh_of(pipe).is_quads
    assert pipe.document.last_step == "insert loops"


def test_the_pen_presses_softly(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    view = ball.form
    for kind, pressure, buttons in ((QEvent.Type.TabletPress, 0.3, Qt.MouseButton.LeftButton),
                                    (QEvent.Type.TabletRelease, 0.0, Qt.MouseButton.NoButton)):  # fmt: skip
        event = QTabletEvent(kind, QPointingDevice.primaryPointingDevice(), QPointF(100, 100), QPointF(100, 100), pressure,
                             0, 0, 0, 0, 0, Qt.KeyboardModifier.NoModifier, Qt.MouseButton.LeftButton, buttons)  # fmt: skip
        view.tabletEvent(event)
        got = view.pointer(QPointF(100, 100), Qt.KeyboardModifier.NoModifier).pressure
        assert got == pytest.approx(0.3 if kind == QEvent.Type.TabletPress else 1.0)


def button(window: Window, text: str) -> QPushButton:
    QApplication.processEvents()  # what was just put on a card is shown then
    return next(
        b
        for b in window.panel.findChildren(QPushButton)
        if text in (b.text(), b.accessibleName()) and b.isVisibleTo(window.panel)
    )


def woven(window: Window, qtbot) -> Hand:  # type: ignore[no-untyped-def]
    hand = Hand(qtbot, window)
    window.take_tool("weave")
    for t in (-0.36, -0.12, 0.12, 0.36):
        hand.drag(spot_at(window, -0.44, t), spot_at(window, 0.44, t))
        hand.drag(spot_at(window, t, -0.44), spot_at(window, t, 0.44))
    hand.key(Qt.Key.Key_Return)
    assert mesh_of(window).n_faces == 9
    return hand


def test_hold_by_box_tidy_with_preview_move_by_numbers_and_lift(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = woven(ball, qtbot)
    hand.key(Qt.Key.Key_T)
    assert ball.tool.id == "tidy"
    hand.drag(spot_at(ball, -0.42, -0.42), spot_at(ball, 0.42, 0.05))
    assert len(ball.document.state.held) >= 3
    flatten = button(ball, "Flatten")
    assert isinstance(flatten, ShowingButton)
    flatten.pointed.emit(True)
    assert ball.tool.ghost.what == "Flatten" and lines_drawn(ball) > 100
    flatten.pointed.emit(False)
    flatten.click()
    assert ball.document.last_step == "flatten points" and lifted_points(mesh_of(ball)).any()
    ball.take_tool("lift")
    button(ball, "Settle all lifted points").click()
    assert not lifted_points(mesh_of(ball)).any()
    ball.take_tool("move")
    before = mesh_of(ball).points.copy()
    field = next(f for f in ball.panel.tool_card.findChildren(NumberField) if f.accessibleName() == "move X")
    field.setText("0.02")
    field.editingFinished.emit()
    assert ball.document.last_step == "move by numbers" and field.value == 0
    assert not np.array_equal(mesh_of(ball).points, before)
    hand.hover(hand.at(ball.tool.pivot()))
    assert ball.tool.ghost.what.startswith("Move") and lines_drawn(ball) > 100


def test_choices_are_kept_on_the_card(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = woven(ball, qtbot)
    ball.take_tool("hold")
    hand.click(spot_at(ball, 0.0, 0.0))
    ball.ask_text = lambda *_: "middle"  # type: ignore[method-assign]
    button(ball, "Keep the choice…").click()
    row = button(ball, "middle")
    button(ball, "Hold more around").click()
    assert len(ball.document.state.held) == 9
    row.click()
    assert len(ball.document.state.held) == 1
    qtbot.wait(10)
    next(b for b in ball.panel.findChildren(QPushButton) if b.accessibleName() == "Forget middle").click()
    assert not any(b.text() == "middle" and b.isVisibleTo(ball.panel) for b in ball.panel.findChildren(QPushButton))


def test_layers_on_the_bench(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = woven(ball, qtbot)
    ball.take_tool("hold")
    hand.click(spot_at(ball, 0.0, 0.0))
    button(ball, "Split what is held into a layer").click()
    state = ball.document.state
    assert [j.mesh.n_faces for j in state.jackets] == [8, 1] and state.active == state.jackets[1].id
    QApplication.processEvents()
    rows = [b for b in ball.panel.bench_card.findChildren(QPushButton) if b.isVisibleTo(ball.panel)]
    assert len(rows) == 3
    rows[1].click()
    assert ball.document.state.active == state.jackets[0].id
    object_menu(ball, ball.program, state.jackets[0].id, QPoint(5, 5))
    button(ball, "Lock or unlock the layer").click()
    ball.take_tool("unpick")
    hand.click(spot_at(ball, 0.3, 0.3))
    assert "locked" in ball.strip.hint.text() and ball.document.require_jacket().mesh.n_faces == 8


def test_what_is_shown_can_be_chosen(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    woven(ball, qtbot)
    ball.take_tool("draft")

    def picture() -> bytes:
        settle(ball, 30)
        image = ball.form.grabFramebuffer()
        return bytes(image.constBits())

    seen = {"plain": picture()}
    boxes = {c.accessibleName(): c for c in ball.panel.stage_cards[2].findChildren(QCheckBox)}  # type: ignore[union-attr]
    for name in ("Seen through the source", "Faces", "What is not covered"):
        boxes = {c.accessibleName(): c for c in ball.panel.stage_cards[2].findChildren(QCheckBox)}  # type: ignore[union-attr]
        boxes[name].click()
        seen[name] = picture()
        next(c for c in ball.panel.stage_cards[2].findChildren(QCheckBox)  # type: ignore[union-attr]
             if c.accessibleName() == name and c.isVisibleTo(ball.panel)).click()  # fmt: skip
        assert picture() == seen["plain"], name
    smooth = next(c for c in ball.panel.stage_cards[2].findChildren(QComboBox) if c.accessibleName() == "Smoothed")  # type: ignore[union-attr]
    smooth.setCurrentIndex(2)
    smooth.activated.emit(2)
    seen["smooth"] = picture()
    ball.program.show(replace(ball.display, smooth=0))
    ball.program.show(replace(ball.display, push=3.0))
    seen["pushed"] = picture()
    assert len(set(seen.values())) == 6
    ball.program.show(replace(ball.display, push=0.0))
    toggle(ball.program, "outline")
    settle(ball, 30)
    ball.form.overlay.grab()
    found = ball.outlining.found
    assert found is not None and found.beyond.sum() > 10_000 and 0.5 < found.share < 1.0


def test_guides_paint_and_trials_side_by_side(ball: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = Hand(qtbot, ball)
    hand.key(Qt.Key.Key_Q)
    assert ball.tool.id == "guide"
    for x, y in ((-0.3, 0.1), (0.0, 0.25), (0.3, 0.1)):
        hand.click(spot_at(ball, x, y))
    hand.key(Qt.Key.Key_Return)
    assert len(ball.document.state.guides) == 1
    plain = len(ball.form.scene.layers)
    hand.key(Qt.Key.Key_Y)
    hand.drag(spot_at(ball, 0.0, -0.3), spot_at(ball, 0.05, -0.3))
    assert ball.document.state.paint is not None and len(ball.form.scene.layers) == plain + 1
    put(ball.program, quads=300)
    for _ in range(2):
        ball.run(ball.commands["make-trial"])
        assert settle(ball, 120)
        put(ball.program, quads=500)
    assert "carried by edges" in ball.strip.hint.text()
    first, second = ball.document.state.trials
    assert ball.document.state.trial is second
    hand.key(Qt.Key.Key_B)
    assert ball.document.state.trial is first
    QApplication.processEvents()
    row = next(b for b in ball.panel.trial_card.findChildren(QPushButton) if b.accessibleName() == second.name)
    row.click()
    assert ball.document.state.trial is second
    put(ball.program, aim="edge")
    assert any(f.accessibleName() == "Length of edges" for f in ball.panel.stage_card.findChildren(NumberField))
    ball.run(ball.commands["keep-trial"])
    assert mesh_of(ball).points is second.mesh.points and len(ball.document.state.trials) == 2
    ball.run(ball.commands["take-trial"])
    ball.run(ball.commands["drop-trial"])
    assert ball.document.state.trials == ()
    ball.run(ball.commands["clear-guides"])
    ball.run(ball.commands["undo"])
    assert len(ball.document.state.guides) == 1
