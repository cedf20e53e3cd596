"""The cards of the Flatten stage: laying flat, UV sets."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton

from jacket.core.mesh.polymesh import CUT, UV
from jacket.document.edits import uvs
from jacket.qt.cards.base import soft
from jacket.qt.cards.stage import StageCard


class FlattenCard(StageCard):
    """Laying islands flat."""

    name, heading = "flatten", "Flatten"

    def fill(self) -> None:
        self.desk.action(self, "flatten", main=True)
        self.desk.action(self, "flatten-held")
        for name, label in (("checker", "Checker"), ("stretch", "Stretch as colour")):
            self.desk.shown_switch(self, name, label)


class SetsCard(StageCard):
    """The UV sets of the active layer: click to work on one."""

    name, heading = "flatten sets", "UV sets"
    watches = frozenset({"jackets", "active"})

    def fill(self) -> None:
        jacket = self.desk.program.document.state.jacket
        mesh = jacket.mesh if jacket is not None else None
        for name in mesh.uv_sets if mesh is not None else ():
            row = QPushButton()
            row.setObjectName("chosen" if mesh is not None and name == mesh.active_uv else "row")
            row.setAccessibleName(f"UV set {name}")
            row.setToolTip("Click to work on this UV set.")
            line = QHBoxLayout(row)
            line.setContentsMargins(6, 0, 6, 0)
            line.addWidget(QLabel(name))
            line.addStretch(1)
            cuts = len(mesh.mark(CUT + name)) if mesh is not None else 0
            flat = "flat" if mesh is not None and UV + name in mesh.corner_data else "not flat"
            line.addWidget(soft(f"{cuts:,} cuts · {flat}", False))
            row.setMinimumHeight(24)
            row.clicked.connect(partial(self.desk.guarded, partial(uvs.choose_set, self.desk.program.document, name)))
            self.column.addWidget(row)
        if mesh is None or not mesh.uv_sets:
            self.column.addWidget(soft("None yet; the first comes with a cut or with flattening."))
        self.desk.pictograms(self, ("add-set", "copy-set", "rename-set", "remove-set"))

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        if jacket is None:
            return None
        mesh = jacket.mesh
        return (mesh.uv_sets, mesh.active_uv, *((len(mesh.mark(CUT + n)), UV + n in mesh.corner_data) for n in mesh.uv_sets))


CARDS = (FlattenCard, SetsCard)
