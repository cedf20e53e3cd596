"""Commands for texel density: read it, set it, match it, give islands more or less of it than others."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.commands.beside import Quiet, beside
from jacket.commands.common import has_uvs
from jacket.commands.host import Host, Run
from jacket.commands.model import Command
from jacket.core.derive import islands_of
from jacket.core.layout.arrange import at_density, densities, density_of, each_transformed, middles
from jacket.core.layout.pieces import Bonds
from jacket.core.mesh.polymesh import Floats
from jacket.core.uv.identity import island_numbers, numbers_by_label
from jacket.core.uv.islands import Islands, evened_density
from jacket.document.document import Document
from jacket.document.edits import uvs
from jacket.document.state import JacketObject
from jacket.errors import JacketError
from jacket.stages.layout.arranging import held_ids, leading, on_flat_islands, wanted_ids
from jacket.stages.layout.values import LayoutValues

LEAST, MOST = 0.01, 100.0


def _even(host: Quiet) -> None:
    jacket = host.document.open_jacket()
    mesh = jacket.mesh
    if mesh.uv is None:
        raise JacketError("There are no UVs yet; flatten the jacket first.")
    islands = islands_of(mesh, host.document.state.sheets)
    weigh = Bonds.of(islands, island_numbers(mesh), jacket.islands).weigh
    host.document.edit_jacket("even the density", mesh.with_uv(evened_density(islands, weigh)))


def _set(host: Quiet) -> None:
    """The held islands, or all, at the density that is typed."""
    state, values = host.document.state, host.values(LayoutValues)
    mesh = host.document.open_jacket().mesh
    islands = islands_of(mesh, state.sheets)
    ids = held_ids(state) or np.flatnonzero(np.isfinite(densities(islands))).tolist()
    host.document.edit_jacket("set the density", mesh.with_uv(at_density(islands, ids, values.density)))


def _read(host: Host) -> None:
    """Take the density of the island held last as the one that is set."""
    islands, _ = wanted_ids(host)
    values = host.values(LayoutValues)
    value = density_of(islands, leading(host.document.state, islands))
    if value <= 0:
        raise JacketError("This island has no area; hold another.")
    host.put(LayoutValues, "density", value)
    host.say(f"{values.told(value)} pixels a {'centimetre' if values.density_unit == 'cm' else 'unit'} are set.")


def _match(host: Quiet) -> None:
    """All other islands at the density of the one held last."""
    islands, ids = wanted_ids(host)
    lead = leading(host.document.state, islands)
    others = ids if len(ids) > 1 else np.flatnonzero(np.isfinite(densities(islands))).tolist()
    others = [k for k in others if k != lead]
    mesh = host.document.open_jacket().mesh
    host.document.edit_jacket("match the density", mesh.with_uv(at_density(islands, others, density_of(islands, lead))))


def weighed(jacket: JacketObject, islands: Islands, ids: list[int], factor: float | None) -> tuple[Floats, dict[int, float]]:
    """UVs (C, 2) with islands so many times as dense as before about their middles, None for as dense as the others, and
    what their numbers weigh then."""
    numbers = numbers_by_label(jacket.mesh, islands.labels, islands.count)[ids].tolist()
    now = {r.id: r.weigh for r in jacket.islands}
    weigh = {n: float(np.clip(now[n] * factor, LEAST, MOST)) if factor else 1.0 for n in numbers if n in now}
    change = np.array([weigh[n] / now[n] if n in weigh else factor or 1.0 for n in numbers])
    uv = each_transformed(islands, ids, change[:, None, None] * np.eye(2), np.zeros((len(ids), 2)), middles(islands, ids))
    return uv, weigh


def weigh_islands(document: Document, jacket: JacketObject, ids: list[int], factor: float | None) -> None:
    """Islands of a layer weighed, from how it was; within a gesture or as a step of its own."""
    islands = islands_of(jacket.mesh, document.state.sheets)
    uv, weigh = weighed(jacket, islands, ids, factor)
    document.edit_jacket("weigh islands", jacket.mesh.with_uv(uv))
    if weigh:
        uvs.change_islands(document, "weigh islands", tuple(weigh), lambda r: replace(r, weigh=weigh[r.id]))


def _weigh(factor: float | None) -> Run:
    """Held islands so many times as dense as before, at once and in every packing; None takes the weights away."""

    def run(host: Quiet) -> None:
        _, ids = wanted_ids(host)
        jacket = host.document.open_jacket()
        with host.document.transaction("weigh islands"):
            weigh_islands(host.document, jacket, ids, factor)

    return beside("weigh islands", run)


COMMANDS = (
    Command("even-density", "Same density for all", "texel scale normalise", "", has_uvs, beside("even the densities", _even)),
    Command("set-density", "Set the density", "texel pixels per unit scale", "", has_uvs, beside("set the density", _set)),
    Command("read-density", "Read the density", "texel pixels per unit pick", "", on_flat_islands, _read),
    Command("match-density", "Match others to the last held", "texel pixels per unit", "", on_flat_islands, beside("match the density", _match)),
    Command("weigh-more", "Half as dense again", "texel larger important weight", "", on_flat_islands, _weigh(1.5)),
    Command("weigh-less", "A third less dense", "texel smaller unimportant weight", "", on_flat_islands, _weigh(1 / 1.5)),
    Command("weigh-plain", "As dense as the others", "texel weight reset", "", on_flat_islands, _weigh(None)),
)
