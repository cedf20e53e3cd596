"""The bottom strip: live checks as chips, the hint line, progress, the last step."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import (
    QAbstractButton,
    QHBoxLayout,
    QLabel,
    QMenu,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from jacket.core.checks.model import Check
from jacket.qt.theme import DAY, Palette, font


class CheckChip(QAbstractButton):
    """A check with a coloured edge; a click shows the offenders, another the next one."""

    def __init__(self, check: Check, palette: Palette) -> None:
        super().__init__()
        self.check, self.colours, self.stale = check, palette, False
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"{check.label}: {check.value}")
        if len(check.offenders):
            self.setToolTip("Click to show them; again for the next one.")

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        bold, plain = font(11, bold=True), font(11)
        from PySide6.QtGui import QFontMetrics

        width = QFontMetrics(plain).horizontalAdvance(self.check.label) + QFontMetrics(bold).horizontalAdvance(
            self.check.value
        )
        return QSize(width + 28, 23)

    def paintEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        p, c = QPainter(self), self.colours
        edge = {"good": c.good, "look": c.look, "wrong": c.accent}[self.check.level]
        p.fillRect(self.rect(), QColor(c.card))
        p.setPen(QColor(c.soft if self.underMouse() or self.hasFocus() else c.rule))
        p.drawRect(self.rect().adjusted(0, 0, -1, -1))
        p.fillRect(0, 0, 4, self.height(), QColor(edge))
        ink = QColor(c.ink)
        ink.setAlpha(120 if self.stale else 255)
        p.setPen(ink)
        p.setFont(font(11))
        p.drawText(QRectF(11, 0, self.width(), self.height()), Qt.AlignmentFlag.AlignVCenter, self.check.label)
        p.setFont(font(11, bold=True))
        p.drawText(QRectF(0, 0, self.width() - 8, self.height()),
                   Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self.check.value)  # fmt: skip
        p.end()


class Strip(QWidget):
    """Everything along the bottom."""

    check_clicked = Signal(object)
    stop_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(58)
        self.colours: Palette = DAY
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 5, 12, 4)
        column.setSpacing(4)
        self.row = QHBoxLayout()
        self.row.setSpacing(5)
        self.title = QLabel("Checks")
        self.title.setObjectName("title")
        self.title.setFixedWidth(58)
        self.row.addWidget(self.title)
        self.row.addStretch(1)
        column.addLayout(self.row)
        lower = QHBoxLayout()
        self.hint = QLabel()
        self.hint.setObjectName("hint")
        self.bar = QProgressBar()
        self.bar.setFixedWidth(160)
        self.bar.setTextVisible(False)
        self.bar.setRange(0, 1000)
        self.stop = QPushButton("Stop")
        self.stop.setObjectName("link")
        self.stop.setFixedHeight(18)
        self.stop.clicked.connect(self.stop_wanted.emit)
        self.status = QLabel()
        self.status.setObjectName("status")
        self.again = QPushButton("Do it again")
        self.again.setObjectName("link")
        self.again.setFixedHeight(18)
        self.again.clicked.connect(self._do_again)
        self.again.hide()
        self._again: Callable[[], None] | None = None
        self.rest: list[Check] = []
        lower.addWidget(self.hint, 1)
        lower.addWidget(self.again)
        lower.addWidget(self.bar)
        lower.addWidget(self.stop)
        lower.addWidget(self.status)
        column.addLayout(lower)
        self.chips: list[CheckChip] = []
        self.checks: list[Check] = []
        self.show_progress(None, "")

    def show_checks(self, checks: list[Check]) -> None:
        """Put another list of checks on the strip: where they do not all fit, the worst come first and
        the rest are counted in a last chip."""
        self.checks = checks
        for chip in self.chips:
            self.row.removeWidget(chip)
            chip.hide()
            chip.deleteLater()
        self.chips = []
        chips = [CheckChip(check, self.colours) for check in checks]
        room = self.width() - 24 - 58 - 110
        if sum(c.sizeHint().width() + 5 for c in chips) > room + 100:
            order = {"wrong": 0, "look": 1, "good": 2}
            chips.sort(key=lambda c: order[c.check.level])
            while chips and sum(c.sizeHint().width() + 5 for c in chips) > room:
                chips.pop().deleteLater()
            shown = {c.check.id for c in chips}
            rest = [c for c in checks if c.id not in shown]
            level = "wrong" if any(c.level == "wrong" for c in rest) else "good"
            more = CheckChip(Check("more", "and", f"{len(rest)} more", level), self.colours)  # type: ignore[arg-type]
            more.setToolTip("\n".join(f"{c.label}  {c.value}" for c in rest))
            chips.append(more)
            self.rest = rest
        for k, chip in enumerate(chips):
            if chip.check.id == "more":
                chip.clicked.connect(lambda _=False, at=chip: self._open_rest(at))
            else:
                chip.clicked.connect(lambda _=False, c=chip.check: self.check_clicked.emit(c))
            self.row.insertWidget(k + 1, chip)
            self.chips.append(chip)

    def _open_rest(self, chip: CheckChip) -> None:
        """The checks there is no room for, in a menu above their chip."""
        menu = QMenu(self)
        for check in self.rest:
            action = menu.addAction(f"{check.label}   {check.value}")
            action.triggered.connect(lambda _=False, c=check: self.check_clicked.emit(c))
        menu.popup(chip.mapToGlobal(QPoint(0, -menu.sizeHint().height())))

    def resizeEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        super().resizeEvent(event)
        if event.oldSize().width() != event.size().width():
            self.show_checks(self.checks)

    def offer(self, text: str, again: Callable[[], None]) -> None:
        """Show a sentence with a button that does something again."""
        self.hint.setText(text)
        self._again = again
        self.again.show()

    def _do_again(self) -> None:
        again, self._again = self._again, None
        self.again.hide()
        if again is not None:
            again()

    def show_stale(self) -> None:
        """Dim the checks until they have been looked at again."""
        for chip in self.chips:
            if not chip.stale:
                chip.stale = True
                chip.update()

    def show_progress(self, fraction: float | None, what: str) -> None:
        """Show the running job, or nothing."""
        busy = fraction is not None
        self.bar.setVisible(busy)
        self.stop.setVisible(busy)
        if fraction is not None:
            # Painted with the rest: by itself it would have the whole window put together at once.
            self.bar.setUpdatesEnabled(False)
            self.bar.setValue(int(fraction * 1000))
            self.bar.setUpdatesEnabled(True)
            self.hint.setText(what[:1].upper() + what[1:] + "…" if what else "")
