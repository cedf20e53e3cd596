"""The card of the Seams stage."""

from __future__ import annotations

from jacket.qt.cards.base import soft
from jacket.qt.cards.stage import StageCard
from jacket.stages.seams.values import SeamsValues


class CutCard(StageCard):
    """Suggesting, cutting and sewing."""

    name, heading = "seams cut", "Seams"
    watches = frozenset({"jackets", "active"})

    def fill(self) -> None:
        desk = self.desk
        desk.action(self, "suggest-seams", main=True)
        self.beside(desk.small("cut-angle", "Cut above the angle"), desk.field(SeamsValues, "angle", "Angle", 1, 179, "°", False))
        self.beside(desk.small("cut-held", "Cut what is held"), desk.small("sew-held", "Sew it"))
        desk.action(self, "clear-seams", hide=True)
        jacket = desk.program.document.state.jacket
        if jacket is not None and len(jacket.mesh.uv_sets) > 1:
            self.column.addWidget(soft(f"Cuts belong to the UV set {jacket.mesh.active_uv}."))

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        return (jacket.mesh.active_uv, len(jacket.mesh.uv_sets)) if jacket is not None else None


CARDS = (CutCard,)
