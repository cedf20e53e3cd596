"""Commands that arrange islands: what is held on them says which are meant."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jacket.commands.beside import Quiet, beside
from jacket.commands.host import Run
from jacket.commands.model import Command
from jacket.core.derive import islands_of, layout_of
from jacket.core.layout import arrange
from jacket.core.layout.pieces import Bonds
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.store import STORE
from jacket.core.uv.identity import IslandRecord, island_numbers
from jacket.core.uv.islands import Islands
from jacket.document.edits import uvs
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.stages.layout.values import LayoutValues


def held_ids(state: State) -> list[int]:
    """Labels of the islands that something is held on and of those that are stacked with them; the mapped ones only."""
    jacket = state.jacket
    if jacket is None or jacket.mesh.uv is None or not state.held.parts:
        return []
    mesh, records = jacket.mesh, jacket.islands
    # Half a hundred buttons ask for it after every change.
    return STORE.get((state.held, mesh.aspect("face_data"), *layout_of(mesh)), ("held ids", state.sheets, records), lambda: _held_ids(mesh, state, records))


def _held_ids(mesh: PolyMesh, state: State, records: tuple[IslandRecord, ...]) -> list[int]:
    islands = islands_of(mesh, state.sheets)
    faces = uvs.held_faces(mesh, state.held)
    found = np.unique(islands.labels[faces])
    # A stack is one: who holds one of it holds them all.
    stack = Bonds.of(islands, island_numbers(mesh), records).stack
    several = np.flatnonzero(np.isin(stack, stack[found][stack[found] >= 0]))
    return [int(k) for k in np.union1d(found, several) if islands.mapped[k]]


def on_flat_islands(state: State) -> bool:
    """Something is held on an island that lies on a sheet."""
    return bool(held_ids(state))


def several(state: State) -> bool:
    """Something is held on two such islands or more."""
    return len(held_ids(state)) > 1


def wanted_ids(host: Quiet) -> tuple[Islands, list[int]]:
    """The islands and which of them are meant; raises JacketError where nothing is held."""
    state = host.document.state
    ids = held_ids(state)
    if not ids:
        raise JacketError("Hold something on the islands that are meant first.")
    return islands_of(host.document.open_jacket().mesh, state.sheets), ids


Change = Callable[[Islands, list[int], Quiet], Floats]


def changing(step: str, change: Change) -> Run:
    """A command that lays the held islands otherwise."""

    def run(host: Quiet) -> None:
        islands, ids = wanted_ids(host)
        mesh = host.document.open_jacket().mesh
        host.document.edit_jacket(step, mesh.with_uv(change(islands, ids, host)))

    return beside(step, run)


def pivot(islands: Islands, ids: list[int], host: Quiet) -> Floats | None:
    """What islands turn about: a point in pixel places, or each its own middle (None)."""
    name = host.tool_settings.pivot
    return None if name == "each" else arrange.pivot_of(islands, ids, name, held_points(host.document.state, islands))


def held_points(state: State, islands: Islands) -> Ints:
    """Points that are held, or that held edges end at."""
    return np.union1d(state.held.of("points"), islands.mesh.topology.edge_points[state.held.of("edges")].ravel())


def _align(side: str) -> Run:
    return changing(f"align islands {side}", lambda i, ids, h: arrange.aligned(i, ids, side, h.values(LayoutValues).to_sheet))


def _spread(axis: int) -> Run:
    return changing("spread islands", lambda i, ids, h: arrange.spread(i, ids, axis))


def _turn(degrees: float) -> Run:
    return changing("turn islands", lambda i, ids, h: arrange.turned(i, ids, degrees, pivot(i, ids, h)))


def _mirror(axis: int) -> Run:
    return changing("mirror islands", lambda i, ids, h: arrange.mirrored(i, ids, axis, pivot(i, ids, h)))


def _fit(how: str) -> Run:
    return changing("fit islands", lambda i, ids, h: arrange.fitted(i, ids, how))


def _along(host: Quiet) -> None:
    state = host.document.state
    edges = state.held.of("edges").tolist()
    if not edges:
        raise JacketError("Hold an edge of each island that is to run across or up first.")
    mesh = host.document.open_jacket().mesh
    host.document.edit_jacket("lay islands by an edge", mesh.with_uv(arrange.along_edge(islands_of(mesh, state.sheets), edges)))


def _alike(what: str) -> Run:
    def run(host: Quiet) -> None:
        islands, ids = wanted_ids(host)
        leader = leading(host.document.state, islands)
        mesh = host.document.open_jacket().mesh
        host.document.edit_jacket(f"give islands one {what}", mesh.with_uv(arrange.made_alike(islands, leader, ids, what)))

    return beside(f"give islands one {what}", run)


def leading(state: State, islands: Islands) -> int:
    """The island of what was held last: the one that others are made like."""
    ids = held_ids(state)
    last, kind = state.held.last, state.held.kind
    mesh = islands.mesh
    if last >= 0 and kind == "faces" and last < mesh.n_faces:
        return int(islands.labels[last])
    if last >= 0 and kind in ("edges", "points"):
        corners = np.flatnonzero((mesh.topology.edge if kind == "edges" else mesh.corners) == last)
        labels = [int(k) for k in islands.corner_labels[corners] if int(k) in ids]
        if labels:
            return labels[0]
    return max(ids, key=lambda k: islands.pixel_area[k])


def _offset(across: int, up: int) -> Run:
    def run(host: Quiet) -> None:
        islands, ids = wanted_ids(host)
        uv = islands.uv.copy()
        uv[np.isin(islands.corner_labels, ids)] += (across, up)
        host.document.edit_jacket("offset islands by a sheet", host.document.open_jacket().mesh.with_uv(uv))

    return beside("offset islands by a sheet", run)


def _to_sheet(host: Quiet) -> None:
    """The held islands on the sheet that is worked on, at the same place there."""
    islands, ids = wanted_ids(host)
    state = host.document.state
    uv = islands.uv.copy()
    for k in ids:
        here = islands.corner_labels == k
        old = state.sheets[max(int(islands.sheet_of[k]), 0)]
        uv[here] = state.sheet.coordinates(old.pixels(uv[here]))
    host.document.edit_jacket(f"put islands on {state.sheet.name}", host.document.open_jacket().mesh.with_uv(uv))


COMMANDS = (
    Command("align-left", "Align left", "islands edge line up", "", on_flat_islands, _align("left")),
    Command("align-right", "Align right", "islands edge line up", "", on_flat_islands, _align("right")),
    Command("align-top", "Align at the top", "islands edge line up", "", on_flat_islands, _align("top")),
    Command("align-bottom", "Align at the bottom", "islands edge line up", "", on_flat_islands, _align("bottom")),
    Command("align-across", "Align middles across", "islands centre line row", "", on_flat_islands, _align("across")),
    Command("align-up", "Align middles up", "islands centre line column", "", on_flat_islands, _align("up")),
    Command("spread-across", "Equal gaps across", "islands distribute spacing", "", several, _spread(0)),
    Command("spread-up", "Equal gaps up", "islands distribute spacing", "", several, _spread(1)),
    Command("fit-sheet", "Fit to the sheet", "islands fill scale", "", on_flat_islands, _fit("sheet")),
    Command("fit-width", "Fill the width", "islands scale", "", on_flat_islands, _fit("width")),
    Command("fit-height", "Fill the height", "islands scale", "", on_flat_islands, _fit("height")),
    Command("turn-left", "A quarter turn left", "islands rotate 90", "", on_flat_islands, _turn(90.0)),
    Command("turn-right", "A quarter turn right", "islands rotate 90", "", on_flat_islands, _turn(-90.0)),
    Command("mirror-across", "Mirror left for right", "islands flip horizontal", "", on_flat_islands, _mirror(0)),
    Command("mirror-up", "Mirror top for bottom", "islands flip vertical", "", on_flat_islands, _mirror(1)),
    Command("stand-box", "Stand by the smallest box", "islands straighten upright rotate orient", "", on_flat_islands,
            changing("stand islands upright", lambda i, ids, h: arrange.upright(i, ids))),
    Command("stand-edge", "Lay by the held edges", "islands straighten orient rotate edge", "", on_flat_islands, _along),
    Command("like-size", "Same size as the last held", "islands copy match", "", several, _alike("size")),
    Command("like-turning", "Same turning as the last held", "islands copy match rotation", "", several, _alike("turning")),
    Command("like-place", "Same place as the last held", "islands copy match position", "", several, _alike("place")),
    Command("like-density", "Same density as the last held", "islands copy match texel", "", several, _alike("density")),
    Command("offset-sheet", "Offset by one sheet", "islands bake overlap udim tile", "", on_flat_islands, _offset(1, 0)),
    Command("onset-sheet", "Back by one sheet", "islands bake overlap udim tile", "", on_flat_islands, _offset(-1, 0)),
    Command("to-sheet", "Put on the sheet worked on", "islands udim tile move", "", on_flat_islands, beside("put islands on the sheet", _to_sheet)),
)  # fmt: skip
