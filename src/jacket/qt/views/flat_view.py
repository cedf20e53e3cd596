"""The flat view: the sheets, their islands, pixel rulers and names."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from jacket.core.derive import islands_of
from jacket.core.layout.pieces import stacked_on
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.tables import bounds, finite_rows
from jacket.core.uv.identity import IslandRecord, island_numbers
from jacket.core.uv.sheets import Sheet
from jacket.document.document import Document
from jacket.document.state import State
from jacket.qt.theme import DAY, Palette, font
from jacket.qt.views.glview import GlView
from jacket.qt.views.packing import PackingPanel
from jacket.tools.events import Pointer
from jacket.tools.view import FlatCamera

CHIPS = [("checker", "Checker"), ("stretch", "Stretch"), ("strokes", "Strokes"), ("density", "Density"), ("names", "Names"), ("hems", "Hems"),
         ("threads", "Threads"), ("alone", "Held alone")]  # fmt: skip
LARGE_PIXEL = 7.0
"""Pixels of the screen from which on a pixel of the sheet is large enough for a grid of them."""


class FlatView(GlView):
    """The sheets side by side."""

    view_name = "flat"

    def __init__(self, document: Document) -> None:
        super().__init__("Flat view", CHIPS, "#5b5340")
        self.document = document
        self.palette_: Palette = DAY
        self.show_names = True
        self.show_gauges = False
        self.beside: list[PolyMesh] = []
        """Other layers that share the sheets."""
        self.shown: State | None = None
        """What is shown in place of the document: the best layout so far while islands are packed."""
        self.camera = FlatCamera(np.array([0.5, 0.5]), 300.0)
        self._framed = False
        self.overlay.extra = self._paint_extra
        self.packing = PackingPanel(self)

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
        self.camera = replace(self.camera, width=width, height=height)
        self.packing.settle()
        if not self._framed:
            self._frame(*self._whole())

    def show_sheets(self) -> None:
        """The sheets changed: a sheet that is not square is as wide as its pixels say."""
        sheet = self.document.state.sheet
        aspect = sheet.width / sheet.height
        if aspect != self.camera.aspect:
            self.camera = replace(self.camera, aspect=aspect)
            self._camera_moved()
        if not self._framed:
            self._frame(*self._whole())

    def drag_camera(self, kind: str, dx: float, dy: float) -> None:
        self._framed = True
        self.camera = self.camera.shifted(dx, dy)

    def near_camera(self, steps: float, at: QPointF) -> None:
        self._framed = True
        self.camera = self.camera.neared(steps, at.x(), at.y())

    def _whole(self) -> tuple[Any, Any]:
        """Low and high corner of all sheets."""
        origins = np.array([s.origin for s in self.document.state.sheets])
        return origins.min(axis=0), origins.max(axis=0) + 1.0

    def _frame(self, low: Any, high: Any) -> None:
        self.camera = self.camera.framing(low, high)
        self._camera_moved()

    def frame_sheet(self) -> None:
        """Show all sheets and whatever lies beside them."""
        low, high = self._whole()
        jacket = self.document.state.jacket
        uv = jacket.mesh.uv if jacket is not None else None
        if uv is not None and np.isfinite(uv).any():
            low, high = np.minimum(low, np.nanmin(uv, axis=0)), np.maximum(high, np.nanmax(uv, axis=0))
        self._frame(low, high)

    def frame_uv(self, uv: Any) -> None:
        """Show some places of the sheet."""
        uv = uv[finite_rows(uv)]
        if len(uv):
            self._framed = True
            self._frame(*bounds(uv))

    # ---- rulers and names ----------------------------------------------------------------------
    def _paint_extra(self, painter: QPainter) -> None:
        sheets = self.document.state.sheets
        for sheet in sheets:
            self._pixels(painter, sheet)
            self._ruler(painter, sheet, len(sheets) > 1)
        if self.show_gauges:
            self._gauges(painter)
        if self.show_names:
            self._names(painter)

    def _pixels(self, painter: QPainter, sheet: Sheet) -> None:
        """The pixels of a sheet as a grid, once they are large enough on the screen."""
        low, high = self.camera.project(np.array([sheet.origin, sheet.origin + 1.0]))
        wide, tall = (high[0] - low[0]) / sheet.width, (low[1] - high[1]) / sheet.height
        if min(wide, tall) < LARGE_PIXEL:
            return
        left, right = max(low[0], 0.0), min(high[0], float(self.width()))
        top, bottom = max(high[1], 0.0), min(low[1], float(self.height()))
        if left >= right or top >= bottom:
            return
        across = low[0] + wide * np.arange(np.ceil((left - low[0]) / wide), np.floor((right - low[0]) / wide) + 1)
        up = high[1] + tall * np.arange(np.ceil((top - high[1]) / tall), np.floor((bottom - high[1]) / tall) + 1)
        line = QColor(self.palette_.ink)
        line.setAlpha(42)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(line, 0))
        painter.drawLines([*(QLineF(x, top, x, bottom) for x in across.tolist()), *(QLineF(left, y, right, y) for y in up.tolist())])
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _ruler(self, painter: QPainter, sheet: Sheet, named: bool) -> None:
        """Pixels along the lower edge of a sheet, and its name and tile above it where there are several."""
        painter.setFont(font(10))
        painter.setPen(QColor(self.palette_.soft))
        low, high = self.camera.project(np.array([sheet.origin, sheet.origin + 1.0]))
        wide = high[0] - low[0]
        steps = 4 if wide > 220 else 2 if wide > 90 else 1
        for k in range(1 if named else 0, steps + 1):
            x = low[0] + wide * k / steps
            text = f"{sheet.width * k // steps}" + (" px" if k == steps else "")
            painter.drawText(QRectF(x - 34, low[1] + 4, 68, 14), Qt.AlignmentFlag.AlignCenter, text)
        if named:
            painter.setFont(font(10, bold=sheet is self.document.state.sheet))
            painter.drawText(QRectF(low[0], high[1] - 16, max(wide, 60), 14),
                             Qt.AlignmentFlag.AlignLeft, f"{sheet.name} · {sheet.tile}")  # fmt: skip

    def _gauges(self, painter: QPainter) -> None:
        """How much of each sheet is used, as a thin gauge along its right edge."""
        state = self.shown or self.document.state
        mesh = state.jacket.mesh if state.jacket is not None else None
        if mesh is None or mesh.uv is None:
            return
        islands = islands_of(mesh, state.sheets)
        good = QColor(self.palette_.good)
        for k, sheet in enumerate(state.sheets):
            low, high = self.camera.project(np.array([sheet.origin, sheet.origin + 1.0]))
            whole = islands.use(k) + sum(islands_of(m, state.sheets).use(k) for m in self.beside)
            use, tall = min(whole, 1.0), float(low[1] - high[1])
            back = QColor(self.palette_.grid)
            back.setAlpha(120)
            painter.fillRect(QRectF(high[0] + 5, high[1], 5, tall), back)
            painter.fillRect(QRectF(high[0] + 5, low[1] - tall * use, 5, tall * use), good)
            painter.setFont(font(10, bold=True))
            painter.setPen(QColor(self.palette_.ink))
            painter.drawText(QRectF(high[0] - 62, high[1] - 16, 72, 14), Qt.AlignmentFlag.AlignRight, f"{100 * use:.0f} %")

    def _names(self, painter: QPainter) -> None:
        state = self.shown or self.document.state
        jacket = state.jacket
        if jacket is None or jacket.mesh.uv is None or not np.isfinite(jacket.mesh.uv).any():
            return
        islands, numbers = islands_of(jacket.mesh, state.sheets), island_numbers(jacket.mesh)
        first = np.unique(islands.labels, return_index=True)[1]
        records = {r.id: r for r in jacket.islands}
        boxes = islands.boxes
        by_label = numbers[first] if numbers is not None else np.zeros(islands.count, np.int64)
        under = stacked_on(islands, by_label, jacket.islands)
        stacked = Counter(under[under >= 0].tolist())
        painter.setFont(font(10, bold=True))
        at, lows, highs = (self.camera.project(np.nan_to_num(p)) for p in (islands.name_places, boxes[:, :2], boxes[:, 2:]))
        for k in range(islands.count):
            record = records.get(int(numbers[first[k]])) if numbers is not None else None
            if record is not None and np.isfinite(boxes[k]).all():
                a, b = lows[k], highs[k]
                if under[k] < 0:
                    self._name(painter, record, a, b, at[k])
                    self._count(painter, stacked.get(k, 0) + 1, a, b)

    def _count(self, painter: QPainter, count: int, a: Any, b: Any) -> None:
        """How many islands lie on one another here, in the upper right corner."""
        if count < 2:
            return
        middle = QPointF(max(b[0] - 8, a[0] + 6), min(b[1] + 8, a[1] - 6))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.palette_.accent))
        painter.drawEllipse(middle, 9.0, 9.0)
        painter.setPen(QColor(self.palette_.card))
        painter.drawText(QRectF(middle.x() - 9, middle.y() - 9, 18, 18), Qt.AlignmentFlag.AlignCenter, str(count))

    def _name(self, painter: QPainter, record: IslandRecord, a: Any, b: Any, at: Any) -> None:
        """The name of an island near its middle, where there is room; a moss tick where it is done."""
        room, high = b[0] - a[0], a[1] - b[1]
        tick = "✓ " if record.done else ""
        text = tick + record.name + (" ⚿" if record.lock else "")
        width = painter.fontMetrics().horizontalAdvance(text) + 12
        if room < 26 or high < 20:
            return
        if width > room + 30:
            text = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(room) - 6)
            width = painter.fontMetrics().horizontalAdvance(text) + 8
            if len(text) < 4:
                return
        x, y = at
        box = QRectF(x - width / 2, y - 9, width, 18)
        card = QColor(self.palette_.card)
        card.setAlpha(225)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(card)
        painter.drawRect(box)
        painter.setPen(QColor(self.palette_.good if record.done else self.palette_.ink))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
