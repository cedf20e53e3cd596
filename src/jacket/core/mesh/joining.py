"""Adding many faces at once, wound like their neighbours and never breaking the surface."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.edits import Edited, rebuilt
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.errors import EditRefused


def faces_joined(
    mesh: PolyMesh, fresh: Floats, faces: Sequence[Sequence[int]], outward: Floats | None = None
) -> Edited:
    """The mesh with new points `fresh` (K, 3) at its end and new faces over old and new points.

    The faces have to run alike among themselves. All of them are turned over together where the faces around
    ask for it, or, where none touches, where their normals on the whole run against `outward`, (3,) for all or
    (F, 3) for each. Raises EditRefused
    where a face repeats a point or is there already, or an edge would get a third face.
    """
    rows = [list(map(int, f)) for f in faces]
    if not rows:
        return rebuilt(mesh, np.concatenate([mesh.points, fresh.reshape(-1, 3)]), mesh.corners, mesh.starts,
                       np.arange(mesh.n_points), np.arange(mesh.n_corners), np.arange(mesh.n_faces))  # fmt: skip
    if any(len(set(r)) != len(r) or len(r) < 3 for r in rows):
        raise EditRefused("A face would name a point twice; draw a little farther from what is there.")
    points = np.concatenate([mesh.points, np.asarray(fresh, float).reshape(-1, 3)])
    if _against(mesh, points, rows, outward):
        rows = [r[::-1] for r in rows]
    corners = np.concatenate([mesh.corners, np.array([p for r in rows for p in r], np.int32)])
    starts = np.concatenate([mesh.starts, mesh.n_corners + np.cumsum([len(r) for r in rows])])
    none = np.full(len(corners) - mesh.n_corners, -1)
    edited = rebuilt(
        mesh, points, corners, starts, np.arange(mesh.n_points),
        np.concatenate([np.arange(mesh.n_corners), none]),
        np.concatenate([np.arange(mesh.n_faces), np.full(len(rows), -1)]),
    )  # fmt: skip
    new = edited.mesh.topology
    if len(new.nonmanifold_edges) > len(mesh.topology.nonmanifold_edges):
        raise EditRefused("Joining here would give an edge a third face, or faces that run against each other.")
    return edited


def _against(mesh: PolyMesh, points: Floats, rows: list[list[int]], outward: Floats | None) -> bool:
    """Whether the new faces run against those they touch, or against `outward` where they touch none."""
    topology = mesh.topology
    sides = np.array([[a, b] for r in rows for a, b in zip(r, [*r[1:], r[0]], strict=True)])
    old = (sides < mesh.n_points).all(axis=1)
    votes = 0
    for (a, _), e in zip(sides[old].tolist(), topology.find_edges(sides[old]).tolist(), strict=True):
        if e >= 0:
            # A neighbour that leaves the same point along the edge runs against the new face.
            votes += 1 if int(mesh.corners[topology.edge_corner[e]]) == a else -1
    if votes:
        return votes > 0
    if outward is None:
        return False
    normals = np.zeros((len(rows), 3))
    for k, r in enumerate(rows):
        ring = points[r]
        normals[k] = np.cross(ring, np.roll(ring, -1, axis=0)).sum(axis=0)
    return float((normals * outward).sum()) < 0


def grid_faces(rows: NDArray[Any]) -> list[list[int]]:
    """Quads over a table (m, n) of point ids, all running alike."""
    m, n = rows.shape
    return [[int(rows[i, j]), int(rows[i, j + 1]), int(rows[i + 1, j + 1]), int(rows[i + 1, j])]
            for i in range(m - 1) for j in range(n - 1)]  # fmt: skip
