"""The cards of the Layout stage: sheets, packing, the ledger of islands."""

from __future__ import annotations

from functools import partial

import numpy as np
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton

from jacket.core.derive import islands_of
from jacket.core.uv.identity import IslandRecord, island_numbers
from jacket.document.edits import sheets
from jacket.qt.cards.base import choice_box, soft
from jacket.qt.cards.stage import StageCard
from jacket.qt.fields import NumberField
from jacket.stages.layout.values import LayoutValues

TURNS = (("free", "any"), ("quarter", "quarters"), ("none", "none"))
SIZES = tuple((str(2**k), f"{2**k} px") for k in range(6, 14))
MOST_ROWS = 40


class SheetCard(StageCard):
    """The sheets: the one that is worked on with its numbers, the others to choose."""

    name, heading = "layout sheet", "Sheet"
    watches = frozenset({"sheets", "active_sheet"})

    def fill(self) -> None:
        desk, document = self.desk, self.desk.program.document
        state = document.state
        sheet, at = state.sheet, state.sheets.index(state.sheet)
        self.right.setText(f"{at + 1} of {len(state.sheets)}" if len(state.sheets) > 1 else "")
        for k, other in enumerate(state.sheets if len(state.sheets) > 1 else ()):
            row = QPushButton()
            row.setObjectName("chosen" if k == at else "row")
            row.setAccessibleName(other.name)
            line = QHBoxLayout(row)
            line.setContentsMargins(6, 0, 6, 0)
            line.addWidget(QLabel(other.name))
            line.addStretch(1)
            line.addWidget(soft(f"{other.tile} · {other.width}×{other.height}", False))
            row.setMinimumHeight(24)
            row.clicked.connect(partial(sheets.choose_sheet, document, k))
            self.column.addWidget(row)
        self.row("Width", self._side("Width", "width", sheet.width))
        self.row("Height", self._side("Height", "height", sheet.height))
        self.row("Margin", self._number("Margin", "margin", sheet.margin, 0, 512, "px"))
        if len(state.sheets) > 1:
            self.row("Tile", self._number("Tile", "tile", sheet.tile, 1001, 9999, ""))
        desk.pictograms(self, ("add-sheet", "rename-sheet", "remove-sheet"))

    def key(self) -> object:
        state = self.desk.program.document.state
        return (state.sheets, state.active_sheet)

    def _change(self, name: str, value: float) -> None:
        document = self.desk.program.document
        state = document.state
        kind = type(getattr(state.sheet, name))
        change = {name: kind(value)}
        self.desk.guarded(lambda: sheets.change_sheet(document, state.sheets.index(state.sheet), **change))
        # What was refused is shown as it is.
        self.refresh(set(), force=True)

    def _side(self, label: str, name: str, value: int) -> QComboBox:
        options = SIZES if str(value) in dict(SIZES) else (*SIZES, (str(value), f"{value} px"))
        return choice_box(label, options, str(value), lambda v: self._change(name, int(v)))

    def _number(self, label: str, name: str, value: float, low: float, high: float, unit: str) -> NumberField:
        field = NumberField(float(value), low, high, unit, whole=name == "tile")
        field.setAccessibleName(label)
        field.changed.connect(lambda v: self._change(name, v))
        return field


class PackCard(StageCard):
    """Packing and density."""

    name, heading = "layout pack", "Pack"
    watches = frozenset({"sheets"})

    def fill(self) -> None:
        desk = self.desk
        self.row("Turning", desk.choose(LayoutValues, "turn", "Turning", TURNS))
        if len(desk.program.document.state.sheets) > 1:
            self.row("Share out anew", desk.switch(LayoutValues, "spread", "Share out among the sheets anew"))
        desk.action(self, "pack", main=True)
        desk.action(self, "even-density")

    def key(self) -> object:
        return len(self.desk.program.document.state.sheets) > 1


class IslandsCard(StageCard):
    """The islands of the active UV set with what is known of them: a click holds one."""

    name, heading = "layout islands", "Islands"
    watches = frozenset({"jackets", "active", "held", "sheets"})

    def fill(self) -> None:
        state = self.desk.program.document.state
        jacket = state.jacket
        numbers = island_numbers(jacket.mesh) if jacket is not None else None
        self.right.setText("")
        if jacket is None or numbers is None:
            self.column.addWidget(soft("None yet; cut or flatten first."))
            return
        islands = islands_of(jacket.mesh, state.sheets)
        first = np.unique(islands.labels, return_index=True)[1]
        label_of = {int(numbers[f]): k for k, f in enumerate(first.tolist())}
        rows = [r for r in jacket.islands if r.id in label_of]
        done = sum(r.done for r in rows)
        self.right.setText(f"{done} of {len(rows)} done" if done else f"{len(rows)}")
        held = set(np.unique(numbers[state.held.of("faces")]).tolist()) if len(state.held.of("faces")) else set()
        area = islands.pixel_area
        order = sorted(rows, key=lambda r: -float(area[label_of[r.id]]))
        for record in order[:MOST_ROWS]:
            k = label_of[record.id]
            self._island(record, f"{np.sqrt(area[k]):,.0f} px" if islands.mapped[k] else "not flat", record.id in held)
        if len(order) > MOST_ROWS:
            self.column.addWidget(soft(f"and {len(order) - MOST_ROWS} smaller ones"))
        self.desk.pictograms(self, ("name-island", "group-islands", "lock-islands", "done-islands"))

    def key(self) -> object:
        state = self.desk.program.document.state
        jacket = state.jacket
        if jacket is None:
            return None
        mesh = jacket.mesh
        return (jacket.islands, mesh.aspect("uv"), mesh.aspect("cuts"), mesh.aspect("faces"), state.held, state.sheets)

    def _island(self, record: IslandRecord, size: str, held: bool) -> None:
        row = QPushButton()
        row.setObjectName("chosen" if held else "row")
        row.setAccessibleName(record.name)
        row.setToolTip("Click to hold this island.")
        line = QHBoxLayout(row)
        line.setContentsMargins(6, 0, 6, 0)
        name = QLabel(("✓ " if record.done else "") + record.name)
        line.addWidget(name)
        line.addStretch(1)
        marks = ("locked · " if record.lock else "") + (f"{record.group} · " if record.group else "")
        line.addWidget(soft(marks + size, False))
        row.setMinimumHeight(22)
        row.clicked.connect(partial(self._hold, record.id))
        self.column.addWidget(row)

    def _hold(self, number: int) -> None:
        document = self.desk.program.document
        numbers = island_numbers(document.require_jacket().mesh)
        if numbers is not None:
            document.hold("faces", np.flatnonzero(numbers == number))


CARDS = (SheetCard, PackCard, IslandsCard)
