"""Cutting and sewing edges; each function returns the mesh with other cuts in its active UV set, or edges to cut."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.polymesh import Ints, PolyMesh, sorted_pairs
from jacket.core.uv.sets import SLACK, apart_flags, cut_flags


def cut_edges(mesh: PolyMesh, edges: NDArray[Any]) -> PolyMesh:
    """The mesh with more edges (ids) marked as seams; borders are open already and are left out."""
    edges = np.asarray(edges, np.int64)
    inner = edges[mesh.topology.edge_uses[edges] > 1]
    return mesh.with_cuts(np.concatenate([mesh.cuts, mesh.topology.edge_points[inner]]))


def sew_edges(mesh: PolyMesh, edges: NDArray[Any]) -> PolyMesh:
    """The mesh with edges (ids) no longer seams."""
    flags = cut_flags(mesh)
    flags[np.asarray(edges, np.int64)] = False
    return mesh.with_cuts(mesh.topology.edge_points[flags])


def sharp_edges(mesh: PolyMesh, degrees: float) -> Ints:
    """Inner edges whose faces turn by more than an angle."""
    return np.flatnonzero(dihedral_angles(mesh) > degrees).astype(np.int32)


def uv_border_pairs(mesh: PolyMesh, uv: NDArray[np.float64], slack: float = SLACK) -> Ints:
    """(S, 2) point pairs of edges where coordinates are cut: mapped on one side at least but not at one place."""
    return sorted_pairs(mesh.topology.edge_points[apart_flags(mesh, uv, slack)])


def cut_as_mapped(mesh: PolyMesh) -> PolyMesh:
    """The mesh with its active UV set cut where its coordinates are, as files say it. Without UVs it stays as it is."""
    return mesh if mesh.uv is None else mesh.with_cuts(uv_border_pairs(mesh, mesh.uv))
