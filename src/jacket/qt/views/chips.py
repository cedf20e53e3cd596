"""The chips along the top of a view; those for which there is no room are in a menu behind the last one."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QPushButton, QWidget

from jacket.commands.display import Display


class ChipBar(QWidget):
    """Title and switches of a view."""

    toggled = Signal(str)

    def __init__(self, parent: QWidget, title: str, chips: list[tuple[str, str]], colour: str) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TranslucentBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 8, 0)
        row.setSpacing(5)
        self.title = QLabel(title)
        self.title.setStyleSheet(f"color: {colour}; font-weight: bold; background: transparent;")
        row.addWidget(self.title)
        row.addSpacing(8)
        self.chips: dict[str, QPushButton] = {}
        for name, text in chips:
            chip = QPushButton(text)
            chip.setObjectName("chip")
            chip.setCheckable(True)
            chip.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            chip.clicked.connect(lambda _=False, n=name: self.toggled.emit(n))
            row.addWidget(chip)
            self.chips[name] = chip
        self.more = QPushButton("More ▾")
        self.more.setObjectName("chip")
        self.more.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.more.clicked.connect(self._open)
        row.addWidget(self.more)
        row.addStretch(1)
        self._hidden: tuple[str, ...] = ()
        self._width = 0

    def show(self, display: Display | None = None, hidden: tuple[str, ...] = ()) -> None:  # type: ignore[override]
        """Set the chips to what is displayed; those in `hidden` have nothing to switch now."""
        if display is None:
            super().show()
            return
        for name, chip in self.chips.items():
            chip.setChecked(display.is_on(name))
        if hidden != self._hidden:
            self._hidden = hidden
            self.fit(self._width)

    def fit(self, width: int) -> None:
        """Put away what there is no room for, from the last on."""
        self._width = width
        wanted = [n for n in self.chips if n not in self._hidden]
        self.title.setVisible(width >= 420)
        room = width - 12 - 8 - 13 - (self.title.sizeHint().width() if width >= 420 else 0)
        need = {n: self.chips[n].sizeHint().width() + 5 for n in wanted}
        kept = list(wanted)
        if sum(need.values()) > room:
            room -= self.more.sizeHint().width() + 5
            while kept and sum(need[n] for n in kept) > room:
                kept.pop()
        for name, chip in self.chips.items():
            chip.setVisible(name in kept)
        self.more.setVisible(len(kept) < len(wanted))

    @property
    def put_away(self) -> list[str]:
        """Names of the chips behind the last one."""
        return [n for n, chip in self.chips.items() if chip.isHidden() and n not in self._hidden]

    def _open(self) -> None:
        menu = QMenu(self)
        for name in self.put_away:
            action = menu.addAction(self.chips[name].text())
            action.setCheckable(True)
            action.setChecked(self.chips[name].isChecked())
            action.triggered.connect(lambda _=False, n=name: self.toggled.emit(n))
        menu.popup(self.more.mapToGlobal(QPoint(0, self.more.height())))
