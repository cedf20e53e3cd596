"""Rings of a sleeve: how they follow one another, which is under the pointer, and the faces between and over them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from jacket.core.fill.darn import grid_corners, grid_patch
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.rows import loop_points
from jacket.core.mesh.walks import edge_loop
from jacket.core.space.bvh import Bvh
from jacket.document.state import State
from jacket.tools.events import Pointer
from jacket.tools.pick import occluder, pick, segment_distance


@dataclass(frozen=True, eq=False)
class Ring:
    """points (N, 3) in order; the plane they were cut in; how much larger than the section they stand; the mesh
    points they are where the ring is a border that was there."""

    points: Floats
    place: Floats
    normal: Floats
    grown: float = 1.0
    known: Ints | None = None


def put_between(old: list[Ring], ring: Ring) -> list[Ring]:
    """The rings with one more where it belongs along the sleeve."""
    rings = [*old, ring]
    if len(rings) > 2:
        gaps = [np.linalg.norm(ring.points.mean(axis=0) - r.points.mean(axis=0)) for r in old]
        if gaps[0] < gaps[-1]:
            rings = [ring, *old]
        # Between two rings, nearer to both than they are to each other.
        for i in range(len(old) - 1):
            a, b = old[i].points.mean(axis=0), old[i + 1].points.mean(axis=0)
            if max(gaps[i], gaps[i + 1]) < np.linalg.norm(a - b):
                rings = [*old[: i + 1], ring, *old[i + 1 :]]
    return rings


def aligned(rings: list[Ring]) -> list[Ring]:
    """Rings turned so that each begins where its neighbour does; borders stay as they run."""
    first = next((k for k, r in enumerate(rings) if r.known is not None), 0)
    out = list(rings)
    for k in [*range(first + 1, len(rings)), *range(first - 1, -1, -1)]:
        like = out[k - 1 if k > first else k + 1].points
        ring = out[k]
        if ring.known is not None:
            order = best_turn(ring.points, like)
            out[k] = replace(ring, points=ring.points[order], known=ring.known[order])
        elif len(ring.points) == len(like):
            order = best_turn(ring.points, like)
            out[k] = replace(ring, points=ring.points[order])
    return out


def ring_under(rings: Sequence[Ring], pointer: Pointer, reach: float) -> int:
    """The ring within reach (pixels) of the pointer on its near side, −1 for none."""
    if pointer.form is None:
        return -1
    for k, ring in enumerate(rings):
        at = pointer.form.project(ring.points)
        front = at[:, 2] <= np.nanmedian(at[:, 2])
        far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
        following = np.roll(at, -1, axis=0)
        _, edge = segment_distance(np.array([pointer.x, pointer.y]), at[:, :2], following[:, :2])
        if min(float(far[front].min()), float(edge[front].min())) < reach:
            return k
    return -1


def border_ring(mesh: PolyMesh, state: State, pointer: Pointer, reach: float) -> Ring | None:
    """The closed border under the pointer as a ring; None where there is none."""
    if mesh.n_faces == 0 or pointer.form is None:
        return None
    found = pick(mesh, pointer, reach, occluder(state), "edge")
    if found.kind != "edge" or mesh.topology.edge_uses[found.id] != 1:
        return None
    ids = closed_border(mesh, found.id)
    if ids is None:
        return None
    points = mesh.points[ids]
    middle = points.mean(axis=0)
    normal = unit(np.cross(points - middle, np.roll(points, -1, axis=0) - middle).sum(axis=0)[None])[0]
    return Ring(points, middle, normal, known=ids)


def rows_between(a: Ring, b: Ring, asked: int) -> int:
    """Rows between two rings: as many as asked for, or so that quads come out about square."""
    if asked:
        return asked
    far = float(np.linalg.norm(a.points - b.points, axis=1).mean()) if len(a.points) == len(b.points) else 0.0
    side = np.mean([np.linalg.norm(np.roll(r.points, -1, axis=0) - r.points, axis=1).mean() for r in (a, b)])
    return max(1, round(far / max(float(side), 1e-300)))


def rings_between(surface: Bvh, a: Ring, b: Ring, rows: int) -> list[Floats]:
    """Rings of the rows between two, on the source where both lie on it."""
    out = []
    for k in range(1, rows):
        points = a.points + (b.points - a.points) * k / rows
        out.append(surface.project(points) if a.grown == b.grown == 1.0 else points)
    return out


def capped(rings: Sequence[Ring], surface: Bvh, first_free: int, ids: Ints, fresh: list[Floats]) -> list[list[int]]:
    """Faces that close the free ends, run like the sleeve's own; the points they need are added to `fresh`, which is
    counted on from point `first_free`."""
    faces: list[list[int]] = []
    for row, ring, turn in ((ids[0], rings[0], True), (ids[-1], rings[-1], False)):
        if ring.known is not None or len(row) % 2:
            continue
        points = ring.points
        patch = grid_patch(points, *grid_corners(points))
        first = first_free + sum(len(f) for f in fresh)
        fresh.append(surface.project(patch.inner) if len(patch.inner) else patch.inner)
        for face in patch.faces:
            named = [int(row[p]) if p < len(row) else first + p - len(row) for p in face]
            # A grid over a ring runs with the ring; the sleeve's first row runs against its first ring.
            faces.append(named[::-1] if turn else named)
    return faces


def best_turn(points: Floats, like: Floats) -> Ints:
    """The order of a ring's points, turned and run so that they lie nearest to a neighbour's."""
    n = len(points)
    if len(like) != n:
        return np.arange(n)
    best, found = np.inf, np.arange(n)
    a = points - points.mean(axis=0)
    b = like - like.mean(axis=0)
    for way in (np.arange(n), np.arange(n)[::-1]):
        for k in range(n):
            order = np.roll(way, -k)
            off = float(((a[order] - b) ** 2).sum())
            if off < best:
                best, found = off, order
    return found


def closed_border(mesh: PolyMesh, edge: int) -> Ints | None:
    """The points of the closed border through an edge, in order."""
    points, closed = loop_points(mesh, edge_loop(mesh, edge))
    return points if closed else None
