"""What steers the automatic quads: guide curves, painted density, the mirror plane."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.mesh.geometry import edge_lengths, face_centres, face_normals, unit
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh, sorted_pairs
from jacket.core.mesh.walks import shortest_path
from jacket.core.quads.curvature import ring_average
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.path import evened, evened_ring, length_along, tangents
from jacket.errors import MeshError


@dataclass(frozen=True, eq=False)
class Guide:
    """A curve through points (K, 3) on the source. Hard ones become rows of edges, soft ones turn the flow along them;
    `smooth` ones are rounded between their points."""

    points: Floats
    hard: bool = True
    closed: bool = False
    smooth: bool = False


@dataclass(frozen=True)
class Spot:
    """A dab of painted density: within `radius` of a place quads are `factor` times as close in either direction
    (1/4 to 4)."""

    place: tuple[float, float, float]
    radius: float
    factor: float


@dataclass(frozen=True, eq=False)
class Paint:
    """Painted density: places (K, 3) spread over the source and the logarithm to base 2 of the factor at each (K,)."""

    places: Floats
    values: Floats


LEAST, MOST = 0.25, 4.0


def checked_guide(guide: Guide, surface: Bvh) -> Guide:
    """A guide with its points laid onto the surface; raises MeshError where it has none to speak of."""
    points = np.asarray(guide.points, float).reshape(-1, 3)
    if len(points) < 2 or not np.isfinite(points).all() or float(length_along(points)[-1]) <= 0:
        raise MeshError("A guide needs two different points or more; draw it again or take it out.")
    middle, size = surface.points.mean(axis=0), float(np.linalg.norm(np.ptp(surface.points, axis=0)))
    if np.abs(points - middle).max() > 100 * max(size, 1e-300):
        raise MeshError("A guide lies far away from the source; draw it on the source, or check the unit of its file.")
    return Guide(guide_curve(guide, surface), guide.hard, guide.closed)


def guide_curve(guide: Guide, surface: Bvh, count: int = 200) -> Floats:
    """(≥ count, 3) places along a guide on the surface, evenly spaced; smooth ones run as a Catmull–Rom spline (E.
    Catmull and R. Rom, "A class of local interpolating splines", 1974). Of a closed guide the first is not repeated."""
    points = np.asarray(guide.points, float).reshape(-1, 3)
    if guide.smooth and len(points) > 2:
        points = _spline(points, guide.closed)
    count = max(len(points), count)
    return surface.project(evened_ring(points, count) if guide.closed else evened(points, count))


def _spline(points: Floats, closed: bool, steps: int = 16) -> Floats:
    n = len(points)
    if closed:
        p0, p1, p2, p3 = (np.roll(points, k, axis=0) for k in (1, 0, -1, -2))
    else:
        wide = np.concatenate([2 * points[:1] - points[1:2], points, 2 * points[-1:] - points[-2:-1]])
        p0, p1, p2, p3 = wide[: n - 1], wide[1:n], wide[2 : n + 1], wide[3 : n + 2]
    t = (np.arange(steps) / steps)[None, :, None]
    a, b, c, d = (p[:, None] for p in (p0, p1, p2, p3))
    curve = 0.5 * (2 * b + (c - a) * t + (2 * a - 5 * b + 4 * c - d) * t**2 + (3 * b - a - 3 * c + d) * t**3)
    flat = curve.reshape(-1, 3)
    return flat if closed else np.concatenate([flat, points[-1:]])


def dense_guide(guide: Guide, step: float) -> Floats:
    """Places along a guide about a step apart."""
    line = np.concatenate([guide.points, guide.points[:1]]) if guide.closed else guide.points
    count = max(int(np.ceil(float(length_along(line)[-1]) / step)), 2)
    return evened_ring(guide.points, max(count, 3)) if guide.closed else evened(guide.points, count + 1)


def embedded(mesh: PolyMesh, guide: Guide, surface: Bvh, taken: Bools) -> tuple[PolyMesh, Ints]:
    """A base mesh with points moved onto a guide so that edges run along it, and those edges (K, 2).

    The path of least way off the guide is taken from stop to stop along it; its points are then spread along the guide as
    they lie on the path. Points flagged in `taken` (V,), on creases already, stay where they are.
    """
    step = float(np.median(edge_lengths(mesh)))
    line = dense_guide(guide, 0.1 * step)
    far = cKDTree(line).query(mesh.points)[0]
    lengths = edge_lengths(mesh)
    off = (far[mesh.topology.edge_points] ** 2).mean(axis=1) / step**2
    cost = lengths * (1 + 30 * off)
    stops, marks = _stops(mesh, line, guide.closed)
    points = mesh.points.copy()
    rows = []
    for (a, b), (m, n) in zip(itertools.pairwise(stops), itertools.pairwise(marks), strict=True):
        path = shortest_path(mesh, int(a), int(b), cost)
        if len(path) < 2:
            continue
        rows.append(np.sort(np.stack([path[:-1], path[1:]], axis=1), axis=1))
        along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(mesh.points[path], axis=0), axis=1))])
        at = np.rint(m + (n - m) * along / max(float(along[-1]), 1e-300)).astype(int) % len(line)
        points[path] = line[at]
    if not rows:
        return mesh, sorted_pairs(np.zeros((0, 2)))
    pairs, count = np.unique(np.concatenate(rows), axis=0, return_counts=True)
    # An edge that is walked there and back is a spur to a stop beside the way.
    pairs = pairs[count == 1]
    kept = np.zeros(mesh.n_points, bool)
    kept[pairs.ravel()] = True
    kept &= ~taken
    points[~kept] = mesh.points[~kept]
    points[kept] = surface.project(points[kept])
    return mesh.with_points(points), sorted_pairs(pairs)


def _stops(mesh: PolyMesh, line: Floats, closed: bool) -> tuple[list[int], list[int]]:
    """Points of the mesh that a path along a line goes through, often enough that it cannot take a short way, and which
    place of the line each belongs to; a closed line ends where it began."""
    tree = cKDTree(mesh.points)
    marks = np.linspace(0, len(line) - (0 if closed else 1), max(4, len(line) // 120) + 1).astype(int).tolist()
    near = [int(tree.query(line[k % len(line)])[1]) for k in marks]
    if closed:
        near[-1] = near[0]
    keep = [k for k in range(len(near)) if k == 0 or near[k] != near[k - 1]]
    return [near[k] for k in keep], [marks[k] for k in keep]


def soft_pull(mesh: PolyMesh, guides: Sequence[Guide], reach: float) -> tuple[Ints, Floats, Floats]:
    """Faces within reach of soft guides, the direction (K, 3) each should follow, and how strongly (K,), 0..4."""
    faces, ways, weights = [], [], []
    centres, normals = face_centres(mesh), face_normals(mesh)
    for guide in guides:
        line = dense_guide(guide, 0.25 * reach)
        along = tangents(line, guide.closed)
        far, near = cKDTree(line).query(centres)
        ids = np.flatnonzero(far < reach)
        way = along[near[ids]]
        faces.append(ids)
        ways.append(unit(way - normals[ids] * (way * normals[ids]).sum(axis=1, keepdims=True)))
        # Four times as strong as curvature can pull: it is what the artist asked for.
        weights.append(4.0 * (1 - (far[ids] / reach) ** 2) ** 2)
    if not faces:
        return np.zeros(0, np.int32), np.zeros((0, 3)), np.zeros(0)
    return np.concatenate(faces).astype(np.int32), np.concatenate(ways), np.concatenate(weights)


def face_density(mesh: PolyMesh, spots: Sequence[Spot], paint: Paint | None = None) -> Floats | None:
    """(F,) the linear density wanted at each face, 1 where nothing is painted, or None: factors of spots multiply,
    full out to half their radius and gone at one and a half, evened so that their logarithm changes gently."""
    painted = paint is not None and len(paint.places) > 0 and bool(np.any(paint.values))
    if not spots and not painted:
        return None
    centres = face_centres(mesh)
    log = np.zeros(mesh.n_faces)
    if paint is not None and painted:
        far, near = cKDTree(paint.places).query(centres, k=min(4, len(paint.places)))
        far, near = far.reshape(len(centres), -1), near.reshape(len(centres), -1)
        share = 1.0 / np.maximum(far, 1e-9 * max(mesh.diagonal, 1e-300))
        log += np.log(2.0) * (paint.values[near] * share).sum(axis=1) / share.sum(axis=1)
    for spot in spots:
        if not (spot.radius > 0 and spot.factor > 0 and np.isfinite([*spot.place, spot.radius, spot.factor]).all()):
            raise MeshError("A spot of density needs a place, a radius over 0 and a factor over 0.")
        share = np.linalg.norm(centres - spot.place, axis=1) / spot.radius
        t = np.clip(share - 0.5, 0.0, 1.0)
        log += np.log(np.clip(spot.factor, LEAST, MOST)) * (1 - t * t * (3 - 2 * t))
    log = np.clip(log, np.log(LEAST), np.log(MOST))
    blur, total = ring_average(mesh)
    for _ in range(4):
        log = (blur @ log) / total
    return np.asarray(np.exp(log))


# ---- the mirror ---------------------------------------------------------------------------------


def half_of(points: Floats, triangles: Ints, axis: int) -> tuple[Floats, Ints]:
    """The part of a surface on the positive side of the plane through the origin across an axis, cut exactly along
    it. Points nearer to the plane than a millionth of the extent count as in it, so that no slivers are left."""
    points = points.copy()
    slack = 1e-6 * float(np.ptp(points, axis=0).max())
    points[np.abs(points[:, axis]) <= slack, axis] = 0.0
    height = points[:, axis]
    side = np.sign(height[triangles]).astype(np.int64)
    whole = triangles[(side >= 0).all(axis=1) & (side > 0).any(axis=1)]
    across = triangles[(side > 0).any(axis=1) & (side < 0).any(axis=1)]
    keys: dict[tuple[int, int], int] = {}
    fresh: list[Floats] = []
    rows: list[list[int]] = []
    for tri in across.tolist():
        ring: list[int] = []
        for k in range(3):
            p, q = tri[k], tri[(k + 1) % 3]
            if height[p] >= 0:
                ring.append(p)
            if height[p] * height[q] < 0:
                key = (min(p, q), max(p, q))
                if key not in keys:
                    a, b = key
                    t = height[a] / (height[a] - height[b])
                    place = points[a] + t * (points[b] - points[a])
                    place[axis] = 0.0
                    keys[key] = len(points) + len(fresh)
                    fresh.append(place)
                ring.append(keys[key])
        rows += [[ring[0], ring[k], ring[k + 1]] for k in range(1, len(ring) - 1)]
    if fresh:
        points = np.concatenate([points, np.array(fresh)])
    out = np.concatenate([whole, np.array(rows, triangles.dtype).reshape(-1, 3)])
    if len(out) == 0:
        raise MeshError("Nothing of the source lies on the positive side of the mirror plane; move or turn it first.")
    used, local = np.unique(out, return_inverse=True)
    return points[used], local.reshape(-1, 3).astype(np.int32)


def bridged(half: PolyMesh, on: Bools, axis: int) -> PolyMesh:
    """A mesh and its mirror image with a row of quads from each border edge between points flagged in `on` (V,) to its
    image."""
    n = half.n_points
    image = half.points.copy()
    image[:, axis] *= -1
    quads = half.as_quads()
    topology = half.topology
    corner = topology.edge_corner[topology.border_edges]
    a, b = half.corners[corner], half.corners[topology.next[corner]]
    ends = on[a] & on[b]
    a, b = a[ends], b[ends]
    row = np.stack([b, a, a + n, b + n], axis=1)
    return PolyMesh.from_faces(
        np.concatenate([half.points, image]),
        np.concatenate([quads, (quads + n)[:, ::-1], row]).astype(np.int64),
        point_data={name: np.concatenate([v, v]) for name, v in half.point_data.items()},
    )


def doubled(half: PolyMesh, on: Bools, axis: int) -> PolyMesh:
    """A mesh and its mirror image, welded at the points flagged in `on` (V,), which lie in the plane; what hangs on
    points is mirrored too."""
    across = np.arange(half.n_points) + half.n_points
    across = np.where(on, np.arange(half.n_points), half.n_points + np.cumsum(~on) - 1)
    image = half.points[~on].copy()
    image[:, axis] *= -1
    quads = half.as_quads()
    return PolyMesh.from_faces(
        np.concatenate([half.points, image]),
        np.concatenate([quads, across[quads][:, ::-1]]).astype(np.int64),
        point_data={name: np.concatenate([v, v[~on]]) for name, v in half.point_data.items()},
    )
