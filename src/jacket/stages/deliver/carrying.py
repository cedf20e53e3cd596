"""What is carried between the sheet and the form: islands as a flat layer and what was built over them round the form, and
curves that were drawn over a sheet as guides on the form."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from jacket.commands.beside import readied
from jacket.commands.host import Host
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.quads.steering import Guide
from jacket.core.uv.curves import onto_form
from jacket.core.uv.parts import flat_parts, wrapped
from jacket.document.edits.layers import add_flat_layer
from jacket.document.edits.sources import edit_source
from jacket.document.state import JacketObject, State
from jacket.document.task import Ground, Task, on_layer
from jacket.errors import JacketError
from jacket.formats.curves import read_drawn_curves
from jacket.stages.deliver.values import DeliverValues


def forms(state: State, beside: int = -1) -> list[JacketObject]:
    """Layers that something can be wrapped round: those with UVs, one of them left out."""
    return [j for j in state.jackets if j.id != beside and j.mesh.n_faces and j.mesh.uv is not None]


def lay_flat_layer(host: Host) -> None:
    """The islands of the active layer as a layer of their own that lies flat."""
    document = host.document
    layer, sheets = document.require_jacket(), document.state.sheets

    def merge(mesh: PolyMesh) -> None:
        add_flat_layer(document, layer.id, mesh)
        host.say(f"The islands of {layer.name} lie flat as a layer of their own; what is built over them can be wrapped round the form.")
        host.frame(True)

    host.start(Task("lay the islands flat", lambda progress: readied(flat_parts(layer.mesh, sheets), sheets), merge, (on_layer(document.state, layer.id),),
                    lambda: lay_flat_layer(host)))  # fmt: skip


def _form(host: Host, beside: int = -1) -> JacketObject:
    rows, wanted = forms(host.document.state, beside), host.values(DeliverValues).round
    if not rows:
        raise JacketError("There is no other layer with UVs to wrap it round; flatten one first.")
    return next((j for j in rows if j.name == wanted), rows[0])


def wrap_layer(host: Host) -> None:
    """The active layer, made over flat parts, laid round the form they are of."""
    document = host.document
    layer = document.open_jacket()
    form = _form(host, layer.id)
    grounds, sheets = (on_layer(document.state, layer.id), on_layer(document.state, form.id)), document.state.sheets

    def merge(mesh: PolyMesh) -> None:
        document.edit_layer(f"wrap round {form.name}", layer.id, mesh)
        host.say(f"{layer.name} lies round {form.name} now.")
        host.frame(True)

    host.start(Task("wrap it round", lambda progress: readied(layer.mesh.with_points(wrapped(layer.mesh.points, form.mesh, sheets).points), sheets), merge, grounds,
                    lambda: wrap_layer(host)))  # fmt: skip


def wrap_source(host: Host) -> None:
    """The chosen source, made over flat parts elsewhere, laid round the form, so that maps can be baked from it."""
    document = host.document
    source = document.open_source()
    form, sheets = _form(host), document.state.sheets

    def merge(mesh: PolyMesh) -> None:
        edit_source(document, f"wrap round {form.name}", source.id, mesh)
        host.say(f"{source.name} lies round {form.name} now and is baked from like any source.")
        host.frame(True)

    ground = Ground("source", source.id, source.mesh)
    host.start(Task("wrap it round", lambda progress: source.mesh.with_points(wrapped(source.mesh.points, form.mesh, sheets).points), merge,
                    (ground, on_layer(document.state, form.id)), lambda: wrap_source(host)))  # fmt: skip


def can_wrap_layer(state: State) -> bool:
    """The active layer has faces and another one has UVs."""
    return state.jacket is not None and state.jacket.mesh.n_faces > 0 and bool(forms(state, state.active))


def can_wrap_source(state: State) -> bool:
    """There is a source and a layer with UVs."""
    return state.chosen_source is not None and bool(forms(state))



def curves_to_form(host: Host) -> None:
    """Curves of a drawing over the chosen sheet, laid onto the form as guides. Raises JacketError where that cannot be."""
    state = host.document.state
    layer = host.document.require_jacket()
    if layer.mesh.uv is None:
        raise JacketError("Nothing lies on the sheet yet; flatten the layer first.")
    if state.source is None:
        raise JacketError("Guides lie on a source, and there is none; open it first.")
    path = host.choose_drawing()
    if path:
        take_curves(host, path)


def take_curves(host: Host, path: str) -> None:
    """Curves of a drawing as guides. Raises FormatError where it holds none, JacketError where none lies on an island."""
    state = host.document.state
    layer = host.document.require_jacket()
    drawn = read_drawn_curves(path, state.sheet)
    carried = [c for c in onto_form(drawn, layer.mesh, state.sheets) if len(c) > 1]
    if not carried:
        raise JacketError(f"No curve of {Path(path).name} lies on an island of {layer.name} on {state.sheet.name}; draw over its layout picture.")
    guides = tuple(_guide(c, layer.mesh.diagonal) for c in carried)
    host.document.apply("curves onto the form", state.with_(guides=(*state.guides, *guides)))
    several = "curve lies" if len(guides) == 1 else "curves lie"
    host.say(f"{len(guides):,} {several} on the form as {'a guide' if len(guides) == 1 else 'guides'} now; Topology shows them, and Guide changes them.")
    host.show_stage("topology")


def _guide(curve: Floats, diagonal: float) -> Guide:
    """A guide through a carried curve, one that ends where it began as a ring."""
    closed = len(curve) > 3 and float(np.linalg.norm(curve[0] - curve[-1])) < 2e-3 * diagonal
    return Guide(curve[:-1] if closed else curve, closed=closed)


def can_take_curves(state: State) -> bool:
    """There is a source and a flat layer."""
    return state.source is not None and state.jacket is not None and state.jacket.mesh.uv is not None
