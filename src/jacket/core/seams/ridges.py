"""Edges of a form that are rounded over a few rows of quads, as sculpted bevels are: where walls meet, though no edge is sharp."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_array, csr_array, diags_array, identity
from scipy.sparse.csgraph import connected_components, dijkstra

from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.cost import signed_dihedral

BEND = 55.0
"""Degrees by which three rows of quads turn together from which on they round an edge."""
ON, MIDDLE = 0.2, 0.1
"""Share of that by which the next rows turn on at most, or it is a tube, and by which the middle one turns at least."""
EVENED = 12
"""How often the turn of an edge is evened with those that go straight on from it: bumps of a sculpt break no run."""
WEAK = 0.7
"""How much of both does where a run goes on."""
RUN = 3
"""Edges that a run has at least, and that are clear in it."""
REACH = 3.5
"""Mean edges from a loose end to what it is joined to."""


def rounded_edges(mesh: PolyMesh) -> Bools:
    """(E,) one row of edges along each rounded edge."""
    topology = mesh.topology
    straight = _straight(mesh)
    bend = signed_dihedral(mesh)
    even = bend
    means = straight + identity(topology.n_edges, format="csr")
    means = diags_array(1.0 / np.asarray(means.sum(axis=1)).ravel()) @ means
    for _ in range(EVENED):
        even = means @ even
    rows = _rows(mesh)
    turned = np.where(rows >= 0, even[rows], 0.0)
    three = turned[:, 2:5].sum(axis=1)
    near = np.abs(three)
    on = (turned[:, [1, 5]] * np.sign(three)[:, None]).max(axis=1)
    row = (np.abs(even) >= MIDDLE * near) & (topology.edge_uses == 2)
    sure = row & (near >= BEND) & (on <= ON * near)
    # A run goes on where it is less clear.
    found = row & (near >= WEAK * BEND) & (on <= ON / WEAK * near)
    length = edge_lengths(mesh)
    taken, shadowed = np.zeros(len(bend), bool), np.zeros(len(bend), bool)
    edges = np.flatnonzero(found)
    runs = connected_components(straight[edges][:, edges], directed=False)[1]
    order = np.argsort(runs, kind="stable")
    groups = np.split(edges[order], np.flatnonzero(np.diff(runs[order])) + 1) if len(edges) else []
    # Of runs side by side the one that turns most, so that the row does not jump between them.
    for group in sorted(groups, key=lambda g: -float((near * length)[g].sum())):
        free = group[~shadowed[group]]
        if len(free) >= RUN and sure[group].sum() >= RUN:
            taken[free] = True
            beside = rows[free][:, [1, 2, 4, 5]]
            shadowed[beside[beside >= 0]] = True
    return _joined(mesh, taken)


def share_around(mesh: PolyMesh, network: Bools) -> float:
    """Share of Σ length · |angle| over all edges that lies on a network and on the rows next to it."""
    rows = _rows(mesh)[network][:, 2:5]
    on = np.zeros(mesh.topology.n_edges, bool)
    on[rows[rows >= 0]] = True
    bent = edge_lengths(mesh) * np.abs(signed_dihedral(mesh))
    return float(bent[on].sum()) / max(float(bent.sum()), 1e-300)


def _rows(mesh: PolyMesh) -> Ints:
    """(E, 7) each edge between the three that lie opposite of one another on either side of it, −1 where there is none."""
    topology = mesh.topology
    quad = mesh.sizes[mesh.face_of_corner] == 4
    over = np.where(quad, topology.next[topology.next], -1)
    out = np.full((topology.n_edges, 7), -1, np.int32)
    out[:, 3] = np.arange(topology.n_edges)
    first = topology.edge_corner
    for side, corner in ((1, first), (-1, topology.twin[first])):
        at = corner.copy()
        for k in (1, 2, 3):
            at = np.where(at >= 0, over[np.maximum(at, 0)], -1)
            out[:, 3 + side * k] = np.where(at >= 0, topology.edge[np.maximum(at, 0)], -1)
            at = np.where(at >= 0, topology.twin[np.maximum(at, 0)], -1)
    return out


def _straight(mesh: PolyMesh) -> csr_array:
    """(E, E) which edges go straight on into one another, over points of four."""
    topology = mesh.topology
    start, _ = topology.point_edges
    four = (np.diff(start) == 4) & ~topology.border_points
    ahead = topology.next[np.arange(mesh.n_corners)]
    across = topology.twin[ahead]
    on = np.where(across >= 0, topology.next[np.maximum(across, 0)], -1)
    known = (on >= 0) & four[mesh.corners[ahead]]
    one, other = topology.edge[known.nonzero()[0]], topology.edge[on[known]]
    n = topology.n_edges
    links = coo_array((np.ones(len(one)), (one, other)), shape=(n, n)).tocsr()
    both = (links + links.T).tocsr()
    both.data[:] = 1.0
    return both


def _joined(mesh: PolyMesh, flags: Bools) -> Bools:
    """(E,) with loose ends led to what is near: the nearest point of another run, or of its own far along it."""
    topology = mesh.topology
    ends = topology.edge_points
    length = edge_lengths(mesh)
    reach = REACH * float(length.mean())
    n = mesh.n_points
    ways = coo_array((np.concatenate([length, length]), (np.r_[ends[:, 0], ends[:, 1]], np.r_[ends[:, 1], ends[:, 0]])), shape=(n, n)).tocsr()
    out = flags.copy()
    for _ in range(2):
        count = np.bincount(ends[out].ravel(), minlength=n)
        loose = np.flatnonzero((count == 1) & ~topology.border_points)
        if len(loose) == 0:
            break
        own = np.flatnonzero(out)
        net = coo_array((np.ones(len(own)), (ends[own, 0], ends[own, 1])), shape=(n, n)).tocsr()
        far, back = dijkstra(ways, directed=False, indices=loose, limit=reach, return_predecessors=True)
        along = dijkstra(net, directed=False, indices=loose, limit=3 * REACH, unweighted=True)
        for k, p in enumerate(loose.tolist()):
            goals = np.flatnonzero(((count > 0) | topology.border_points) & np.isfinite(far[k]) & ~np.isfinite(along[k]))
            if len(goals) == 0:
                continue
            at = int(goals[np.argmin(far[k][goals])])
            path = [at]
            while path[-1] != p:
                path.append(int(back[k, path[-1]]))
            out[topology.find_edges(np.stack([path[:-1], path[1:]], axis=1))] = True
    return out


def without_small_walls(mesh: PolyMesh, flags: Bools, least: float) -> Bools:
    """(E,) without what parts walls of less than an area from the neighbour with whom they have most of their way round in common,
    the smallest first."""
    topology = mesh.topology
    length, area = edge_lengths(mesh), face_areas(mesh)
    sides = mesh.face_of_corner[np.stack([topology.edge_corner, topology.twin[topology.edge_corner]], axis=1)]
    flags = flags & (topology.edge_uses == 2)
    while True:
        count, labels = face_parts(mesh, flags)
        size = np.bincount(labels, area, count)
        small = int(np.argmin(size))
        if count < 2 or size[small] >= least:
            return np.asarray(flags)
        pair = labels[sides]
        here = flags & (pair == small).any(axis=1)
        other = np.where(pair[:, 0] == small, pair[:, 1], pair[:, 0])
        shared = np.bincount(other[here], length[here], count)
        shared[small] = 0.0
        if not shared.any():
            return np.asarray(flags)
        flags &= ~(here & ((other == int(np.argmax(shared))) | (other == small)))
