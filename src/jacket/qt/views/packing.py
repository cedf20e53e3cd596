"""Packing that is watched: how the use of the sheets grows over the seconds, and the button that takes it."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QPushButton, QWidget

from jacket.commands.host import PackView
from jacket.qt.theme import DAY, Palette, font

HIGH = 84
EDGE = 14


class PackingPanel(QWidget):
    """A strip along the lower edge of the flat view, seen while something is packed."""

    enough_wanted = Signal()

    def __init__(self, view: QWidget) -> None:
        super().__init__(view)
        self.view = view
        self.colours: Palette = DAY
        self.shown: PackView | None = None
        self.button = QPushButton("Good enough", self)
        self.button.setObjectName("main")
        self.button.setToolTip("Take the best layout so far")
        self.button.clicked.connect(self.enough_wanted.emit)
        self.hide()

    def show_view(self, view: PackView | None) -> None:
        """Follow packing, or nothing any more."""
        self.shown = view
        self.setVisible(view is not None)
        if view is not None:
            self.button.setEnabled(bool(view.curve) and not view.enough)
            self.settle()
            self.update()

    def settle(self) -> None:
        """Lie along the lower edge of the view."""
        self.setGeometry(EDGE, self.view.height() - HIGH - EDGE, max(self.view.width() - 2 * EDGE, 60), HIGH)
        size = self.button.sizeHint()
        self.button.setGeometry(self.width() - size.width() - 12, (HIGH - 28) // 2, size.width(), 28)
        self.raise_()

    def paintEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        view = self.shown
        if view is None:
            return
        p, c = QPainter(self), self.colours
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        card = QColor(c.card)
        card.setAlpha(240)
        p.fillRect(self.rect(), card)
        p.setPen(QColor(c.rule))
        p.drawRect(self.rect().adjusted(0, 0, -1, -1))
        p.setFont(font(11, bold=True))
        p.setPen(QColor(c.ink))
        curve = np.array(view.curve or [(0.0, 0.0)])
        gone = float(curve[-1, 0])
        words = f"Packing, {view.seconds:.0f} s at most: the use so far" if view.curve else "Packing: finding a first layout"
        p.drawText(QRectF(12, 6, self.width() - 24, 16), Qt.AlignmentFlag.AlignLeft, words)
        if view.curve:
            self._curve(p, curve, max(view.seconds, gone))
        p.end()

    def _curve(self, p: QPainter, curve: Any, seconds: float) -> None:
        c = self.colours
        left, right, top, bottom = 46.0, float(self.button.x()) - 70.0, 28.0, float(HIGH) - 12.0
        low, high = float(curve[0, 1]), float(curve[-1, 1])
        span = max(high - low, 0.02)
        x = left + (right - left) * np.minimum(curve[:, 0] / max(seconds, 1e-9), 1.0)
        y = bottom - (bottom - top) * (curve[:, 1] - low) / span
        # Between two finds the use stays as it is: steps, not slopes.
        corners = [QPointF(x[0], y[0])]
        for k in range(1, len(x)):
            corners += [QPointF(x[k], y[k - 1]), QPointF(x[k], y[k])]
        good = QColor(c.good)
        p.setPen(QPen(good, 1.6))
        p.drawPolyline(QPolygonF(corners))
        p.setBrush(good)
        p.drawEllipse(corners[-1], 3.5, 3.5)
        p.setFont(font(10))
        p.setPen(QColor(c.soft))
        p.drawText(QRectF(8, y[0] - 8, 34, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{100 * low:.0f} %")
        p.setFont(font(12, bold=True))
        p.setPen(good)
        p.drawText(QRectF(corners[-1].x() + 10, corners[-1].y() - 9, 64, 18),
                   Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, f"{100 * high:.1f} %")  # fmt: skip
