"""What goes out beside the faces: pivots, sockets and levels of detail of the active layer, from what is held."""

from __future__ import annotations

import numpy as np

from jacket.commands.host import Host
from jacket.core.mesh.nodes import ORIGIN, base_of, middle_of, place_of, socket_at
from jacket.document.edits.nodes import add_socket, put_pivot
from jacket.stages.deliver.baking import held_points

PIVOTS = {
    "pivot-origin": "At the origin",
    "pivot-base": "Under its middle",
    "pivot-middle": "In its middle",
    "pivot-held": "At what is held",
}


def pivot(host: Host, where: str) -> None:
    """Put the pivot of the active layer somewhere, by the id of its command."""
    layer = host.document.open_jacket()
    place = (ORIGIN if where == "pivot-origin" else base_of(layer.mesh) if where == "pivot-base" else middle_of(layer.mesh)
             if where == "pivot-middle" else place_of(layer.mesh, np.flatnonzero(held_points(host.document.state, "the pivot is to be")[1])))  # fmt: skip
    put_pivot(host.document, layer.id, place)
    host.say(f"The pivot of {layer.name} is {PIVOTS[where].lower()} now; files with nodes (GLB, USD) carry it.")


def socket(host: Host) -> None:
    """A socket at the middle of what is held, pointing away from the surface."""
    layer = host.document.open_jacket()
    points = np.flatnonzero(held_points(host.document.state, "the socket is to be")[1])
    name = host.ask_text("A socket where things are hung on", "Name", "socket")
    if name is None:
        return
    made = add_socket(host.document, layer.id, socket_at(layer.mesh, name, points))
    host.say(
        f"Socket {made} of {layer.name} points away from the surface; files with nodes (GLB, USD) and the report carry it."
    )
