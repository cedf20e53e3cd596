"""The top bar: name, file, the six tickets, command search."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from jacket.commands.model import StageSpec
from jacket.commands.model import Ticket as Line
from jacket.qt.theme import DAY, Palette, font


class Ticket(QAbstractButton):
    """A stage and its key number, with a perforated left edge."""

    def __init__(self, key: str, name: str) -> None:
        super().__init__()
        self.number, self.name, self.line, self.stale, self.level = key, name, "", False, "good"
        self.colours: Palette = DAY
        self.setCheckable(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setToolTip(f"{name} (key {key})")

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        return QSize(140, 40)

    def minimumSizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        return QSize(96, 40)

    def show_line(self, line: Line, stale: bool) -> None:
        """Set the key line; a stale one is shown faint until the new one is known."""
        if (self.line, self.level, self.stale) == (line.text, line.level, stale):
            return
        self.line, self.level, self.stale = line.text, line.level, stale
        self.setAccessibleName(f"{self.name}: {line.text}")
        self.setToolTip(f"{self.name} (key {self.number}): {line.text}")
        self.update()

    def paintEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        p, c = QPainter(self), self.colours
        on = self.isChecked()
        p.fillRect(self.rect(), QColor(c.accent if on else c.card))
        edge = QColor(c.accent if on else (c.soft if self.underMouse() or self.hasFocus() else c.rule))
        p.setPen(edge)
        p.drawRect(self.rect().adjusted(0, 0, -1, -1))
        if self.level != "good":
            # A torn corner in the colour of what wants to be looked at.
            w = self.width()
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor(c.look if self.level == "look" else c.on_accent if on else c.accent))
            p.drawPolygon([QPointF(w - 11, 1), QPointF(w - 1, 1), QPointF(w - 1, 11)])
        p.setPen(QPen(QColor(c.on_accent if on else c.rule), 1, Qt.PenStyle.DashLine))
        p.drawLine(6, 4, 6, self.height() - 5)
        p.setPen(QColor(c.on_accent if on else c.ink))
        p.setFont(font(12, bold=True))
        p.drawText(QRectF(14, 4, self.width() - 16, 17), Qt.AlignmentFlag.AlignVCenter, f"{self.number}  {self.name}")
        p.setFont(font(11))
        colour = QColor(c.on_accent if on else c.soft)
        colour.setAlpha(130 if self.stale else 255)
        p.setPen(colour)
        text = p.fontMetrics().elidedText(self.line, Qt.TextElideMode.ElideRight, self.width() - 18)
        p.drawText(QRectF(14, 21, self.width() - 16, 15), Qt.AlignmentFlag.AlignVCenter, text)
        p.end()


class TopBar(QWidget):
    """Everything along the top."""

    stage_wanted = Signal(str)
    search_wanted = Signal()

    def __init__(self, stages: Sequence[StageSpec]) -> None:
        super().__init__()
        self.setObjectName("top")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(52)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 5, 12, 5)
        row.setSpacing(4)
        brand = QLabel("Jacket")
        brand.setObjectName("brand")
        row.addWidget(brand)
        row.addSpacing(10)
        column = QVBoxLayout()
        column.setSpacing(1)
        self.file, self.saved = QLabel(), QLabel()
        for label in (self.file, self.saved):
            label.setObjectName("soft")
            label.setFixedWidth(112)
            column.addWidget(label)
        row.addLayout(column)
        self.tickets: dict[str, Ticket] = {}
        self._shown = ("", "")
        for stage in stages:
            ticket = Ticket(stage.key, stage.label)
            ticket.clicked.connect(lambda _=False, s=stage.id: self.stage_wanted.emit(s))
            self.tickets[stage.id] = ticket
            row.addWidget(ticket, 1)
        row.addSpacing(8)
        find = QPushButton("Find…   Ctrl K")
        find.setFixedWidth(100)
        find.clicked.connect(self.search_wanted.emit)
        row.addWidget(find)

    def show_stage(self, stage: str) -> None:
        """Mark the active ticket."""
        for name, ticket in self.tickets.items():
            ticket.setChecked(name == stage)

    def show_lines(self, lines: dict[str, Line], stale: bool = False) -> None:
        """Set the key line of every ticket."""
        for name, ticket in self.tickets.items():
            ticket.show_line(lines.get(name, Line("")), stale)

    def show_file(self, name: str, saved: str) -> None:
        """Name of the project and whether it is saved."""
        if (name, saved) == self._shown:
            return
        self._shown = (name, saved)
        self.file.setText(self.file.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, 110))
        self.saved.setText(saved)

    def recolour(self, palette: Palette) -> None:
        """Take another palette."""
        for ticket in self.tickets.values():
            ticket.colours = palette
            ticket.update()
