"""Edges of a form that are rounded over a few rows of quads, as sculpted bevels are: where walls meet, though no edge is sharp."""

from __future__ import annotations

from heapq import heapify, heappop, heappush

import numpy as np
from scipy.sparse import coo_array, csr_array
from scipy.sparse.csgraph import connected_components, dijkstra

from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.means import means_over
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
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
    straight, rows = _straight(mesh), _rows(mesh)
    near, clear, weak = _rounded(mesh, straight, rows)
    weight = near * edge_lengths(mesh)
    taken, shadowed = np.zeros(len(near), bool), np.zeros(len(near), bool)
    edges = np.flatnonzero(weak)
    runs = connected_components(straight[edges][:, edges], directed=False)[1]
    order = np.argsort(runs, kind="stable")
    groups = np.split(edges[order], np.flatnonzero(np.diff(runs[order])) + 1) if len(edges) else []
    # Of runs side by side the one that turns most, so that the row does not jump between them.
    for group in sorted(groups, key=lambda g: -float(weight[g].sum())):
        free = group[~shadowed[group]]
        if len(free) >= RUN and clear[group].sum() >= RUN:
            taken[free] = True
            beside = rows[free][:, [0, 1, 3, 4]]
            shadowed[beside[beside >= 0]] = True
    return _joined(mesh, taken)


def _rounded(mesh: PolyMesh, straight: csr_array, rows: Ints) -> tuple[Floats, Bools, Bools]:
    """(E,) degrees that the three rows round each edge turn together, whether they clearly round it, and whether less clearly."""
    means = means_over(straight)
    even = signed_dihedral(mesh)
    for _ in range(EVENED):
        even = means @ even
    turned = np.where(rows >= 0, even[rows], 0.0)
    three = turned[:, 1:4].sum(axis=1)
    near = np.abs(three)
    on = (turned[:, [0, 4]] * np.sign(three)[:, None]).max(axis=1)
    row = (np.abs(even) >= MIDDLE * near) & (mesh.topology.edge_uses == 2)
    return near, row & (near >= BEND) & (on <= ON * near), row & (near >= WEAK * BEND) & (on <= ON / WEAK * near)


def share_around(mesh: PolyMesh, network: Bools) -> float:
    """Share of Σ length · |angle| over all edges that lies on a network and on the rows next to it."""
    rows = _rows(mesh)[network][:, 1:4]
    on = np.zeros(mesh.topology.n_edges, bool)
    on[rows[rows >= 0]] = True
    bent = edge_lengths(mesh) * np.abs(signed_dihedral(mesh))
    return float(bent[on].sum()) / max(float(bent.sum()), 1e-300)


def _rows(mesh: PolyMesh) -> Ints:
    """(E, 5) each edge between the two that lie opposite of one another on either side of it, −1 where there is none."""
    topology = mesh.topology
    quad = mesh.sizes[mesh.face_of_corner] == 4
    over = np.where(quad, topology.next[topology.next], -1)
    out = np.full((topology.n_edges, 5), -1, np.int32)
    out[:, 2] = np.arange(topology.n_edges)
    first = topology.edge_corner
    for side, corner in ((1, first), (-1, topology.twin[first])):
        at = corner.copy()
        for k in (1, 2):
            at = np.where(at >= 0, over[np.maximum(at, 0)], -1)
            out[:, 2 + side * k] = np.where(at >= 0, topology.edge[np.maximum(at, 0)], -1)
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
        goal = (count > 0) | topology.border_points
        # Distances come for all points: not of too many ends at a time.
        for few in np.array_split(loose, -(-len(loose) // 64)):
            far, back = dijkstra(ways, directed=False, indices=few, limit=reach, return_predecessors=True)
            along = dijkstra(net, directed=False, indices=few, limit=3 * REACH, unweighted=True)
            far[~goal | np.isfinite(along)] = np.inf
            for k in np.flatnonzero(np.isfinite(far).any(axis=1)).tolist():
                path = [int(np.argmin(far[k]))]
                while path[-1] != few[k]:
                    path.append(int(back[k, path[-1]]))
                out[topology.find_edges(np.stack([path[:-1], path[1:]], axis=1))] = True
    return out


def without_small_walls(mesh: PolyMesh, flags: Bools, least: float) -> Bools:
    """(E,) without what parts walls of less than an area from the neighbour with whom they have most of their way round in common,
    the smallest first."""
    topology = mesh.topology
    flags = np.asarray(flags & (topology.edge_uses == 2))
    count, labels = face_parts(mesh, flags)
    corner = topology.edge_corner[flags]
    sides = labels[mesh.face_of_corner[np.stack([corner, topology.twin[corner]], axis=1)]]
    shared: list[dict[int, float]] = [{} for _ in range(count)]
    for (a, b), length in zip(sides.tolist(), edge_lengths(mesh)[flags].tolist(), strict=True):
        if a != b:
            shared[a][b] = shared[b][a] = shared[a].get(b, 0.0) + length
    area = np.bincount(labels, face_areas(mesh), count).tolist()
    wall = list(range(count))
    queue = [(size, k) for k, size in enumerate(area) if size < least]
    heapify(queue)
    while queue:
        size, small = heappop(queue)
        if wall[small] != small or size != area[small] or not shared[small]:
            continue
        to = max(shared[small], key=lambda k: (shared[small][k], -k))
        for other, length in shared[small].items():
            del shared[other][small]
            if other != to:
                shared[to][other] = shared[other][to] = shared[to].get(other, 0.0) + length
        wall[small], area[to] = to, area[to] + size
        if area[to] < least:
            heappush(queue, (area[to], to))
    for k in range(count):
        while wall[k] != wall[wall[k]]:
            wall[k] = wall[wall[k]]
    found = np.array(wall)[sides]
    out = flags.copy()
    out[flags] = found[:, 0] != found[:, 1]
    return out
