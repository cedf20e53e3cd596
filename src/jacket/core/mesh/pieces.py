"""Meshes taken apart and put together with every channel that hangs on them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.channels import carried, stacked
from jacket.core.mesh.edits import faces_removed, faces_turned
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
                      point_data=carried(mesh.point_data, np.flatnonzero(keep)))  # fmt: skip


def put_side_by_side(meshes: Sequence[PolyMesh]) -> PolyMesh:
    """One mesh of several, nothing welded. Channels, UV sets and marks that only some have are blank elsewhere; the
    active UV set is that of the first mesh that has one."""
    if not meshes:
        return PolyMesh.empty()
    first = np.concatenate([[0], np.cumsum([m.n_points for m in meshes])])
    corners = np.concatenate([m.corners + first[k] for k, m in enumerate(meshes)]).astype(np.int32)
    starts = [np.zeros(1, np.int32)]
    for m in meshes:
        starts.append(m.starts[1:] + starts[-1][-1])
    marks = {}
    for name in dict.fromkeys(n for m in meshes for n in m.marks):
        marks[name] = np.concatenate([m.mark(name) + first[k] for k, m in enumerate(meshes)]).astype(np.int32)
    counts = [(m.n_points, m.n_faces, m.n_corners) for m in meshes]
    of_points, of_faces, of_corners = ([row[k] for row in counts] for k in range(3))
    face_data = stacked([_shifted_labels(m, k, meshes) for k, m in enumerate(meshes)], of_faces)
    return PolyMesh(
        np.concatenate([m.points for m in meshes]), corners, np.concatenate(starts).astype(np.int32),
        stacked([m.point_data for m in meshes], of_points), face_data,
        stacked([m.corner_data for m in meshes], of_corners), marks,
        tuple(dict.fromkeys(n for m in meshes for n in m.uv_sets)), next((m.active_uv for m in meshes if m.active_uv), ""),
        tuple(x for m in meshes for x in m.materials), tuple(x for m in meshes for x in m.groups),
    )  # fmt: skip


def _shifted_labels(mesh: PolyMesh, index: int, meshes: Sequence[PolyMesh]) -> dict[str, NDArray[Any]]:
    """Face channels with materials and groups counted on from those of the meshes before."""
    out = dict(mesh.face_data)
    for kind, count in (("material", [len(m.materials) for m in meshes]), ("group", [len(m.groups) for m in meshes])):
        if kind in out:
            rows = np.asarray(out[kind])
            out[kind] = np.where(rows >= 0, rows + sum(count[:index]), -1).astype(np.int32)
    return out


def turned_over(mesh: PolyMesh, points: Floats) -> PolyMesh:
    """The mesh over other positions with every face run the other way, as a mirrored copy needs."""
    return faces_turned(mesh, np.ones(mesh.n_faces, bool)).with_(points=np.ascontiguousarray(points, np.float64))


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
