"""A drag that is not where the pointer is goes on by itself, in the real window."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from jacket.core.derive import islands_of
from jacket.core.flatten.overlap import flipped_faces
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.uv.projections import projected
from jacket.core.uv.sheets import Sheet
from jacket.document.document import Document
from jacket.document.state import JacketObject, State
from jacket.qt.app import make_app, settle
from jacket.qt.window import Window
from jacket.settings import Settings
from tests.conftest import gone, icosphere


def test_what_follows_a_carried_point_comes_to_rest_while_the_pointer_does(qtbot, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    # Every island is dealt with as a large one is: it waits for its factorisation on another thread.
    monkeypatch.setattr("jacket.core.flatten.carrying.SHARED", 1)
    make_app(["test"])
    ball = split_to_quads(icosphere(3))
    ball = projected(ball, np.ones(ball.n_faces, bool), "box", Sheet())
    document = Document(State((), (JacketObject(1, "ball", ball),), active=1, next_id=2))
    window = Window(document, Settings())
    window.show()
    qtbot.waitExposed(window)
    window.show_stage("flatten")
    window.take_tool("carry")
    window.frame(True)
    assert settle(window, 60)
    label, places = islands_of(ball, document.state.sheets).labels, ball.uv.reshape(-1, 4, 2).mean(axis=1)
    middles = np.array([(own := np.flatnonzero(label == k))[np.argmin(np.linalg.norm(places[own] - places[own].mean(axis=0), axis=1))] for k in range(6)])
    document.hold("faces", middles)
    assert settle(window, 60)
    flat, left, none = window.flat, Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
    x, y = flat.project(places[middles[2]][None])[0]

    def mouse(kind: QEvent.Type, dx: float, button: Qt.MouseButton, held: Qt.MouseButton) -> None:
        at = QPointF(float(x) + dx, float(y))
        QApplication.sendEvent(flat, QMouseEvent(kind, at, flat.mapToGlobal(at), button, held, Qt.KeyboardModifier.NoModifier))

    mouse(QEvent.Type.MouseButtonPress, 0, left, left)
    mouse(QEvent.Type.MouseMove, 4, none, left)
    tool = window.program.tool
    assert tool.busy and tool.lags, "the first island alone had a turn"
    first = document.require_jacket().mesh.uv
    qtbot.waitUntil(lambda: not tool.lags, timeout=20_000)
    rested = document.require_jacket().mesh.uv
    moved = np.abs(rested - ball.uv).reshape(-1, 4, 2).max(axis=(1, 2)) > 1e-7
    assert not np.array_equal(first, rested) and all(moved[label == k].mean() > 0.9 for k in range(6))
    shift = (rested - ball.uv).reshape(-1, 4, 2)[middles]
    assert np.allclose(shift, shift[0, 0], rtol=0, atol=1e-9) and shift[0, 0, 0] > 0
    mouse(QEvent.Type.MouseButtonRelease, 4, left, none)
    assert not document.in_gesture and np.array_equal(document.require_jacket().mesh.uv, rested), "letting go changes nothing more"
    assert len(flipped_faces(document.require_jacket().mesh, rested)) == 0
    document.undo()
    assert np.array_equal(document.require_jacket().mesh.uv, ball.uv)
    gone(window)
