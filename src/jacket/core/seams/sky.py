"""How much of a form is seen: the share of the sky that is open over its points."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import edge_lengths, point_normals
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.space.rays import RayTree

RAYS = 64
OFF = 1e-4
"""How far above its point a ray starts, in diagonals: a hair, so that the faces at the point itself do not cover it."""


def open_sky(mesh: PolyMesh, tree: RayTree | None = None) -> Floats:
    """(V,) share of the sky over each point that the mesh itself leaves open."""
    tree = tree or RayTree.build(mesh.points, mesh.triangle_points)
    return tree.open_share(mesh.points, point_normals(mesh), RAYS, OFF * mesh.diagonal)


def at_edges(mesh: PolyMesh, values: Floats) -> Floats:
    """(E,) mean of values (V,) at both ends of each edge."""
    return np.asarray(values[mesh.topology.edge_points].mean(axis=1), np.float64)


def seen(mesh: PolyMesh, edges: Bools, sky: Floats) -> float:
    """How much flagged edges (E,) are seen: the share of the open sky over them, by length, against the mean over all
    edges; 1 is a seam as visible as any edge. 0 where no edge is flagged. sky (V,) from `open_sky`."""
    length, share = edge_lengths(mesh), at_edges(mesh, sky)
    whole = float((length * share).sum()) / max(float(length.sum()), 1e-300)
    own = float(length[edges].sum())
    return float((length * share)[edges].sum()) / own / whole if own > 0 and whole > 0 else 0.0
