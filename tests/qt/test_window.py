"""The real window, driven by mouse and keys."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from pathlib import Path

import igl
import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QMessageBox

from jacket.document.edits import sources as sources_steps
from jacket.formats.mesh.registry import read_mesh
from jacket.qt.app import DEMO, make_app, make_window, settle
from jacket.qt.window import Window
from jacket.settings import Settings
from jacket.stages.all import STAGES
from tests.conftest import gone, icosphere
from tests.host import put


@pytest.fixture
def window(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    make_app(["test"])
    made = make_window(Settings())
    yield from _shown(made, qtbot)


@pytest.fixture
def demo(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    make_app(["test"])
    made = make_window(Settings(), DEMO)
    yield from _shown(made, qtbot)


def _shown(made: Window, qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    made.show()
    qtbot.waitExposed(made)
    made.frame(True)
    assert settle(made, 120)
    yield made
    gone(made)


class Hand:
    """A hand on mouse and keys over a view."""

    def __init__(self, qtbot, window: Window) -> None:  # type: ignore[no-untyped-def]
        self.bot, self.window = qtbot, window

    def at(self, place) -> QPoint:  # type: ignore[no-untyped-def]
        """Pixel of a place in space, in the form view."""
        x, y, _ = self.window.form.camera.project(np.asarray(place, float))[0]
        return QPoint(round(float(x)), round(float(y)))

    def hover(self, spot: QPoint, view=None) -> None:  # type: ignore[no-untyped-def]
        view = view or self.window.form
        self.bot.mouseMove(view, spot)
        self.bot.wait(40)

    def click(self, spot: QPoint, view=None, keys=Qt.KeyboardModifier.NoModifier) -> None:  # type: ignore[no-untyped-def]
        view = view or self.window.form
        self.hover(spot, view)
        self.bot.mouseClick(view, Qt.MouseButton.LeftButton, keys, spot)

    def drag(
        self, spot: QPoint, to: QPoint, view=None, button=Qt.MouseButton.LeftButton, keys=Qt.KeyboardModifier.NoModifier
    ) -> None:  # type: ignore[no-untyped-def]
        view = view or self.window.form
        self.hover(spot, view)
        self.bot.mousePress(view, button, keys, spot)
        for k in range(1, 5):
            self.move(view, spot + (to - spot) * k / 4, button, keys)
        self.bot.mouseRelease(view, button, keys, to)

    def move(self, view, spot: QPoint, button, keys) -> None:  # type: ignore[no-untyped-def]
        from PySide6.QtCore import QEvent
        from PySide6.QtGui import QMouseEvent

        event = QMouseEvent(
            QEvent.Type.MouseMove, QPointF(spot), view.mapToGlobal(QPointF(spot)), Qt.MouseButton.NoButton, button, keys
        )
        view.mouseMoveEvent(event)

    def key(self, key) -> None:  # type: ignore[no-untyped-def]
        self.bot.keyClick(self.window, key)


def run(window: Window, command: str, seconds: float = 120) -> None:
    window.run(window.commands[command])
    assert settle(window, seconds), command


def test_a_session_with_the_demo(demo: Window, qtbot, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    """Draw ten quads, relax, cut a loop, flatten, pack, export, undo all: the main job by hand."""
    hand, document = Hand(qtbot, demo), demo.document
    begin = document.state
    mesh = document.require_jacket().mesh
    quads = mesh.n_faces
    # Near to the front of the rim, as one would.
    rim = mesh.points[mesh.topology.border_points]
    nearest = rim[np.argmin(np.linalg.norm(rim - demo.form.camera.eye, axis=1))]
    for _ in range(7):
        demo.form.near_camera(1.0, QPointF(hand.at(nearest)))
    # Ten quads pulled one after another from border edges that face the viewer.
    for _ in range(10):
        before = document.require_jacket().mesh
        edge = _facing_border_edge(demo)
        a, b = before.points[before.topology.edge_points[edge]]
        up = np.array([0.0, 0.09, 0.0])
        hand.drag(hand.at((a + b) / 2), hand.at((a + b) / 2 + up))
        after = document.require_jacket().mesh
        added = after.n_faces - before.n_faces
        assert added == 1, demo.strip.hint.text()
    mesh = document.require_jacket().mesh
    assert mesh.n_faces == quads + 10 and mesh.is_quads
    assert len(mesh.topology.nonmanifold_edges) == 0
    source = document.require_source().mesh
    square, _, _ = igl.point_mesh_squared_distance(
        mesh.points[-10:], source.points, source.triangle_points.astype(np.int64)
    )
    assert np.sqrt(square.max()) < 1e-6 * source.diagonal  # every new point lies on the source, says libigl
    # Relax where the quads were drawn.
    demo.take_tool("relax")
    before = mesh.points
    middle = [demo.form.width() / 2, demo.form.height() / 2]
    off = np.hypot(*(demo.form.camera.project(mesh.points[-10:])[:, :2] - middle).T)
    place = hand.at(mesh.points[-10 + int(np.argmin(off))])
    hand.drag(place, place + QPoint(30, 0))
    assert not np.array_equal(document.require_jacket().mesh.points, before)
    # Cut a loop with Shift.
    demo.show_stage("seams")
    mesh = document.require_jacket().mesh
    edge = _facing_inner_edge(demo)
    middle = mesh.points[mesh.topology.edge_points[edge]].mean(axis=0)
    cuts = len(mesh.cuts)
    hand.click(hand.at(middle), keys=Qt.KeyboardModifier.ShiftModifier)
    assert len(document.require_jacket().mesh.cuts) > cuts + 2
    # Flatten, pack, export.
    demo.show_stage("flatten")
    run(demo, "flatten")
    uv = document.require_jacket().mesh.uv
    assert uv is not None and np.isfinite(uv).all()
    demo.show_stage("layout")
    run(demo, "pack")
    assert document.require_jacket().mesh.uv.min() >= 0 and document.require_jacket().mesh.uv.max() <= 1
    demo.show_stage("deliver")
    demo.filing.deliver_to(tmp_path / "out")
    assert settle(demo, 60)
    names = sorted(p.suffix for p in (tmp_path / "out").iterdir())
    assert names == [".glb", ".html", ".json", ".mtl", ".obj", ".png"]
    back = read_mesh(next((tmp_path / "out").glob("*.obj")))
    assert back.n_faces == document.require_jacket().mesh.n_faces and back.is_quads
    # Undo all: the very same records are back.
    while document.history.done:
        demo.run(demo.commands["undo"])
    assert document.state.jackets == begin.jackets and document.state.sheet == begin.sheet


def _facing(window: Window, edges: np.ndarray) -> int:
    """Of some edges one that faces the viewer, well inside the view and long on screen."""
    from jacket.core.mesh.geometry import point_normals
    from jacket.tools.pick import occluder, visible

    mesh = window.document.require_jacket().mesh
    ends = mesh.topology.edge_points[edges]
    camera = window.form.camera
    middle = mesh.points[ends].mean(axis=1)
    at = camera.project(middle)
    length = np.linalg.norm(
        np.diff(camera.project(mesh.points[ends].reshape(-1, 3))[:, :2].reshape(-1, 2, 2), axis=1)[:, 0], axis=1
    )
    away = camera.eye - middle
    facing = (point_normals(mesh)[ends].mean(axis=1) * away).sum(axis=1) / np.linalg.norm(away, axis=1)
    seen = visible(camera, middle, occluder(window.document.state), 0.01 * mesh.diagonal)
    inside = (at[:, 0] > 60) & (at[:, 0] < camera.width - 60) & (at[:, 1] > 60) & (at[:, 1] < camera.height - 60)
    at_points = camera.project(mesh.points)[:, :2]
    lonely = np.array([np.sort(np.hypot(*(at_points - m).T))[0] > 9.5 for m in at[:, :2]])
    score = np.where(seen & inside & lonely & (facing > 0.5), facing + length / 200, -1)
    assert score.max() > 0
    return int(edges[int(np.argmax(score))])


def _facing_border_edge(window: Window) -> int:
    mesh = window.document.require_jacket().mesh
    border = mesh.topology.border_edges
    ends = mesh.points[mesh.topology.edge_points[border]]
    # The upper rim, where there is source left to cover.
    along = np.abs(ends[:, 1, 1] - ends[:, 0, 1]) / np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    return _facing(window, border[(ends[:, :, 1].mean(axis=1) > 0.95) & (along < 0.5)])


def _facing_inner_edge(window: Window) -> int:
    mesh = window.document.require_jacket().mesh
    topology = mesh.topology
    plain = (topology.edge_uses == 2) & (topology.valence[topology.edge_points] == 4).all(axis=1)
    plain &= ~topology.edge_flags(mesh.cuts)
    return _facing(window, np.flatnonzero(plain))


def test_draft_closes_a_quad_from_four_points(window: Window, qtbot, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    sources_steps.add_source(window.document, "ball", icosphere(5))
    window.frame(True)
    assert settle(window, 60)
    hand = Hand(qtbot, window)
    middle = QPoint(window.form.width() // 2, window.form.height() // 2)
    for dx, dy in ((-40, -40), (40, -40), (40, 40), (-40, 40)):
        hand.click(middle + QPoint(dx, dy), keys=Qt.KeyboardModifier.ControlModifier)
    mesh = window.document.require_jacket().mesh
    assert mesh.n_points == 4 and mesh.n_faces == 0
    assert np.abs(np.linalg.norm(mesh.points, axis=1) - 1).max() < 2e-3  # on the ball's facets
    hand.hover(middle)
    assert window.form.overlay.ghost.what == "Close quad"
    hand.click(middle)
    mesh = window.document.require_jacket().mesh
    assert mesh.n_faces == 1 and mesh.is_quads
    from jacket.core.mesh.geometry import face_normals

    assert face_normals(mesh)[0] @ mesh.points.mean(axis=0) > 0  # wound outward like the source
    # Backspace over the face takes it away again; undo brings it back.
    hand.hover(middle)
    hand.key(Qt.Key.Key_Backspace)
    assert window.document.require_jacket().mesh.n_faces == 0
    window.run(window.commands["undo"])
    assert window.document.require_jacket().mesh.n_faces == 1


def test_mirror_draws_on_both_sides(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    sources_steps.add_source(window.document, "ball", icosphere(5))
    window.frame(True)
    run(window, "mirror-x", 60)
    hand = Hand(qtbot, window)
    hand.click(hand.at([0.4, 0.3, 0.8]), keys=Qt.KeyboardModifier.ControlModifier)
    points = window.document.require_jacket().mesh.points
    assert len(points) == 2 and np.abs(points[0] * [-1, 1, 1] - points[1]).max() < 1e-12
    hand.click(hand.at([0.0, -0.3, 0.954]), keys=Qt.KeyboardModifier.ControlModifier)
    points = window.document.require_jacket().mesh.points
    assert len(points) == 3 and points[2, 0] == 0.0  # near the plane: held on it, once


def test_every_command_is_found_and_every_stage_opens(demo: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    for command in demo.commands:
        if command.available(demo.document.state):
            assert command in demo.commands.search(command.label.strip("…"), demo.document.state)
    for key, stage in zip("123456", STAGES, strict=True):
        qtbot.keyClick(demo, key)
        assert demo.stage == stage.id
        assert settle(demo, 60)
        assert demo.strip.chips, stage
    assert all(ticket.line for ticket in demo.top.tickets.values())


def test_views_really_draw(demo: Window) -> None:
    """The picture has the colours of the palette: the ground and much that is not ground."""
    for view, ground in ((demo.form, "#707b84"), (demo.flat, "#d9cfb8")):
        image = view.grabFramebuffer().convertToFormat(QImage.Format.Format_RGB888)
        bits = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
        pixels = bits[:, : image.width() * 3].reshape(image.height(), image.width(), 3).astype(int)
        wanted = np.array([int(ground[k : k + 2], 16) for k in (1, 3, 5)])
        plain = np.abs(pixels - wanted).max(axis=2) <= 2
        assert 0.2 < plain.mean() < 0.95


def test_held_is_lit_in_both_views(demo: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    demo.show_stage("layout")
    demo.take_tool("hold")
    mesh = demo.document.require_jacket().mesh
    uv = mesh.uv
    hand = Hand(qtbot, demo)
    face = mesh.n_faces // 2
    middle = uv[mesh.starts[face] : mesh.starts[face + 1]].mean(axis=0)
    x, y = demo.flat.camera.project(middle)[0]
    hand.click(QPoint(round(float(x)), round(float(y))), demo.flat)
    held = demo.document.state.held
    assert held.kind == "faces" and held.ids.tolist() == [face]
    assert len(demo.form.scene.layers) > 1 and len(demo.flat.scene.layers) > 1
    demo.take_tool("place")
    before = uv.copy()
    hand.drag(QPoint(round(float(x)), round(float(y))), QPoint(round(float(x)) + 24, round(float(y))), demo.flat)
    after = demo.document.require_jacket().mesh.uv
    from jacket.core.derive import islands_of

    mine = islands_of(mesh).labels[mesh.face_of_corner] == islands_of(mesh).labels[face]
    step = (after - before)[mine]
    assert np.allclose(step, [24 / demo.flat.camera.scale, 0], atol=1e-9) and np.array_equal(
        after[~mine], before[~mine]
    )


def test_a_check_shows_its_offenders_one_after_another(demo: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    poles = next(c for c in demo.strip.chips if c.check.id == "odd-poles")
    qtbot.mouseClick(poles, Qt.MouseButton.LeftButton)
    assert demo.document.state.held.kind == "points"
    assert len(demo.document.state.held) == len(poles.check.offenders) > 2
    demo.checking.show(poles.check, demo._frame_places)
    assert demo.document.state.held.ids.tolist() == [poles.check.offenders[0]]
    demo.checking.show(poles.check, demo._frame_places)
    assert demo.document.state.held.ids.tolist() == [poles.check.offenders[1]]


def test_turning_uses_the_light_copy_and_right_click_opens_a_menu(demo: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    hand = Hand(qtbot, demo)
    yaw = demo.form.camera.yaw
    hand.drag(QPoint(200, 300), QPoint(300, 300), button=Qt.MouseButton.RightButton)
    assert demo.form.camera.yaw != yaw
    assert demo.form.moving
    light, full = demo.form.scene.lights[0][0], demo.form.scene.base[0]
    assert light.triangles <= 60_000 < full.triangles
    qtbot.waitUntil(lambda: not demo.form.moving, timeout=5000)


def test_bad_files_are_refused_and_the_window_stays(demo: Window, tmp_path: Path) -> None:
    state = demo.document.state
    bad = {
        "missing.obj": None, "empty.ply": b"", "garbage.obj": bytes(range(256)) * 20, "cut.stl": b"\0" * 80 + b"\xff\0\0\0" + b"\1" * 60,
        "far.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "nan.obj": b"v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n",
        "none.ply": b"ply\nformat ascii 1.0\nelement vertex 0\nproperty float x\nproperty float y\nproperty float z\nend_header\n",
        "bad.jacket": b"PK\3\4 nonsense", "odd.xyz": b"1 2 3",
    }  # fmt: skip
    for name, data in bad.items():
        if data is not None:
            (tmp_path / name).write_bytes(data)
        demo.filing.open_path(tmp_path / name)
        assert settle(demo, 30)
        text = demo.strip.hint.text()
        assert text.endswith(".") and name.split(".")[0] in text, (name, text)
        assert demo.document.state is state and demo.isVisible()


def test_unsaved_work_asks_before_closing(window: Window, tmp_path: Path) -> None:
    sources_steps.add_source(window.document, "ball", icosphere(2))
    assert window.document.dirty
    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Cancel  # type: ignore[method-assign]
    assert not window.close() and window.isVisible()
    window.document.path = str(tmp_path / "ball.jacket")
    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Save  # type: ignore[method-assign]
    assert window.close()
    from jacket.formats.project.records import load_project

    assert load_project(tmp_path / "ball.jacket").sources[0].name == "ball"


def test_a_trial_is_made_taken_and_undone(window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
    sources_steps.add_source(window.document, "ball", icosphere(4))
    assert settle(window, 60)
    put(window.program, quads=300)
    run(window, "make-trial")
    trial = window.document.state.trials[0]
    assert trial.mesh.is_quads and abs(trial.mesh.n_faces - 300) < 60
    run(window, "take-trial")
    assert window.document.require_jacket().mesh is trial.mesh and not window.document.state.trials
    window.run(window.commands["undo"])
    assert window.document.require_jacket().mesh.n_faces == 0 and len(window.document.state.trials) == 1
    # Stopping leaves everything as it was.
    put(window.program, quads=20_000)
    window.run(window.commands["make-trial"])
    window.worker.stop()
    assert settle(window, 60)
    assert len(window.document.state.trials) == 1
    json.dumps(trial.figures)


def test_qt_binding_keeps_none_alive(demo: Window) -> None:
    """PySide6 6.12.0 dropped a reference to None at every call on Python 3.11, which ends the process after a
    few thousand paints; the pinned version must not."""
    before = sys.getrefcount(None)
    for _ in range(20):
        demo.form.overlay.repaint()
        demo.showing.redraw()
    assert sys.getrefcount(None) > before - 20
