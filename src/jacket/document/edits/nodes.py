"""What goes out with a layer beside its faces, as steps: its pivot, its sockets, its place among levels of detail."""

from __future__ import annotations

from dataclasses import replace

from jacket.core.mesh.nodes import Nodes, Place, Socket
from jacket.document.document import Document
from jacket.document.edits.layers import layer_of
from jacket.document.state import JacketObject, State, free_name
from jacket.errors import JacketError

MOST_SOCKETS = 64


def _put(document: Document, step: str, changed: JacketObject) -> None:
    s: State = document.state
    document.apply(step, s.with_(jackets=tuple(changed if j.id == changed.id else j for j in s.jackets)))


def put_pivot(document: Document, layer_id: int, place: Place) -> None:
    """The place that a layer is turned and placed by in files that have nodes."""
    layer = layer_of(document.state, layer_id)
    _put(document, "set the pivot", replace(layer, nodes=replace(layer.nodes, pivot=place)))


def add_socket(document: Document, layer_id: int, socket: Socket) -> str:
    """One socket more; its name, with a number where that was taken. Raises JacketError where it has none or there are many."""
    layer = layer_of(document.state, layer_id)
    if not socket.name.strip():
        raise JacketError("A socket needs a name, such as hand or lid; type one.")
    if len(layer.nodes.sockets) >= MOST_SOCKETS:
        raise JacketError(f"{layer.name} has {MOST_SOCKETS} sockets already; take one out first.")
    taken = {s.name for j in document.state.jackets for s in j.nodes.sockets} | {j.name for j in document.state.jackets}
    named = replace(socket, name=free_name(taken, socket.name.strip()))
    _put(document, f"add socket {named.name}", replace(layer, nodes=Nodes(layer.nodes.pivot, (*layer.nodes.sockets, named))))
    return named.name


def drop_socket(document: Document, layer_id: int, name: str) -> None:
    """Take a socket out by its name."""
    layer = layer_of(document.state, layer_id)
    rest = tuple(s for s in layer.nodes.sockets if s.name != name)
    _put(document, f"remove socket {name}", replace(layer, nodes=replace(layer.nodes, sockets=rest)))


def put_level(document: Document, layer_id: int, finest: int) -> None:
    """Make a layer a coarser level of detail of another one, or of none for −1. Raises JacketError where levels would hang on
    levels."""
    state, layer = document.state, layer_of(document.state, layer_id)
    if finest >= 0:
        other = layer_of(state, finest)
        if finest == layer_id:
            raise JacketError("A layer is no coarser level of itself; choose another one.")
        if other.coarser_of >= 0:
            raise JacketError(f"{other.name} is a coarser level itself; choose the finest one.")
        if any(j.coarser_of == layer_id for j in state.jackets):
            raise JacketError(f"{layer.name} has coarser levels of its own; free those first.")
    _put(document, "level of detail", replace(layer, coarser_of=finest))
