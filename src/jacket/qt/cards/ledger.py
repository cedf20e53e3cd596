"""The ledger of islands: name, size, density, stretch, sheet and whether it is done; rows and islands light each other."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QLineEdit, QPushButton, QWidget

from jacket.core.derive import islands_of, stretch_of
from jacket.core.layout.arrange import densities
from jacket.core.layout.pieces import stacked_on
from jacket.core.mesh.geometry import face_areas
from jacket.core.uv.identity import IslandRecord, numbers_by_label
from jacket.document.edits import uvs
from jacket.document.state import State
from jacket.qt.cards.base import Desk, choice_box, soft
from jacket.qt.cards.stage import StageCard
from jacket.stages.layout.values import LayoutValues

MOST_ROWS = 60
ORDERS = (("size", "by size"), ("name", "by name"), ("density", "by density"), ("stretch", "by stretch"), ("sheet", "by sheet"), ("done", "by done"))


@dataclass(frozen=True)
class Row:
    """What the ledger tells of an island; the size in pixels of its sheet, the stretch as mean |log₂| of area."""

    record: IslandRecord
    label: int
    size: float
    density: float
    stretch: float
    sheet: str
    mapped: bool
    stacked: int


def ledger_rows(state: State) -> list[Row]:
    """A row for each island of the active UV set that lies under no other."""
    jacket = state.jacket
    if jacket is None:
        return []
    mesh = jacket.mesh
    islands = islands_of(mesh, state.sheets)
    numbers = numbers_by_label(mesh, islands.labels, islands.count)
    label_of = {int(n): k for k, n in enumerate(numbers.tolist()) if n}
    density, area = densities(islands), face_areas(mesh)
    off = np.abs(np.nan_to_num(stretch_of(mesh, state.sheets))) if mesh.uv is not None else np.zeros(mesh.n_faces)
    stretch = np.bincount(islands.labels, off * area, minlength=islands.count) / np.maximum(islands.surface_area, 1e-300)
    under = stacked_on(islands, numbers, jacket.islands)
    out = []
    for record in jacket.islands:
        k = label_of.get(record.id)
        if k is None or under[k] >= 0:
            continue
        where = int(islands.sheet_of[k])
        tile = str(state.sheets[where].tile) if where >= 0 else "beside"
        out.append(Row(record, k, float(islands.pixel_area[k]), float(density[k]), float(stretch[k]), tile, bool(islands.mapped[k]),
                       int((under == k).sum())))  # fmt: skip
    return out


def in_order(rows: list[Row], order: str) -> list[Row]:
    """Sorted: the largest, densest and most stretched first, names and sheets as in a book, what is not done first."""
    keys = {"name": lambda r: (r.record.name.lower(),), "sheet": lambda r: (r.sheet, -r.size), "done": lambda r: (r.record.done, -r.size),
            "density": lambda r: (-np.nan_to_num(r.density),), "stretch": lambda r: (-r.stretch,)}  # fmt: skip
    return sorted(rows, key=keys.get(order, lambda r: (-r.size,)))


class LedgerCard(StageCard):
    """The islands of the active UV set: a click on a row holds one, on its mark says that it is done."""

    name, heading = "layout islands", "Islands"
    watches = frozenset({"jackets", "active", "sheets", "values"})
    waits = True

    def __init__(self, desk: Desk) -> None:
        self.wanted = ""
        self.names: dict[int, QPushButton] = {}
        super().__init__(desk)

    def fill(self) -> None:
        desk, state = self.desk, self.desk.program.document.state
        rows = ledger_rows(state)
        self.names = {}
        self.right.setText("")
        if not rows:
            self.column.addWidget(soft("None yet; cut or flatten first."))
            return
        done = sum(r.record.done for r in rows)
        self.right.setText(f"{done} of {len(rows)} done")
        search = QLineEdit(self.wanted)
        search.setPlaceholderText("Find by name or group")
        search.setAccessibleName("Find islands by name or group")
        search.setClearButtonEnabled(True)
        search.textEdited.connect(self._find)
        order = choice_box("Order of the ledger", ORDERS, desk.program.values(LayoutValues).order,
                           lambda v: desk.program.put(LayoutValues, "order", v))  # fmt: skip
        self.beside(search, order)
        self.table = QWidget()
        self.grid = QGridLayout(self.table)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(6)
        self.grid.setVerticalSpacing(1)
        self.grid.setColumnStretch(1, 1)
        self.column.addWidget(self.table)
        self._fill_table(rows)
        desk.pictograms(self, ("name-island", "group-islands", "lock-islands", "done-islands", "hold-left", "lock-done"))

    def _fill_table(self, rows: list[Row]) -> None:
        state = self.desk.program.document.state
        values = self.desk.program.values(LayoutValues)
        self.names = {}
        held = set(uvs.held_islands(state))
        for column, head in enumerate(("", "", "px", "px/u" if values.density_unit == "u" else f"px/{values.density_unit}", "stretch", "sheet")):
            if head:
                label = soft(head, False)
                label.setAlignment(Qt.AlignmentFlag.AlignRight)
                self.grid.addWidget(label, 0, column)
        words = self.wanted.lower().split()
        found = [r for r in rows if all(w in f"{r.record.name} {r.record.group}".lower() for w in words)]
        for n, row in enumerate(in_order(found, values.order)[:MOST_ROWS], 1):
            self._row(n, row, row.record.id in held)
        if len(found) > MOST_ROWS:
            self.grid.addWidget(soft(f"and {len(found) - MOST_ROWS} more", False), MOST_ROWS + 1, 1)
        if not found:
            self.grid.addWidget(soft("No island is called so.", False), 1, 1)

    def _row(self, n: int, row: Row, held: bool) -> None:
        record = row.record
        mark = QPushButton("✓" if record.done else "○")
        mark.setObjectName("link")
        mark.setFixedSize(18, 20)
        mark.setAccessibleName(f"{record.name} is done")
        mark.setToolTip("Done, or not yet")
        mark.clicked.connect(partial(self._done, record.id, not record.done))
        self.grid.addWidget(mark, n, 0)
        times = f" ×{row.stacked + 1}" if row.stacked else ""
        name = QPushButton(record.name + times + (" ⚿" if record.lock else ""))
        name.setObjectName("chosen" if held else "row")
        name.setAccessibleName(record.name)
        name.setStyleSheet("text-align: left; padding: 1px 4px;")
        name.setToolTip(f"{record.name}{f', in the group {record.group}' if record.group else ''}: click to hold it")
        name.clicked.connect(partial(self._hold, record.id))
        self.grid.addWidget(name, n, 1)
        self.names[record.id] = name
        values = self.desk.program.values(LayoutValues)
        texts = (_short(row.size), values.told(row.density) if np.isfinite(row.density) else "–", f"{2**row.stretch:.2f}", row.sheet)
        for column, text in enumerate(texts if row.mapped else ("not flat", "", "", ""), 2):
            label = QLabel(text)
            label.setObjectName("soft")
            label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.grid.addWidget(label, n, column)

    def key(self) -> object:
        program = self.desk.program
        state, values = program.document.state, program.values(LayoutValues)
        jacket = state.jacket
        if jacket is None:
            return None
        mesh = jacket.mesh
        return (jacket.islands, mesh.aspect("uv"), mesh.aspect("cuts"), mesh.aspect("faces"), state.sheets, values.order,
                values.density_unit)  # fmt: skip

    def refresh(self, changed: set[str], force: bool = False) -> bool:
        """Fill the card anew where that is called for; what is held only changes how rows look."""
        filled = super().refresh(changed, force)
        if "held" in changed and self.names:
            held = set(uvs.held_islands(self.desk.program.document.state))
            for number, button in self.names.items():
                look = "chosen" if number in held else "row"
                if button.objectName() != look:
                    button.setObjectName(look)
                    button.style().unpolish(button)
                    button.style().polish(button)
        return filled

    def _find(self, text: str) -> None:
        self.wanted = text
        while self.grid.count():
            item = self.grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self._fill_table(ledger_rows(self.desk.program.document.state))

    def _hold(self, number: int) -> None:
        document = self.desk.program.document
        mesh = document.require_jacket().mesh
        islands = islands_of(mesh, document.state.sheets)
        numbers = numbers_by_label(mesh, islands.labels, islands.count)
        document.hold("faces", np.flatnonzero(numbers[islands.labels] == number))

    def _done(self, number: int, done: bool) -> None:
        document = self.desk.program.document
        step = "mark an island as done" if done else "mark an island as not done"
        self.desk.guarded(lambda: uvs.change_islands(document, step, (number,), lambda r: replace(r, done=done)))


def _short(pixels: float) -> str:
    """Square pixels in few letters."""
    if pixels >= 1e6:
        return f"{pixels / 1e6:.1f} M"
    return f"{pixels / 1e3:.0f} k" if pixels >= 1e4 else f"{pixels:,.0f}"
