"""The cards of the Layout stage: sheets, places in numbers, density, twins, packing."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QColorDialog, QComboBox, QHBoxLayout, QLabel, QPushButton, QWidget

from jacket.core.derive import islands_of
from jacket.core.layout.arrange import USUAL, box_of, densities, density_of, transformed, turned
from jacket.core.mesh.polymesh import Floats
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import APART
from jacket.document.edits import sheets
from jacket.qt.cards.base import choice_box, soft
from jacket.qt.cards.ledger import LedgerCard
from jacket.qt.cards.stage import StageCard
from jacket.qt.fields import NumberField
from jacket.stages.layout.arranging import held_ids, pivot
from jacket.stages.layout.values import LayoutValues

TURNS = (("upright", "straight ones stand"), ("free", "any"), ("quarter", "quarters"), ("none", "none"))
SIZES = tuple((str(2**k), f"{2**k} px") for k in range(6, 14))
KEEPS = (("fill", "as large as fits"), ("sizes", "sizes among them"), ("density", "a density"))
GROUNDS = (("paper", "paper"), ("white", "white"), ("black", "black"), ("none", "transparent"))
FILL_WORDS = (("tints", "in tints"), ("plain", "plain"), ("none", "not filled"))
UNITS = (("u", "a unit"), ("m", "a metre"), ("cm", "a centimetre"))


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
        levels = tuple((str(k), "on the sheet" if k == 0 else f"at mip {k}") for k in range(7))
        self.row("that holds", choice_box("Margin holds", levels, str(sheet.mip), lambda v: self._change("mip", int(v))))
        edge = sheet.margin if sheet.edge is None else sheet.edge
        self.row("To the edge", self._number("To the edge", "edge", edge, 0, 512, "px"))
        self.row("Wanted density", self._number("Wanted density", "least", sheet.least, 0, 1e6, "px a unit"))
        if len(state.sheets) > 1:
            self.row("Tile", self._number("Tile", "tile", sheet.tile, 1001, 9999, ""))
        desk.pictograms(self, ("add-sheet", "rename-sheet", "remove-sheet"))

    def key(self) -> object:
        state = self.desk.program.document.state
        return (state.sheets, state.active_sheet)

    def _change(self, name: str, value: float) -> None:
        document = self.desk.program.document
        state = document.state
        kind = float if name in ("margin", "edge", "least") else int
        change: dict[str, Any] = {name: kind(value)}
        if name == "edge" and value == state.sheet.margin:
            change = {name: None}
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


class PlaceCard(StageCard):
    """Where the held islands lie, in numbers to type; and what lays them in line, turns and mirrors them."""

    name, heading = "layout place", "Held islands"
    waits = True
    watches = frozenset({"jackets", "active", "held", "sheets", "values"})

    def fill(self) -> None:
        desk, state = self.desk, self.desk.program.document.state
        ids = held_ids(state)
        self.right.setText(f"{len(ids)}" if ids else "")
        if not ids:
            self.column.addWidget(soft("Hold an island to see and type where it lies."))
            return
        islands = self._islands()
        box, sheet = box_of(islands, ids), islands.sheets[max(int(islands.sheet_of[ids[0]]), 0)]
        low, span = box[:2] - sheet.origin * APART, box[2:] - box[:2]
        self.row("At", self._pair(("Left", low[0], partial(self._to, 0)), ("Bottom", low[1], partial(self._to, 1))))
        self.row("Size", self._pair(("Width", span[0], partial(self._size, 0)), ("Height", span[1], partial(self._size, 1))))
        self.row("Move by", self._pair(("Across", 0.0, partial(self._by, 0)), ("Up", 0.0, partial(self._by, 1))))
        turn = NumberField(0.0, -360, 360, "°", whole=False)
        turn.setAccessibleName("Turn by")
        turn.changed.connect(self._turn)
        self.row("Turn by", turn)
        self.row("Align to the sheet", desk.switch(LayoutValues, "to_sheet", "Align to the sheet"))
        desk.pictograms(self, (
            "align-left", "align-up", "align-right", "align-bottom", "align-across", "align-top", "spread-across", "spread-up",
            "fit-sheet", "fit-width", "fit-height", "turn-left", "turn-right", "mirror-across", "mirror-up", "stand-box",
            "stand-edge", "like-size", "like-turning", "like-place", "to-sheet",
        ))  # fmt: skip

    def key(self) -> object:
        state = self.desk.program.document.state
        mesh = state.jacket.mesh if state.jacket is not None else None
        return (mesh.aspect("uv") if mesh is not None else None, state.held, state.sheets)

    def _islands(self) -> Islands:
        state = self.desk.program.document.state
        return islands_of(self.desk.program.document.require_jacket().mesh, state.sheets)

    def _pair(self, *fields: tuple[str, float, Any]) -> QWidget:
        whole = QWidget()
        line = QHBoxLayout(whole)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        for label, value, take in fields:
            field = NumberField(round(float(value), 2), -1e6, 1e6, "px", whole=False)
            field.setAccessibleName(label)
            field.setFixedWidth(78)
            field.changed.connect(take)
            line.addWidget(field)
        return whole

    def _lay(self, step: str, change: Any) -> None:
        """Lay the held islands otherwise; what was typed and refused is shown as it is."""
        document = self.desk.program.document
        ids = held_ids(document.state)

        def run() -> None:
            islands = self._islands()
            document.edit_jacket(step, document.open_jacket().mesh.with_uv(change(islands, ids)))

        self.desk.guarded(run)
        self.refresh(set(), force=True)

    def _to(self, axis: int, value: float) -> None:
        def change(islands: Islands, ids: list[int]) -> Floats:
            sheet = islands.sheets[max(int(islands.sheet_of[ids[0]]), 0)]
            shift = np.zeros(2)
            shift[axis] = value - (box_of(islands, ids)[axis] - sheet.origin[axis] * APART)
            return transformed(islands, ids, np.eye(2), shift, np.zeros(2))

        self._lay("move islands", change)

    def _by(self, axis: int, value: float) -> None:
        self._lay("move islands", lambda i, ids: transformed(i, ids, np.eye(2), np.eye(2)[axis] * value, np.zeros(2)))

    def _size(self, axis: int, value: float) -> None:
        def change(islands: Islands, ids: list[int]) -> Floats:
            box = box_of(islands, ids)
            factor = max(value, 0.01) / max(float(box[2 + axis] - box[axis]), 1e-9)
            return transformed(islands, ids, np.eye(2) * factor, np.zeros(2), pivot(islands, ids, self.desk.program))

        self._lay("scale islands", change)

    def _turn(self, value: float) -> None:
        self._lay("turn islands", lambda i, ids: turned(i, ids, value, pivot(i, ids, self.desk.program)))


class DensityCard(StageCard):
    """Texel density: what it is, what it is to be, and how islands differ in it."""

    name, heading = "layout density", "Density"
    waits = True
    watches = frozenset({"jackets", "active", "held", "sheets", "values"})

    def fill(self) -> None:
        desk = self.desk
        state, values = desk.program.document.state, desk.program.values(LayoutValues)
        self.row("Pixels", desk.choose(LayoutValues, "density_unit", "Pixels of density", UNITS))
        mesh = state.jacket.mesh if state.jacket is not None else None
        if mesh is not None and mesh.uv is not None:
            islands = islands_of(mesh, state.sheets)
            every = densities(islands)
            every = every[np.isfinite(every)]
            held = [density_of(islands, k) for k in held_ids(state)]
            if held:
                self.row("Held", values.told(float(np.mean(held))))
            if len(every):
                self.row("All", f"{values.told(float(every.min()))} to {values.told(float(every.max()))}")
        unit = {"u": "px/u", "m": "px/m", "cm": "px/u"}[values.density_unit]
        usual = choice_box("Usual densities", (("", "usual …"), *((str(d), f"{d:,.0f} px/m, {what}") for d, what in USUAL)), "", self._usual)
        usual.setToolTip("What is usual for what, a metre being a unit (common practice)")
        usual.setFixedWidth(86)
        field = desk.field(LayoutValues, "density", "Density to set", 1e-3, 1e6, unit, False)
        self.beside(usual, field)
        desk.grid(self, (("set-density", "Set"), ("read-density", "Read"), ("match-density", "Match"), ("even-density", "Even out")), 4)
        desk.grid(self, (("weigh-more", "Denser"), ("weigh-less", "Coarser"), ("weigh-plain", "As others")), 3)

    def key(self) -> object:
        program = self.desk.program
        state, values = program.document.state, program.values(LayoutValues)
        mesh = state.jacket.mesh if state.jacket is not None else None
        return (mesh.aspect("uv") if mesh is not None else None, state.held, state.sheets, values.density, values.density_unit)

    def _usual(self, value: str) -> None:
        if value:
            self.desk.program.put(LayoutValues, "density", float(value))


class TwinsCard(StageCard):
    """Islands of one shape."""

    name, heading = "layout twins", "Twins"
    watches = frozenset({"jackets", "active"})

    def fill(self) -> None:
        desk = self.desk
        jacket = desk.program.document.state.jacket
        stacked = sum(bool(r.twin) for r in jacket.islands) if jacket is not None else 0
        self.right.setText(f"{stacked} stacked" if stacked else "")
        desk.grid(self, (("hold-twins", "Hold"), ("stack-twins", "Stack"), ("unstack", "Take apart")), 3)
        desk.grid(self, (("lay-on", "Lay on by points"), ("offset-sheet", "A sheet on"), ("onset-sheet", "back")), 3)

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        return tuple(r.twin for r in jacket.islands) if jacket is not None else None


class PackCard(StageCard):
    """What packing may do, and packing."""

    name, heading = "layout pack", "Pack"
    watches = frozenset({"sheets", "jackets", "values"})

    def fill(self) -> None:
        desk = self.desk
        state, values = desk.program.document.state, desk.program.values(LayoutValues)
        self.row("Turning", desk.choose(LayoutValues, "turn", "Turning", TURNS))
        self.row("Mirrored", desk.switch(LayoutValues, "mirrored", "Islands may be mirrored"))
        self.row("Size", desk.choose(LayoutValues, "pack_size", "Size of islands", KEEPS))
        if values.pack_size == "density":
            self.row("", soft(f"{values.told(values.density)} {dict(UNITS)[values.density_unit][2:]}, as set under Density", False))
        self.row("Held only", desk.switch(LayoutValues, "only_held", "Pack only what is held, the rest stays"))
        if len(state.sheets) > 1:
            self.row("Share out anew", desk.switch(LayoutValues, "spread", "Share out among the sheets anew"))
        if len(state.jackets) > 1:
            self.row("All visible layers", desk.switch(LayoutValues, "together", "Pack all visible layers"))
        desk.number(self, "Takes at most", LayoutValues, "seconds", 0.5, 600.0, "s", False)
        desk.action(self, "pack", main=True)
        if values.pack_size == "density":
            desk.action(self, "pack-on-enough", text="On as many sheets as it takes")

    def key(self) -> object:
        program = self.desk.program
        state, values = program.document.state, program.values(LayoutValues)
        return (len(state.sheets) > 1, len(state.jackets) > 1, values.pack_size, values.density, values.density_unit)


class PictureCard(StageCard):
    """How the layout is drawn as a picture to paint on."""

    name, heading = "layout picture", "Layout picture"
    watches = frozenset({"values"})

    def fill(self) -> None:
        desk = self.desk
        desk.number(self, "Times the sheet", LayoutValues, "picture_times", 1, 16)
        self.row("Ground", desk.choose(LayoutValues, "picture_ground", "Ground of the picture", GROUNDS))
        self.row("Islands", desk.choose(LayoutValues, "picture_fill", "How islands are filled", FILL_WORDS))
        self.row("Names", desk.switch(LayoutValues, "picture_names", "Names in the picture"))
        self.row("Edges of quads", desk.switch(LayoutValues, "picture_lines", "Edges of quads in the picture"))
        for words, what in (("Seams", "seam"), ("Edges", "line")):
            colour = QPushButton()
            colour.setAccessibleName(f"Colour of {words.lower()}")
            colour.setFixedSize(26, 20)
            colour.setStyleSheet(f"background: {getattr(desk.program.values(LayoutValues), f'{what}_colour')};")
            colour.clicked.connect(partial(self._colour, f"{what}_colour"))
            wide = desk.field(LayoutValues, f"{what}_width", f"Width of {words.lower()}", 0.0, 64.0, "px", False)
            self.row(words, self._two(colour, wide))
        desk.action(self, "layout-picture")

    def key(self) -> object:
        values = self.desk.program.values(LayoutValues)
        return (values.seam_colour, values.line_colour)

    def _two(self, *widgets: QWidget) -> QWidget:
        whole = QWidget()
        line = QHBoxLayout(whole)
        line.setContentsMargins(0, 0, 0, 0)
        for widget in widgets:
            line.addWidget(widget)
        return whole

    def _colour(self, name: str) -> None:
        program = self.desk.program
        now = QColor(getattr(program.values(LayoutValues), name))
        chosen = QColorDialog.getColor(now, self, "Colour in the picture")
        if chosen.isValid():
            program.put(LayoutValues, name, chosen.name())


CARDS = (PlaceCard, PackCard, LedgerCard, DensityCard, TwinsCard, SheetCard, PictureCard)
