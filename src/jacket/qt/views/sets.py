"""The UV sets of the active layer as tabs above the flat view."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtWidgets import QPushButton

from jacket.document.document import Document
from jacket.document.edits import uvs
from jacket.errors import JacketError
from jacket.qt.views.dock import Dock


class SetTabs:
    """Keeps the tabs true; a click works on a set."""

    def __init__(self, dock: Dock, document: Document, say: Any) -> None:
        self.dock, self.document, self.say = dock, document, say
        self.tabs: list[QPushButton] = []
        self._key: Any = None

    def refresh(self) -> None:
        """Tabs for the sets there are now."""
        jacket = self.document.state.jacket
        names, active = (jacket.mesh.uv_sets, jacket.mesh.active_uv) if jacket is not None else ((), "")
        if (names, active) == self._key:
            return
        self._key = (names, active)
        for tab in self.tabs:
            self.dock.tab_row.removeWidget(tab)
            tab.hide()
            tab.deleteLater()
        self.tabs = []
        for k, name in enumerate(names):
            tab = QPushButton(name)
            tab.setObjectName("tab")
            tab.setCheckable(True)
            tab.setChecked(name == active)
            tab.setAccessibleName(f"UV set {name}")
            tab.clicked.connect(partial(self._choose, name))
            self.dock.tab_row.insertWidget(k, tab)
            self.tabs.append(tab)

    def _choose(self, name: str) -> None:
        try:
            uvs.choose_set(self.document, name)
        except JacketError as error:
            self.say(str(error))
        self._key = None
        self.refresh()
