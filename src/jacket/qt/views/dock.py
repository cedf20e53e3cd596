"""Form and flat view side by side; the flat view folds to a narrow tab while nothing is flat."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSplitter, QVBoxLayout, QWidget

from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.settings import Settings

LEAST = 240
"""Pixels that each of the two views keeps at least."""


class EdgeTab(QPushButton):
    """The narrow tab that stands for the folded flat view."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.setObjectName("edge")
        self.words = text
        self.setFixedWidth(22)
        self.setAccessibleName(text)
        self.setToolTip("Open the flat view")

    def sizeHint(self) -> QSize:  # noqa: N802 - Qt's name
        return QSize(22, 200)

    def paintEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        super().paintEvent(event)
        p = QPainter(self)
        p.translate(0, self.height())
        p.rotate(-90)
        p.drawText(QRectF(0, 0, self.height(), self.width()), Qt.AlignmentFlag.AlignCenter, f"{self.words}  ▴")
        p.end()


class Dock(QWidget):
    """Both views. Where the splitter stands, and whether the flat view is folded, is remembered for each stage."""

    changed = Signal()

    def __init__(self, form: FormView, flat: FlatView, settings: Settings) -> None:
        super().__init__()
        self.form, self.flat, self.settings = form, flat, settings
        self.side = QWidget()
        column = QVBoxLayout(self.side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.tabs = QWidget()
        self.tabs.setObjectName("top")
        self.tab_row = QHBoxLayout(self.tabs)
        self.tab_row.setContentsMargins(8, 4, 8, 0)
        self.tab_row.setSpacing(3)
        column.addWidget(self.tabs)
        column.addWidget(flat, 1)
        self.splitter = QSplitter()
        self.splitter.setHandleWidth(3)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.addWidget(form)
        self.splitter.addWidget(self.side)
        self.splitter.splitterMoved.connect(self._moved)
        self.tab = EdgeTab("Flat view")
        self.tab.clicked.connect(self._unfold)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.splitter, 1)
        row.addWidget(self.tab)
        self.fold_button = QPushButton("▸")
        self.fold_button.setObjectName("link")
        self.fold_button.setFixedWidth(20)
        self.fold_button.setToolTip("Fold the flat view to the side")
        self.fold_button.setAccessibleName("Fold the flat view")
        self.fold_button.clicked.connect(self._fold)
        self.tab_row.addStretch(1)
        self.tab_row.addWidget(self.fold_button)
        self._stage, self._share, self._filled = "", 0.4, False
        self._opened: set[str] = set()

    @property
    def folded(self) -> bool:
        """Whether only the tab of the flat view shows."""
        return self.side.isHidden()

    def show_stage(self, stage: str, share: float, filled: bool) -> None:
        """Arrange the views for a stage: `share` of the width for the flat view unless the user chose otherwise, none of
        it while nothing is flat, which `filled` tells."""
        self._stage, self._share, self._filled = stage, share, filled
        kept = self.settings.splitters.get(stage)
        folded = kept[1] == 0 if kept is not None and filled else not filled and stage not in self._opened
        self._arrange(folded, kept)

    def show_filled(self, filled: bool) -> None:
        """Something is flat now, or nothing any more: the flat view opens with the first, and folds with the last."""
        if filled != self._filled:
            self.show_stage(self._stage, self._share, filled)

    def _arrange(self, folded: bool, kept: list[int] | None) -> None:
        self.side.setHidden(folded)
        self.tab.setVisible(folded)
        if not folded:
            whole = max(self.splitter.width(), 2 * LEAST)
            part = kept[1] / max(sum(kept), 1) if kept is not None and kept[1] > 0 else self._share
            flat = int(min(max(part * whole, LEAST), whole - LEAST))
            self.splitter.setSizes([whole - flat, flat])
        self.changed.emit()

    def _moved(self) -> None:
        self.settings.splitters[self._stage] = self.splitter.sizes()

    def _fold(self) -> None:
        self._opened.discard(self._stage)
        self.settings.splitters[self._stage] = [max(self.width(), 1), 0]
        self._arrange(True, None)

    def _unfold(self) -> None:
        self._opened.add(self._stage)
        self.settings.splitters.pop(self._stage, None)
        self._arrange(False, None)
