"""Which quads nearby open points and edges would make with a click here."""

from __future__ import annotations

from itertools import combinations

import numpy as np

from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.tools.events import Pointer
from jacket.tools.pick import nearest_points, open_points, screen_points, slack_for

REACH = 150.0
"""How far, in pixels, open points may lie from the pointer to be taken into a quad."""

LONGEST = 1.8
"""How many times as long as the edges round it, or as the other open ones, an edge of a quad to offer may be."""


def closing_quads(
    mesh: PolyMesh, pointer: Pointer, place: Floats, hiding: Bvh | None, most: int = 2
) -> list[tuple[int, ...]]:
    """Point tuples of quads to offer, best first: four open points round the pointer, or three that
    make a good quad with the pointer as its fourth corner."""
    if mesh.n_points < 3 or pointer.form is None:
        return []
    slack = slack_for(mesh, hiding)
    near = nearest_points(mesh, pointer, REACH, hiding, slack, 9, open_points(mesh))
    if len(near) < 3:
        return []
    at = screen_points(mesh, pointer.form)[:, :2]
    here = np.array([pointer.x, pointer.y])
    found: list[tuple[float, tuple[int, ...]]] = []
    size = _usual_size(mesh, near)
    for four in combinations(near.tolist(), 4):
        ring = _round(four, at, at[list(four)].mean(axis=0))
        score = _quality(at[ring])
        if score > 0.25 and _contains(at[ring], here) and _fits(mesh, ring, closed=True) and _alike(mesh, ring, size, True):
            found.append((score + 0.6 + _edge_bonus(mesh, ring), tuple(ring)))
    for three in combinations(near[:7].tolist(), 3):
        shape = np.concatenate([at[list(three)], here[None]])
        order = _round((0, 1, 2, 3), shape, shape.mean(axis=0))
        k = order.index(3)
        ring = [three[i] for i in order[k + 1 :] + order[:k]]
        score = _quality(shape[order])
        if score > 0.5 and _fits(mesh, ring, closed=False) and not _covered(mesh, ring, place) and \
                _alike(mesh, ring, size, False, place):  # fmt: skip
            found.append((score + _edge_bonus(mesh, ring), tuple(ring)))
    found.sort(key=lambda item: -item[0])
    return [ring for _, ring in found[:most]]


def corner_fills(mesh: PolyMesh, pointer: Pointer, hiding: Bvh | None) -> list[tuple[tuple[int, ...], Floats]]:
    """Corners of the border that a quad would fill: two border edges that meet at a point, and the place (3,) across
    from it that makes a parallelogram with them, where the pointer is inside."""
    if mesh.n_faces == 0 or pointer.form is None:
        return []
    near = nearest_points(mesh, pointer, REACH, hiding, slack_for(mesh, hiding), 6, mesh.topology.border_points)
    start, around = mesh.topology.point_edges
    ends, uses = mesh.topology.edge_points, mesh.topology.edge_uses
    here = np.array([pointer.x, pointer.y])
    out = []
    for p in near.tolist():
        free = [int(e) for e in around[start[p] : start[p + 1]] if uses[e] == 1]
        if len(free) != 2:
            continue
        a, b = (int(ends[e].sum() - p) for e in free)
        fourth = mesh.points[a] + mesh.points[b] - mesh.points[p]
        ring = [a, p, b]
        shape = np.concatenate([screen_points(mesh, pointer.form)[ring, :2], pointer.form.project(fourth)[:, :2]])
        if _signed(shape) > 0:
            ring, shape = [b, p, a], shape[[2, 1, 0, 3]]
        if _quality(shape) > 0.35 and _contains(shape, here) and _fits(mesh, ring, closed=False):
            if not _covered(mesh, ring, fourth):
                out.append((tuple(ring), fourth))
    return out[:1]


def closing_triangles(mesh: PolyMesh, pointer: Pointer, hiding: Bvh | None) -> list[tuple[tuple[int, ...], bool]]:
    """Triangles to offer, best first: three open points round the pointer, or a border edge and the pointer (True)."""
    if mesh.n_points < 2 or pointer.form is None:
        return []
    near = nearest_points(mesh, pointer, REACH, hiding, slack_for(mesh, hiding), 7, open_points(mesh))
    at = screen_points(mesh, pointer.form)[:, :2]
    here = np.array([pointer.x, pointer.y])
    found: list[tuple[float, tuple[int, ...], bool]] = []
    for three in combinations(near.tolist(), 3):
        ring = _round(three, at, at[list(three)].mean(axis=0))
        score = _quality(at[ring])
        if score > 0.2 and _contains(at[ring], here) and _fits_triangle(mesh, ring):
            found.append((score + 0.5, tuple(ring), False))
    for two in combinations(near[:5].tolist(), 2):
        shape = np.concatenate([at[list(two)], here[None]])
        order = _round((0, 1, 2), shape, shape.mean(axis=0))
        k = order.index(2)
        pair = [two[i] for i in order[k + 1 :] + order[:k]]
        edge = mesh.topology.find_edge(*pair)
        if edge >= 0 and mesh.topology.edge_uses[edge] == 1 and _quality(shape[order]) > 0.4:
            if int(mesh.corners[mesh.topology.edge_corner[edge]]) != pair[0]:
                found.append((_quality(shape[order]), tuple(pair), True))
    found.sort(key=lambda item: -item[0])
    return [(ring, fresh) for _, ring, fresh in found[:2]]


def _fits_triangle(mesh: PolyMesh, ring: list[int]) -> bool:
    topology = mesh.topology
    sides = [(ring[k], ring[(k + 1) % 3]) for k in range(3)]
    edges = topology.find_edges(np.array(sides))
    if any(e >= 0 and topology.edge_uses[e] != 1 for e in edges.tolist()):
        return False
    if (edges >= 0).all():
        faces = [set(mesh.face(int(f)).tolist()) for f in mesh.face_of_corner[topology.edge_corner[edges]]]
        if any(f == set(ring) for f in faces):
            return False
    return _agrees(mesh, sides, edges.tolist())


def _signed(ring: Floats) -> float:
    """Twice the signed area of a ring on the screen; positive where it runs clockwise as seen (y points down)."""
    ahead = np.roll(ring, -1, axis=0)
    return float((ring[:, 0] * ahead[:, 1] - ring[:, 1] * ahead[:, 0]).sum())


def _round(ids: tuple[int, ...], at: Floats, middle: Floats) -> list[int]:
    """Ids in order round a middle, counter-clockwise on screen."""
    angle = [np.arctan2(-(at[i][1] - middle[1]), at[i][0] - middle[0]) for i in ids]
    return [ids[k] for k in np.argsort(angle)]


def _quality(ring: Floats) -> float:
    """Least sine of the four corners times evenness of the sides; negative when not convex."""
    side = np.roll(ring, -1, axis=0) - ring
    length = np.maximum(np.linalg.norm(side, axis=1), 1e-9)
    cross = side[:, 0] * np.roll(side[:, 1], -1) - side[:, 1] * np.roll(side[:, 0], -1)
    sine = -cross / (length * np.roll(length, -1))
    return float(sine.min() * np.sqrt(length.min() / length.max()))


def _contains(ring: Floats, here: Floats) -> bool:
    side = np.roll(ring, -1, axis=0) - ring
    off = here - ring
    return bool((side[:, 0] * off[:, 1] - side[:, 1] * off[:, 0] <= 0).all())


def _fits(mesh: PolyMesh, ring: list[int], closed: bool) -> bool:
    """Whether every side is free or a border edge, no diagonal is an edge and it is no face yet."""
    topology = mesh.topology
    n = len(ring)
    sides = [(ring[k], ring[(k + 1) % n]) for k in range(n if closed else n - 1)]
    edges = topology.find_edges(np.array(sides))
    if any(e >= 0 and topology.edge_uses[e] != 1 for e in edges.tolist()):
        return False
    across = [(ring[0], ring[2])] + ([(ring[1], ring[3])] if closed else [])
    if (topology.find_edges(np.array(across)) >= 0).any():
        return False
    if closed and (edges >= 0).all():
        faces = [set(mesh.face(int(f)).tolist()) for f in mesh.face_of_corner[topology.edge_corner[edges]]]
        if any(f == set(ring) for f in faces):
            return False
    return _agrees(mesh, sides, edges.tolist())


def _agrees(mesh: PolyMesh, sides: list[tuple[int, int]], edges: list[int]) -> bool:
    """Whether the neighbours' faces all run the same way along the sides."""
    ways = {
        int(mesh.corners[mesh.topology.edge_corner[e]]) == a for (a, _), e in zip(sides, edges, strict=True) if e >= 0
    }
    return len(ways) < 2


def _edge_bonus(mesh: PolyMesh, ring: list[int]) -> float:
    """Quads that fill in between edges already there are likelier meant."""
    n = len(ring)
    sides = np.array([(ring[k], ring[(k + 1) % n]) for k in range(n)])
    return 0.15 * float((mesh.topology.find_edges(sides) >= 0).sum())


def _usual_size(mesh: PolyMesh, near: Ints) -> float:
    """Length of an edge hereabouts: the middling one of those at the points, else of the whole layer; 0 where there are
    no edges that could tell."""
    if mesh.n_faces == 0:
        return 0.0
    start, around = mesh.topology.point_edges
    edges = np.unique(np.concatenate([around[start[p] : start[p + 1]] for p in near.tolist()]))
    lengths = edge_lengths(mesh)
    return float(np.median(lengths[edges] if len(edges) else lengths))


def _alike(mesh: PolyMesh, ring: list[int], size: float, closed: bool, fourth: Floats | None = None) -> bool:
    """Whether the free edges of a quad are about as long as those around it. Edges that are there already may be of any
    length, and free ones as long as the longest of those: a row of long quads goes on as one."""
    points = [mesh.points[p] for p in ring] + ([fourth] if fourth is not None else [])
    n = len(points)
    ends = [(ring[k], ring[(k + 1) % len(ring)]) for k in range(len(ring) if closed else len(ring) - 1)]
    known = mesh.topology.find_edges(np.array(ends)) >= 0
    length = np.array([np.linalg.norm(points[(k + 1) % n] - points[k]) for k in range(n)])
    there = np.zeros(n, bool)
    there[: len(known)] = known
    usual = max(size, float(length[there].max()) if there.any() else 0.0)
    return bool(usual == 0.0 or (length[~there] <= LONGEST * usual).all())


def _covered(mesh: PolyMesh, ring: list[int], place: Floats) -> bool:
    """Whether the fourth corner would lie behind an edge of the ring, on the faces' own side."""
    topology = mesh.topology
    for a, b in ((ring[0], ring[1]), (ring[1], ring[2])):
        e = topology.find_edge(a, b)
        if e < 0:
            continue
        face = int(mesh.face_of_corner[topology.edge_corner[e]])
        middle = mesh.points[mesh.face(face)].mean(axis=0)
        edge_middle = (mesh.points[a] + mesh.points[b]) / 2
        along = mesh.points[b] - mesh.points[a]
        inward = (middle - edge_middle) - along * np.dot(middle - edge_middle, along) / max(
            np.dot(along, along), 1e-300
        )
        if np.dot(place - edge_middle, inward) > 0:
            return True
    return False
