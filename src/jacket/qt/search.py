"""Command search: type a few words, press Enter."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from jacket.commands.model import Command


class Search(QDialog):
    """A small window under the top bar that finds every available command."""

    def __init__(
        self, parent: QWidget, find: Callable[[str], list[Command]], run: Callable[[Command], None],
        key_of: Callable[[Command], str],
    ) -> None:  # fmt: skip
        super().__init__(parent, Qt.WindowType.Popup)
        self.find_commands, self.run, self.key_of = find, run, key_of
        self.setFixedSize(400, 330)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        self.field = QLineEdit()
        self.field.setPlaceholderText("What do you want to do?")
        self.list = QListWidget()
        column.addWidget(self.field)
        column.addWidget(self.list)
        self.field.textChanged.connect(self._fill)
        self.field.returnPressed.connect(self._take)
        self.list.itemActivated.connect(lambda _: self._take())
        self.list.itemClicked.connect(lambda _: self._take())
        self.field.installEventFilter(self)
        self._fill("")

    def _fill(self, text: str) -> None:
        self.list.clear()
        for command in self.find_commands(text):
            key = self.key_of(command)
            item = QListWidgetItem(command.label + (f"      {key}" if key else ""))
            item.setData(Qt.ItemDataRole.UserRole, command)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _take(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            command = item.data(Qt.ItemDataRole.UserRole)
            self.accept()
            self.run(command)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802 - Qt's name
        if event.type() == QEvent.Type.KeyPress:
            key: Any = event.key()  # type: ignore[attr-defined]
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(key)
            if step is not None and self.list.count():
                self.list.setCurrentRow((self.list.currentRow() + step) % self.list.count())
                return True
        return bool(super().eventFilter(watched, event))
