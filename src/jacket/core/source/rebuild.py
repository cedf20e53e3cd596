"""Putting a source together again after mending, with everything it carries."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh


def put_together(
    mesh: PolyMesh, faces: NDArray[Any] | None = None, corners: NDArray[Any] | None = None,
    points: Floats | None = None, point_from: NDArray[Any] | None = None, added: NDArray[Any] | None = None,
) -> PolyMesh:  # fmt: skip
    """A mesh of some old faces over old or new points, and of triangles added.

    faces       (K,) old faces that stay, in order; all when left out
    corners     (C,) the new point of each old corner; the old ones when left out
    points      (V', 3) points; the old ones when left out
    point_from  (V',) the old point each is like, −1 for none; needed with `points`
    added       (T, 3) new triangles over the new points
    UVs, colours, materials and groups of old faces stay; added ones take none. Unused points go.
    """
    corners = mesh.corners if corners is None else np.asarray(corners, np.int32)
    points = mesh.points if points is None else points
    if faces is None:
        face_from, old, sizes = np.arange(mesh.n_faces), np.arange(mesh.n_corners), mesh.sizes
    else:
        face_from = np.asarray(faces)
        keep = np.zeros(mesh.n_faces, bool)
        keep[face_from] = True
        old, sizes = np.flatnonzero(keep[mesh.face_of_corner]), mesh.sizes[face_from]
    corner = corners[old]
    if added is not None and len(added):
        corner = np.concatenate([corner, np.asarray(added, np.int32).ravel()])
        sizes = np.concatenate([sizes, np.full(len(added), 3, np.int32)])
        face_from = np.concatenate([face_from, np.full(len(added), -1)])
        old = np.concatenate([old, np.full(3 * len(added), -1)])
    used = np.zeros(len(points), bool)
    used[corner] = True
    new = (np.cumsum(used) - 1).astype(np.int32)
    origin = (np.arange(len(points)) if point_from is None else np.asarray(point_from))[used]
    return PolyMesh(
        np.ascontiguousarray(points[used]), new[corner], _starts(sizes),
        {k: _taken(v, old, np.nan) for k, v in mesh.uvs.items()}, _marks(mesh, origin),
        {k: _taken(v, origin, 255 if k == "colour" else 0) for k, v in mesh.point_data.items()},
        {k: _taken(v, face_from, -1) for k, v in mesh.face_data.items()}, mesh.materials, mesh.groups,
    )  # fmt: skip


def _starts(sizes: NDArray[Any]) -> Ints:
    starts = np.zeros(len(sizes) + 1, np.int32)
    np.cumsum(sizes, out=starts[1:])
    return starts


def _taken(values: NDArray[Any], origin: NDArray[Any], missing: float) -> NDArray[Any]:
    out = values[np.maximum(origin, 0)] if len(values) else np.zeros((len(origin), *values.shape[1:]), values.dtype)
    out[origin < 0] = missing
    return out


def _marks(mesh: PolyMesh, origin: NDArray[Any]) -> dict[str, Ints]:
    from jacket.core.mesh.polymesh import sorted_pairs

    if not mesh.marks:
        return {}
    to = np.full(mesh.n_points, -1, np.int64)
    known = np.flatnonzero(origin >= 0)
    to[origin[known]] = known
    out = {}
    for name, pairs in mesh.marks.items():
        moved = to[pairs] if len(pairs) else np.zeros((0, 2), np.int64)
        out[name] = sorted_pairs(moved[(moved >= 0).all(axis=1)])
    return out


def joined(meshes: Sequence[PolyMesh]) -> PolyMesh:
    """Several meshes as one, their points apart: first all points and faces of the first, then of the next.

    UVs, colours, materials and groups come along; a mesh that lacks what another has gets none of it.
    """
    if len(meshes) == 1:
        return meshes[0]
    at = np.cumsum([0] + [m.n_points for m in meshes]).astype(np.int32)
    corner_at = np.cumsum([0] + [m.n_corners for m in meshes]).astype(np.int32)
    pairs = list(enumerate(meshes))
    starts = [m.starts[:-1] + corner_at[k] for k, m in pairs] + [corner_at[-1:]]
    uvs = {}
    for name in dict.fromkeys(n for m in meshes for n in m.uvs):
        uvs[name] = np.concatenate([m.uvs.get(name, np.full((m.n_corners, 2), np.nan)) for m in meshes])
    point_data: dict[str, NDArray[Any]] = {}
    if any("colour" in m.point_data for m in meshes):
        white = [np.full((m.n_points, 4), 255, np.uint8) for m in meshes]
        point_data["colour"] = np.concatenate([m.point_data.get("colour", white[k]) for k, m in pairs])
    face_data: dict[str, NDArray[Any]] = {}
    for kind in ("material", "group"):
        tables = [m.materials if kind == "material" else m.groups for m in meshes]
        if any(kind in m.face_data for m in meshes):
            first = np.cumsum([0] + [len(t) for t in tables])
            rows = [m.face_data.get(kind, np.full(m.n_faces, -1, np.int32)) for m in meshes]
            face_data[kind] = np.concatenate([np.where(r >= 0, r + first[k], -1) for k, r in enumerate(rows)])
    return PolyMesh(
        np.concatenate([m.points for m in meshes]), np.concatenate([m.corners + at[k] for k, m in pairs]),
        np.concatenate(starts), uvs, {}, point_data,
        {k: v.astype(np.int32) for k, v in face_data.items()},
        tuple(x for m in meshes for x in m.materials), tuple(x for m in meshes for x in m.groups),
    )  # fmt: skip
