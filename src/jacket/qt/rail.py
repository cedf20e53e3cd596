"""The left rail: the stage's tools, an icon and a word each."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QAbstractButton, QSizePolicy, QVBoxLayout, QWidget

from jacket.qt.icons import icon
from jacket.qt.theme import DAY, Palette, font
from jacket.tools.base import Tool


class ToolButton(QAbstractButton):
    """One tool of the rail."""

    def __init__(self, tool: type[Tool], palette: Palette, height: int = 54) -> None:
        super().__init__()
        self.tool, self.colours = tool, palette
        self.setCheckable(True)
        self.setMinimumSize(QSize(60, 34))
        self.setMaximumSize(QSize(60, height))
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Preferred)
        self.tallest = height
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(f"{tool.label} ({tool.key})")
        self.setAccessibleName(tool.label)

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        return QSize(60, self.tallest)

    def paintEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        p, c = QPainter(self), self.colours
        if self.isChecked():
            p.fillRect(self.rect(), QColor(c.card))
            p.fillRect(0, 0, 3, self.height(), QColor(c.accent))
        elif self.underMouse() or self.hasFocus():
            p.fillRect(self.rect(), QColor(c.bar))
        size = 28 if self.height() > 50 else 24 if self.height() > 42 else 17
        picture = icon(self.tool.id, c.ink).pixmap(size, size)
        p.drawPixmap(int((self.width() - size) / 2), max((self.height() - size - 16) // 2 + 1, 1), size, size, picture)
        p.setPen(QColor(c.ink))
        p.setFont(font(10))
        p.drawText(QRectF(0, self.height() - 17, self.width(), 15), Qt.AlignmentFlag.AlignCenter, self.tool.label)
        p.end()


class Rail(QWidget):
    """The tools of the active stage."""

    tool_wanted = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(68)
        self.colours: Palette = DAY
        self.buttons: list[ToolButton] = []
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(4, 8, 4, 8)
        self.column.setSpacing(2)
        self.column.addStretch(1)

    def show_tools(self, tools: tuple[type[Tool], ...], chosen: str) -> None:
        """Put another stage's tools on the rail."""
        for button in self.buttons:
            self.column.removeWidget(button)
            button.hide()
            button.deleteLater()
        self.buttons = []
        for k, tool in enumerate(tools):
            button = ToolButton(tool, self.colours)
            button.setChecked(tool.id == chosen)
            button.clicked.connect(lambda _=False, t=tool.id: self.tool_wanted.emit(t))
            self.column.insertWidget(k, button)
            self.buttons.append(button)

    def show_chosen(self, chosen: str) -> None:
        """Mark the tool in hand."""
        for button in self.buttons:
            button.setChecked(button.tool.id == chosen)
