"""Relaxing faces towards squares while their points stay on a surface."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.mesh.geometry import least_sine, scaled_jacobian, unit
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import spread
from jacket.core.space.bvh import Bvh, closest_within


@dataclass(frozen=True, eq=False)
class Lines:
    """Creases and borders that some points must slide along: `curve` holds their segments as thin
    triangles; `sliding` and `fixed` (V,) flag the points on lines and at their corners."""

    curve: Bvh
    sliding: Bools
    fixed: Bools


def relaxed(
    mesh: PolyMesh, surface: Bvh, rounds: int, held: Bools | None = None, lines: Lines | None = None,
    strength: Floats | None = None, evenness: float = 0.3, mending: float = 0.0,
    sizes: Floats | None = None, brisk: bool = False,
) -> PolyMesh:  # fmt: skip
    """Move points towards the squares that best fit their faces, then back onto the surface.

    held (V,)      points that stay
    strength (V,)  0..1 share of each step a point takes
    evenness       0 keeps each face's size, 1 gives all faces at a point one size
    mending        how much more skewed faces count than square ones: the worst corners open at the cost of the best
    sizes (F,)     what each face's wanted size is multiplied by
    brisk          lays points back onto the surface every few rounds only; between, they go along it, which at tips is a little
                   less true
    """
    stay = np.zeros(mesh.n_points, bool) if held is None else held.copy()
    slides = np.zeros(mesh.n_points, bool)
    if lines is not None:
        stay |= lines.fixed
        slides = lines.sliding & ~stay
    stay |= np.bincount(mesh.corners, minlength=mesh.n_points) == 0
    free, slide = np.flatnonzero(~stay & ~slides), np.flatnonzero(slides & ~stay)
    share = np.where(stay, 0.0, 1.0 if strength is None else strength)
    points, ways, gone = mesh.points.copy(), np.zeros((mesh.n_points, 3)), np.zeros(mesh.n_points)
    own = mesh.corners, mesh.starts, evenness, mending, np.ones(mesh.n_faces) if sizes is None else np.asarray(sizes, np.float64)
    k = 0
    while k < rounds:
        along = 0 if k < FIRST or not brisk else min(APART - 1, rounds - 1 - k)
        _stepped(points, *own, share, slides, ways, gone, along)
        points[free], triangle, _ = surface.closest(points[free], gone[free])
        _normals_of(surface.points, surface.triangles, triangle, free, ways)
        if len(slide):
            points[slide], segment, _ = lines.curve.closest(points[slide])  # type: ignore[union-attr]
            ends = lines.curve.points[lines.curve.triangles[segment, :2]]  # type: ignore[union-attr]
            ways[slide] = unit(ends[:, 1] - ends[:, 0])
        k += along + 1
    return mesh.with_points(points)


FIRST, APART = 3, 3
"""Brisk rounds at the beginning, when steps are long, after each of which points are laid back all the same, and after how many they are from then on."""


@kernel
def _stepped(points, corners, starts, evenness, mending, sizes, share, slides, ways, gone, along):
    """Move points towards squares by their `share` (V,), writing into them: so many rounds along the surface, whose normals
    `ways` (V, 3) are, or along lines that run so where a point `slides` (V,), and then one that is not held back; `gone` (V,) is how
    far each has gone."""
    weights = np.ones(len(starts) - 1)
    gone[:] = 0.0
    for k in range(along + 1):
        if mending > 0:
            for f in range(len(weights)):
                weights[f] = 1.0 + mending * max(GOOD - least_sine(points, corners, starts[f], starts[f + 1]), 0.0)
        aims = _aims(points, corners, starts, evenness, weights, sizes)
        for p in range(len(points)):
            if share[p] == 0.0:
                continue
            x, y, z = share[p] * (aims[p, 0] - points[p, 0]), share[p] * (aims[p, 1] - points[p, 1]), share[p] * (aims[p, 2] - points[p, 2])
            if k < along:
                dot = x * ways[p, 0] + y * ways[p, 1] + z * ways[p, 2]
                if slides[p]:
                    x, y, z = dot * ways[p, 0], dot * ways[p, 1], dot * ways[p, 2]
                else:
                    x, y, z = x - dot * ways[p, 0], y - dot * ways[p, 1], z - dot * ways[p, 2]
            points[p, 0], points[p, 1], points[p, 2] = points[p, 0] + x, points[p, 1] + y, points[p, 2] + z
            gone[p] += np.sqrt(x * x + y * y + z * z)


@kernel
def _normals_of(points, triangles, which, ids, out):
    """Write the unit normals of triangles `which` (K,) into rows `ids` (K,), nought where there is none."""
    for k in range(len(ids)):
        p = ids[k]
        out[p, 0] = out[p, 1] = out[p, 2] = 0.0
        if which[k] < 0:
            continue
        a, b, c = triangles[which[k], 0], triangles[which[k], 1], triangles[which[k], 2]
        ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        size = np.sqrt(x * x + y * y + z * z)
        if size > 0:
            out[p, 0], out[p, 1], out[p, 2] = x / size, y / size, z / size


def relaxed_part(
    mesh: PolyMesh, surface: Bvh, ids: Ints, strength: Floats, rounds: int, lines: Lines | None = None,
    evenness: float = 0.3,
) -> Floats:  # fmt: skip
    """(V, 3) positions after relaxing only points `ids`, each by its strength (K,): the faces at them alone are looked
    at, so that a brush costs what it touches."""
    part = Neighbourhood.of(mesh, ids)
    places, own = mesh.points[part.used], part.own
    out = mesh.points.copy()
    if lines is None:
        out[ids] = part.relaxed(places, surface, strength, rounds, evenness)[own]
        return out
    fixed = lines.fixed[ids]
    slides = lines.sliding[ids] & ~fixed
    moves = np.where(fixed, 0.0, strength)[:, None]
    for _ in range(rounds):
        aims = square_aims(places, part.corners, part.starts, evenness)
        step = moves * (aims[own] - places[own])
        wanted = places[own] + step
        new = surface.project(wanted, np.linalg.norm(step, axis=1))
        if slides.any():
            new[slides] = surface.project(lines.curve.project(wanted[slides]))
        places[own[~fixed]] = new[~fixed]
    out[ids] = places[own]
    return out


@dataclass(frozen=True, eq=False)
class Neighbourhood:
    """Some points of a mesh and all that counts when they alone are relaxed: `used` (U,) points of the mesh; corners and starts
    of the faces around, in numbers of those; and which of them (K,) move."""

    used: Ints
    corners: Ints
    starts: Ints
    own: Ints

    @staticmethod
    def of(mesh: PolyMesh, ids: Ints) -> Neighbourhood:
        """Around points `ids` (K,): faces at them, and those that touch these, which give the sizes that evenness goes by."""
        near = np.zeros(mesh.n_points, bool)
        near[ids] = True
        faces = np.zeros(mesh.n_faces, bool)
        for _ in range(2):
            faces[mesh.face_of_corner[near[mesh.corners]]] = True
            near[mesh.corners[faces[mesh.face_of_corner]]] = True
        corners = np.flatnonzero(faces[mesh.face_of_corner])
        used, local = np.unique(mesh.corners[corners], return_inverse=True)
        starts = np.concatenate([[0], np.flatnonzero(np.diff(mesh.face_of_corner[corners])) + 1, [len(corners)]])
        return Neighbourhood(used, local.astype(np.int32), starts.astype(np.int32), np.searchsorted(used, ids))

    def relaxed(self, places: Floats, surface: Bvh, strength: Floats, rounds: int, evenness: float) -> Floats:
        """(U, 3) places of its points after so many rounds in which those that move do, each by its strength (K,)."""
        if len(surface.triangles) == 0:
            return places
        return np.asarray(_relaxed_places(
            places, self.corners, self.starts, self.own, np.asarray(strength, np.float64), rounds, evenness,
            *surface.arrays,
        ))  # fmt: skip


@kernel
def _relaxed_places(places, corners, starts, own, strength, rounds, evenness, points, triangles, order, boxes, leaves):
    ones = np.ones(len(starts) - 1)
    places = places.copy()
    stack, depth = np.empty(64, np.int32), np.empty(64)
    for _ in range(rounds):
        aims = _aims(places, corners, starts, evenness, ones, ones)
        for k in range(len(own)):
            p = own[k]
            x, y, z = strength[k] * (aims[p, 0] - places[p, 0]), strength[k] * (aims[p, 1] - places[p, 1]), strength[k] * (aims[p, 2] - places[p, 2])
            _, _, x, y, z = closest_within(points, triangles, order, boxes, leaves, places[p, 0] + x, places[p, 1] + y, places[p, 2] + z,
                                           stack, depth, np.sqrt(x * x + y * y + z * z))  # fmt: skip
            places[p, 0], places[p, 1], places[p, 2] = x, y, z
    return places


GOOD = 0.97
"""Scaled Jacobian from which a face needs no mending."""


def square_aims(
    points: Floats, corners: Ints, starts: Ints, evenness: float, weights: Floats | None = None,
    sizes: Floats | None = None,
) -> Floats:  # fmt: skip
    """(V, 3) mean, over the faces at each point, of its corner in the regular polygon of best fit; faces count by
    `weights` (F,), and their sizes are multiplied by `sizes` (F,).

    The best-fitting regular polygon about the face's centre comes from turning each corner back by
    its share of a full turn and averaging (least squares; cf. Bouaziz et al., "Shape-Up", 2012).
    """
    ones = np.ones(len(starts) - 1)
    return _square_aims(
        points, corners, starts, evenness, ones if weights is None else weights, ones if sizes is None else sizes
    )


@kernel
def _square_aims(points, corners, starts, evenness, weights, sizes):
    return _aims(points, corners, starts, evenness, weights, sizes)


@inline
def _aims(points, corners, starts, evenness, weights, sizes):
    n_points = len(points)
    total = np.zeros((n_points, 3))
    count = np.zeros(n_points)
    share = np.zeros(n_points)
    n_faces = len(starts) - 1
    radius = np.zeros(n_faces)
    near = np.zeros(n_points)
    for f in range(n_faces):
        a, n = starts[f], starts[f + 1] - starts[f]
        cx = cy = cz = 0.0
        for c in range(a, a + n):
            p = corners[c]
            cx, cy, cz = cx + points[p, 0] / n, cy + points[p, 1] / n, cz + points[p, 2] / n
        r = 0.0
        for c in range(a, a + n):
            p = corners[c]
            r += np.sqrt((points[p, 0] - cx) ** 2 + (points[p, 1] - cy) ** 2 + (points[p, 2] - cz) ** 2) / n
        radius[f] = r
        for c in range(a, a + n):
            near[corners[c]] += r
            count[corners[c]] += 1
            share[corners[c]] += weights[f]
    for p in range(n_points):
        if count[p] > 0:
            near[p] /= count[p]
    # Cosine and sine of the shares of a turn, of faces of as many corners as the last one.
    turned, way = 0, np.empty((0, 2))
    for f in range(n_faces):
        a, n = starts[f], starts[f + 1] - starts[f]
        if n != turned:
            turned, way = n, np.empty((n, 2))
            for k in range(n):
                way[k, 0], way[k, 1] = np.cos(2 * np.pi * k / n), np.sin(2 * np.pi * k / n)
        cx = cy = cz = 0.0
        nx = ny = nz = 0.0
        for k in range(n):
            p, q = corners[a + k], corners[a + (k + 1) % n]
            cx, cy, cz = cx + points[p, 0] / n, cy + points[p, 1] / n, cz + points[p, 2] / n
            nx += points[p, 1] * points[q, 2] - points[p, 2] * points[q, 1]
            ny += points[p, 2] * points[q, 0] - points[p, 0] * points[q, 2]
            nz += points[p, 0] * points[q, 1] - points[p, 1] * points[q, 0]
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if size == 0.0:
            for k in range(n):
                for d in range(3):
                    total[corners[a + k], d] += weights[f] * points[corners[a + k], d]
            continue
        nx, ny, nz = nx / size, ny / size, nz / size
        rx = ry = rz = 0.0
        for k in range(n):
            p = corners[a + k]
            x, y, z = points[p, 0] - cx, points[p, 1] - cy, points[p, 2] - cz
            dot = x * nx + y * ny + z * nz
            x, y, z = x - dot * nx, y - dot * ny, z - dot * nz
            w, s = way[k, 0], -way[k, 1]
            rx += (w * x + s * (ny * z - nz * y)) / n
            ry += (w * y + s * (nz * x - nx * z)) / n
            rz += (w * z + s * (nx * y - ny * x)) / n
        length = np.sqrt(rx * rx + ry * ry + rz * rz)
        if length > 0.0:
            grow = 0.0
            for k in range(n):
                grow += near[corners[a + k]] / n
            # Towards the mean size of the faces around; the shape's own size never vanishes.
            own = max(length, 0.3 * radius[f])
            wanted = ((1 - evenness) * own + evenness * grow) * sizes[f]
            rx, ry, rz = rx * wanted / length, ry * wanted / length, rz * wanted / length
        for k in range(n):
            p = corners[a + k]
            w, s = way[k, 0], way[k, 1]
            total[p, 0] += weights[f] * (cx + w * rx + s * (ny * rz - nz * ry))
            total[p, 1] += weights[f] * (cy + w * ry + s * (nz * rx - nx * rz))
            total[p, 2] += weights[f] * (cz + w * rz + s * (nx * ry - ny * rx))
    out = points.copy()
    for p in range(n_points):
        if count[p] > 0:
            for d in range(3):
                out[p, d] = total[p, d] / share[p]
    return out


def lines_of(mesh: PolyMesh, segments: NDArray[np.float64], corners_at: Floats, reach: float) -> Lines | None:
    """Which points of a mesh lie on given line segments (S, 2, 3), and which at line corners (K, 3)."""
    if len(segments) == 0:
        return None
    curve = Bvh.of_segments(segments)
    sliding = curve.closest(mesh.points)[2] <= reach
    fixed = np.zeros(mesh.n_points, bool)
    on = np.flatnonzero(sliding)
    for corner in corners_at:
        if len(on) == 0:
            break
        far = np.linalg.norm(mesh.points[on] - corner, axis=1)
        if far.min() <= 25 * reach:
            fixed[on[int(np.argmin(far))]] = True
    return Lines(curve, sliding, fixed)


def untangled(mesh: PolyMesh, surface: Bvh, lines: Lines | None, rounds: int = 60) -> PolyMesh:
    """Smooth only where faces are folded or nearly so, until none is or `rounds` are over.

    Two rings round a bad face go half-way to the mean of their neighbours, wider as rounds go by.
    """
    beside: tuple[Ints, Ints] | None = None
    for k in range(rounds):
        bad = scaled_jacobian(mesh) < 0.1
        if not bad.any():
            break
        beside = beside or _neighbours(mesh)
        near = np.zeros(mesh.n_points, bool)
        near[mesh.corners[bad[mesh.face_of_corner]]] = True
        near = spread(near, mesh.topology.edge_points, 1 + k // 15)
        ids = np.flatnonzero(near if lines is None else near & ~lines.fixed)
        points = mesh.points.copy()
        points[ids] += 0.5 * (_means(points, *beside, ids) - points[ids])
        points[ids] = surface.project(points[ids])
        if lines is not None:
            slide = ids[lines.sliding[ids]]
            points[slide] = lines.curve.project(points[slide])
        mesh = mesh.with_points(points)
    return mesh


def _neighbours(mesh: PolyMesh) -> tuple[Ints, Ints]:
    """The points that each point listens to: those of p are other[start[p]:start[p + 1]]. A border point listens to border edges
    only; inner points to all of theirs."""
    topology = mesh.topology
    ends = topology.edge_points
    border, rim = topology.border_points, topology.edge_uses == 1
    a, b = np.concatenate([ends, ends[:, ::-1]]).T
    use = np.concatenate([rim, rim]) | ~border[a]
    a, b = a[use], b[use]
    order = np.argsort(a, kind="stable")
    start = np.concatenate([[0], np.cumsum(np.bincount(a, minlength=mesh.n_points))]).astype(np.int64)
    return start, np.ascontiguousarray(b[order])


@kernel
def _means(points, start, other, ids):
    """(K, 3) mean of the points that each listens to, or where it is."""
    out = np.empty((len(ids), 3))
    for k in range(len(ids)):
        p = ids[k]
        n = start[p + 1] - start[p]
        for d in range(3):
            total = 0.0
            for i in range(start[p], start[p + 1]):
                total += points[other[i], d]
            out[k, d] = total / n if n > 0 else points[p, d]
    return out
