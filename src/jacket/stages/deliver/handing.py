"""What goes out beside the faces: pivots, sockets and levels of detail of the active layer, from what is held."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.commands.host import Host
from jacket.core.mesh.choosing import as_kind
from jacket.core.mesh.nodes import ORIGIN, base_of, middle_of, place_of, socket_at
from jacket.document.edits.nodes import add_socket, put_pivot
from jacket.document.state import State
from jacket.errors import JacketError

PIVOTS = {
    "pivot-origin": "At the origin",
    "pivot-base": "Under its middle",
    "pivot-middle": "In its middle",
    "pivot-held": "At what is held",
}


def held_points(state: State) -> NDArray[np.signedinteger]:
    """The points of what is held of the active layer. Raises JacketError where nothing is."""
    jacket = state.jacket
    if jacket is None or not state.held.parts:
        raise JacketError("Hold the faces, edges or points where it is to be first.")
    rows = [as_kind(jacket.mesh, h.kind, h.ids, "points") for h in state.held.parts]
    return np.unique(np.concatenate(rows))


def pivot(host: Host, where: str) -> None:
    """Put the pivot of the active layer somewhere, by the id of its command."""
    layer = host.document.open_jacket()
    place = (ORIGIN if where == "pivot-origin" else base_of(layer.mesh) if where == "pivot-base" else middle_of(layer.mesh)
             if where == "pivot-middle" else place_of(layer.mesh, held_points(host.document.state)))  # fmt: skip
    put_pivot(host.document, layer.id, place)
    host.say(f"The pivot of {layer.name} is {PIVOTS[where].lower()} now; files with nodes (GLB, USD) carry it.")


def socket(host: Host) -> None:
    """A socket at the middle of what is held, pointing away from the surface."""
    layer = host.document.open_jacket()
    points = held_points(host.document.state)
    name = host.ask_text("A socket where things are hung on", "Name", "socket")
    if name is None:
        return
    made = add_socket(host.document, layer.id, socket_at(layer.mesh, name, points))
    host.say(
        f"Socket {made} of {layer.name} points away from the surface; files with nodes (GLB, USD) and the report carry it."
    )
