"""What both views share: a guarded OpenGL widget, an overlay, display chips, pointer events."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

import moderngl
import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QCursor, QMouseEvent, QTabletEvent, QWheelEvent
from PySide6.QtOpenGLWidgets import QOpenGLWidget
from PySide6.QtWidgets import QApplication

from jacket.commands.display import Display
from jacket.errors import JacketError
from jacket.qt.views.chips import ChipBar
from jacket.qt.views.overlay import Overlay
from jacket.render.renderer import Renderer
from jacket.render.scene import Scene
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Pointer

log = logging.getLogger("jacket")


class GlView(QOpenGLWidget):
    """A view that draws a scene and hands pointer events to a tool.

    Exceptions inside Qt's OpenGL callbacks would end the process without a word, so they are
    caught, logged and reported once through `broke`.
    """

    refused = Signal(str)
    broke = Signal(str)
    menu_wanted = Signal(object)
    chip_toggled = Signal(str)
    acted = Signal()
    ghost_changed = Signal()
    lagged = Signal()
    camera_changed = Signal()
    came_to_rest = Signal()

    def __init__(self, title: str, chips: list[tuple[str, str]], title_colour: str) -> None:
        super().__init__()
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setMinimumSize(240, 200)
        self.renderer: Renderer | None = None
        self.scene = Scene()
        self.tool: Tool | None = None
        self.moving = False
        self.frames = 0
        self.frames_with_source = 0
        self.ready: Callable[[], bool] = lambda: True
        self._failed = False
        self._drag: str = ""
        self._button = Qt.MouseButton.NoButton
        self.pressure = 1.0
        """Of the pen, 0..1; a mouse presses fully."""
        self._last = QPointF()
        self._pressed = QPointF()
        self._hover_event: QMouseEvent | None = None
        self._moved: Pointer | None = None
        self._hover_timer = QTimer(self, interval=16, singleShot=True)
        self._hover_timer.timeout.connect(self._hover_now)
        self._settle = QTimer(self, interval=160, singleShot=True)
        self._settle.timeout.connect(self._settled)
        self._more = QTimer(self, interval=5, singleShot=True)
        self._more.timeout.connect(self.update)
        self.overlay = Overlay(self, self.project)
        self.chip_bar = ChipBar(self, title, chips, title_colour)
        self.chip_bar.toggled.connect(self.chip_toggled.emit)
        self._bar, self.title, self.chips = self.chip_bar, self.chip_bar.title, self.chip_bar.chips

    # ---- for the two views to fill in ----------------------------------------------------------
    def project(self, points: Any) -> Any:
        """Points of the view's space to pixels."""
        raise NotImplementedError

    def matrix_eye_rotation(self) -> tuple[Any, Any, Any]:
        """What the renderer needs of the camera."""
        raise NotImplementedError

    def pointer(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> Pointer:
        """A pointer record for tools."""
        raise NotImplementedError

    def drag_camera(self, kind: str, dx: float, dy: float) -> None:
        """Turn or shift by pixels."""
        raise NotImplementedError

    def near_camera(self, steps: float, at: QPointF) -> None:
        """Nearer at a place."""
        raise NotImplementedError

    def sized(self, width: int, height: int) -> None:
        """Tell the camera its size."""
        raise NotImplementedError

    # ---- chips ---------------------------------------------------------------------------------
    def show_chips(self, display: Display, hidden: tuple[str, ...] = ()) -> None:
        """Set the chips to what is displayed; those in `hidden` have nothing to switch now."""
        self.chip_bar.show(display, hidden)

    # ---- OpenGL --------------------------------------------------------------------------------
    def initializeGL(self) -> None:  # noqa: N802 - Qt's name
        try:
            self.renderer = Renderer(moderngl.create_context())
        except Exception as error:
            self._report(error)

    def resizeEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        # Qt paints at once: the camera has to know its size before.
        self.sized(self.width(), self.height())
        super().resizeEvent(event)
        self.overlay.resize(self.size())
        self._bar.setGeometry(0, 8, self.width(), 30)
        self.chip_bar.fit(self.width())
        self.camera_changed.emit()
        self.overlay.update()

    def paintGL(self) -> None:  # noqa: N802 - Qt's name
        if self.renderer is None:
            return
        try:
            ratio = self.devicePixelRatioF()
            size = (max(int(self.width() * ratio), 1), max(int(self.height() * ratio), 1))
            context = self.renderer.context
            target = context.detect_framebuffer(self.defaultFramebufferObject())
            matrix, eye, rotation = self.matrix_eye_rotation()
            self.renderer.draw(self.scene, matrix, eye, size, target, self.moving, rotation)
            self.frames += 1
            self.frames_with_source += bool(self.scene.base)
            if self.renderer.unfinished:
                # The next piece of a heavy source is drawn once the window has seen to everything else.
                self._more.start()
        except Exception as error:
            self._report(error)

    def _report(self, error: Exception) -> None:
        if not self._failed:
            log.exception("drawing failed")
            self._failed = True
            self.broke.emit(f"Drawing failed: {error}. Jacket needs OpenGL 3.3; see the log.")

    def show_scene(self, scene: Scene) -> None:
        """Draw another scene from now on."""
        self.scene = scene
        self.update()

    def refresh_ghost(self) -> None:
        """Show the tool's present ghost if it belongs to this view."""
        ghost = self.tool.ghost if self.tool is not None else NO_GHOST
        mine = ghost.view == self.view_name
        self.overlay.ghost = ghost if mine else NO_GHOST
        self.overlay.update()
        self.ghost_changed.emit()

    view_name = ""

    @property
    def unfinished(self) -> bool:
        """Whether a source is still to be drawn to its end."""
        return self.renderer is not None and not self.renderer.shows(self.scene, self.matrix_eye_rotation()[0])

    # ---- camera --------------------------------------------------------------------------------
    def _camera_moved(self) -> None:
        self.moving = True
        self._settle.start()
        self.camera_changed.emit()
        self.update()
        self.overlay.update()

    def _settled(self) -> None:
        # Whatever waited for the view to stand still, labels too, is drawn again.
        self.moving = False
        self.came_to_rest.emit()
        self.update()
        self.overlay.update()

    # ---- pointer -------------------------------------------------------------------------------
    def _guarded(self, action: Callable[[], None]) -> None:
        if not self.ready():
            if self._drag == "tool":
                self.refused.emit("The source is still being made ready to be picked; a moment.")
            return
        try:
            action()
        except JacketError as error:
            self.refused.emit(str(error))
        except Exception:
            log.exception("a gesture failed")
            if self.tool is not None:
                self.tool.cancel()
            self.refused.emit("Something unexpected went wrong; the gesture was dropped and the log tells more.")
        if self.tool is not None and self.tool.note and not self.tool.busy:
            self.refused.emit(self.tool.note)
            self.tool.note = ""
        self.refresh_ghost()

    def _event_pointer(self, event: QMouseEvent) -> Pointer:
        return self.pointer(event.position(), event.modifiers())

    def tabletEvent(self, event: QTabletEvent) -> None:  # noqa: N802 - Qt's name
        """Keep the pen's pressure; Qt makes the mouse events that follow out of events left alone."""
        pressed = event.type() != QTabletEvent.Type.TabletRelease and bool(event.buttons())
        self.pressure = float(event.pressure()) if pressed else 1.0
        event.ignore()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802 - Qt's name
        if self._drag:
            return  # another button during a drag: the drag goes on until its own is let go
        self._last = self._pressed = event.position()
        button = self._button = event.button()
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if button == Qt.MouseButton.RightButton or (button == Qt.MouseButton.LeftButton and alt):
            self._drag = "turn"
        elif button == Qt.MouseButton.MiddleButton:
            self._drag = "shift"
        elif button == Qt.MouseButton.LeftButton and self.tool is not None:
            self._drag = "tool"
            tool, pointer = self.tool, self._event_pointer(event)
            self._guarded(lambda: _hover_then_press(tool, pointer))
            self.acted.emit()
            self._follow(tool, pointer)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802 - Qt's name
        at = event.position()
        self.overlay.pointer = at
        if self._drag in ("turn", "shift"):
            self.drag_camera(self._drag, at.x() - self._last.x(), at.y() - self._last.y())
            self._last = at
            self._camera_moved()
            return
        tool = self.tool
        if self._drag == "tool" and tool is not None:
            self._move_tool(tool, self._event_pointer(event))
            return
        # Hovering is looked at once a frame at most, however fast the mouse reports.
        self._hover_event = QMouseEvent(event)
        if not self._hover_timer.isActive():
            self._hover_timer.start()

    def _move_tool(self, tool: Tool, pointer: Pointer) -> None:
        self._guarded(lambda: tool.move(pointer))
        self._follow(tool, pointer)

    def _follow(self, tool: Tool, pointer: Pointer) -> None:
        self._moved = pointer
        if tool.lags:
            self.lagged.emit()

    def move_again(self) -> None:
        """Make the last move of a drag once more, where its tool is not where the pointer is yet."""
        tool = self.tool
        if self._drag == "tool" and tool is not None and tool.lags and self._moved is not None:
            self._move_tool(tool, self._moved)

    @property
    def dragged(self) -> bool:
        """Whether a button is down in this view."""
        return bool(self._drag)

    def drop_drag(self) -> None:
        """Forget the drag that goes on: another document takes the place of the one it was about."""
        self._drag = ""

    def _hover_now(self) -> None:
        event, tool = self._hover_event, self.tool
        if event is not None and tool is not None and not self._drag:
            pointer = self._event_pointer(event)
            self._guarded(lambda: tool.hover(pointer))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802 - Qt's name
        if event.button() != self._button:
            return
        drag, self._drag = self._drag, ""
        tool = self.tool
        if drag == "tool" and tool is not None:
            pointer = self._event_pointer(event)
            self._guarded(lambda: tool.release(pointer))
            self.acted.emit()
        elif (
            drag == "turn"
            and event.button() == Qt.MouseButton.RightButton
            and (event.position() - self._pressed).manhattanLength() < 4
        ):
            self.menu_wanted.emit(self.mapToGlobal(event.position().toPoint()))

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802 - Qt's name
        steps = event.angleDelta().y() / 120.0
        tool = self.tool
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier and tool is not None and tool.brush:
            tool.settings.brush = float(np.clip(tool.settings.brush * 1.12**steps, 6, 400))
            self._guarded(lambda: tool.hover(self.pointer(event.position(), event.modifiers())))
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier and tool is not None:
            taken, pointer = [False], self.pointer(event.position(), event.modifiers())

            def pick() -> None:
                taken[0] = tool.ctrl_wheel(steps, pointer)

            self._guarded(pick)
            if taken[0]:
                return
        if (
            tool is not None
            and not event.modifiers() & Qt.KeyboardModifier.AltModifier
            and (tool.busy or tool.pending or tool.takes_wheel)
        ):
            used = [False]

            def turn() -> None:
                used[0] = tool.wheel(steps)

            self._guarded(turn)
            if used[0]:
                return
        self.near_camera(steps, event.position())
        self._camera_moved()

    def leaveEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        self.overlay.pointer = QPointF(-1, -1)
        self._hover_timer.stop()
        if self.tool is not None and not self._drag:
            self.tool.leave()
            self.refresh_ghost()

    def pointer_now(self) -> Pointer | None:
        """A pointer where the mouse is, or None when it is elsewhere."""
        at = QPointF(self.mapFromGlobal(QCursor.pos()))
        if self.overlay.pointer.x() < 0 and not self.rect().contains(at.toPoint()):
            return None
        use = self.overlay.pointer if self.overlay.pointer.x() >= 0 else at
        return self.pointer(use, QApplication.queryKeyboardModifiers())

    def act(self, action: Callable[[], None]) -> None:
        """Run a tool's action with this view's guard, for keys pressed over it."""
        self._guarded(action)


def _hover_then_press(tool: Tool, pointer: Pointer) -> None:
    """Press on what is under the pointer now, even where no hover came before (touch, pen, tests)."""
    tool.hover(pointer)
    tool.press(pointer)
