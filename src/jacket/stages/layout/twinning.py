"""Commands for twins: islands of one shape found, stacked point on point and taken apart again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.commands.beside import Quiet, beside
from jacket.commands.common import has_uvs
from jacket.commands.model import Command
from jacket.core.derive import islands_of, twins_of
from jacket.core.layout.apart import laid_beside
from jacket.core.layout.twins import Twins
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.identity import IslandRecord, numbers_by_label
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import from_pixel_places
from jacket.document.edits import uvs
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.stages.layout.arranging import held_ids, leading, on_flat_islands
from jacket.stages.layout.stacking import stacked_mesh


def _found(host: Quiet) -> tuple[Islands, list[Twins]]:
    settings, state = host.tool_settings, host.document.state
    mesh = host.document.open_jacket().mesh
    islands = islands_of(mesh, state.sheets)
    return islands, twins_of(mesh, state.sheets, settings.likeness / 100, settings.mirror_twins)


def _hold_twins(host: Quiet) -> None:
    """Hold all twins: of what is held where something is held, else every island that has one."""
    islands, groups = _found(host)
    meant = set(held_ids(host.document.state))
    chosen = [k for g in groups if not meant or meant & set(g.islands) for k in g.islands]
    if not chosen:
        raise JacketError("No islands are of one shape; a wider tolerance on the Stack tool may find some.")
    host.document.hold("faces", np.flatnonzero(np.isin(islands.labels, chosen)))
    sizes = sorted((len(g.islands) for g in groups if not meant or meant & set(g.islands)), reverse=True)
    host.say(f"{len(chosen)} islands are twins: {', '.join(f'{n} of one shape' for n in sizes[:4])}.")


def _stack(host: Quiet) -> None:
    islands, groups = _found(host)
    state = host.document.state
    mesh, meant = host.document.open_jacket().mesh, set(held_ids(state))
    lead = leading(state, islands) if meant else None
    new, twin = stacked_mesh(islands, groups, numbers_by_label(mesh, islands.labels, islands.count), mesh, meant, lead)
    if not twin:
        raise JacketError("None of these islands are of one shape; a wider tolerance on the Stack tool may find more.")
    document = host.document
    with document.transaction("stack twins"):
        document.edit_jacket("stack twins", new)
        uvs.change_islands(document, "stack twins", tuple(twin), lambda r: replace(r, twin=twin[r.id]))
    host.say(f"{sum(bool(n) for n in twin.values())} islands lie on their twins now.")


def is_stacked(state: State) -> bool:
    """An island lies on another."""
    jacket = state.jacket
    return jacket is not None and any(r.twin for r in jacket.islands)


def _unstack(host: Quiet) -> None:
    """Take held stacks apart, or all where nothing is held: the upper ones are laid beside the sheet."""
    document = host.document
    jacket, state = document.open_jacket(), document.state
    meant = set(uvs.held_islands(state))
    rows = [r for r in jacket.islands if r.twin and (not meant or r.id in meant or r.twin in meant)]
    if not rows:
        raise JacketError("Nothing here is stacked.")
    islands = islands_of(jacket.mesh, state.sheets)
    numbers = numbers_by_label(jacket.mesh, islands.labels, islands.count)
    ids = np.flatnonzero(np.isin(numbers, [r.id for r in rows])).tolist()
    with document.transaction("unstack islands"):
        document.edit_jacket("unstack islands", jacket.mesh.with_uv(laid_beside(islands, ids)))
        uvs.change_islands(document, "unstack islands", tuple(r.id for r in rows), _alone)
    host.say(f"{len(rows)} islands lie beside the sheet now; pack to place them.")


def _alone(record: IslandRecord) -> IslandRecord:
    return replace(record, twin=0)


def _lay_on(host: Quiet) -> None:
    """Lay one island on another by two held points of each, the last held leads."""
    state, mesh = host.document.state, host.document.open_jacket().mesh
    islands = islands_of(mesh, state.sheets)
    points = state.held.of("points")
    lead = leading(state, islands)
    corners = {int(k): np.flatnonzero(np.isin(mesh.corners, points) & (islands.corner_labels == k)) for k in held_ids(state)}
    pairs = {k: _two(mesh, islands, c) for k, c in corners.items() if len(c)}
    others = [k for k in pairs if k != lead]
    if len(pairs) != 2 or any(p is None for p in pairs.values()):
        raise JacketError("Hold two points of each of two islands; the one held last stays where it is.")
    to, moved = pairs[lead], pairs[others[0]]
    assert to is not None and moved is not None
    scale = (to[1] - to[0]) / (moved[1] - moved[0])
    here = islands.corner_labels == others[0]
    at = islands.places[here] @ [1, 1j]
    place = (at - moved[0]) * scale + to[0]
    uv = islands.uv.copy()
    sheet = np.full(int(here.sum()), max(int(islands.sheet_of[lead]), 0))
    uv[here] = from_pixel_places(np.stack([place.real, place.imag], axis=1), sheet, islands.sheets)
    numbers = numbers_by_label(mesh, islands.labels, islands.count)
    one, base = int(numbers[others[0]]), int(numbers[lead])
    with host.document.transaction("lay an island on another"):
        host.document.edit_jacket("lay an island on another", mesh.with_uv(uv))
        if one and base:
            # What was laid on another by hand is a stack as any other: it is no overlap, and is packed as one.
            base = next((r.twin for r in host.document.require_jacket().islands if r.id == base and r.twin), base)
            uvs.change_islands(host.document, "lay an island on another", (one,), lambda r: replace(r, twin=base))


def _two(mesh: PolyMesh, islands: Islands, corners: np.ndarray) -> tuple[complex, complex] | None:
    """The places of two points in the order of their numbers; None where there are not two."""
    order, first = np.unique(mesh.corners[corners], return_index=True)
    if len(order) != 2:
        return None
    at = islands.places[corners[first]] @ [1, 1j]
    return (complex(at[0]), complex(at[1])) if at[0] != at[1] else None


COMMANDS = (
    Command("hold-twins", "Hold twins", "islands same shape find similar", "", has_uvs, beside("hold twins", _hold_twins)),
    Command("stack-twins", "Stack twins", "islands overlap share same shape", "", has_uvs, beside("stack twins", _stack)),
    Command("unstack", "Take stacks apart", "islands twins overlap separate", "", is_stacked, beside("take stacks apart", _unstack)),
    Command("lay-on", "Lay on by two points", "islands place point to point stack match", "", on_flat_islands, beside("lay an island on another", _lay_on)),
)
