"""Networks of edges that a piece may be cut along, as a carton is, and which ways of cutting it are worth a try."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.cutting import SHARP
from jacket.core.seams.ridges import rounded_edges, share_around, without_small_walls
from jacket.core.seams.walls import wall_edges
from jacket.core.seams.work import Way

CARTON = 0.6
"""Share of Σ length · |angle| that lies on sharp edges from which on a form is only cut along them."""
BOTH = 0.25
"""The same, from which on that is tried beside cutting by limbs."""
ROUNDED = 0.18
"""The same of rounded edges with the rows next to them: of forms with bevels .2 to .6, of animals at most .16."""
MANY, SPECK = 100, 4
"""Parts of a carton up to which every wall counts, and faces up to which a wall is a speck where there are more."""
SMALL = 0.02
"""Share of a form that a wall between rounded edges has at least; smaller ones belong to a neighbour."""


def ways_of(mesh: PolyMesh, free: Bools) -> list[Way]:
    """The ways of cutting a connected piece that are worth a try, edges (E,) being free to be cut."""
    network = sharp_network(mesh) & free
    share = network_share(mesh, network)
    if share >= CARTON:
        return [Way(network)]
    sharp = [Way(network)] if share > BOTH else []
    boxy = _walled(mesh, wall_edges(mesh) & free)
    if boxy.any():
        return [*sharp, Way(boxy, True, True), Way()]
    rounded = _walled(mesh, (network | rounded_edges(mesh)) & free)
    return [*(sharp or ([Way(rounded, True)] if share_around(mesh, rounded) > ROUNDED else [])), Way()]


def _walled(mesh: PolyMesh, flags: Bools) -> Bools:
    """(E,) without loose ends and small walls."""
    least = SMALL * float(face_areas(mesh).sum())
    return without_loose_ends(mesh, without_small_walls(mesh, without_loose_ends(mesh, flags), least))


def sharp_network(mesh: PolyMesh) -> Bools:
    """(E,) edges over 35° but for rows that end loosely: the edges of a carton. Where it would fall into very many parts
    specks of a few faces, as noise on a scan makes them, are no walls."""
    flags = without_loose_ends(mesh, dihedral_angles(mesh) > SHARP)
    topology = mesh.topology
    for _ in range(4):
        count, labels = face_parts(mesh, flags)
        speck = np.bincount(labels)[labels] <= SPECK
        if count <= MANY or not speck.any():
            break
        gone = np.zeros(topology.n_edges, bool)
        gone[topology.edge[speck[mesh.face_of_corner]]] = True
        flags = without_loose_ends(mesh, flags & ~gone)
    return flags


def network_share(mesh: PolyMesh, network: Bools) -> float:
    """Share of Σ length · |angle| over all edges that lies on a network: near 1 on cartons, small on organic forms."""
    bent = edge_lengths(mesh) * dihedral_angles(mesh)
    return float(bent[network].sum()) / max(float(bent.sum()), 1e-300)


def without_loose_ends(mesh: PolyMesh, flags: Bools) -> Bools:
    flags = flags & (mesh.topology.edge_uses > 1)
    ends = mesh.topology.edge_points
    while True:
        count = np.bincount(ends[flags].ravel(), minlength=mesh.n_points)
        loose = (count == 1) & ~mesh.topology.border_points
        gone = flags & loose[ends].any(axis=1)
        if not gone.any():
            return np.asarray(flags)
        flags = flags & ~gone
