"""Named choices kept on the mesh itself, as attributes that every edit carries along: what is left of them survives."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import Ints, PolyMesh

PREFIX = "choice:"


def choice_names(mesh: PolyMesh) -> list[str]:
    """Names of the kept choices, in order of their making."""
    tables = (mesh.point_data, mesh.marks, mesh.face_data)
    return list(dict.fromkeys(n[len(PREFIX) :] for t in tables for n in t if n.startswith(PREFIX)))


def with_choice(mesh: PolyMesh, name: str, parts: dict[str, Ints]) -> PolyMesh:
    """The mesh with elements, ids by kind, kept under a name; an older choice of that name goes."""
    mesh, key = without_choice(mesh, name), PREFIX + name
    if len(parts.get("points", ())):
        mesh = mesh.with_(point_data={**mesh.point_data, key: _flags(mesh.n_points, parts["points"])})
    if len(parts.get("faces", ())):
        mesh = mesh.with_(face_data={**mesh.face_data, key: _flags(mesh.n_faces, parts["faces"])})
    if len(parts.get("edges", ())):
        mesh = mesh.with_mark(key, mesh.topology.edge_points[parts["edges"]])
    return mesh


def _flags(count: int, ids: Ints) -> NDArray[np.uint8]:
    out = np.zeros(count, np.uint8)
    out[ids] = 1
    return out


def choice(mesh: PolyMesh, name: str) -> dict[str, Ints]:
    """Ids by kind of what is left of a choice."""
    key, out = PREFIX + name, {}
    if key in mesh.point_data:
        out["points"] = np.flatnonzero(mesh.point_data[key]).astype(np.int32)
    if key in mesh.face_data:
        out["faces"] = np.flatnonzero(mesh.face_data[key]).astype(np.int32)
    if key in mesh.marks:
        found = mesh.topology.find_edges(mesh.mark(key))
        out["edges"] = np.unique(found[found >= 0]).astype(np.int32)
    return {kind: ids for kind, ids in out.items() if len(ids)}


def without_choice(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh without the choice of a name."""
    key = PREFIX + name
    return mesh.with_(
        point_data={n: v for n, v in mesh.point_data.items() if n != key},
        face_data={n: v for n, v in mesh.face_data.items() if n != key},
        marks={n: v for n, v in mesh.marks.items() if n != key},
    )
