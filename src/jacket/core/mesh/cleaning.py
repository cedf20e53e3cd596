"""Cleaning a jacket: triangles paired to quads, needless loops dissolved, near points merged."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from jacket.core.jit import kernel
from jacket.core.mesh.edits import points_welded, weld_targets
from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.polymesh import CUT, Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.rows import edges_dissolved
from jacket.core.mesh.walks import edge_loop
from jacket.errors import EditRefused


def triangle_pairs(mesh: PolyMesh, faces: Ints | None = None, most_turn: float = 40.0) -> Ints:
    """Edges between two triangles that are best taken out so that quads are left, each triangle in one pair.

    Pairs are taken by how near the quad comes to a rectangle and how flat it is; edges that are cut or marked sharp and
    edges that turn by more than `most_turn` degrees stay. A second pass frees pairs whose neighbours could both be
    paired otherwise, so that fewer triangles are left over.
    """
    topology = mesh.topology
    chosen = np.ones(mesh.n_faces, bool)
    if faces is not None:
        chosen[:] = False
        chosen[faces] = True
    inner = np.flatnonzero(topology.edge_uses == 2)
    c = topology.edge_corner[inner]
    t = topology.twin[c]
    f, g = mesh.face_of_corner[c], mesh.face_of_corner[np.maximum(t, 0)]
    keep = (t >= 0) & (mesh.sizes[f] == 3) & (mesh.sizes[g] == 3) & chosen[f] & chosen[g] & (f != g)
    keep &= dihedral_angles(mesh)[inner] <= most_turn
    for name in [n for n in mesh.marks if n == "sharp" or n.startswith(CUT)]:
        keep &= ~topology.edge_flags(mesh.mark(name))[inner]
    inner, c, t, f, g = inner[keep], c[keep], t[keep], f[keep], g[keep]
    if len(inner) == 0:
        return np.zeros(0, np.int32)
    # c runs a→b: the quad is a, the far corner beyond, b, the far corner here.
    ring = np.stack([mesh.corners[c], mesh.corners[topology.prev[t]], mesh.corners[topology.next[c]],
                     mesh.corners[topology.prev[c]]], axis=1)  # fmt: skip
    score = _squareness(mesh.points[ring])
    mate: dict[int, int] = {}
    for k in np.argsort(-score, kind="stable").tolist():
        if score[k] > 0 and int(f[k]) not in mate and int(g[k]) not in mate:
            mate[int(f[k])] = mate[int(g[k])] = k
    _augment(mate, f, g, score)
    return np.unique(inner[sorted(set(mate.values()))]).astype(np.int32)


def _squareness(ring: Floats) -> Floats:
    """(N,) least sine of the corners of quads (N, 4, 3) against their mean normal; negative where not convex."""
    side = np.roll(ring, -1, axis=1) - ring
    cross = np.cross(np.roll(side, 1, axis=1), side)
    normal = cross.sum(axis=1)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    length = np.maximum(np.linalg.norm(side, axis=2), 1e-300)
    sine = (cross * normal[:, None]).sum(axis=2) / (length * np.roll(length, 1, axis=1))
    out: Floats = sine.min(axis=1)
    return out


def _augment(mate: dict[int, int], f: Ints, g: Ints, score: Floats) -> None:
    """Two unpaired triangles beside one pair: break it up and pair all four."""
    around: dict[int, list[int]] = {}
    for k in range(len(f)):
        if score[k] > 0.2:
            around.setdefault(int(f[k]), []).append(k)
            around.setdefault(int(g[k]), []).append(k)

    def free(face: int, but: int) -> list[int]:
        others = [(k, int(f[k] + g[k] - face)) for k in around.get(face, [])]
        return [k for k, other in others if other not in mate and other != but]

    for k in sorted(set(mate.values())):
        a, b = int(f[k]), int(g[k])
        if mate.get(a) != k:
            continue
        for i in free(a, b):
            other = int(f[i] + g[i] - a)
            ways = [j for j in free(b, a) if int(f[j] + g[j] - b) != other]
            if ways:
                j = max(ways, key=lambda w: score[w])
                mate[a] = mate[other] = i
                mate[b] = mate[int(f[j] + g[j] - b)] = j
                break


def triangles_paired(mesh: PolyMesh, faces: Ints | None = None) -> PolyMesh:
    """The mesh with triangles joined to quads where they make good ones; raises EditRefused where none do."""
    edges = triangle_pairs(mesh, faces)
    if len(edges) == 0:
        raise EditRefused("No two triangles here make a good quad; there may be none, or they turn too sharply.")
    return edges_dissolved(mesh, edges, thin=False).mesh


def idle_loops(mesh: PolyMesh, most_turn: float, among: Bools | None = None) -> Ints:
    """Edges of whole loops along which the surface turns by less than `most_turn` degrees, no two side by side:
    taking them out changes the shape least and keeps quads. Loops that end inside the mesh are left, as a face
    with five corners would stay; of flagged edges `among` (E,) only whole loops count;
    marked edges stay."""
    topology = mesh.topology
    turn = dihedral_angles(mesh)
    marked = np.zeros(topology.n_edges, bool)
    for name in mesh.marks:
        if name != "pick":
            marked |= topology.edge_flags(mesh.mark(name))
    seen = np.zeros(topology.n_edges, bool)
    found: list[tuple[float, Ints]] = []
    for e in np.flatnonzero(topology.edge_uses == 2).tolist():
        if seen[e] or (among is not None and not among[e]):
            continue
        loop = edge_loop(mesh, e)
        seen[loop] = True
        if among is not None and not among[loop].all():
            continue
        if (topology.edge_uses[loop] != 2).any() or marked[loop].any() or not _ends_well(mesh, loop):
            continue
        worst = float(turn[loop].max())
        if worst <= most_turn:
            found.append((worst, loop))
    out: list[int] = []
    blocked = np.zeros(mesh.n_points, bool)
    for _, loop in sorted(found, key=lambda item: (item[0], int(item[1][0]))):
        ends = topology.edge_points[loop]
        if not blocked[ends].any():
            out += loop.tolist()
            near = np.isin(topology.edge_points, ends).any(axis=1)
            blocked[topology.edge_points[near]] = True
    return np.array(sorted(out), np.int32)


def _ends_well(mesh: PolyMesh, loop: Ints) -> bool:
    """Whether a loop closes, or both its ends lie on borders."""
    count = np.bincount(mesh.topology.edge_points[loop].ravel(), minlength=mesh.n_points)
    ends = np.flatnonzero(count == 1)
    return bool(mesh.topology.border_points[ends].all())


def near_pairs(mesh: PolyMesh, distance: float, ids: Ints | None = None) -> Ints:
    """(K, 2) points to merge: each goes onto the lowest-numbered one within a distance of it. Two points of one
    face count only where an edge joins them."""
    ids = np.arange(mesh.n_points) if ids is None else np.asarray(ids)
    if len(ids) < 2 or distance <= 0:
        return np.zeros((0, 2), np.int32)
    found = cKDTree(mesh.points[ids]).query_pairs(distance, output_type="ndarray")
    rows = np.sort(ids[found], axis=1)
    rows = rows[np.lexsort((rows[:, 1], rows[:, 0]))]
    goes = _landing(rows, mesh.n_points)
    gone = np.flatnonzero(goes >= 0)
    return np.stack([gone, goes[gone]], axis=1).astype(np.int32)


@kernel
def _landing(rows, n):
    """(V,) the point that each goes onto, or -1, by rows of two near ones in order."""
    goes = np.full(n, -1, np.int64)
    for k in range(len(rows)):
        a, b = rows[k, 0], rows[k, 1]
        if goes[a] < 0 and goes[b] < 0:
            goes[b] = a
    return goes


def near_merged(mesh: PolyMesh, distance: float, ids: Ints | None = None) -> tuple[PolyMesh, int, int]:
    """(mesh, merged, refused): near points merged; pairs where merging would break the surface are left alone."""
    pairs = near_pairs(mesh, distance, ids)
    if len(pairs) == 0:
        raise EditRefused("No two points lie that near; raise the distance.")
    good = pairs
    while len(good):
        bad = _broken_by(mesh, weld_targets(mesh.n_points, good))
        if not bad.any():
            break
        # Where several land on one point, one of them at a time: the next may do where the first does not.
        hit = np.flatnonzero(bad[good[:, 1]])
        good = np.delete(good, hit[np.unique(good[hit, 1], return_index=True)[1]], axis=0)
    if len(good) == 0:
        raise EditRefused("Merging these points would break the surface; nothing was merged.")
    return points_welded(mesh, good).mesh, len(good), len(pairs) - len(good)


def _broken_by(mesh: PolyMesh, target: Ints) -> Bools:
    """(V,) points that others would land on where that pinches a face or gives an edge a third face, or two faces that
    run the same way along it, and was not so before."""
    topology = mesh.topology
    moved = np.bincount(target, minlength=mesh.n_points) > 1
    # A corner that lands where the one before it in its face landed goes.
    ring = target[mesh.corners]
    stays = np.flatnonzero(ring != ring[topology.prev])
    face, point = mesh.face_of_corner[stays], ring[stays]
    out = np.zeros(mesh.n_points, bool)
    size = np.bincount(face, minlength=mesh.n_faces)
    # Three corners or more of a face and one point twice among them.
    key = face.astype(np.int64) * mesh.n_points + point
    once, where, count = np.unique(key, return_index=True, return_counts=True)
    twice = (count > 1) & (size[face[where]] >= 3)
    out[(once[twice] % mesh.n_points).astype(np.int64)] = True
    whole = size[face] >= 3
    face, point = face[whole], point[whole]
    if len(face) == 0:
        return out & moved
    first = np.flatnonzero(np.diff(face, prepend=-1))
    after = np.roll(point, -1)
    after[np.append(first[1:], len(face)) - 1] = point[first]
    bad = _crowded(point, after, mesh.n_points)
    known = _crowded(mesh.corners, mesh.corners[topology.next], mesh.n_points)
    ends = np.setdiff1d(bad, _undirected(target[known // mesh.n_points], target[known % mesh.n_points], mesh.n_points))
    out[ends // mesh.n_points] = True
    out[ends % mesh.n_points] = True
    return out & moved


def _undirected(a: NDArray[np.signedinteger], b: NDArray[np.signedinteger], n: int) -> NDArray[np.int64]:
    return np.minimum(a, b).astype(np.int64) * n + np.maximum(a, b)


def _crowded(a: Ints, b: Ints, n: int) -> NDArray[np.int64]:
    """Edges, as least · n + largest point, that three half-edges a → b or two of one direction lie on."""
    both, uses = np.unique(_undirected(a, b, n), return_counts=True)
    way, times = np.unique(a.astype(np.int64) * n + b, return_counts=True)
    again = way[times > 1]
    return np.union1d(both[uses > 2], _undirected((again // n).astype(np.int64), (again % n).astype(np.int64), n))
