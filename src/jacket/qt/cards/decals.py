"""The card of decals: the picture in hand, what lies on the active layer, and the numbers of the one that was touched."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QPushButton, QSizePolicy

from jacket.core.bake.decals import LAID, Decal
from jacket.document.edits.decals import change_decal, drop_decal
from jacket.formats.deliver.laid import stencil_of
from jacket.qt.cards.base import choice_box, soft, switch_box
from jacket.qt.cards.stage import StageCard
from jacket.qt.fields import NumberField
from jacket.stages.deliver.pressing import set_decal, turn_decal


class DecalsCard(StageCard):
    """What lies on the active layer, the uppermost first."""

    name, heading = "deliver decals", "Decals"
    watches = frozenset({"jackets", "active", "tool", "display"})
    waits = True

    def fill(self) -> None:
        program = self.desk.program
        layer, tools = program.document.state.jacket, program.tool_settings
        decals = layer.decals if layer is not None else ()
        self.right.setText(f"{len(decals)}" if decals else "none")
        self.row("Picture in hand", Path(tools.picture).name if tools.picture else "none")
        if layer is None or not decals:
            self.column.addWidget(soft("Take the tool Decal and click on the form; the maps get it wherever its islands lie."))
            return
        for decal in reversed(decals):
            self._row(layer.id, decal, decal.id == tools.decal)
        chosen = next((d for d in decals if d.id == tools.decal), None)
        if chosen is not None:
            self._numbers(chosen)

    def _row(self, layer: int, decal: Decal, chosen: bool) -> None:
        program = self.desk.program
        there = stencil_of(decal.path) is not None
        name = QPushButton(f"{decal.name}{'' if there else ' · picture is gone'}")
        name.setObjectName("chosen" if chosen else "row")
        name.setToolTip(f"{decal.path}\nlies in {decal.role}")
        name.clicked.connect(partial(self._choose, decal.id))
        shown = switch_box("", decal.shown, lambda on: self.desk.guarded(lambda: change_decal(program.document, layer, decal.id, "show a decal", shown=on)))
        shown.setAccessibleName(f"Show {decal.name}")
        name.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        shown.setFixedWidth(20)
        away = QPushButton("×")
        away.setObjectName("row")
        away.setFixedSize(18, 20)
        away.setAccessibleName(f"Take {decal.name} off")
        away.clicked.connect(lambda: self.desk.guarded(lambda: drop_decal(program.document, layer, decal.id)))
        self.beside(name, shown, away)

    def _choose(self, decal: int) -> None:
        self.desk.program.tool_settings.decal = decal
        self.desk.refill_wanted.emit(self.name)

    def _numbers(self, decal: Decal) -> None:
        desk, program = self.desk, self.desk.program

        def put(**changes: object) -> None:
            desk.guarded(lambda: set_decal(program, **changes))

        self.row("Lies in", choice_box("Lies in", [(r, r) for r in LAID], decal.role, lambda v: put(role=v)))
        side = 1.0 if decal.width > 0 else -1.0
        self._number("Width", abs(decal.width), "u", lambda v: put(width=side * v))
        self._number("Height", decal.height, "u", lambda v: put(height=v))
        self._number("Strength", 100 * decal.strength, "%", lambda v: put(strength=min(v / 100, 1.0)), 0.0)
        self._number("Reach", decal.reach, "u", lambda v: put(reach=v)).setToolTip("How far before and behind its plane a surface takes it")
        turn = NumberField(0.0, -360, 360, "°", False)
        turn.setAccessibleName("Turn by")
        turn.changed.connect(lambda v: desk.guarded(lambda: turn_decal(program, v)))
        self.row("Turn by", turn)
        desk.grid(self, (("decal-mirror", "Mirror it"), ("decal-top", "Above all"), ("decal-off", "Take it off")), 3)

    def _number(self, label: str, value: float, unit: str, take: object, least: float = 1e-9) -> NumberField:
        field = NumberField(float(f"{value:.4g}"), least, 1e9, unit, False)
        field.setAccessibleName(label)
        field.changed.connect(take)
        self.row(label, field)
        return field

    def key(self) -> object:
        program = self.desk.program
        layer, tools = program.document.state.jacket, program.tool_settings
        return (layer.id, layer.decals, tools.decal, tools.picture) if layer is not None else None
