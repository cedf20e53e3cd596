"""Short sessions of bench/monkey.py, and what it found, each by itself."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from bench.monkey import session
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.edits import view
from jacket.document.state import State
from jacket.formats.project.records import save_project
from jacket.qt.app import make_app, settle
from jacket.qt.checking import Looked
from jacket.qt.views.glview import GlView
from jacket.qt.window import Window
from tests.conftest import cube, grid


@pytest.mark.parametrize("seed", [7])
def test_random_use_of_the_window_finds_nothing(seed: int, tmp_path: Path) -> None:
    """No exception, no unsound mesh, nothing held that is not there, the same picture when drawn anew, a clean end."""
    make_app(["test"])
    monkey = session(seed, 130, tmp_path)
    assert monkey.faults == [] and monkey.steps == 130


def mouse(where: GlView, kind: QEvent.Type, x: float, y: float, held: Qt.MouseButton = Qt.MouseButton.NoButton) -> None:
    button = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else Qt.MouseButton.LeftButton
    at = QPointF(x, y)
    QApplication.sendEvent(where, QMouseEvent(kind, at, where.mapToGlobal(at), button, held, Qt.KeyboardModifier.NoModifier))


def test_a_check_that_is_out_of_date_is_looked_at_again_before_it_is_shown(window: Window) -> None:
    window.show_stage("topology")
    window.document.edit_jacket("triangles", PolyMesh.from_faces(grid(6).points, grid(6).triangle_points))
    assert settle(window, 30)
    check = next(c.check for c in window.strip.chips if c.check.id == "not-quads")
    assert len(check.offenders) == 72
    corner = [[0, 1, 8], [1, 9, 8], [1, 2, 9]]
    window.document.edit_jacket("fewer", PolyMesh.from_faces(grid(6).points, corner))
    window.strip.check_clicked.emit(check)  # on the old chip, before the new one is there
    assert "looked at again" in window.strip.hint.text() and window.document.state.held.parts == ()
    assert settle(window, 30)
    assert window.document.state.held.of("faces").tolist() == [0, 1, 2]


def test_what_was_found_before_an_edit_is_never_shown_after_it(window: Window) -> None:
    window.show_stage("topology")
    assert settle(window, 30)
    told: list[tuple[str, int]] = []

    def looked(found: Looked) -> None:
        value = next(c.value for c in found.checks if c.id == "not-quads")
        told.append((value, int((window.document.require_jacket().mesh.sizes != 4).sum())))

    window.checking.looked.connect(looked)
    for k in (1, 2, 3):
        window.document.edit_jacket("edit", PolyMesh.from_faces(grid(3).points, grid(3).triangle_points[:k]))
        window.checking._start()  # the job runs, and the next edit comes meanwhile
    assert settle(window, 30)
    assert told and all(value == str(now) for value, now in told) and told[-1] == ("3", 3)


def test_a_drag_ends_with_its_project(window: Window, tmp_path: Path) -> None:
    save_project(State(), tmp_path / "other.jacket")
    form = window.form
    window.take_tool("draft")
    x, y = form.width() / 2, form.height() / 2
    mouse(form, QEvent.Type.MouseButtonPress, x, y)
    mouse(form, QEvent.Type.MouseMove, x + 20, y, Qt.MouseButton.LeftButton)
    window.document.mark_saved("")
    window.filing.show_project(State(), str(tmp_path / "other.jacket"))
    assert not form.dragged
    before = window.document.state
    mouse(form, QEvent.Type.MouseMove, x + 60, y, Qt.MouseButton.LeftButton)
    mouse(form, QEvent.Type.MouseButtonRelease, x + 60, y)
    assert window.document.state.jackets == before.jackets and not window.document.dirty and not window.document.in_gesture


def test_the_wheel_has_an_end_both_ways_and_comes_back(window: Window) -> None:
    """The camera stays where its matrix is made of numbers, and the form is in sight again after as many steps."""
    window.frame(True)
    home = window.form.camera
    for steps in (400, -400, -400, 400):
        for _ in range(8):
            window.form.near_camera(steps, QPointF(80, 300))
        assert np.isfinite(window.form.camera.matrix).all() and np.abs(window.form.camera.target).max() < 1e4
        assert 1e-5 < window.form.camera.distance < 1e4
    window.frame(True)
    assert window.form.camera.distance == pytest.approx(home.distance)


def test_the_ghost_follows_camera_keys_and_tools_while_the_pointer_rests(window: Window) -> None:
    form = window.form
    view.set_visible(window.document, 1, False)
    window.frame(True)
    window.take_tool("hold")
    mouse(form, QEvent.Type.MouseMove, form.width() / 2, form.height() / 2)
    assert settle(window, 30)
    QApplication.processEvents()

    def ghost() -> bytes:
        end = 40
        while end and (window.hover_timer.isActive() or form._hover_timer.isActive()):
            QApplication.processEvents()
            end -= 1
            time.sleep(0.01)
        return form.overlay.ghost.lines.tobytes() if len(form.overlay.ghost.lines) else b""

    first = ghost()
    assert first
    form.drag_camera("turn", 200, 0)
    form._camera_moved()
    turned = ghost()
    assert turned and turned != first  # another face is under the pointer now
    window.take_tool("unpick")
    assert form.overlay.ghost.what == "" and ghost() and form.overlay.ghost.what == "Remove the face"
    window.document.edit_jacket("gone", cube().with_points(cube().points + 50))
    assert ghost() == b""
