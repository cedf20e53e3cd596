"""What cards are made of: the card itself, rows, number fields, choices, switches, buttons for commands.

A `Desk` is what every card is given: the program, and helpers that tie a widget to a value or a command. Cards only ask
the program; they decide nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import shiboken6
from PySide6.QtCore import QObject, QSize, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from jacket.document.state import State
from jacket.errors import JacketError
from jacket.program import Program
from jacket.qt.fields import NumberField
from jacket.qt.icons import has_icon, icon

Options = Sequence[tuple[str, str]]
"""Pairs of a value and what people read."""


class Card(QFrame):
    """A titled card with rows; a click on the title folds it."""

    folded_changed = Signal(bool)

    def __init__(self, title: str = "", right: str = "") -> None:
        super().__init__()
        self.setObjectName("card")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(10, 8, 10, 9)
        whole.setSpacing(5)
        head = QHBoxLayout()
        self.fold_mark = QLabel("▾")
        self.fold_mark.setObjectName("soft")
        self.fold_mark.hide()
        self.title = QLabel(title)
        self.title.setObjectName("title")
        self.right = QLabel(right)
        self.right.setObjectName("soft")
        head.setSpacing(4)
        head.addWidget(self.fold_mark)
        head.addWidget(self.title)
        head.addStretch(1)
        head.addWidget(self.right)
        whole.addLayout(head)
        self.body = QWidget()
        self.body.setObjectName("plain")
        self.column = QVBoxLayout(self.body)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(5)
        whole.addWidget(self.body)
        self._foldable = False

    def foldable(self, folded: bool) -> None:
        """Let a click on the title hide and show what is below it."""
        self._foldable = True
        self.fold_mark.show()
        self.title.setCursor(Qt.CursorShape.PointingHandCursor)
        self.fold(folded)

    @property
    def folded(self) -> bool:
        """Whether only the title shows."""
        return self.body.isHidden()

    def fold(self, folded: bool) -> None:
        """Hide or show what is below the title."""
        self.body.setVisible(not folded)
        self.fold_mark.setText("▸" if folded else "▾")

    def mousePressEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        if self._foldable and event.position().y() < 30:
            self.fold(not self.folded)
            self.folded_changed.emit(self.folded)

    def clear(self) -> None:
        """Take out everything below the title."""
        while self.column.count():
            _discard(self.column.takeAt(0))

    def row(self, label: str, right: QWidget | str) -> QWidget:
        """A label and a value or field."""
        line = QHBoxLayout()
        widget = QLabel(right) if isinstance(right, str) else right
        line.addWidget(soft(label, False))
        line.addStretch(1)
        line.addWidget(widget)
        self.column.addLayout(line)
        return widget

    def beside(self, *widgets: QWidget) -> None:
        """Widgets in one line, the first as wide as it can be."""
        line = QHBoxLayout()
        line.setSpacing(4)
        for k, widget in enumerate(widgets):
            line.addWidget(widget, 1 if k == 0 else 0)
        self.column.addLayout(line)


def _discard(item: Any) -> None:
    if item is None:
        return
    if item.widget() is not None:
        item.widget().hide()
        item.widget().deleteLater()
    elif isinstance(item.layout(), QLayout):
        while item.layout().count():
            _discard(item.layout().takeAt(0))


def soft(text: str, wrapped: bool = True) -> QLabel:
    """A line of small print."""
    label = QLabel(text)
    label.setObjectName("soft")
    label.setWordWrap(wrapped)
    return label


class ShowingButton(QPushButton):
    """A button that says when the pointer is over it, so that what it would do can be shown."""

    pointed = Signal(bool)

    def enterEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        super().enterEvent(event)
        self.pointed.emit(True)

    def leaveEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        super().leaveEvent(event)
        self.pointed.emit(False)


class Desk(QObject):
    """What cards are given. Buttons made here are shown only while their command fits, or greyed where a gap would
    surprise; `preview_wanted` says which command the pointer asks about."""

    preview_wanted = Signal(str)
    refill_wanted = Signal(str)
    """A card by its name has to be filled anew."""

    def __init__(self, program: Program) -> None:
        super().__init__()
        self.program = program
        self.buttons: dict[str, QPushButton] = {}
        self._live: list[tuple[str, QPushButton, bool]] = []

    # ---- commands ------------------------------------------------------------------------------
    def ask(self, command_id: str) -> None:
        """Run a command."""
        self.program.run(self.program.commands[command_id])

    def tie(self, button: QPushButton, command_id: str, hide: bool = False) -> QPushButton:
        """Make a button ask for a command, and enabled (or seen, with `hide`) while it fits."""
        button.clicked.connect(partial(self.ask, command_id))
        if not button.toolTip():
            command = self.program.commands[command_id]
            button.setToolTip(command.label.rstrip("…") + (f" ({command.key})" if command.key else ""))
        self._live.append((command_id, button, hide))
        self.buttons[command_id] = button
        self._fit(command_id, button, hide, self.program.document.state)
        return button

    def action(self, card: Card, command_id: str, main: bool = False, text: str = "", hide: bool = False) -> QPushButton:
        """A wide button for a command."""
        button = QPushButton(text or self.program.commands[command_id].label)
        button.setObjectName("main" if main else "")
        card.column.addWidget(button)
        return self.tie(button, command_id, hide)

    def small(self, command_id: str, text: str, shown: bool = False) -> ShowingButton:
        """A small button for a command; a `shown` one previews what it would do while it is pointed at."""
        button = ShowingButton(text)
        button.setObjectName("small")
        button.setAccessibleName(self.program.commands[command_id].label)
        if shown:
            button.pointed.connect(lambda over: self.preview_wanted.emit(command_id if over else ""))
        self.tie(button, command_id)
        return button

    def grid(self, card: Card, rows: Options, columns: int = 2, shown: bool = False) -> None:
        """Small buttons for commands, side by side."""
        box = QGridLayout()
        box.setSpacing(4)
        for k, (command_id, text) in enumerate(rows):
            box.addWidget(self.small(command_id, text, shown), k // columns, k % columns)
        card.column.addLayout(box)

    def pictograms(self, card: Card, commands: Sequence[str], columns: int = 7, shown: bool = False) -> None:
        """Commands as small pictures in rows; their words come on hover."""
        box = QGridLayout()
        box.setSpacing(3)
        ink = self.ink
        for k, command_id in enumerate(commands):
            button = self.small(command_id, "" if has_icon(command_id) else command_id, shown)
            button.setObjectName("picture")
            if has_icon(command_id):
                button.setIcon(icon(command_id, ink))
                button.setIconSize(QSize(18, 18))
            button.setFixedSize(28, 26)
            box.addWidget(button, k // columns, k % columns)
        box.setColumnStretch(columns, 1)
        card.column.addLayout(box)

    ink = "#23272e"
    """Colour of pictograms; the window sets it with the palette."""

    def refresh(self, state: State) -> None:
        """Enable or show what fits now; buttons whose card was filled anew are dropped."""
        self._live = [(c, b, h) for c, b, h in self._live if shiboken6.isValid(b)]
        self.buttons = {c: b for c, b in self.buttons.items() if shiboken6.isValid(b)}
        # Many commands ask the same of a state.
        known: dict[Callable[[State], bool], bool] = {}
        for command_id, button, hide in self._live:
            available = self.program.commands[command_id].available
            if available not in known:
                known[available] = available(state)
            self._show_fit(button, hide, known[available])

    def _fit(self, command_id: str, button: QPushButton, hide: bool, state: State) -> None:
        self._show_fit(button, hide, self.program.commands[command_id].available(state))

    def _show_fit(self, button: QPushButton, hide: bool, fits: bool) -> None:
        if hide and button.isHidden() == fits:
            button.setVisible(fits)
        if button.isEnabled() != fits:
            button.setEnabled(fits)

    # ---- values --------------------------------------------------------------------------------
    def guarded(self, action: Callable[[], None]) -> None:
        """Do something that may be refused; the reason is said."""
        try:
            action()
        except JacketError as error:
            self.program.say(str(error))

    def field(
        self, kind: type[Any], name: str, label: str, low: float, high: float, unit: str = "", whole: bool = True
    ) -> NumberField:
        """A typed number that is one of a stage's values."""
        made = NumberField(float(getattr(self.program.values(kind), name)), low, high, unit, whole)
        made.setAccessibleName(label)
        made.changed.connect(lambda v: self.program.put(kind, name, v))
        return made

    def number(
        self, card: Card, label: str, kind: type[Any], name: str, low: float, high: float, unit: str = "", whole: bool = True
    ) -> NumberField:
        """A row with a typed number that is one of a stage's values."""
        made = self.field(kind, name, label, low, high, unit, whole)
        card.row(label, made)
        return made

    def choose(self, kind: type[Any], name: str, label: str, options: Options) -> QComboBox:
        """A choice that is one of a stage's values."""
        now = str(getattr(self.program.values(kind), name))
        return choice_box(label, options, now, lambda value: self.program.put(kind, name, value))

    def switch(self, kind: type[Any], name: str, label: str) -> QCheckBox:
        """A switch that is one of a stage's values."""
        return switch_box(label, bool(getattr(self.program.values(kind), name)), lambda on: self.program.put(kind, name, on))

    def shown_switch(self, card: Card, name: str, label: str) -> None:
        """A row that switches something of the display."""
        box = switch_box(label, self.program.display.is_on(name), lambda on: self._show(name, on))
        card.row(label, box)

    def _show(self, name: str, on: bool) -> None:
        if self.program.display.is_on(name) != on:
            self.program.show(self.program.display.toggled(name))


def choice_box(label: str, options: Options, now: str, take: Callable[[str], None]) -> QComboBox:
    """A choice among values, each shown by its words."""
    box = QComboBox()
    box.setAccessibleName(label)
    for value, text in options:
        box.addItem(text, value)
    box.setCurrentIndex(max(0, [o[0] for o in options].index(now) if now in [o[0] for o in options] else 0))
    box.activated.connect(lambda k: take(options[k][0]))
    return box


def switch_box(label: str, on: bool, take: Callable[[bool], None]) -> QCheckBox:
    """A switch."""
    box = QCheckBox()
    box.setAccessibleName(label)
    box.setChecked(on)
    box.toggled.connect(take)
    return box
