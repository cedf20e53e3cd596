"""Layers of the jacket: making, naming, ordering, joining, splitting and copying them, each as one step."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from jacket.core.mesh.choosing import as_kind
from jacket.core.mesh.cleaning import near_merged
from jacket.core.mesh.pieces import mirrored_copy, put_side_by_side, split_off, turned_copy
from jacket.core.mesh.polymesh import ISLAND, Floats, PolyMesh
from jacket.core.uv.identity import IslandRecord
from jacket.document.document import Document
from jacket.document.state import Held, JacketObject, State, Trial, free_name
from jacket.errors import EditRefused, JacketError

MOST_COPIES = 360


def layer_of(state: State, layer_id: int) -> JacketObject:
    """A layer by its id; raises a sentence when it is gone."""
    found = next((j for j in state.jackets if j.id == layer_id), None)
    if found is None:
        raise JacketError("That layer is gone meanwhile; nothing was changed.")
    return found


def _with_layer(state: State, name: str, mesh: PolyMesh, like: JacketObject | None = None) -> State:
    """A new layer, made the active one: behind another one that it is `like`, whose islands' names and decals it takes, or
    last."""
    layer = JacketObject(state.next_id, free_name({j.name for j in state.jackets}, name), mesh)
    if like is not None:
        layer = replace(layer, islands=like.islands, next_island=like.next_island, decals=like.decals)
    after = like.id if like is not None else None
    at = next((k + 1 for k, j in enumerate(state.jackets) if j.id == after), len(state.jackets))
    jackets = (*state.jackets[:at], layer, *state.jackets[at:])
    return state.with_(jackets=jackets, active=layer.id, next_id=state.next_id + 1, held=Held())


def _changed(state: State, layer_id: int, change: Callable[[JacketObject], JacketObject]) -> State:
    return state.with_(jackets=tuple(change(j) if j.id == layer_id else j for j in state.jackets))


def add_layer(document: Document) -> None:
    """An empty layer, active from now on."""
    document.apply("add a layer", _with_layer(document.state, "Layer", PolyMesh.empty()))


def keep_as_layer(document: Document, trial: Trial) -> None:
    """A trial put on the bench as a layer of its own; it stays a trial too."""
    document.apply(f"keep {trial.name}", _with_layer(document.state, trial.name, trial.mesh))


def mark_dense(document: Document, layer_id: int) -> None:
    """Let maps be baked from a layer, as from a source, or onto it again."""
    dense = not layer_of(document.state, layer_id).dense
    document.apply("bake from a layer" if dense else "bake onto a layer", _changed(document.state, layer_id, lambda j: replace(j, dense=dense)))


def put_picture(document: Document, layer_id: int, role: str, path: str) -> None:
    """Let a picture on disk stand for something of a layer, none where the path is empty."""
    layer = layer_of(document.state, layer_id)
    rest = tuple(p for p in layer.pictures if p[0] != role)
    pictures = (*rest, (role, path)) if path else rest
    document.apply(f"picture of {role}", _changed(document.state, layer_id, lambda j: replace(j, pictures=pictures)))


def choose_layer(document: Document, layer_id: int) -> None:
    """Work on another layer; no step of its own."""
    if layer_id != document.state.active:
        layer_of(document.state, layer_id)
        document.amend(document.state.with_(active=layer_id, held=Held()))


def lock_layer(document: Document, layer_id: int) -> None:
    """Lock a layer, or unlock it."""
    locked = not layer_of(document.state, layer_id).locked
    name = "lock a layer" if locked else "unlock a layer"
    document.apply(name, _changed(document.state, layer_id, lambda j: replace(j, locked=locked)))


def rename_layers(document: Document, ids: list[int], pattern: str) -> None:
    """Rename layers by a pattern: * stands for the old name, # for a number counted from 1 (## for two digits)."""
    pattern = pattern.strip()
    if not pattern:
        raise JacketError("A layer needs a name; type one, with * for the old name and # for a number.")
    if len(ids) > 1 and "*" not in pattern and "#" not in pattern:
        raise JacketError("Several layers cannot share a name; use * for the old name or # for a number.")
    state = document.state
    for k, layer_id in enumerate(ids):
        number = re.sub("#+", lambda m, k=k: str(k + 1).zfill(len(m[0])), pattern)  # type: ignore[misc]
        name = number.replace("*", layer_of(state, layer_id).name)
        state = _changed(state, layer_id, lambda j, n=name: replace(j, name=n))  # type: ignore[misc]
    document.apply("rename a layer" if len(ids) == 1 else f"rename {len(ids)} layers", state)


def move_layer(document: Document, layer_id: int, by: int) -> None:
    """Move a layer up (by < 0) or down in the order of the bench."""
    rows = list(document.state.jackets)
    at = rows.index(layer_of(document.state, layer_id))
    to = int(np.clip(at + by, 0, len(rows) - 1))
    rows.insert(to, rows.pop(at))
    document.apply("reorder the layers", document.state.with_(jackets=tuple(rows)))


def _check_open(layers: list[JacketObject]) -> None:
    for layer in layers:
        if layer.locked:
            raise JacketError(f"{layer.name} is locked; unlock it on the bench first.")


def _renumbered(mesh: PolyMesh, by: int) -> PolyMesh:
    """The mesh with the numbers of its islands counted on."""
    data = {k: np.where(v > 0, v + by, 0).astype(np.int32) if k.startswith(ISLAND) else v for k, v in mesh.face_data.items()}
    return mesh.with_(face_data=data)


def _with_own_names(records: list[IslandRecord]) -> tuple[IslandRecord, ...]:
    out: list[IslandRecord] = []
    for record in records:
        out.append(replace(record, name=free_name({r.name for r in out}, record.name)))
    return tuple(out)


def _welded_at_one_spot(mesh: PolyMesh) -> PolyMesh:
    """Points at one spot welded, where there are some and the surface allows it."""
    try:
        return near_merged(mesh, 1e-6 * max(mesh.diagonal, 1e-300))[0]
    except EditRefused:
        return mesh


def joined_layer(state: State) -> JacketObject:
    """All visible layers as one, in place of the active one or the first; points that lie at one spot are welded where the
    surface allows it. Raises JacketError where there are not two, or one is locked."""
    layers = [j for j in state.jackets if j.visible]
    if len(layers) < 2:
        raise JacketError("Joining needs two visible layers or more; show them on the bench first.")
    _check_open(layers)
    kept = next((j for j in layers if j.id == state.active), layers[0])
    # Numbers of islands are a layer's own: those of the others are counted on from the one that stays.
    rows, records, first = [], list[IslandRecord](), 0
    for layer in [kept, *(j for j in layers if j is not kept)]:
        rows.append(_renumbered(layer.mesh, first))
        records += [replace(r, id=r.id + first) for r in layer.islands]
        first += layer.next_island
    mesh = _welded_at_one_spot(put_side_by_side([m for m in rows if m.n_points]))
    # Layers that were copied have the same decals: each lies there once.
    known = {replace(d, id=0): d for j in layers for d in j.decals}
    decals = tuple(replace(d, id=k + 1) for k, d in enumerate(known))
    return replace(kept, mesh=mesh, islands=_with_own_names(records), next_island=first + 1, decals=decals)


def take_joined(document: Document, joined: JacketObject, ids: set[int]) -> None:
    """Put a joined layer in place of those that it was made of, as one step."""
    state = document.state
    rest = tuple(joined if j.id == joined.id else j for j in state.jackets if j.id == joined.id or j.id not in ids)
    document.apply("join the layers", state.with_(jackets=rest, active=joined.id, held=Held()))


def join_layers(document: Document) -> None:
    """Make one layer of all visible ones."""
    take_joined(document, joined_layer(document.state), {j.id for j in document.state.jackets if j.visible})


def split_held(document: Document) -> None:
    """Put the held faces into a layer of their own."""
    layer = document.open_jacket()
    held = document.state.held
    faces = np.unique(np.concatenate([as_kind(layer.mesh, h.kind, h.ids, "faces") for h in held.parts] or [held.ids]))
    rest, apart = split_off(layer.mesh, faces)
    state = document.state.with_jacket_mesh(rest, Held())
    document.apply("split into a layer", _with_layer(state, f"{layer.name} part", apart, layer))


def copy_layer(document: Document) -> None:
    """A second layer like the active one."""
    layer = document.require_jacket()
    document.apply("duplicate a layer", _with_layer(document.state, f"{layer.name} copy", layer.mesh, layer))


def add_flat_layer(document: Document, layer_id: int, mesh: PolyMesh) -> None:
    """The flat parts of a layer as a layer behind it, active from now on. Their decals stay on the form."""
    layer = layer_of(document.state, layer_id)
    document.apply("islands as flat parts", _with_layer(document.state, f"{layer.name} flat", mesh, replace(layer, decals=())))


def mirror_layer(document: Document, axis: int) -> None:
    """A copy of the active layer on the other side of a plane through the origin."""
    layer = document.require_jacket()
    mesh = mirrored_copy(layer.mesh, axis)
    across = np.eye(4)
    across[axis, axis] = -1.0
    layer = replace(layer, decals=tuple(d.moved(across) for d in layer.decals))
    document.apply("mirror a layer", _with_layer(document.state, f"{layer.name} mirrored", mesh, layer))


def radial_layers(document: Document, axis: int, count: int, centre: Floats) -> None:
    """The active layer repeated `count` times round an axis through a centre, as one new layer with the first in it;
    neighbours that meet are welded."""
    layer = document.open_jacket()
    if not 2 <= count <= MOST_COPIES:
        raise JacketError(f"Copies round an axis: between 2 and {MOST_COPIES}.")
    copies = [turned_copy(layer.mesh, axis, 2 * np.pi * k / count, centre) for k in range(count)]
    mesh = put_side_by_side(copies)
    mesh = _welded_at_one_spot(mesh)
    document.apply(f"repeat {count} times", document.state.with_jacket_mesh(mesh, Held()))


def remove_layer(document: Document) -> None:
    """Take the active layer away; an empty one takes the place of the last."""
    state, layer = document.state, document.open_jacket()
    rest = tuple(j for j in state.jackets if j.id != layer.id)
    if not rest:
        rest = (JacketObject(state.next_id, "Jacket", PolyMesh.empty()),)
        state = state.with_(next_id=state.next_id + 1)
    document.apply(f"remove {layer.name}", state.with_(jackets=rest, active=rest[-1].id, held=Held()))
