"""Meshes taken apart and put together with everything that hangs on them: UVs, marks, attributes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.edits import faces_removed
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.errors import EditRefused


def split_off(mesh: PolyMesh, faces: Ints) -> tuple[PolyMesh, PolyMesh]:
    """(the rest, the faces as a mesh of their own). Raises EditRefused where nothing would be left on one side."""
    inside = np.zeros(mesh.n_faces, bool)
    inside[faces] = True
    if not inside.any() or inside.all():
        raise EditRefused("Hold some of the faces, not none and not all, to split them into a layer of their own.")
    loose = np.bincount(mesh.corners, minlength=mesh.n_points) == 0
    apart = faces_removed(mesh, np.flatnonzero(~inside)).mesh
    if loose.any():
        keep = np.bincount(apart.corners, minlength=apart.n_points) > 0
        apart = _without_points(apart, keep)
    return faces_removed(mesh, np.flatnonzero(inside)).mesh, apart


def _without_points(mesh: PolyMesh, keep: NDArray[np.bool_]) -> PolyMesh:
    to = (np.cumsum(keep) - 1).astype(np.int32)
    marks = {n: to[p] for n, p in mesh.marks.items()}
    return mesh.with_(points=mesh.points[keep], corners=to[mesh.corners], marks=marks,
                      point_data={n: v[keep] for n, v in mesh.point_data.items()})  # fmt: skip


def put_side_by_side(meshes: Sequence[PolyMesh]) -> PolyMesh:
    """One mesh of several, nothing welded. UV sets, marks and attributes that only some have are blank elsewhere."""
    first = np.concatenate([[0], np.cumsum([m.n_points for m in meshes])])
    corners = np.concatenate([m.corners + first[k] for k, m in enumerate(meshes)]).astype(np.int32)
    starts = [np.zeros(1, np.int32)]
    for m in meshes:
        starts.append(m.starts[1:] + starts[-1][-1])
    uvs = {name: np.concatenate([m.uvs.get(name, np.full((m.n_corners, 2), np.nan)) for m in meshes])
           for name in _names(m.uvs for m in meshes)}  # fmt: skip
    marks = {}
    for name in _names(m.marks for m in meshes):
        marks[name] = np.concatenate([m.mark(name) + first[k] for k, m in enumerate(meshes)]).astype(np.int32)
    point_data = _stacked([m.point_data for m in meshes], [m.n_points for m in meshes])
    face_data = _stacked([m.face_data for m in meshes], [m.n_faces for m in meshes])
    for name in ("material", "group"):
        face_data.pop(name, None)
    return PolyMesh(np.concatenate([m.points for m in meshes]), corners, np.concatenate(starts).astype(np.int32),
                    uvs, marks, point_data, face_data)  # fmt: skip


def _names(tables: Any) -> list[str]:
    return list(dict.fromkeys(name for table in tables for name in table))


def _stacked(tables: list[Any], counts: list[int]) -> dict[str, NDArray[Any]]:
    out = {}
    for name in _names(tables):
        like = next(t[name] for t in tables if name in t)
        rows = [t[name] if name in t else np.zeros((n, *like.shape[1:]), like.dtype)
                for t, n in zip(tables, counts, strict=True)]  # fmt: skip
        out[name] = np.concatenate(rows)
    return out


def turned_over(mesh: PolyMesh, points: Floats) -> PolyMesh:
    """The mesh over other positions with every face run the other way, as a mirrored copy needs."""
    order = np.concatenate([np.arange(b - 1, a - 1, -1) for a, b in zip(mesh.starts, mesh.starts[1:], strict=False)]) \
        if mesh.n_faces else np.zeros(0, int)  # fmt: skip
    return mesh.with_(points=np.ascontiguousarray(points, np.float64), corners=mesh.corners[order],
                      uvs={n: uv[order] for n, uv in mesh.uvs.items()})  # fmt: skip


def mirrored_copy(mesh: PolyMesh, axis: int) -> PolyMesh:
    """A copy on the other side of the plane through the origin across an axis (0, 1, 2)."""
    points = mesh.points.copy()
    points[:, axis] *= -1
    return turned_over(mesh, points)


def turned_copy(mesh: PolyMesh, axis: int, angle: float, centre: Floats) -> PolyMesh:
    """A copy turned by an angle (radians) about an axis through a centre (3,)."""
    a, b = (axis + 1) % 3, (axis + 2) % 3
    c, s = np.cos(angle), np.sin(angle)
    arm = mesh.points - centre
    points = arm.copy()
    points[:, a] = c * arm[:, a] - s * arm[:, b]
    points[:, b] = s * arm[:, a] + c * arm[:, b]
    return mesh.with_points(points + centre)
