"""UV sets of a mesh: coordinates, cuts, pins and islands of their own; several side by side, one of them active.

What a set consists of lies in the mesh's channels, so every edit carries all sets alike; `UvSet` puts one together.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.polymesh import CUT, ISLAND, PIN, UV, Bools, Floats, Ints, PolyMesh, frozen
from jacket.core.mesh.walks import face_parts
from jacket.errors import EditRefused

SLACK = 1e-7
"""Sheet units by which two corners may differ and still lie at one place."""


@dataclass(frozen=True, eq=False)
class UvSet:
    """One way to lay a mesh flat.

    uv       (C, 2) sheet coordinates of corners, NaN where unmapped; None where nothing was laid flat yet
    cuts     (S, 2) point pairs of the edges that are cut
    pins     (C,) strength 0..1 by which corners are held in place; None for none
    islands  (F,) lasting number of each face's island, 0 for none; None where they have not been numbered
    """

    name: str
    uv: Floats | None
    cuts: Ints
    pins: NDArray[np.float32] | None = None
    islands: Ints | None = None


def uv_set(mesh: PolyMesh, name: str = "") -> UvSet:
    """A UV set of a mesh, the active one unless named; an empty one where there is none of that name."""
    name = name or mesh.active_uv
    return UvSet(name, mesh.corner_data.get(UV + name), mesh.mark(CUT + name), mesh.corner_data.get(PIN + name),
                 mesh.face_data.get(ISLAND + name))  # fmt: skip


def with_uv_set(mesh: PolyMesh, record: UvSet) -> PolyMesh:
    """The mesh with a UV set replaced by `record`, or added; the first one becomes the active one."""
    name = record.name
    corner_data = {k: v for k, v in mesh.corner_data.items() if k not in (UV + name, PIN + name)}
    face_data = {k: v for k, v in mesh.face_data.items() if k != ISLAND + name}
    if record.uv is not None:
        corner_data[UV + name] = record.uv
    if record.pins is not None:
        corner_data[PIN + name] = record.pins
    if record.islands is not None:
        face_data[ISLAND + name] = record.islands
    return mesh.with_cuts(record.cuts, name).with_(corner_data=corner_data, face_data=face_data)


def with_active(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh with another UV set to work on. Raises EditRefused where there is none of that name."""
    _need(mesh, name)
    return mesh if mesh.active_uv == name else mesh.with_(active_uv=name)


def set_added(mesh: PolyMesh, name: str, like: str = "") -> PolyMesh:
    """The mesh with one UV set more, empty or with what another one has, and active. Raises EditRefused where the name
    is empty, taken or holds what file names cannot, or there is no set `like`."""
    name = _free(mesh, name)
    record = UvSet(name, None, mesh.mark(""))
    if like:
        _need(mesh, like)
        # Islands of the copy get numbers of their own: they are other islands from now on.
        record = replace(uv_set(mesh, like), name=name, islands=None)
    return with_active(with_uv_set(mesh, record), name)


def set_renamed(mesh: PolyMesh, old: str, name: str) -> PolyMesh:
    """The mesh with a UV set under another name, in its old place. Raises EditRefused as `set_added` does."""
    _need(mesh, old)
    if name == old:
        return mesh
    name = _free(mesh, name)
    record, active = replace(uv_set(mesh, old), name=name), mesh.active_uv
    order = tuple(name if n == old else n for n in mesh.uv_sets)
    new = with_uv_set(_without(mesh, old), record)
    return new.with_(uv_sets=order, active_uv=name if active == old else active)


def set_removed(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh without a UV set; the one before it becomes active where it was. Raises EditRefused where there is none."""
    _need(mesh, name)
    at = mesh.uv_sets.index(name)
    rest = tuple(n for n in mesh.uv_sets if n != name)
    active = mesh.active_uv if mesh.active_uv != name else (rest[max(at - 1, 0)] if rest else "")
    return _without(mesh, name).with_(uv_sets=rest, active_uv=active)


def _without(mesh: PolyMesh, name: str) -> PolyMesh:
    return mesh.with_(
        corner_data={k: v for k, v in mesh.corner_data.items() if k not in (UV + name, PIN + name)},
        face_data={k: v for k, v in mesh.face_data.items() if k != ISLAND + name},
        marks={k: v for k, v in mesh.marks.items() if k != CUT + name},
        uv_sets=tuple(n for n in mesh.uv_sets if n != name),
    )


def _need(mesh: PolyMesh, name: str) -> None:
    if name not in mesh.uv_sets:
        raise EditRefused(f"There is no UV set {name}; choose one of those above the flat view.")


def _free(mesh: PolyMesh, name: str) -> str:
    name = name.strip()
    if not name or "/" in name or "\0" in name:
        raise EditRefused("A UV set needs a name without a slash.")
    if name in mesh.uv_sets:
        raise EditRefused(f"There is a UV set {name} already; choose another name.")
    return name


# ---- what follows from a set -------------------------------------------------------------------------------------


def cut_flags(mesh: PolyMesh, name: str = "") -> Bools:
    """(E,) edges that a UV set is cut at, of the active one unless named."""
    return mesh.topology.edge_flags(mesh.mark(CUT + (name or mesh.active_uv)))


def apart_flags(mesh: PolyMesh, uv: Floats | None, slack: float = SLACK) -> Bools:
    """(E,) edges whose two sides lie apart on the sheet, or of which one side only lies on it."""
    topology = mesh.topology
    out = np.zeros(topology.n_edges, bool)
    if uv is None:
        return out
    _mark_apart(uv, topology.next, topology.twin, topology.edge, slack, out)
    return out


@kernel
def _mark_apart(uv: Floats, after: Ints, twin: Ints, edge: Ints, slack: float, out: Bools) -> None:
    for c in range(len(twin)):
        t = twin[c]
        if t < 0 or out[edge[c]]:
            continue
        one = np.isfinite(uv[c, 0]) and np.isfinite(uv[c, 1])
        other = np.isfinite(uv[t, 0]) and np.isfinite(uv[t, 1])
        if not (one or other):
            continue
        near = True
        for k in range(2):
            # What is not a number is near to nothing. The other end of the edge is looked at from its other side.
            near = near and abs(uv[c, k] - uv[after[t], k]) <= slack
        if not near:
            out[edge[c]] = True


def border_flags(mesh: PolyMesh, name: str = "") -> Bools:
    """(E,) edges at which islands end: cut, or apart on the sheet."""
    name = name or mesh.active_uv
    return cut_flags(mesh, name) | apart_flags(mesh, mesh.corner_data.get(UV + name))


def island_labels(mesh: PolyMesh, name: str = "") -> tuple[int, Ints]:
    """Number of islands of a UV set and (F,) the island of each face: faces joined across edges that are neither cut
    nor apart on the sheet."""
    return face_parts(mesh, border_flags(mesh, name))


def piece_labels(mesh: PolyMesh, name: str = "") -> tuple[int, Ints]:
    """Number of pieces and (F,) the piece of each face by the cuts alone: what would lie together if it were flattened."""
    return face_parts(mesh, cut_flags(mesh, name))


def flat_points(mesh: PolyMesh, name: str = "") -> tuple[Ints, Ints]:
    """(C,) flat point of each corner and (P,) a corner of each: corners share one within an island and a place of the
    surface."""
    topology = mesh.topology
    cut = border_flags(mesh, name)[topology.edge]
    twin = np.where(cut, -1, topology.twin).astype(np.int32)
    fans, _ = corner_orbits(topology.next, topology.prev, twin, mesh.corners)
    first = np.full(int(fans.max()) + 1 if len(fans) else 0, -1, np.int32)
    first[fans[::-1]] = np.arange(mesh.n_corners - 1, -1, -1, dtype=np.int32)
    return frozen(fans), frozen(first)
