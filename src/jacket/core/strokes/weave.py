"""Strokes on a surface that cross each other, and the cells between them.

Crossings are found on the surface: two strokes cross where their pieces, seen along the surface's normal there,
cross and lie no farther apart than a step. The cells are the faces of the graph of crossings, walked round in
the order in which strokes leave each crossing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.path import evened_ring, length_along, normals_at, tangent_frames
from jacket.errors import EditRefused


@dataclass(frozen=True, eq=False)
class Stroke:
    """path (K, 3) on the surface, its first place not repeated at the end of a closed one."""

    path: Floats
    closed: bool = False


@dataclass(frozen=True, eq=False)
class Woven:
    """points (P, 3) crossings; known (P,) the mesh point each was laid onto, −1 for none; quads, triangles and
    larger cells over them, all running the way of the surface."""

    points: Floats
    known: Ints
    quads: list[list[int]] = field(default_factory=list)
    triangles: list[list[int]] = field(default_factory=list)
    larger: list[list[int]] = field(default_factory=list)


@dataclass(frozen=True, eq=False)
class _Graph:
    points: Floats
    known: Ints
    nodes_of: list[list[tuple[float, int]]]


def woven(strokes: list[Stroke], surface: Bvh, reach: float, anchors: Floats | None = None, spans: int = 8) -> Woven:
    """Cells between strokes. `reach` joins ends that stop just short of a stroke, and crossings that lie at one
    spot; anchors (A, 3) are points that are there already, taken where a crossing or an end lies within reach.
    Closed strokes with a single stroke across them all become a tube of `spans` quads a ring."""
    if len(strokes) < 2:
        return Woven(np.zeros((0, 3)), np.zeros(0, np.int32))
    anchors = np.zeros((0, 3)) if anchors is None else anchors
    tube = _tube(strokes, surface, reach, spans)
    if tube is not None:
        return tube
    graph = _graph(strokes, surface, reach, anchors)
    return _cells(strokes, graph, surface)


def _pieces(strokes: list[Stroke]) -> tuple[Floats, Floats, NDArray[np.int64], Floats]:
    """Ends of all pieces, the stroke of each, and its place along the stroke at its start and end."""
    a, b, which, at = [], [], [], []
    for k, stroke in enumerate(strokes):
        path = np.concatenate([stroke.path, stroke.path[:1]]) if stroke.closed else stroke.path
        along = length_along(path)
        a.append(path[:-1])
        b.append(path[1:])
        which.append(np.full(len(path) - 1, k))
        at.append(np.stack([along[:-1], along[1:]], axis=1))
    return np.concatenate(a), np.concatenate(b), np.concatenate(which), np.concatenate(at)


def _crossings(strokes: list[Stroke], surface: Bvh) -> list[tuple[int, float, int, float, Floats]]:
    """(stroke, place along, other stroke, place along, position) of every crossing."""
    a, b, which, at = _pieces(strokes)
    middle, size = (a + b) / 2, np.linalg.norm(b - a, axis=1)
    if len(middle) < 2:
        return []
    pairs = cKDTree(middle).query_pairs(2.0 * float(size.max()), output_type="ndarray")
    pairs = pairs[which[pairs[:, 0]] != which[pairs[:, 1]]]
    if len(pairs) == 0:
        return []
    i, j = pairs[:, 0], pairs[:, 1]
    own = normals_at(surface, middle)
    normal = unit(own[i] + own[j])
    u, v, w = b[i] - a[i], b[j] - a[j], a[j] - a[i]
    # Solve a_i + s u = a_j + t v in the plane across the normal.
    det = (np.cross(u, v) * normal).sum(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        s = (np.cross(w, v) * normal).sum(axis=1) / det
        t = (np.cross(w, u) * normal).sum(axis=1) / det
    high = np.abs((w * normal).sum(axis=1))
    # Half-open, so that a crossing at the joint of two pieces counts once.
    good = (
        (s >= 0)
        & (s < 1)
        & (t >= 0)
        & (t < 1)
        & (high < np.maximum(size[i], size[j]))
        & np.isfinite(s)
        & np.isfinite(t)
    )
    out = []
    for k in np.flatnonzero(good).tolist():
        p, q = int(i[k]), int(j[k])
        place = (a[p] + s[k] * u[k] + a[q] + t[k] * v[k]) / 2
        out.append((int(which[p]), float(at[p, 0] + s[k] * (at[p, 1] - at[p, 0])),
                    int(which[q]), float(at[q, 0] + t[k] * (at[q, 1] - at[q, 0])), place))  # fmt: skip
    return out


def _graph(strokes: list[Stroke], surface: Bvh, reach: float, anchors: Floats) -> _Graph:
    found = _crossings(strokes, surface)
    found += _touching_ends(strokes, reach, found)
    places = [c[4] for c in found]
    on: list[list[tuple[float, int]]] = [[] for _ in strokes]
    for k, (s, at_s, t, at_t, _) in enumerate(found):
        on[s].append((at_s, k))
        on[t].append((at_t, k))
    tree = cKDTree(anchors) if len(anchors) else None
    for k, stroke in enumerate(strokes):
        if tree is None or stroke.closed:
            continue
        total = float(length_along(stroke.path)[-1])
        for end, along in ((stroke.path[0], 0.0), (stroke.path[-1], total)):
            if tree.query(end)[0] <= reach and not any(abs(along - x) <= reach for x, _ in on[k]):
                on[k].append((along, len(places)))
                places.append(end)
    if not places:
        return _Graph(np.zeros((0, 3)), np.zeros(0, np.int32), on)
    points = np.array(places)
    pairs = [frozenset((s, t)) for s, _, t, _, _ in found] + [
        frozenset((-1 - k,)) for k in range(len(places) - len(found))
    ]
    label = _merged(points, pairs, reach)
    merged = np.stack([np.bincount(label, points[:, d]) / np.bincount(label) for d in range(3)], axis=1)
    known = np.full(len(merged), -1, np.int32)
    merged = surface.project(merged)
    if tree is not None:
        far, near = tree.query(merged)
        taken: set[int] = set()
        for k in np.argsort(far, kind="stable").tolist():
            if far[k] <= reach and int(near[k]) not in taken:
                known[k] = near[k]
                taken.add(int(near[k]))
        merged[known >= 0] = anchors[known[known >= 0]]
    ordered = []
    for row in on:
        row = sorted((x, int(label[k])) for x, k in row)
        ordered.append([r for n, r in enumerate(row) if n == 0 or r[1] != row[n - 1][1]])
    return _Graph(merged, known, ordered)


def _merged(points: Floats, pairs: list[frozenset[int]], reach: float) -> NDArray[np.int64]:
    """(K,) a number for each cluster of places. Two places where the same two strokes meet are one within reach;
    others only where they lie much nearer, or narrow cells would close up."""
    label = np.arange(len(points))
    for a, b in sorted(cKDTree(points).query_pairs(reach)):
        near = reach if pairs[a] == pairs[b] else 0.4 * reach
        if label[a] != label[b] and np.linalg.norm(points[a] - points[b]) <= near:
            label[label == label[b]] = label[a]
    return np.unique(label, return_inverse=True)[1]


def _met(strokes: list[Stroke], surface: Bvh, reach: float) -> list[tuple[int, float, int, float, Floats]]:
    found = _crossings(strokes, surface)
    return found + _touching_ends(strokes, reach, found)


def _touching_ends(
    strokes: list[Stroke], reach: float, crossings: list[tuple[int, float, int, float, Floats]]
) -> list[tuple[int, float, int, float, Floats]]:
    """Ends that stop within reach of another stroke meet it, where that comes nearest. An end that has just crossed a
    stroke was drawn beyond it on purpose and meets nothing more."""
    met: list[list[float]] = [[] for _ in strokes]
    for s, at_s, t, at_t, _ in crossings:
        met[s].append(at_s)
        met[t].append(at_t)
    paths = [s.path for s in strokes]
    which = np.repeat(np.arange(len(strokes)), [len(p) for p in paths])
    along = np.concatenate([length_along(p) for p in paths])
    places = np.concatenate(paths)
    tree = cKDTree(places)
    out = []
    for k, stroke in enumerate(strokes):
        if stroke.closed:
            continue
        for end, at_end in ((stroke.path[0], 0.0), (stroke.path[-1], float(along[which == k][-1]))):
            if any(abs(at_end - x) <= reach for x in met[k]):
                continue
            near = np.array(sorted(tree.query_ball_point(end, reach)), np.int64)
            near = near[which[near] != k]
            far = np.linalg.norm(places[near] - end, axis=1)
            for j in np.unique(which[near]).tolist():
                own = np.flatnonzero(which[near] == j)
                best = int(near[own[np.argmin(far[own])]])
                out.append((k, at_end, j, float(along[best]), places[best]))
    return out


_Link = tuple[int, int, Floats, Floats, int]
"""Two nodes, the directions in which the stroke leaves either, and the stroke."""


def _links(strokes: list[Stroke], graph: _Graph) -> list[_Link]:
    """Edges of the graph."""
    out: list[_Link] = []
    for k, (stroke, row) in enumerate(zip(strokes, graph.nodes_of, strict=True)):
        count = len(row)
        if count < 2:
            continue
        path = np.concatenate([stroke.path, stroke.path[:1]]) if stroke.closed else stroke.path
        along = length_along(path)

        def place(x: float, path: Floats = path, along: Floats = along) -> Floats:
            return np.array([np.interp(x % along[-1] if along[-1] else 0.0, along, path[:, d]) for d in range(3)])

        for n in range(count if stroke.closed else count - 1):
            (x, p), (y, q) = row[n], row[(n + 1) % count]
            span = y - x if y > x else y - x + along[-1]
            if p == q or span <= 0:
                continue
            third = span / 3
            out.append((p, q, place(x + third) - graph.points[p], place(x + span - third) - graph.points[q], k))
    return out


def _cells(strokes: list[Stroke], graph: _Graph, surface: Bvh) -> Woven:
    links = _links(strokes, graph)
    links = _pruned(links)
    seen: set[frozenset[int]] = set()
    unique = []
    for link in links:
        pair = frozenset(link[:2])
        if pair not in seen:
            seen.add(pair)
            unique.append(link)
    normals = normals_at(surface, graph.points)
    across, ahead = tangent_frames(normals)
    around: dict[int, list[tuple[float, int]]] = {}
    for k, (p, q, out_p, out_q, _) in enumerate(unique):
        around.setdefault(p, []).append((_angle(out_p, across[p], ahead[p]), 2 * k))
        around.setdefault(q, []).append((_angle(out_q, across[q], ahead[q]), 2 * k + 1))
    order = {n: [h for _, h in sorted(rows)] for n, rows in around.items()}
    woven_ = Woven(graph.points, graph.known)
    visited: set[int] = set()
    for half in range(2 * len(unique)):
        if half in visited:
            continue
        ring: list[int] = []
        used: set[int] = set()
        h = half
        while h not in visited and len(ring) <= len(unique) * 2:
            visited.add(h)
            used.add(unique[h // 2][4])
            p, q = unique[h // 2][:2] if h % 2 == 0 else unique[h // 2][1::-1]
            ring.append(p)
            leaving = order[q]
            # The next stroke clockwise from where we came in keeps the cell on the left.
            h = leaving[(leaving.index(h ^ 1) - 1) % len(leaving)]
        # What a closed stroke holds by itself is the end of a limb, not a cell.
        if len(used) > 1 or not strokes[next(iter(used))].closed:
            _sort_in(woven_, ring, normals)
    return woven_


def _sort_in(cells: Woven, ring: list[int], normals: Floats) -> None:
    if len(ring) < 3 or len(set(ring)) != len(ring):
        return
    corner = cells.points[ring]
    area = np.cross(corner - corner.mean(axis=0), np.roll(corner, -1, axis=0) - corner.mean(axis=0)).sum(axis=0)
    if float(area @ normals[ring].mean(axis=0)) <= 0:
        return  # the outside of the web
    target = cells.triangles if len(ring) == 3 else cells.quads if len(ring) == 4 else cells.larger
    target.append(ring)


def _angle(direction: Floats, x: Floats, y: Floats) -> float:
    """The direction's angle about the normal, counter-clockwise seen from outside."""
    return math.atan2(float(direction @ y), float(direction @ x))


def _pruned(links: list[_Link]) -> list[_Link]:
    """Without loose ends: links at a node that nothing else reaches."""
    while True:
        degree: dict[int, int] = {}
        for p, q, *_ in links:
            degree[p] = degree.get(p, 0) + 1
            degree[q] = degree.get(q, 0) + 1
        kept = [k for k in links if degree[k[0]] > 1 and degree[k[1]] > 1]
        if len(kept) == len(links):
            return kept
        links = kept


def _tube(strokes: list[Stroke], surface: Bvh, reach: float, spans: int) -> Woven | None:
    """Closed strokes joined by one stroke across all of them: rings of `spans` points."""
    rings = [s for s in strokes if s.closed]
    across = [k for k, s in enumerate(strokes) if not s.closed]
    if len(rings) < 2 or len(across) != 1:
        return None
    if spans < 3:
        raise EditRefused("A tube needs three spans or more.")
    met: dict[int, tuple[float, float]] = {}
    for s, at_s, t, at_t, _ in _met(strokes, surface, reach):
        for one, x, other, y in ((s, at_s, t, at_t), (t, at_t, s, at_s)):
            if one == across[0] and strokes[other].closed:
                met.setdefault(other, (x, y))
    if len(met) != len(rings):
        return None
    order = sorted(met, key=lambda k: met[k][0])
    rows = []
    before = None
    for k in order:
        ring = strokes[k].path
        total = float(length_along(np.concatenate([ring, ring[:1]]))[-1])
        share = met[k][1] / total
        rows.append(_like(evened_ring(ring, spans, share), before))
        before = rows[-1]
    points = surface.project(np.concatenate(rows))
    ids = np.arange(len(points)).reshape(len(rows), spans)
    quads = []
    for i in range(len(rows) - 1):
        for j in range(spans):
            quads.append(
                [int(ids[i, j]), int(ids[i, (j + 1) % spans]), int(ids[i + 1, (j + 1) % spans]), int(ids[i + 1, j])]
            )
    normals = normals_at(surface, points)
    total = 0.0
    for q in quads:
        corner = points[q]
        total += float(np.cross(corner[1] - corner[0], corner[3] - corner[0]) @ normals[q[0]])
    if total < 0:
        quads = [q[::-1] for q in quads]
    return Woven(points, np.full(len(points), -1, np.int32), quads)


def _like(ring: Floats, before: Floats | None) -> Floats:
    """The ring run the way its neighbour runs, from the same first place."""
    if before is None:
        return ring
    turned = np.concatenate([ring[:1], ring[:0:-1]])
    near = np.linalg.norm(unit(ring - ring.mean(axis=0)) - unit(before - before.mean(axis=0)), axis=1).sum()
    far = np.linalg.norm(unit(turned - turned.mean(axis=0)) - unit(before - before.mean(axis=0)), axis=1).sum()
    return ring if near <= far else turned
