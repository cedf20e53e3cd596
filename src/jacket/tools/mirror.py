"""Doing on the other side of the mirror what was done on this one."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.store import STORE

AXES = {"x": 0, "y": 1, "z": 2}


def reflected(points: Any, axis: str) -> Floats:
    """Positions on the other side of the plane through the origin across `axis`."""
    out = np.array(points, float)
    out[..., AXES[axis]] *= -1
    return out


def on_plane(points: Any, axis: str) -> Floats:
    """Positions laid onto the plane."""
    out = np.array(points, float)
    out[..., AXES[axis]] = 0.0
    return out


def partners(mesh: PolyMesh, axis: str) -> NDArray[np.signedinteger]:
    """(V,) the point that mirrors each point, itself on the plane, −1 where there is none.

    Pairs have to agree within a thousandth of the mesh's mean edge length and be each other's.
    """
    return STORE.get((mesh.aspect("points"),), ("partners", axis), lambda: _partners(mesh, axis))


def _partners(mesh: PolyMesh, axis: str) -> NDArray[np.signedinteger]:
    from scipy.spatial import cKDTree

    if mesh.n_points == 0:
        return np.zeros(0, np.int32)
    slack = 1e-4 * max(mesh.diagonal, 1e-12)
    far, found = cKDTree(mesh.points).query(reflected(mesh.points, axis))
    found = np.where(far <= slack, found, -1)
    mutual = (found >= 0) & (found[np.maximum(found, 0)] == np.arange(mesh.n_points))
    return np.where(mutual, found, -1).astype(np.int32)


def partner_edge(mesh: PolyMesh, edge: int, axis: str) -> int:
    """The edge that mirrors an edge, or −1."""
    a, b = partners(mesh, axis)[mesh.topology.edge_points[edge]].tolist()
    return mesh.topology.find_edge(a, b) if a >= 0 and b >= 0 else -1


def partner_faces(mesh: PolyMesh, faces: NDArray[Any], axis: str) -> NDArray[np.signedinteger]:
    """Faces that mirror the given ones, where all their points have partners."""
    table = partners(mesh, axis)
    wanted = set()
    for f in np.asarray(faces).tolist():
        other = table[mesh.face(f)]
        if (other >= 0).all():
            wanted.add(frozenset(other.tolist()))
    if not wanted:
        return np.zeros(0, np.int64)
    near = np.unique(np.concatenate([np.array(list(w)) for w in wanted]))
    candidates = np.unique(mesh.face_of_corner[np.isin(mesh.corners, near)])
    return np.array([f for f in candidates.tolist() if frozenset(mesh.face(f).tolist()) in wanted], np.int64)
