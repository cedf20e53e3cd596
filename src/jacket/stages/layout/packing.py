"""Packing in the window: what is packed, watched while it gets better, taken when it is good enough."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.commands.host import Host, PackView
from jacket.core.derive import islands_of
from jacket.core.layout.pack import Glimpse
from jacket.document.edits import uvs
from jacket.document.state import JacketObject, State
from jacket.document.task import Ground, Task
from jacket.errors import JacketError
from jacket.jobs.pack import Packed, PackLayer, pack_at_density, pack_together
from jacket.progress import Progress
from jacket.stages.layout.values import LayoutValues


def layers_to_pack(state: State, values: LayoutValues) -> list[JacketObject]:
    """The layers that are packed: the active one, or all visible ones that map something, the active one first. Raises
    JacketError where one of them is locked."""
    active = state.jacket
    if active is None:
        raise JacketError("There is no jacket yet; draw quads or make a trial first.")
    others = [j for j in state.jackets if j.visible and j.id != active.id] if values.together else []
    rows = [active, *(j for j in others if j.mesh.uv is not None and np.isfinite(j.mesh.uv).any())]
    for layer in rows:
        if layer.locked:
            raise JacketError(f"{layer.name} is locked; unlock it on the bench first.")
    return rows


def _task(host: Host, grow: bool = False) -> Task:
    state, values = host.document.state, host.values(LayoutValues)
    layers = layers_to_pack(state, values)
    settings, sheets = values.packing(), state.sheets
    held = uvs.held_faces(layers[0].mesh, state.held) if state.jacket is not None and state.held.parts else None
    if values.only_held and (held is None or len(held) == 0):
        raise JacketError("Hold something on the islands that are to be packed first, or pack all.")
    rows = [
        PackLayer(j.mesh, j.islands, (held if j is layers[0] else np.zeros(0, np.int64)) if values.only_held else None,
                  islands_of(j.mesh, sheets)) for j in layers
    ]  # fmt: skip
    view = PackView(tuple(j.id for j in layers), values.seconds)
    host.show_packing(view)

    def watch(glimpse: Glimpse) -> bool:
        view.see(glimpse)
        host.watch_packing(view)
        return not view.enough

    def job(progress: Progress) -> Packed:
        if grow:
            return pack_at_density(rows, sheets[0], settings, progress, watch)
        return pack_together(rows, sheets, settings, progress, watch)

    def merge(result: Packed) -> None:
        document = host.document
        with document.transaction("pack the sheets"):
            if result.sheets != document.state.sheets:
                document.apply("pack the sheets", document.state.with_(sheets=result.sheets, active_sheet=0))
            for layer, mesh in zip(layers, result.meshes, strict=True):
                document.edit_layer("pack the sheets", layer.id, mesh)
        host.say(_told(result, values))

    grounds = tuple(Ground("layer", j.id, j.mesh) for j in layers)
    return Task("pack the sheets", job, merge, grounds, lambda: host.start(_task(host, grow)))


def _told(result: Packed, values: LayoutValues) -> str:
    used = [f"{100 * u:.1f} %" for u in result.result.uses]
    unit = {"u": "unit", "m": "metre", "cm": "centimetre"}[values.density_unit]
    return f"{' · '.join(used)} used, {values.told(result.result.density)} pixels a {unit}."


def pack_sheets(host: Host) -> None:
    """Pack on the sheets there are."""
    host.start(_task(host))


def pack_on_enough(host: Host) -> None:
    """Pack at the density that is set on as many sheets as it takes."""
    values = host.values(LayoutValues)
    if values.pack_size != "density":
        raise JacketError("So many sheets as it takes needs a density to keep; choose 'a density' on the Pack card first.")
    host.start(_task(host, grow=True))


def good_enough(host: Host) -> None:
    """Take what packing has found so far."""
    view: Any = host.packing
    if view is None:
        raise JacketError("Nothing is being packed.")
    view.enough = True
