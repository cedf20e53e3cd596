"""Sources of the document as steps: opened, mended, placed, joined, replaced by newer files, removed."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from jacket.core.derive import surface_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.placing import placed
from jacket.core.source.rebuild import joined
from jacket.document.document import Document
from jacket.document.state import Held, JacketObject, SourceObject, State, free_name
from jacket.errors import JacketError


def moved_places(places: Any, matrix: Any) -> Any:
    """Places (K, 3) moved by a (4, 4) matrix."""
    return np.asarray(places) @ np.asarray(matrix)[:3, :3].T + np.asarray(matrix)[:3, 3]


def source_of(document: Document, source_id: int) -> SourceObject:
    """A source by its id; raises a sentence when it is gone."""
    source = next((s for s in document.state.sources if s.id == source_id), None)
    if source is None:
        raise JacketError("That source is gone meanwhile; nothing was changed.")
    return source


def add_source(document: Document, name: str, mesh: PolyMesh, path: str = "", stamp: tuple[int, int] = (0, 0)) -> None:
    """Add a source as one step, with an empty jacket when there is none yet; it becomes the chosen one."""
    s = document.state
    source = SourceObject(s.next_id, free_name({x.name for x in s.sources}, name), mesh, path, stamp=stamp)
    state = s.with_(sources=(*s.sources, source), next_id=s.next_id + 1, active_source=source.id, picked=Held())
    if not s.jackets:
        jacket = JacketObject(state.next_id, "Jacket", PolyMesh.empty())
        state = state.with_(jackets=(jacket,), active=jacket.id, next_id=state.next_id + 1)
    document.apply(f"open {name}", state)


def edit_source(document: Document, name: str, source_id: int, mesh: PolyMesh) -> None:
    """Replace a source's mesh as one step."""
    source = source_of(document, source_id)
    document.apply(name, document.state.with_source(replace(source, mesh=mesh)))


def place_source(document: Document, name: str, source_id: int, matrix: Any, mesh: PolyMesh | None = None) -> None:
    """Move the source by a (4, 4) matrix as one step. Jackets and trials go along where it is the only one."""
    s = document.state
    source = source_of(document, source_id)
    mesh = placed(source.mesh, matrix) if mesh is None else mesh
    state = s.with_source(replace(source, mesh=mesh, placing=matrix @ source.placing))
    if len(s.sources) == 1:
        state = state.with_(
            jackets=tuple(_moved(j, matrix) for j in s.jackets),
            trials=tuple(replace(t, mesh=placed(t.mesh, matrix)) for t in s.trials),
            guides=tuple(replace(g, points=moved_places(g.points, matrix)) for g in s.guides),
            paint=replace(s.paint, places=moved_places(s.paint.places, matrix)) if s.paint is not None else None,
        )
    document.apply(name, state)


def _moved(layer: JacketObject, matrix: Any) -> JacketObject:
    decals = tuple(d.moved(matrix) for d in layer.decals)
    return replace(layer, mesh=placed(layer.mesh, matrix), nodes=layer.nodes.moved(matrix), decals=decals)


def freeze_source(document: Document) -> None:
    """Take where the chosen source stands as how it is: a newer file will not be moved any more."""
    source = document.open_source()
    document.apply("freeze the placing", document.state.with_source(replace(source, placing=np.eye(4))))


def change_source(document: Document, step: str, source_id: int, **changes: Any) -> None:
    """Rename or lock a source as one step."""
    document.apply(step, document.state.with_source(replace(source_of(document, source_id), **changes)))


def choose_source(document: Document, source_id: int) -> None:
    """Work on another source from now on; no step of its own."""
    if source_id != document.state.active_source:
        document.amend(document.state.with_(active_source=source_id, picked=Held()))


def remove_source(document: Document, source_id: int) -> None:
    """Take a source off the bench as one step."""
    source, s = source_of(document, source_id), document.state
    rest = tuple(x for x in s.sources if x.id != source_id)
    document.apply(f"remove {source.name}", s.with_(sources=rest, active_source=-1, picked=Held()))


def join_sources(document: Document) -> None:
    """Make one source of all visible ones as one step; they may not be locked."""
    s = document.state
    visible = [x for x in s.sources if x.visible]
    if len(visible) < 2:
        raise JacketError("Joining needs two visible sources or more; show them on the bench first.")
    for x in visible:
        if x.locked:
            raise JacketError(f"{x.name} is locked; unlock it on the bench first.")
    whole = SourceObject(s.next_id, visible[0].name, joined([x.mesh for x in visible]))
    rest = tuple(x for x in s.sources if not x.visible)
    document.apply("join the visible sources", s.with_(sources=(whole, *rest), active_source=whole.id,
                                                   next_id=s.next_id + 1, picked=Held()))  # fmt: skip


def pick_faces(document: Document, faces: Any) -> None:
    """Pick faces of the chosen source; this is no step of its own."""
    document.amend(document.state.with_(picked=Held("faces", np.unique(np.asarray(faces, np.int32)))))


def take_new_source(document: Document, source_id: int, mesh: PolyMesh, stamp: tuple[int, int], jackets: dict[int, PolyMesh]
) -> None:
    """A newer version of a source and the jackets refitted to it, as one step."""
    s = document.state
    source = source_of(document, source_id)
    state = s.with_source(replace(source, mesh=mesh, stamp=stamp))
    refitted = tuple(replace(j, mesh=jackets.get(j.id, j.mesh)) for j in s.jackets)
    document.apply(f"take the new {source.name}", state.with_(jackets=refitted))


def layers_over(state: State, source_id: int) -> list[JacketObject]:
    """Layers that lie on a source: all where it is the only one, else those whose points are nearer to it than to any
    other, most of them."""
    layers = [j for j in state.jackets if j.mesh.n_faces]
    if len(state.sources) < 2:
        return layers
    own = next(s for s in state.sources if s.id == source_id)
    others = [s for s in state.sources if s.id != source_id and s.mesh.n_faces]
    out = []
    for layer in layers:
        some = layer.mesh.points[:: max(1, layer.mesh.n_points // 2000)]
        here = surface_of(own.mesh).closest(some)[2]
        there = np.min([surface_of(s.mesh).closest(some)[2] for s in others], axis=0) if others else np.inf
        if float((here <= there).mean()) >= 0.5:
            out.append(layer)
    return out
