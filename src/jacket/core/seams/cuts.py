"""Cutting and sewing edges; each function returns the new set of seam pairs (S, 2)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.polymesh import Ints, PolyMesh, sorted_pairs
from jacket.core.mesh.walks import edge_loop, face_parts, shortest_path


def cut_edges(mesh: PolyMesh, edges: NDArray[Any]) -> PolyMesh:
    """The mesh with more edges (ids) marked as seams; borders are open already and are left out."""
    edges = np.asarray(edges, np.int64)
    inner = edges[mesh.topology.edge_uses[edges] > 1]
    pairs = np.concatenate([mesh.mark("seam"), mesh.topology.edge_points[inner]])
    return mesh.with_mark("seam", pairs)


def sew_edges(mesh: PolyMesh, edges: NDArray[Any]) -> PolyMesh:
    """The mesh with edges (ids) no longer seams."""
    flags = mesh.topology.edge_flags(mesh.mark("seam"))
    flags[np.asarray(edges, np.int64)] = False
    return mesh.with_mark("seam", mesh.topology.edge_points[flags])


def seam_loop(mesh: PolyMesh, edge: int) -> Ints:
    """Edges of the loop through `edge`, stopping where it meets seams already there."""
    flags = mesh.topology.edge_flags(mesh.mark("seam"))
    flags[edge] = False
    return edge_loop(mesh, edge, flags)


def seam_path(mesh: PolyMesh, start: int, end: int) -> Ints:
    """Edges of the shortest path between two points; empty when they are not joined."""
    path = shortest_path(mesh, start, end)
    if len(path) < 2:
        return np.zeros(0, np.int32)
    return mesh.topology.find_edges(np.stack([path[:-1], path[1:]], axis=1))


def sharp_edges(mesh: PolyMesh, degrees: float) -> Ints:
    """Inner edges whose faces turn by more than an angle."""
    return np.flatnonzero(dihedral_angles(mesh) > degrees).astype(np.int32)


def uv_border_pairs(mesh: PolyMesh, uv: NDArray[np.float64], slack: float = 1e-7) -> Ints:
    """Point pairs of edges where a UV set is cut: mapped on both sides but not at one place."""
    topology = mesh.topology
    c = np.flatnonzero(topology.twin >= 0)
    t = topology.twin[c]
    here = np.abs(uv[c] - uv[topology.next[t]]).max(axis=1)
    there = np.abs(uv[topology.next[c]] - uv[t]).max(axis=1)
    apart = ~(np.maximum(here, there) <= slack)
    apart &= np.isfinite(uv[c]).all(axis=1) | np.isfinite(uv[t]).all(axis=1)
    return sorted_pairs(topology.edge_points[topology.edge[c[apart]]])


def island_labels(mesh: PolyMesh) -> tuple[int, Ints]:
    """Number of islands and (F,) the island of each face."""
    return face_parts(mesh, mesh.topology.edge_flags(mesh.mark("seam")))
