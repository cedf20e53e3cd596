"""The card of the Deliver stage."""

from __future__ import annotations

from jacket.formats.deliver.profiles import PROFILES
from jacket.qt.cards.base import soft
from jacket.qt.cards.stage import StageCard
from jacket.stages.deliver.values import DeliverValues


class DeliverCard(StageCard):
    """Axes and units, what goes out, and the button."""

    name, heading = "deliver", "Deliver"
    watches = frozenset({"jackets", "sheets"})

    def fill(self) -> None:
        state = self.desk.program.document.state
        options = [(name, profile.label) for name, profile in PROFILES.items()]
        self.row("Axes and units", self.desk.choose(DeliverValues, "profile", "Axes and units", options))
        going = [j for j in state.jackets if j.visible and j.mesh.n_faces]
        for layer in going:
            uv = f"UV set {layer.mesh.active_uv}" if layer.mesh.active_uv else "no UVs"
            self.row(layer.name, f"{layer.mesh.n_faces:,} faces · {uv}")
        rest = sum(not j.visible and j.mesh.n_faces > 0 for j in state.jackets)
        if rest:
            self.column.addWidget(soft(f"{rest} hidden layer{'s stay' if rest > 1 else ' stays'} here; show what is to go out."))
        self.desk.action(self, "deliver", main=True)
        pictures = "a layout picture for each sheet" if len(state.sheets) > 1 else "the layout as a picture"
        self.column.addWidget(soft(f"Writes OBJ with MTL, GLB, {pictures} and a report of the checks."))

    def key(self) -> object:
        state = self.desk.program.document.state
        rows = tuple((j.name, j.visible, j.mesh.n_faces, j.mesh.active_uv) for j in state.jackets)
        return (rows, len(state.sheets))


CARDS = (DeliverCard,)
