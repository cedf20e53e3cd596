"""The flat view: the sheet, its islands, pixel rulers and names."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from jacket.core.derive import islands_of
from jacket.document.document import Document
from jacket.qt.theme import DAY, Palette, font
from jacket.qt.views.glview import GlView
from jacket.tools.events import Pointer
from jacket.tools.view import FlatCamera

CHIPS = [("checker", "Checker"), ("stretch", "Stretch"), ("names", "Names")]


class FlatView(GlView):
    """The sheet."""

    view_name = "flat"

    def __init__(self, document: Document) -> None:
        super().__init__("Flat view", CHIPS, "#5b5340")
        self.document = document
        self.palette_: Palette = DAY
        self.show_names = True
        self.camera = FlatCamera(np.array([0.5, 0.5]), 300.0)
        self._framed = False
        self.overlay.extra = self._paint_extra

    def project(self, points: Any) -> Any:
        return self.camera.project(points)

    def matrix_eye_rotation(self) -> tuple[Any, Any, Any]:
        return self.camera.matrix, np.array([0.0, 0.0, 10.0]), None

    def pointer(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> Pointer:
        return Pointer(
            at.x(), at.y(), flat=self.camera,
            shift=bool(modifiers & Qt.KeyboardModifier.ShiftModifier),
            ctrl=bool(modifiers & Qt.KeyboardModifier.ControlModifier), pressure=self.pressure,
        )  # fmt: skip

    def sized(self, width: int, height: int) -> None:
        from dataclasses import replace

        self.camera = replace(self.camera, width=width, height=height)
        if not self._framed:
            self.camera = self.camera.framing(np.zeros(2), np.ones(2))

    def drag_camera(self, kind: str, dx: float, dy: float) -> None:
        self._framed = True
        self.camera = self.camera.shifted(dx, dy)

    def near_camera(self, steps: float, at: QPointF) -> None:
        self._framed = True
        self.camera = self.camera.neared(steps, at.x(), at.y())

    def frame_sheet(self) -> None:
        """Show the whole sheet and whatever lies beside it."""
        low, high = np.zeros(2), np.ones(2)
        jacket = self.document.state.jacket
        uv = jacket.mesh.uv if jacket is not None else None
        if uv is not None and np.isfinite(uv).any():
            low, high = np.minimum(low, np.nanmin(uv, axis=0)), np.maximum(high, np.nanmax(uv, axis=0))
        self.camera = self.camera.framing(low, high)
        self._camera_moved()

    def frame_uv(self, uv: Any) -> None:
        """Show some places of the sheet."""
        uv = uv[np.isfinite(uv).all(axis=1)]
        if len(uv):
            self._framed = True
            self.camera = self.camera.framing(uv.min(axis=0), uv.max(axis=0))
            self._camera_moved()

    # ---- rulers and names ----------------------------------------------------------------------
    def _paint_extra(self, painter: QPainter) -> None:
        self._rulers(painter)
        if self.show_names:
            self._names(painter)

    def _rulers(self, painter: QPainter) -> None:
        size = self.document.state.sheet.size
        painter.setFont(font(10))
        painter.setPen(QColor(self.palette_.soft))
        low, high = self.camera.project(np.array([[0.0, 0.0], [1.0, 1.0]]))
        steps = 4 if high[0] - low[0] > 220 else 2
        for k in range(steps + 1):
            x = low[0] + (high[0] - low[0]) * k / steps
            text = f"{size * k // steps}" + (" px" if k == steps else "")
            painter.drawText(QRectF(x - 34, low[1] + 4, 68, 14), Qt.AlignmentFlag.AlignCenter, text)

    def _names(self, painter: QPainter) -> None:
        jacket = self.document.state.jacket
        if jacket is None or jacket.mesh.uv is None or not np.isfinite(jacket.mesh.uv).any():
            return
        islands = islands_of(jacket.mesh, self.document.state.sheets)
        boxes = islands.boxes
        painter.setFont(font(10, bold=True))
        for k in range(islands.count):
            if not np.isfinite(boxes[k]).all():
                continue
            a, b = self.camera.project(np.array([boxes[k, :2], boxes[k, 2:]]))
            if b[0] - a[0] < 34 or a[1] - b[1] < 24:
                continue
            x, y = (a + b) / 2
            text = f"Island {k + 1}"
            width = painter.fontMetrics().horizontalAdvance(text) + 12
            if width > b[0] - a[0]:
                text, width = f"{k + 1}", 22
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(self.palette_.card))
            painter.drawRect(QRectF(x - width / 2, y - 9, width, 18))
            painter.setPen(QColor(self.palette_.ink))
            painter.drawText(QRectF(x - width / 2, y - 9, width, 18), Qt.AlignmentFlag.AlignCenter, text)
