"""A torn scan made whole where it is: flaps taken off, sheets that meet in one edge parted, small handles cut, holes closed.

What a scan tears is small beside its form, so that mending it in place shuts it, and its outside can be told from its inside
everywhere (`skin.solid_skin`): horns, teeth and claws stay that a closing by distance would swallow.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jacket.core.heap import heap_pop, heap_push
from jacket.core.jit import inline, kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.geometry import edge_lengths, triangle_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import spread
from jacket.core.mesh.unique import unique_rows
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.source.holes import find_holes, patches_over
from jacket.core.source.weld import compact
from jacket.core.source.winding import paired_twins
from jacket.progress import Progress, silent

FLAPS = 0.005
"""Share of the area up to which a patch of faces folded flat onto one another is taken off; larger ones are leaves."""
LONGEST = 0.5
"""Diagonals of border up to which a hole is closed; what is longer is an end of the surface rather than a tear."""
ROUNDS = 12


def holes_patched(points: Floats, triangles: Ints, progress: Progress = silent) -> tuple[Floats, Ints, int]:
    """A manifold surface with fair patches over its holes, but for long ones, and how many were closed."""
    mesh = PolyMesh.from_faces(points, triangles)
    holes = [h for h in find_holes(mesh) if h.perimeter <= LONGEST * mesh.diagonal]
    if not holes:
        return points, triangles, 0
    points, patches = patches_over(mesh, holes, progress)
    # Patches over holes that touch may use the same edge.
    return *sheets_parted(points, np.concatenate([triangles, patches])), len(holes)


# ---- flaps and sheets ----------------------------------------------------------------------------------------------------


def without_flaps(points: Floats, triangles: Ints) -> tuple[Floats, Ints, int]:
    """Points and triangles, and how many went, without pairs of faces that lie on one another and look opposite ways, as simplifying folds them
    onto a surface; of several that look the same way one stays. Large ones, and those that hang together with nothing else,
    stay: they are leaves with two sides, and one of these stays."""
    key = np.sort(triangles, axis=1)
    rising = (triangles[:, 0] < triangles[:, 1]).astype(int) + (triangles[:, 1] < triangles[:, 2]) + (triangles[:, 2] < triangles[:, 0])
    way = np.where(rising == 2, 1, -1)
    first, row = unique_rows(key)
    once = key[first]
    net = np.bincount(row, way)
    alike = np.flatnonzero(way == np.sign(net)[row])
    keep = np.zeros(len(triangles), bool)
    keep[alike[np.unique(row[alike], return_index=True)[1]]] = True
    folded = np.flatnonzero(net == 0)
    flaps = 2 * len(folded)
    if len(folded):
        leaves = _leaves(points, once, folded)
        keep[first[folded[leaves]]] = True
        flaps -= 2 * int(leaves.sum())
    return *compact(points, triangles[keep]), flaps


def _leaves(points: Floats, faces: Ints, folded: Ints) -> Bools:
    """(K,) which of some faces, taken once, are of a large patch of such faces, or of one that touches no other face."""
    topology = PolyMesh.from_faces(points, faces).topology
    of_edge = topology.edge.reshape(-1, 3)
    marked = np.zeros(len(faces), bool)
    marked[folded] = True
    uses = np.bincount(of_edge[~marked].ravel(), minlength=topology.n_edges) > 0
    rows = np.repeat(np.arange(len(folded)), 3)
    both = coo_array((np.ones(3 * len(folded), np.int8), (rows, of_edge[folded].ravel())), shape=(len(folded), topology.n_edges)).tocsr()
    count, patch = connected_components(both @ both.T, directed=False)
    areas = triangle_areas(points, faces)
    large = np.bincount(patch, areas[folded], count) > FLAPS * areas.sum()
    hangs = np.bincount(patch, uses[of_edge[folded]].any(axis=1), count) > 0
    return np.asarray((large | ~hangs)[patch])


def sheets_parted(points: Floats, triangles: Ints) -> tuple[Floats, Ints]:
    """Points and triangles in which every edge has one or two faces and every point one fan (`paired_twins`)."""
    mesh = PolyMesh.from_faces(points, triangles)
    return _with_twins(mesh, paired_twins(mesh))


def _with_twins(mesh: PolyMesh, twin: Ints) -> tuple[Floats, Ints]:
    """Points and triangles of a mesh in which half-edges (C,) have the given twins, −1 for none. Where two edges end up between
    the same two points each gets a point in its middle, or they would count as one."""
    new, origin = corner_orbits(mesh.topology.next, mesh.topology.prev, twin, mesh.corners)
    points, triangles = mesh.points[origin], new.reshape(-1, 3)
    doubled = np.flatnonzero(PolyMesh.from_faces(points, triangles).topology.twin == -2)
    if len(doubled) == 0:
        return points, triangles
    first = doubled[(twin[doubled] < 0) | (doubled < twin[doubled])]
    middle = np.full(len(twin), -1, np.int64)
    middle[first] = len(points) + np.arange(len(first))
    paired = first[twin[first] >= 0]
    middle[twin[paired]] = middle[paired]
    ends = new[np.stack([first, mesh.topology.next[first]], axis=1)]
    split = np.unique(doubled // 3)
    rows = [row for f in split.tolist() for row in _fan(triangles[f].tolist(), middle[3 * f : 3 * f + 3].tolist())]
    return (np.concatenate([points, points[ends].mean(axis=1)]),
            np.concatenate([np.delete(triangles, split, axis=0), np.array(rows, np.int32)]))  # fmt: skip


def _fan(corners: list[int], middles: list[int]) -> list[list[int]]:
    """Triangles in place of one, some of whose edges have a point in their middle (−1 for none), from one such point."""
    ring = [p for pair in zip(corners, middles, strict=True) for p in pair if p >= 0]
    k = ring.index(next(m for m in middles if m >= 0))
    ring = ring[k:] + ring[:k]
    return [[ring[0], ring[i], ring[i + 1]] for i in range(1, len(ring) - 1)]


# ---- handles ---------------------------------------------------------------------------------------------------------------


def handles_cut(points: Floats, triangles: Ints, girth: float, progress: Progress = silent) -> tuple[Floats, Ints, int]:
    """A manifold surface cut open along short loops that do not bound anything, and how many were cut. Each loop makes two
    borders; of a handle only one loop is cut.

    The loops are those of a tree of shortest ways from one point and a tree of faces beside it (Erickson and Whittlesey,
    "Greedy optimal homotopy and homology generators", 2005), without the way that both their ends share.
    """
    cut = 0
    roots = [0]
    for k in range(ROUNDS):
        progress(k / ROUNDS, "looking for small handles")
        mesh = PolyMesh.from_faces(points, triangles)
        if _handles(mesh) == 0:
            break
        loops: list[tuple[float, list[int]]] = []
        for root in roots:
            loops += loops_from(mesh, root)
        loops.sort(key=lambda row: row[0])
        taken = np.zeros(mesh.n_points, bool)
        twin = mesh.topology.twin.copy()
        made = 0
        for length, loop in loops:
            if length > girth or taken[loop].any():
                continue
            pairs = np.stack([loop, np.roll(loop, -1)], axis=1)
            edges = np.isin(mesh.topology.edge, mesh.topology.find_edges(pairs))
            twin[edges] = -1
            taken[_beside(mesh, loop)] = True
            made += 1
            if len(roots) > 1:
                break  # loops from several points may go round the same handle
        if made == 0:
            if len(roots) > 1:
                break
            # What the ways from afar did not find short may be short from where it is.
            roots = sorted({int(loop[k * len(loop) // 4]) for _, loop in loops[:4] for k in range(4)})
            continue
        cut += made
        roots = [0]
        points, triangles = _with_twins(mesh, twin)
    return points, triangles, cut


def _handles(mesh: PolyMesh) -> int:
    return max(0, (2 - len(mesh.topology.border_loops) - euler_characteristic(mesh)) // 2)


def _beside(mesh: PolyMesh, loop: list[int]) -> Bools:
    near = np.zeros(mesh.n_points, bool)
    near[loop] = True
    return spread(near, mesh.topology.edge_points)


def loops_from(mesh: PolyMesh, root: int) -> list[tuple[float, list[int]]]:
    """Length and points of one loop for every way round a surface, two for each handle; borders count as closed."""
    topology = mesh.topology
    lengths = edge_lengths(mesh)
    start, around = topology.point_edges
    far, parent = _ways(topology.edge_points, lengths, start, around, root)
    # Dual graph: faces, and past every border one more.
    count = mesh.n_faces
    beyond = np.full(mesh.n_corners, -1, np.int64)
    for k, loop in enumerate(topology.border_loops):
        beyond[loop] = count + k
    left, right = mesh.face_of_corner[topology.edge_corner], np.full(topology.n_edges, -1, np.int64)
    twin = topology.twin[topology.edge_corner]
    right = np.where(twin >= 0, mesh.face_of_corner[np.maximum(twin, 0)], beyond[topology.edge_corner])
    ends = topology.edge_points
    in_tree = np.zeros(topology.n_edges, bool)
    in_tree[parent[parent >= 0]] = True
    weight = far[ends].sum(axis=1) + lengths
    order = np.argsort(-weight, kind="stable")
    order = order[~in_tree[order] & np.isfinite(weight[order]) & (right[order] >= 0)]
    out = []
    for e in _left_over(order, left, right, count + len(topology.border_loops)):
        points = _loop(ends, parent, int(ends[e, 0]), int(ends[e, 1]))
        if len(points) >= 3:
            place = mesh.points[points]
            out.append((float(np.linalg.norm(place - np.roll(place, -1, axis=0), axis=1).sum()), points))
    return out


def _loop(ends: Ints, parent: Ints, a: int, b: int) -> list[int]:
    """Points of the loop of an edge from a to b and the ways back from both to where these meet."""
    ways = []
    for p in (a, b):
        way = [p]
        while parent[way[-1]] >= 0:
            e = parent[way[-1]]
            way.append(int(ends[e, 0] + ends[e, 1] - way[-1]))
        ways.append(way)
    one, other = ways
    while len(one) > 1 and len(other) > 1 and one[-2] == other[-2]:
        one.pop()
        other.pop()
    return one[:-1] + other[::-1] if one[-1] == other[-1] else []


@kernel
def _ways(ends, lengths, start, around, root):
    """(V,) how far each point is from a root along edges, and (V,) the edge towards it, −1 at the root and where no way leads."""
    n = len(start) - 1
    far, parent = np.full(n, np.inf), np.full(n, -1, np.int64)
    done = np.zeros(n, np.bool_)
    cost, item = np.empty(2 * len(ends) + 2), np.empty((2 * len(ends) + 2, 4), np.int32)
    size = heap_push(cost, item, 0, 0.0, root, 0, 0, 0)
    far[root] = 0.0
    while size > 0:
        p = item[0, 0]
        size = heap_pop(cost, item, size)
        if done[p]:
            continue
        done[p] = True
        for k in range(start[p], start[p + 1]):
            e = around[k]
            q = ends[e, 0] + ends[e, 1] - p
            d = far[p] + lengths[e]
            if d < far[q]:
                far[q], parent[q] = d, e
                size = heap_push(cost, item, size, d, q, 0, 0, 0)
    return far, parent


@inline
def _top(up, f):
    while up[f] != f:
        up[f] = up[up[f]]
        f = up[f]
    return f


@kernel
def _left_over(order, left, right, count):
    """Edges, of some in their order, across which faces hang together already by the earlier ones."""
    up = np.arange(count)
    out = np.empty(len(order), np.int64)
    n = 0
    for e in order:
        a, b = _top(up, left[e]), _top(up, right[e])
        if a == b:
            out[n] = e
            n += 1
        else:
            up[a] = b
    return out[:n].copy()
