"""Islands that stay themselves through every step: after each, changed layers are looked at and numbered."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.core.mesh.polymesh import CUT, ISLAND, UV, PolyMesh
from jacket.core.uv import sets
from jacket.core.uv.identity import IslandRecord, island_numbers, numbered, proposed_names
from jacket.document.state import JacketObject, State, free_name


def with_island_numbers(before: State, state: State) -> State:
    """The state with the islands of every layer that changed numbered and named: the larger pieces stay who they are."""
    if state.jackets is before.jackets:
        return state
    known = {j.id: j for j in before.jackets}
    rows = tuple(_with_numbers(j, known.get(j.id)) for j in state.jackets)
    if all(a is b for a, b in zip(rows, state.jackets, strict=True)):
        return state
    return state.with_(jackets=rows)


def _with_numbers(jacket: JacketObject, before: JacketObject | None) -> JacketObject:
    mesh = jacket.mesh
    if not mesh.uv_sets or mesh.n_faces == 0:
        return jacket
    if before is not None and jacket.islands is before.islands and _same_sheets(mesh, before.mesh):
        return jacket
    records = {r.id: r for r in jacket.islands}
    first, alive = jacket.next_island, set()
    for name in mesh.uv_sets:
        others = _numbers_of_others(mesh, name)
        mesh, numbers = numbered(mesh, first, others, name)
        alive.update(numbers.tolist())
        fresh = [label for label, number in enumerate(numbers.tolist()) if number not in records]
        if fresh:
            labels = sets.island_labels(mesh, name)[1]
            names = proposed_names(mesh, [np.flatnonzero(labels == label) for label in fresh])
            for number, proposed in zip(numbers[fresh].tolist(), names, strict=True):
                records[number] = IslandRecord(number, free_name({r.name for r in records.values()}, proposed))
        first = max([first, *(int(n) + 1 for n in numbers)])
    kept = tuple(r for r in records.values() if r.id in alive)
    kept = kept if kept != jacket.islands else jacket.islands
    if mesh is jacket.mesh and kept is jacket.islands and first == jacket.next_island:
        return jacket
    return replace(jacket, mesh=mesh, islands=kept, next_island=first)


def _same_sheets(mesh: PolyMesh, before: PolyMesh) -> bool:
    """Whether nothing changed that islands follow from."""
    if mesh.corners is not before.corners or mesh.starts is not before.starts or mesh.uv_sets != before.uv_sets:
        return False
    keys = [(UV + n, CUT + n, ISLAND + n) for n in mesh.uv_sets]
    return all(
        mesh.corner_data.get(uv) is before.corner_data.get(uv) and mesh.mark(cut) is before.mark(cut)
        and mesh.face_data.get(island) is before.face_data.get(island) and island in mesh.face_data
        for uv, cut, island in keys
    )  # fmt: skip


def _numbers_of_others(mesh: PolyMesh, name: str) -> set[int]:
    """Numbers that the islands of other UV sets have."""
    out: set[int] = set()
    for other in mesh.uv_sets[: mesh.uv_sets.index(name)]:
        numbers = island_numbers(mesh, other)
        if numbers is not None:
            out.update(np.unique(numbers).tolist())
    return out - {0}
