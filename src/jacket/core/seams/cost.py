"""What it costs to cut an edge: seen seams cost, seams in creases are cheap."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_centres, face_normals
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.seams.sky import at_edges

SHARP = 40.0
"""Degrees from which on an edge is a good place for a seam wherever it lies."""
AT_SHARP = 0.35


def signed_dihedral(mesh: PolyMesh) -> Floats:
    """(E,) degrees by which the two faces of each edge turn: above 0 in hollows, below on ridges; 0 off manifold edges."""
    topology = mesh.topology
    turn, c = dihedral_angles(mesh), topology.edge_corner
    t = topology.twin[c]
    inner = t >= 0
    one, other = mesh.face_of_corner[c[inner]], mesh.face_of_corner[t[inner]]
    way = face_centres(mesh)
    hollow = np.einsum("ij,ij->i", face_normals(mesh)[one], way[other] - way[one]) > 0
    turn[inner] *= np.where(hollow, 1.0, -1.0)
    return turn


def edge_costs(mesh: PolyMesh, seen: Floats) -> Floats:
    """(E,) what a seam along each edge costs: its length, times how much it is seen, less in hollows and along sharp edges,
    more on ridges. seen (V,) from 0 to 1, such as the open share of the sky."""
    turn = signed_dihedral(mesh)
    bent = np.clip(np.abs(np.radians(turn)) / 0.6, 0.0, 1.0)
    form = np.where(turn > 0, 1 - 0.5 * bent, 1 + 0.25 * bent)
    weight = (0.08 + 0.92 * at_edges(mesh, seen) ** 3) * form
    weight = np.where(np.abs(turn) > SHARP, np.minimum(weight, AT_SHARP), weight)
    length = edge_lengths(mesh)
    # Edges without length cost a little too: ways would wander over them for nothing.
    return np.asarray(np.maximum(length, 0.02 * float(length.mean())) * weight, np.float64)
