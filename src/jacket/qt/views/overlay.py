"""A transparent sheet over a view: ghosts, captions, names, the axes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPen
from PySide6.QtWidgets import QWidget

from jacket.qt.theme import font
from jacket.tools.events import NO_GHOST, Ghost


class Overlay(QWidget):
    """Paints what `project` places; the mouse goes through it."""

    def __init__(self, parent: QWidget, project: Callable[[Any], Any]) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)
        self.project = project
        self.ghost: Ghost = NO_GHOST
        self.pointer = QPointF(-1, -1)
        self.extra: Callable[[QPainter], None] | None = None
        self.spot: Any = None
        """The place in this view's space that lies under the pointer in the other view."""

    def paintEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.extra is not None:
            self.extra(painter)
        self._ghost(painter)
        if self.spot is not None:
            self._spot(painter)
        painter.end()

    def _spot(self, painter: QPainter) -> None:
        x, y = self.project(np.atleast_2d(self.spot))[0, :2]
        if np.isfinite([x, y]).all():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for colour, width in ((QColor(20, 22, 26, 170), 4.0), (QColor("#e3a712"), 2.0)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(QPointF(x, y), 9, 9)
                painter.drawPoint(QPointF(x, y))

    def _ghost(self, painter: QPainter) -> None:
        ghost = self.ghost
        if len(ghost.lines):
            shown = ghost.lines[:: max(1, len(ghost.lines) // 1500)]
            at = self.project(shown.reshape(-1, shown.shape[2]))[:, :2].reshape(-1, 2, 2)
            at = at[np.isfinite(at).all(axis=(1, 2))]
            if len(at) <= 4 and len(at) >= 3 and ghost.what.startswith(("Close", "Add", "Move the face", "Remove")):
                self._wash(painter, at)
            self._dashes(painter, at)
        if len(ghost.screen):
            self._dashes(painter, ghost.screen)
        if len(ghost.threads):
            at = self.project(ghost.threads.reshape(-1, 2))[:, :2].reshape(-1, 2, 2)
            painter.setPen(QPen(QColor("#7c2d3a"), 1.4))
            for (ax, ay), (bx, by) in at.tolist():
                painter.drawLine(QLineF(ax, ay, bx, by))
                painter.drawEllipse(QPointF(ax, ay), 3, 3)
                painter.drawEllipse(QPointF(bx, by), 3, 3)
        if len(ghost.marks):
            at = self.project(ghost.marks)[:, :2]
            for x, y in at[np.isfinite(at).all(axis=1)]:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(20, 22, 26, 170), 3.4))
                painter.drawEllipse(QPointF(x, y), 6, 6)
                painter.setPen(QPen(QColor(255, 255, 255), 1.7))
                painter.drawEllipse(QPointF(x, y), 6, 6)
        if ghost.circle > 0 and self.pointer.x() >= 0:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(20, 22, 26, 120), 3))
            painter.drawEllipse(self.pointer, ghost.circle, ghost.circle)
            painter.setPen(QPen(QColor(255, 255, 255, 230), 1.3, Qt.PenStyle.DashLine))
            painter.drawEllipse(self.pointer, ghost.circle, ghost.circle)
        if ghost.what and self.pointer.x() >= 0:
            self._caption(painter, ghost)

    @staticmethod
    def _wash(painter: QPainter, at: Any) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(255, 255, 255, 46))
        painter.drawPolygon([QPointF(x, y) for x, y in at[:, 0]])

    def _dashes(self, painter: QPainter, at: Any) -> None:
        inside = (at.max(axis=1) > 0).all(axis=1) & (at.min(axis=1) < [self.width(), self.height()]).all(axis=1)
        at = at[inside]
        # A row that winds over the whole form is shown by every k-th of its pieces, so that it never costs a frame.
        at = at[:: max(1, len(at) // 500)]
        lines = [QLineF(ax, ay, bx, by) for (ax, ay), (bx, by) in at.tolist()]
        if len(lines) > 250:
            # A long row: plain thin lines in one go; dashing thousands of pieces would take a third of a second.
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QPen(QColor(255, 255, 255, 230), 0))
            painter.drawLines(lines)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            return
        for colour, width, style in (
            (QColor(20, 22, 26, 120), 3.2, Qt.PenStyle.SolidLine), (QColor(255, 255, 255), 1.7, Qt.PenStyle.DashLine),
        ):  # fmt: skip
            painter.setPen(QPen(colour, width, style))
            painter.drawLines(lines)

    def _caption(self, painter: QPainter, ghost: Ghost) -> None:
        bold = font(11, bold=True)
        metrics = QFontMetricsF(bold)
        what, how = metrics.horizontalAdvance(ghost.what), metrics.horizontalAdvance(ghost.how)
        width, height = what + how + 30, 22.0
        x = min(self.pointer.x() + 18, self.width() - width - 6)
        y = min(self.pointer.y() + 20, self.height() - height - 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(30, 33, 40, 232))
        painter.drawRoundedRect(QRectF(x, y, width, height), 3, 3)
        painter.setFont(bold)
        painter.setPen(QColor("#fbf9f4"))
        painter.drawText(QRectF(x + 9, y, what + 2, height), Qt.AlignmentFlag.AlignVCenter, ghost.what)
        painter.setPen(QColor("#e3a712"))
        painter.drawText(QRectF(x + 20 + what, y, how + 4, height), Qt.AlignmentFlag.AlignVCenter, ghost.how)


def draw_poles(painter: QPainter, at: Any, valence: Any) -> None:
    """Poles as ink diamonds with their valence; at (N, 2) pixels."""
    painter.setFont(font(9, bold=True))
    for (x, y), count in zip(at.tolist(), valence.tolist(), strict=True):
        painter.setPen(QPen(QColor("#fbf9f4"), 1.0))
        painter.setBrush(QColor("#23272E"))
        painter.drawPolygon([QPointF(x, y - 8), QPointF(x + 8, y), QPointF(x, y + 8), QPointF(x - 8, y)])
        painter.drawText(QRectF(x - 8, y - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, str(count))


def draw_wipe(painter: QPainter, share: float, width: int, height: int) -> None:
    """The line between the light mesh and the dense one, with a knob to take it by."""
    x = share * width
    painter.setPen(QPen(QColor("#fbf9f4"), 1.4))
    painter.drawLine(QPointF(x, 46), QPointF(x, height - 8))
    painter.setBrush(QColor("#fbf9f4"))
    painter.drawEllipse(QPointF(x, height * 0.55), 5.0, 5.0)
    painter.setFont(font(10, bold=True))
    for text, at in (("light", x - 52), ("dense", x + 8)):
        painter.drawText(QRectF(at, height - 26, 44, 16), Qt.AlignmentFlag.AlignRight if text == "light" else Qt.AlignmentFlag.AlignLeft, text)


def draw_halves(painter: QPainter, names: tuple[str, str], width: int, height: int) -> None:
    """A line down the middle, and the name of what is shown on either side of it."""
    painter.setPen(QPen(QColor("#fbf9f4"), 2))
    painter.drawLine(width // 2, 44, width // 2, height - 8)
    painter.setFont(font(9, bold=True))
    for k, name in enumerate(names):
        box = painter.fontMetrics().boundingRect(name).adjusted(-8, -4, 8, 4)
        box.moveTo(width // 2 + (10 if k else -10 - box.width()), 48)
        painter.fillRect(box, QColor(35, 39, 46, 210))
        painter.setPen(QColor("#fbf9f4"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)


def difference_picture(beyond: Any, short: Any) -> QImage:
    """Two masks (H, W) as washes: where only the source shows, and where only the jacket does."""
    picture = np.zeros((*beyond.shape, 4), np.uint8)
    picture[beyond] = (0, 167, 227, 190)
    picture[short] = (151, 99, 165, 200)
    height, width = beyond.shape
    return QImage(picture.tobytes(), width, height, 4 * width, QImage.Format.Format_ARGB32).copy()


def draw_node(painter: QPainter, at: Any, tip: Any, name: str) -> None:
    """A pivot, with no tip, as a small cross in a ring; a socket as a square with a line to where it points, and its name."""
    x, y = float(at[0]), float(at[1])
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in ((QColor(20, 22, 26, 190), 4.0), (QColor("#fbf9f4"), 1.8)):
        painter.setPen(QPen(colour, width))
        if tip is None:
            painter.drawLine(QPointF(x - 9, y), QPointF(x + 9, y))
            painter.drawLine(QPointF(x, y - 9), QPointF(x, y + 9))
            painter.drawEllipse(QPointF(x, y), 5, 5)
        else:
            painter.drawLine(QPointF(x, y), QPointF(float(tip[0]), float(tip[1])))
            painter.drawRect(QRectF(x - 4, y - 4, 8, 8))
    painter.setFont(font(9, bold=True))
    painter.setPen(QColor(20, 22, 26, 220))
    painter.drawText(QPointF(x + 10, y - 6), name)
    painter.setPen(QColor("#fbf9f4"))
    painter.drawText(QPointF(x + 9, y - 7), name)


def draw_axes(painter: QPainter, rotation: Any, height: int) -> None:
    """The three axes in the lower left corner."""
    origin = QPointF(46, height - 44)
    painter.setFont(font(11, bold=True))
    order = np.argsort(rotation.T[:, 2])
    for k in order:
        direction = rotation[:, k]
        tip = QPointF(origin.x() + 28 * direction[0], origin.y() - 28 * direction[1])
        shade = 150 + int(100 * (direction[2] + 1) / 2)
        painter.setPen(QPen(QColor(shade, shade, shade), 1.8))
        painter.drawLine(origin, tip)
        painter.drawText(QRectF(tip.x() - 9 + 9 * direction[0], tip.y() - 9 - 9 * direction[1], 18, 18),
                         Qt.AlignmentFlag.AlignCenter, "XYZ"[k])  # fmt: skip
