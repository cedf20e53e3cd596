"""Commands of the Topology stage that work on what is held, on layers, and on kept choices."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from jacket.core.mesh.choosing import (
    as_kind,
    count_of,
    every_nth,
    grown,
    inverted,
    linked,
    loops_through,
    outline,
    rings_through,
    shrunk,
    similar,
)
from jacket.core.mesh.edits import points_removed
from jacket.core.mesh.named import choice, choice_names, with_choice, without_choice
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.mesh.smooth import with_sharpness
from jacket.document.document import Document
from jacket.document.edits import layers
from jacket.document.state import Held, State
from jacket.errors import EditRefused, JacketError
from jacket.stages.topology.tools.moving import held_points
from jacket.stages.topology.tools.tidying import TIDY_VALUES, TIDYINGS, Tidying
from jacket.tools.holding import path_between

if TYPE_CHECKING:
    from jacket.stages.commands import Command, Host

HAND_VALUES: dict[str, Any] = {
    **TIDY_VALUES, "nth": 2, "nth_offset": 0, "similar_by": "length", "similar_slack": 10.0, "sharp_weight": 10.0,
    "copies": 6, "copy_axis": "y", "aim": "number", "edge": 0.05, "gap": 0.5, "skin": True,
    "shortest": 8.0, "form": 60.0, "across": False,
}  # fmt: skip


def _has_held(state: State) -> bool:
    return state.jacket is not None and bool(state.held.parts)


def _has_layer(state: State) -> bool:
    return state.jacket is not None


def _has_faces(state: State) -> bool:
    return state.jacket is not None and state.jacket.mesh.n_faces > 0


def changed_choice(document: Document, change: Callable[[PolyMesh, str, Ints], tuple[str, Ints]]) -> None:
    """Hold what a function makes of each kind that is held."""
    mesh = document.require_jacket().mesh
    parts: dict[str, Any] = {}
    for h in document.state.held.parts:
        kind, ids = change(mesh, h.kind, h.ids)
        parts[kind] = np.union1d(parts.get(kind, np.zeros(0, np.int32)), ids)
    document.hold_all(Held.together(parts, document.state.held.kind, document.state.held.last))


def _chosen(change: Callable[[PolyMesh, str, Ints, dict[str, Any]], Ints]) -> Callable[[Host], None]:
    return lambda host: changed_choice(host.document, lambda m, kind, ids: (kind, change(m, kind, ids, host.values)))


def _of_edges(walk: Callable[[PolyMesh, Ints], Ints]) -> Callable[[Host], None]:
    def change(mesh: PolyMesh, kind: str, ids: Ints) -> tuple[str, Ints]:
        return "edges", walk(mesh, as_kind(mesh, kind, ids, "edges"))

    return lambda host: changed_choice(host.document, change)


def _as(kind: str) -> Callable[[Host], None]:
    return lambda host: changed_choice(host.document, lambda m, k, ids: (kind, as_kind(m, k, ids, kind)))


def _outline(host: Host) -> None:
    changed_choice(host.document, lambda m, kind, ids: ("edges", outline(m, kind, ids)))


def _every_nth(mesh: PolyMesh, kind: str, ids: Ints, values: dict[str, Any]) -> Ints:
    return every_nth(mesh, kind, ids, int(values["nth"]), int(values["nth_offset"]))


def _similar(mesh: PolyMesh, kind: str, ids: Ints, values: dict[str, Any]) -> Ints:
    return similar(mesh, kind, ids, str(values["similar_by"]), float(values["similar_slack"]) / 100)


def _invert(host: Host) -> None:
    held = host.document.state.held
    mesh = host.document.require_jacket().mesh
    if not held.parts:
        host.document.hold("faces", np.arange(mesh.n_faces))
        return
    host.document.hold(held.kind, inverted(mesh, held.kind, held.ids))


def _hold_layer(host: Host) -> None:
    mesh, held = host.document.require_jacket().mesh, host.document.state.held
    kind = held.kind if held.parts else "faces"
    host.document.hold(kind, np.arange(count_of(mesh, kind)))


def _path(host: Host) -> None:
    held, mesh = host.document.state.held, host.document.require_jacket().mesh
    if len(held.ids) != 2:
        raise EditRefused("Hold two points, two edges or two faces to hold the path between them.")
    ids = path_between(mesh, held.kind, int(held.ids[0]), int(held.ids[1]))
    host.document.hold(held.kind, ids)


def _keep_choice(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    name = host.ask_text("Keep the choice", "Its name", f"choice {len(choice_names(mesh)) + 1}")
    if name:
        keep_choice(host.document, name)


def keep_choice(document: Document, name: str) -> None:
    """Keep what is held under a name, as one step."""
    name = name.strip()
    if not name or "/" in name:
        raise JacketError("A kept choice needs a name without a slash.")
    held, mesh = document.state.held, document.open_jacket().mesh
    if not held.parts:
        raise EditRefused("Hold something first; then it can be kept under a name.")
    document.edit_jacket(f"keep the choice {name}", with_choice(mesh, name, {h.kind: h.ids for h in held.parts}), held)


def hold_choice(document: Document, name: str) -> None:
    """Hold what is left of a kept choice."""
    parts = choice(document.require_jacket().mesh, name)
    if not parts:
        raise EditRefused(f"Nothing is left of the choice {name}; forget it, or undo what took it away.")
    document.hold_all(Held.together(parts))


def forget_choice(document: Document, name: str) -> None:
    """Forget a kept choice, as one step."""
    mesh = document.open_jacket().mesh
    document.edit_jacket(f"forget the choice {name}", without_choice(mesh, name), document.state.held)


def _remove_loose(host: Host) -> None:
    mesh = host.document.open_jacket().mesh
    loose = np.flatnonzero(np.bincount(mesh.corners, minlength=mesh.n_points) == 0)
    if len(loose) == 0:
        raise EditRefused("No points float without a face.")
    host.document.edit_jacket("remove floating points", points_removed(mesh, loose).mesh)


def _sharpen(host: Host) -> None:
    mesh, held = host.document.open_jacket().mesh, host.document.state.held
    rows = [as_kind(mesh, h.kind, h.ids, "edges") if h.kind != "faces" else outline(mesh, h.kind, h.ids)
            for h in held.parts]  # fmt: skip
    weight = float(host.values["sharp_weight"])
    new = with_sharpness(mesh, np.unique(np.concatenate(rows)), weight)
    host.document.edit_jacket("mark sharp edges" if weight else "unmark sharp edges", new, held)


def _rename(host: Host) -> None:
    layer = host.document.require_jacket()
    name = host.ask_text("Rename the layer", "Its name", layer.name)
    if name:
        layers.rename_layers(host.document, [layer.id], name)


def _rename_all(host: Host) -> None:
    ids = [j.id for j in host.document.state.jackets if j.visible]
    name = host.ask_text("Rename the visible layers", "* is the old name, # a number", "* #")
    if name:
        layers.rename_layers(host.document, ids, name)


def _radial(host: Host) -> None:
    axis = "xyz".index(str(host.values["copy_axis"]))
    state = host.document.state
    source = state.source
    centre = np.zeros(3)
    held = held_points(state) if state.held.parts else np.zeros(0, int)
    if len(held):
        centre = host.document.require_jacket().mesh.points[held].mean(axis=0)
    elif source is not None and not state.mirror:
        centre = source.mesh.points.min(axis=0) / 2 + source.mesh.points.max(axis=0) / 2
    layers.radial_layers(host.document, axis, int(host.values["copies"]), centre)


def _tidying(row: Tidying) -> Callable[[Host], None]:
    def run(host: Host) -> None:
        before = host.document.require_jacket().mesh

        def done(mesh: PolyMesh) -> None:
            now = host.document.require_jacket().mesh
            if now is not before:
                raise JacketError(f"The layer changed meanwhile, so '{row.step}' was not applied; do it again.")
            held = host.document.state.held
            host.document.edit_jacket(
                row.step, mesh, held if mesh.n_points == before.n_points and not row.long else None
            )

        if row.long:
            host.document.open_jacket()
            host.work(row.step, lambda progress: row.run(host.document, dict(host.values)), done)
        else:
            done(row.run(host.document, host.values))

    return run


def hand_commands(make: type[Command]) -> list[Command]:
    """All of them, made as commands of the registry."""

    def choose(id_: str, label: str, words: str, run: Callable[[Host], None]) -> Command:
        return make(id_, label, f"select choose hold {words}", "", _has_held, run)

    def layer(id_: str, label: str, words: str, run: Callable[[Document], None]) -> Command:
        return make(id_, label, f"layer {words}", "", _has_layer, lambda h: run(h.document))

    rows = [
        choose("grow-held", "Hold more around", "grow expand", _chosen(lambda m, k, i, v: grown(m, k, i))),
        choose("shrink-held", "Hold less around", "shrink contract", _chosen(lambda m, k, i, v: shrunk(m, k, i))),
        choose("link-held", "Hold all that hangs together", "linked connected", _chosen(lambda m, k, i, v: linked(m, k, i))),
        choose("loops-held", "Hold the loops", "edge loop", _of_edges(loops_through)),
        choose("rings-held", "Hold the rings", "edge ring row", _of_edges(rings_through)),
        choose("path-held", "Hold the path between", "shortest way", _path),
        choose("outline-held", "Hold the outline", "border boundary edges", _outline),
        choose("nth-held", "Hold every n-th", "alternate checker skip", _chosen(_every_nth)),
        choose("similar-held", "Hold what is similar", "same like length area valence normal", _chosen(_similar)),
        choose("as-points", "Turn into points", "convert vertices", _as("points")),
        choose("as-edges", "Turn into edges", "convert", _as("edges")),
        choose("as-faces", "Turn into faces", "convert polygons", _as("faces")),
        make("invert-held", "Hold everything else", "select invert swap", "", _has_faces, _invert),
        make("hold-layer", "Hold the whole layer", "select all everything", "", _has_faces, _hold_layer),
        choose("keep-choice", "Keep the choice…", "named selection set save", _keep_choice),
        make("remove-loose", "Remove floating points", "loose isolated delete", "", _has_layer, _remove_loose),
        choose("sharpen", "Mark as sharp", "crease weight hard edge subdivision", _sharpen),
        layer("add-layer", "Add a layer", "new object", layers.add_layer),
        layer("split-layer", "Split what is held into a layer", "separate part detach", layers.split_held),
        layer("join-layers", "Join the visible layers", "merge combine", layers.join_layers),
        layer("copy-layer", "Duplicate the layer", "copy", layers.copy_layer),
        layer("mirror-layer-x", "Copy the layer across X", "mirror symmetry", lambda d: layers.mirror_layer(d, 0)),
        layer("mirror-layer-y", "Copy the layer across Y", "mirror symmetry", lambda d: layers.mirror_layer(d, 1)),
        layer("mirror-layer-z", "Copy the layer across Z", "mirror symmetry", lambda d: layers.mirror_layer(d, 2)),
        make("radial-layer", "Repeat round the axis", "layer radial array copies circle", "", _has_faces, _radial),
        layer("lock-layer", "Lock or unlock the layer", "protect", lambda d: layers.lock_layer(d, d.require_jacket().id)),
        make("rename-layer", "Rename the layer…", "layer name", "", _has_layer, _rename),
        make("rename-layers", "Rename the visible layers…", "layer name pattern batch", "", _has_layer, _rename_all),
        layer("layer-up", "Move the layer up", "order", lambda d: layers.move_layer(d, d.require_jacket().id, -1)),
        layer("layer-down", "Move the layer down", "order", lambda d: layers.move_layer(d, d.require_jacket().id, 1)),
        layer("remove-layer", "Remove the layer", "delete", layers.remove_layer),
    ]  # fmt: skip
    for row in TIDYINGS.values():
        rows.append(make(row.id, row.label, f"tidy {row.words}", "", _has_faces, _tidying(row)))
    return rows
