"""Putting a source together again after mending, with everything it carries."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.channels import carried
from jacket.core.mesh.pieces import put_side_by_side
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
    return mesh.with_(
        points=np.ascontiguousarray(points[used]), corners=new[corner], starts=_starts(sizes), marks=_marks(mesh, origin),
        point_data=carried(mesh.point_data, origin), face_data=carried(mesh.face_data, face_from),
        corner_data=carried(mesh.corner_data, old),
    )  # fmt: skip


def _starts(sizes: NDArray[Any]) -> Ints:
    starts = np.zeros(len(sizes) + 1, np.int32)
    np.cumsum(sizes, out=starts[1:])
    return starts


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
    return meshes[0] if len(meshes) == 1 else put_side_by_side(meshes)
