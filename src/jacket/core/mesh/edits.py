"""Edits: functions from a mesh to a new mesh with the maps between old and new elements.

Every channel (UVs, cuts, pins, islands, marks, attributes) travels through the maps by one mechanism, `rebuilt`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.channels import Weights, carried
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh, sorted_pairs
from jacket.core.mesh.walks import edge_ring
from jacket.errors import EditRefused


@dataclass(frozen=True, eq=False)
class Edited:
    """mesh      the new mesh
    point_to   (V_old,) new index of each old point, −1 where it is gone
    face_to    (F_old,) new index of each old face, −1 where it is gone
    added      points made by the edit, by new index
    """

    mesh: PolyMesh
    point_to: Ints
    face_to: Ints
    added: Ints


def rebuilt(
    mesh: PolyMesh, points: Floats, corners: Any, starts: Any, point_to: NDArray[Any],
    corner_from: NDArray[Any], face_from: NDArray[Any], splits: Sequence[tuple[int, int, int]] = (),
    face_like: NDArray[Any] | None = None, point_from: NDArray[Any] | None = None,
    between: Iterable[tuple[int, Weights]] = (), points_between: Iterable[tuple[int, Weights]] = (),
) -> Edited:  # fmt: skip
    """Assemble an edited mesh and carry its channels over.

    corner_from, face_from   old index behind each new corner and face, −1 for new ones
    splits                   (a, b, m): old edge a–b now passes through new point m
    face_like                old face whose channels each new face takes; `face_from` unless given
    point_from               old point whose channels each new point takes; the first that went there unless given
    between, points_between  new corners and points that lie between old ones, with their shares
    """
    corners, starts = np.asarray(corners, np.int32), np.asarray(starts, np.int32)
    corner_from, face_from = np.asarray(corner_from, np.int64), np.asarray(face_from, np.int64)
    point_to = np.asarray(point_to, np.int32)
    first = np.full(len(points), -1, np.int64)
    stay = np.flatnonzero(point_to >= 0)
    first[point_to[stay[::-1]]] = stay[::-1]
    new = mesh.with_(
        points=np.ascontiguousarray(points, np.float64), corners=corners, starts=starts, marks={},
        point_data=carried(mesh.point_data, first if point_from is None else point_from, points_between),
        face_data=carried(mesh.face_data, face_from if face_like is None else face_like),
        corner_data=carried(mesh.corner_data, corner_from, between),
    )  # fmt: skip
    marks = {name: _carried_pairs(pairs, point_to, splits, new) for name, pairs in mesh.marks.items()}
    new = new.with_(marks=marks)
    face_to = np.full(mesh.n_faces, -1, np.int32)
    known = np.flatnonzero(face_from >= 0)
    face_to[face_from[known]] = known
    return Edited(new, point_to, face_to, np.flatnonzero(first < 0).astype(np.int32))


def _carried_pairs(pairs: Ints, point_to: Ints, splits: Sequence[tuple[int, int, int]], new: PolyMesh) -> Ints:
    marked = {(int(a), int(b)) for a, b in pairs.tolist()}
    rows = [point_to[pairs]] if len(pairs) else []
    for a, b, m in splits:
        if (min(a, b), max(a, b)) in marked:
            rows.append(np.array([[point_to[a], m], [m, point_to[b]]], np.int32))
    if not rows:
        return sorted_pairs(np.zeros((0, 2)))
    moved = np.concatenate(rows)
    moved = sorted_pairs(moved[(moved >= 0).all(axis=1)])
    return sorted_pairs(moved[new.topology.find_edges(moved) >= 0])


class Row(NamedTuple):
    """A new face: its points by new index, the old corner behind each (−1 for none), the old face it is or −1, the old
    face whose channels it takes, and for corners between old ones their shares."""

    points: list[int]
    corners: list[int]
    face: int
    like: int = -1
    between: Mapping[int, Weights] = {}


def _with_rows(
    mesh: PolyMesh, points: Floats, point_to: NDArray[Any], gone: NDArray[Any], rows: Sequence[Row],
    splits: Sequence[tuple[int, int, int]] = (), point_from: NDArray[Any] | None = None,
    points_between: Iterable[tuple[int, Weights]] = (),
) -> Edited:  # fmt: skip
    """Some faces taken out and new ones put at the end; all others are carried over as they are."""
    stay = np.ones(mesh.n_faces, bool)
    stay[gone] = False
    faces = np.flatnonzero(stay)
    old = np.flatnonzero(stay[mesh.face_of_corner])
    corners = np.concatenate([point_to[mesh.corners[old]], [p for row in rows for p in row.points]]).astype(np.int32)
    corner_from = np.concatenate([old, np.array([c for row in rows for c in row.corners], np.int64)])
    sizes = np.concatenate([mesh.sizes[faces], np.array([len(row.points) for row in rows], np.int64)])
    face_from = np.concatenate([faces, np.array([row.face for row in rows], np.int64)])
    like = [row.like if row.like >= 0 else row.face for row in rows]
    starts = np.concatenate([[0], np.cumsum(sizes)])
    first = starts[len(faces) : -1].tolist()
    between = [(at + row.points.index(m), w) for at, row in zip(first, rows, strict=True) for m, w in row.between.items()]
    return rebuilt(
        mesh, points, corners, starts, point_to, corner_from, face_from, splits,
        np.concatenate([faces, np.array(like, np.int64)]), point_from, between, points_between,
    )  # fmt: skip


def _same(n: int) -> NDArray[np.signedinteger]:
    return np.arange(n)


def points_moved(mesh: PolyMesh, ids: Any, positions: Any) -> PolyMesh:
    """The mesh with some points (ids) at new positions (K, 3)."""
    points = mesh.points.copy()
    points[np.asarray(ids)] = positions
    return mesh.with_points(points)


def point_added(mesh: PolyMesh, position: Any) -> Edited:
    """The mesh with one loose point more, at the end."""
    points = np.concatenate([mesh.points, np.asarray(position, float).reshape(1, 3)])
    return rebuilt(
        mesh, points, mesh.corners, mesh.starts, _same(mesh.n_points), _same(mesh.n_corners), _same(mesh.n_faces)
    )


def face_added(mesh: PolyMesh, face: Sequence[int], like: Any = None) -> Edited:
    """The mesh with one face more, wound to agree with its neighbours.

    Without neighbours it is wound so that its normal agrees with `like` (3,), where given. Raises
    EditRefused where a point repeats, the face is there already, or an edge would get a third face.
    """
    oriented = _oriented(mesh, list(face), like)
    corners = np.concatenate([mesh.corners, oriented])
    starts = np.append(mesh.starts, len(corners))
    fresh = np.full(len(oriented), -1)
    return rebuilt(
        mesh, mesh.points, corners, starts, _same(mesh.n_points),
        np.concatenate([_same(mesh.n_corners), fresh]), np.append(_same(mesh.n_faces), -1),
    )  # fmt: skip


def _oriented(mesh: PolyMesh, face: list[int], like: Any) -> list[int]:
    if len(face) < 3 or len(set(face)) != len(face):
        raise EditRefused("A face needs three or four different points; pick another place.")
    topology = mesh.topology
    sides = np.stack([face, np.roll(face, -1)], axis=1)
    edges = topology.find_edges(sides)
    forward = backward = 0
    for (a, _), e in zip(sides.tolist(), edges.tolist(), strict=True):
        if e < 0:
            continue
        if topology.edge_uses[e] >= 2:
            raise EditRefused("One of the edges already has two faces; a third would break the surface.")
        if int(mesh.corners[topology.edge_corner[e]]) == a:
            backward += 1
        else:
            forward += 1
    if forward and backward:
        raise EditRefused("The faces around run against each other; turn one of them first.")
    if backward:
        return face[::-1]
    if not forward and like is not None:
        p = mesh.points[face]
        normal = sum(np.cross(p[k], p[(k + 1) % len(face)]) for k in range(len(face)))
        if float(np.dot(normal, like)) < 0:
            return face[::-1]
    return face


def faces_removed(mesh: PolyMesh, faces: Any, keep_points: bool = False) -> Edited:
    """The mesh without some faces, and without the points that only they used."""
    gone = np.zeros(mesh.n_faces, bool)
    gone[np.asarray(faces, np.int64)] = True
    used_before = np.bincount(mesh.corners, minlength=mesh.n_points) > 0
    keep = ~gone[mesh.face_of_corner]
    used_after = np.bincount(mesh.corners[keep], minlength=mesh.n_points) > 0
    lost = used_before & ~used_after & (not keep_points)
    return _without(mesh, gone, lost)


def points_removed(mesh: PolyMesh, points: Any) -> Edited:
    """The mesh without some points, their faces, and points left with no face by that."""
    doomed = np.zeros(mesh.n_points, bool)
    doomed[np.asarray(points, np.int64)] = True
    gone = np.zeros(mesh.n_faces, bool)
    gone[mesh.face_of_corner[doomed[mesh.corners]]] = True
    used_before = np.bincount(mesh.corners, minlength=mesh.n_points) > 0
    used_after = np.bincount(mesh.corners[~gone[mesh.face_of_corner]], minlength=mesh.n_points) > 0
    return _without(mesh, gone, doomed | (used_before & ~used_after))


def _without(mesh: PolyMesh, gone: NDArray[np.bool_], lost: NDArray[np.bool_]) -> Edited:
    point_to = np.where(lost, -1, np.cumsum(~lost) - 1)
    corner_from = np.flatnonzero(~gone[mesh.face_of_corner])
    face_from = np.flatnonzero(~gone)
    starts = np.concatenate([[0], np.cumsum(mesh.sizes[face_from])])
    return rebuilt(
        mesh, mesh.points[~lost], point_to[mesh.corners[corner_from]], starts, point_to, corner_from, face_from
    )


def weld_targets(n_points: int, pairs: Any) -> Ints:
    """(V,) the point that each lands on when rows (a, b) of (K, 2) are carried out one after another: a and all that
    landed on it go where b is by then."""
    to = list(range(n_points))

    def root(p: int) -> int:
        while to[p] != p:
            to[p] = to[to[p]]
            p = to[p]
        return p

    for a, b in np.asarray(pairs, np.int64).reshape(-1, 2).tolist():
        to[root(a)] = root(b)
    out = np.array(to, np.int32)
    while True:
        further = out[out]
        if np.array_equal(further, out):
            return out
        out = further


def points_welded(mesh: PolyMesh, pairs: Any) -> Edited:
    """Points joined: each row (a, b) of (K, 2) moves a onto b. Faces that lose a corner become
    smaller, those with under three go. Raises EditRefused where the surface would break."""
    target = weld_targets(mesh.n_points, pairs)
    kept = target == _same(mesh.n_points)
    new_index = np.cumsum(kept) - 1
    point_to = new_index[target]
    touched = np.unique(mesh.face_of_corner[~kept[mesh.corners]])
    rows: list[Row] = []
    for f in touched.tolist():
        span = range(int(mesh.starts[f]), int(mesh.starts[f + 1]))
        row = [(int(point_to[mesh.corners[c]]), c) for c in span]
        row = [pc for k, pc in enumerate(row) if pc[0] != row[k - 1][0]]
        if len({p for p, _ in row}) != len(row):
            if len(row) > 2:
                raise EditRefused("Joining these points would pinch a face; join neighbours instead.")
            continue
        if len(row) >= 3:
            rows.append(Row([p for p, _ in row], [c for _, c in row], f))
    # The joined point is the one that stayed, in place and in what hangs on it.
    edited = _with_rows(mesh, mesh.points[kept], point_to, touched, rows, point_from=np.flatnonzero(kept))
    if len(edited.mesh.topology.nonmanifold_edges) > len(mesh.topology.nonmanifold_edges):
        raise EditRefused("Joining here would give an edge three faces; nothing was joined.")
    return edited


def loop_inserted(mesh: PolyMesh, edge: int, share: float) -> Edited:
    """A loop of edges through the row of quads across `edge`, at `share` (0..1) from the end where
    the edge's first half-edge starts. UVs are divided in the same proportion.

    Raises EditRefused where the row has no quads.
    """
    row = edge_ring(mesh, edge)
    topology = mesh.topology
    quads = [c for c in row if mesh.sizes[mesh.face_of_corner[c]] == 4 and _enters(mesh, row, c)]
    if not quads:
        raise EditRefused("No row of quads crosses this edge, so no loop can be inserted.")
    share = float(np.clip(share, 0.02, 0.98))
    middle: dict[int, int] = {}
    fresh: list[Floats] = []
    splits: list[Split] = []

    def split(corner: int, at: float) -> int:
        e = int(topology.edge[corner])
        if e not in middle:
            a, b = int(mesh.corners[corner]), int(mesh.corners[topology.next[corner]])
            middle[e] = mesh.n_points + len(fresh)
            fresh.append((1 - at) * mesh.points[a] + at * mesh.points[b])
            splits.append(Split(a, b, middle[e], at))
        return middle[e]

    cut_faces: dict[int, list[tuple[int, int, int]]] = {}
    for c in quads:
        far = int(topology.next[topology.next[c]])
        # Entered at c with `share` along c; the far side runs the other way.
        cut = (c, split(c, share), split(far, 1 - share))
        cut_faces.setdefault(int(mesh.face_of_corner[c]), []).append(cut)
    return _with_cut_quads(mesh, cut_faces, fresh, splits, share)


class Split(NamedTuple):
    """An old edge a–b that passes through a new point now, at a share of its length from a."""

    a: int
    b: int
    point: int
    share: float


def _enters(mesh: PolyMesh, row: list[int], corner: int) -> bool:
    """Whether the row goes on into the face of `corner`: not so for a border reached from inside."""
    if corner != row[-1] or len(row) == 1:
        return True
    face = int(mesh.face_of_corner[corner])
    return all(int(mesh.face_of_corner[c]) != face for c in row[:-1])


def _with_cut_quads(
    mesh: PolyMesh, cut: dict[int, list[tuple[int, int, int]]], fresh: list[Floats], splits: list[Split], share: float,
) -> Edited:  # fmt: skip
    """Cut quads replaced by two, or by four where the row crosses itself; what corners carry is divided alike."""
    topology = mesh.topology
    by_edge = {(min(s.a, s.b), max(s.a, s.b)): s for s in splits}
    rows: list[Row] = []
    split_edges = topology.find_edges(np.array([[s.a, s.b] for s in splits]))
    beside = np.unique(mesh.face_of_corner[np.isin(topology.edge, split_edges)])
    middles: list[tuple[int, Weights]] = [(s.point, [(1 - s.share, s.a), (s.share, s.b)]) for s in splits]
    for f in beside.tolist():
        if f not in cut:
            rows.append(_with_middles(mesh, f, by_edge))
            continue
        c, near, far = cut[f][0]
        c1, c2, c3 = int(topology.next[c]), int(topology.next[topology.next[c]]), int(topology.prev[c])
        p = [int(mesh.corners[k]) for k in (c, c1, c2, c3)]
        at: dict[int, Weights] = {near: _along(c, c1, share), far: _along(c3, c2, share)}
        if len(cut[f]) == 1:
            quads = [([p[0], near, far, p[3]], [c, -1, -1, c3]), ([near, p[1], p[2], far], [-1, c1, c2, -1])]
        else:
            # The second pass enters at c1 or c3; its middles lie on those two sides.
            d, first, second = cut[f][1]
            right, left = (first, second) if d == c1 else (second, first)
            cross = share if d == c1 else 1 - share
            centre = mesh.n_points + len(fresh)
            fresh.append(0.5 * (fresh[near - mesh.n_points] + fresh[far - mesh.n_points]))
            at |= {right: _along(c1, c2, cross), left: _along(c, c3, cross)}
            at[centre] = [(w * v, k) for m, w in ((near, 1 - cross), (far, cross)) for v, k in at[m]]
            middles.append((centre, [(w, int(mesh.corners[k])) for w, k in at[centre]]))
            quads = [
                ([p[0], near, centre, left], [c, -1, -1, -1]), ([near, p[1], right, centre], [-1, c1, -1, -1]),
                ([centre, right, p[2], far], [-1, -1, c2, -1]), ([left, centre, far, p[3]], [-1, -1, -1, c3]),
            ]  # fmt: skip
        for k, (ring, corners) in enumerate(quads):
            rows.append(Row(ring, corners, -1 if k else f, f, {m: at[m] for m in ring if m in at}))
    places = np.concatenate([mesh.points, np.array(fresh)])
    passed = [(s.a, s.b, s.point) for s in splits]
    return _with_rows(mesh, places, _same(mesh.n_points), beside, rows, passed, points_between=middles)


def _with_middles(mesh: PolyMesh, face: int, by_edge: dict[tuple[int, int], Split]) -> Row:
    """A face beside the row's end gains the middle of its edge, so that nothing is left hanging."""
    topology = mesh.topology
    points, origin = [], []
    between: dict[int, Weights] = {}
    for c in range(int(mesh.starts[face]), int(mesh.starts[face + 1])):
        a, b = int(mesh.corners[c]), int(mesh.corners[topology.next[c]])
        points.append(a)
        origin.append(c)
        s = by_edge.get((min(a, b), max(a, b)))
        if s is not None:
            points.append(s.point)
            origin.append(-1)
            between[s.point] = _along(c, int(topology.next[c]), s.share if s.a == a else 1 - s.share)
    return Row(points, origin, face, face, between)


def _along(a: int, b: int, share: float) -> Weights:
    """A place between two old corners as weights of them."""
    return [(1 - share, a), (share, b)]


def borders_pulled(mesh: PolyMesh, edges: Any, targets: dict[int, Any]) -> Edited:
    """New quads pulled from border edges (ids). `targets` gives for each end point of those edges
    either the position (3,) of its new partner or the index of an existing point to join.

    Raises EditRefused where an edge is no border or joining would break the surface.
    """
    topology = mesh.topology
    edges = [int(e) for e in np.asarray(edges).ravel()]
    if any(topology.edge_uses[e] != 1 for e in edges):
        raise EditRefused("Only border edges can be pulled; this edge has faces on both sides.")
    points, partner = [mesh.points], {}
    count = mesh.n_points
    for p, target in targets.items():
        if np.ndim(target) == 0:
            partner[p] = int(target)
        else:
            partner[p] = count
            points.append(np.asarray(target, float).reshape(1, 3))
            count += 1
    grown = rebuilt(
        mesh, np.concatenate(points), mesh.corners, mesh.starts, _same(mesh.n_points),
        _same(mesh.n_corners), _same(mesh.n_faces),
    )  # fmt: skip
    result = grown.mesh
    for e in edges:
        a, b = (int(x) for x in topology.edge_points[e])
        row = [a, b, partner[b], partner[a]]
        row = [p for k, p in enumerate(row) if p != row[k - 1]]
        result = face_added(result, row).mesh
    face_to = np.arange(mesh.n_faces, dtype=np.int32)
    return Edited(result, _same(mesh.n_points).astype(np.int32), face_to, grown.added)


def border_pulled_targets(
    mesh: PolyMesh, ids: NDArray[Any], moved: Floats, places: Floats, reach: float
) -> dict[int, int]:
    """Existing open points that pulled points should join, by closeness on screen.

    ids (K,) points being pulled; moved (K, 2) where their partners would be; places (V, 2) where
    all points are; reach in the same units. A pulled point never joins one of `ids`.
    """
    open_ = mesh.topology.border_points | (np.bincount(mesh.corners, minlength=mesh.n_points) == 0)
    open_ = open_.copy()
    open_[ids] = False
    candidates = np.flatnonzero(open_)
    out: dict[int, int] = {}
    taken: set[int] = set()
    for k, p in enumerate(np.asarray(ids).tolist()):
        if len(candidates) == 0:
            break
        far = np.hypot(*(places[candidates] - moved[k]).T)
        best = int(np.nanargmin(far)) if np.isfinite(far).any() else -1
        if best >= 0 and far[best] <= reach and int(candidates[best]) not in taken:
            out[p] = int(candidates[best])
            taken.add(out[p])
    return out


def faces_turned(mesh: PolyMesh, flip: NDArray[np.bool_]) -> PolyMesh:
    """The mesh with some faces (F,) running the other way; what their corners carry goes with them."""
    if not flip.any():
        return mesh
    order = _reversed(mesh.starts, flip)
    return mesh.with_(corners=mesh.corners[order], corner_data=carried(mesh.corner_data, order))


@kernel
def _reversed(starts, flip):
    order = np.empty(starts[-1], np.int32)
    for f in range(len(starts) - 1):
        a, b = starts[f], starts[f + 1]
        for c in range(a, b):
            order[c] = a + b - 1 - c if flip[f] else c
    return order
