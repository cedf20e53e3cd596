"""A closed skin over a torn scan: what automatic quads are laid on where the scan itself is in shreds.

The space is divided into cells; what can be reached from outside without passing nearer than a radius to the scan is
outside, and the skin lies that radius in from there. It is the morphological closing of the scan (J. Serra, Image
Analysis and Mathematical Morphology, 1982), with the radius as small as still keeps the inside shut.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage, sparse

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.tables import bounds
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.space.bvh import Bvh
from jacket.progress import Progress, silent

TORN_BORDERS, TORN_HANDLES, TORN_FLAPS = 12, 12, 24
"""Holes, handles that no form has, and folded faces from which on a surface counts as torn."""


@dataclass(frozen=True)
class Tears:
    """Holes and handles of a surface, over all its parts."""

    borders: int
    handles: int
    flaps: int = 0
    """Faces folded flat onto one another."""

    @property
    def torn(self) -> bool:
        """Whether the surface is better rebuilt before quads are laid on it."""
        return self.borders > TORN_BORDERS or self.handles > TORN_HANDLES or self.flaps > TORN_FLAPS


def tears_of(mesh: PolyMesh) -> Tears:
    """Holes and handles of the largest part of a manifold triangle mesh: χ = 2 − 2 handles − holes."""
    count, labels = face_parts(mesh)
    if count > 1:
        from jacket.core.mesh.pieces import split_off

        largest = int(np.bincount(labels).argmax())
        mesh = split_off(mesh, np.flatnonzero(labels == largest))[1]
    borders = len(mesh.topology.border_loops)
    return Tears(borders, max(0, (2 - borders - euler_characteristic(mesh)) // 2))


def closed_skin(surface: Bvh, cells: int = 128, progress: Progress = silent) -> tuple[Floats, Ints] | None:
    """Points and triangles of a closed skin over a surface, its longest side `cells` cells long and its points laid onto
    the surface where that is near; None where nothing encloses a space, as with an open bowl."""
    from skimage.measure import marching_cubes

    low, high = bounds(surface.points)
    step = float((high - low).max()) / cells
    if step <= 0:
        return None
    pad = 12
    origin = low - pad * step
    shape = np.ceil((high - low) / step).astype(int) + 2 * pad + 1
    near = _near_cells(surface, origin, step, shape)
    progress(0.3, "closing the torn scan")
    far = ndimage.distance_transform_edt(~near)
    best: tuple[float, np.ndarray] | None = None  # type: ignore[type-arg]
    since = 0
    for radius in (1.0, 2.0, 3.0, 4.5, 6.5, 9.0):
        outside = _reached(far > radius)
        back = ndimage.distance_transform_edt(~outside)
        inside = float((back > radius + 0.5).sum())
        if best is None or inside > 1.8 * best[0]:
            # A wider closing counts only where it shuts what a narrower one left open: then the inside leaps. That it
            # also fills hollows of the form makes it grow by less.
            best, since = (inside, back - (radius + 0.5)), 0
        else:
            since += 1
        if since == 2 and best[0] > 2.0 * float(near.sum()):
            break  # a body is shut in, and wider closings no longer change that
    progress(0.7, "closing the torn scan")
    # What is shut in has to be more than the walls themselves, or it is a sheet and no body.
    if best is None or best[0] < float(near.sum()):
        return None
    field = ndimage.gaussian_filter(best[1].astype(np.float32), 0.7)
    if not (field.min() < 0 < field.max()):
        return None
    points, triangles, _, _ = marching_cubes(field, 0.0)
    points = origin + points.astype(float) * step
    triangles = _outward(points, triangles.astype(np.int32))
    on, _, off = surface.closest(points)
    points = np.where((off < 2.5 * step)[:, None], 0.3 * points + 0.7 * on, points)
    return smoothed(points, triangles, 6), triangles


def solid_skin(points: Floats, triangles: Ints, cell: float, progress: Progress = silent) -> tuple[Floats, Ints] | None:
    """Points and triangles of the outside of a closed surface that may run through itself: what it winds round once or more
    (A. Jacobson et al., "Robust inside-outside segmentation using generalized winding numbers", 2013; whole numbers here, since
    it is closed), in cells of a given size. None where nothing is wound round. Folds and tunnels thinner than a cell go."""
    from skimage.measure import marching_cubes

    pad = 3
    low = points.min(axis=0)
    # Off the grid by fractions that no coordinates of files have, so that no column goes through a point.
    origin = low - (pad + np.array([0.1234567, 0.2345678, 0.3456789])) * cell
    shape = np.ceil((points.max(axis=0) - origin) / cell).astype(int) + pad
    progress(0.1, "finding the inside of the scan")
    full = wound(np.ascontiguousarray((points - origin) / cell), triangles, *(int(n) for n in shape))
    _fill_pockets(full)
    field = ndimage.gaussian_filter(full, 0.7)
    if not (field.min() < 0.5 < field.max()):
        return None
    progress(0.6, "finding the inside of the scan")
    made, tri, _, _ = marching_cubes(field, 0.5)
    return smoothed(origin + made.astype(float) * cell, tri.astype(np.int32), 4), _outward(made.astype(float), tri.astype(np.int32))


SLIT = 1.5
"""Cells to each side up to which what lies behind a slit counts as inside."""


def _fill_pockets(full: np.ndarray) -> None:  # type: ignore[type-arg]
    """Fill cells, in place, that cannot be reached from outside without passing nearer than `SLIT` to the solid."""
    free = full < 0.5
    away = ndimage.distance_transform_edt(free) > SLIT
    reached = ndimage.distance_transform_edt(~_reached(away)) <= SLIT + 0.5
    full[free & ~reached] = 1.0


@kernel
def wound(places, triangles, wide, deep, high):
    """(wide, deep, high) share of each cell, a unit cube round a place of whole numbers, that a closed surface winds round at
    least once; columns along the last axis, four in each cell. places (V, 3) in cells."""
    first = np.zeros(4 * wide * deep + 1, np.int64)
    at, way = np.empty(0), np.empty(0, np.int8)
    for fill in range(2):
        for t in range(len(triangles)):
            a, b, c = places[triangles[t, 0]], places[triangles[t, 1]], places[triangles[t, 2]]
            x0, x1 = min(a[0], b[0], c[0]), max(a[0], b[0], c[0])
            y0, y1 = min(a[1], b[1], c[1]), max(a[1], b[1], c[1])
            # Columns stand at quarters and three quarters of cells.
            for i in range(max(int(np.ceil(2 * x0 + 0.5)), 0), min(int(np.floor(2 * x1 + 0.5)), 2 * wide - 1) + 1):
                x = 0.5 * i - 0.25
                for j in range(max(int(np.ceil(2 * y0 + 0.5)), 0), min(int(np.floor(2 * y1 + 0.5)), 2 * deep - 1) + 1):
                    y = 0.5 * j - 0.25
                    u, v, w = _side(b, c, x, y), _side(c, a, x, y), _side(a, b, x, y)
                    if not ((u > 0 and v > 0 and w > 0) or (u < 0 and v < 0 and w < 0)):
                        continue
                    column = i * 2 * deep + j
                    if fill == 0:
                        first[column + 1] += 1
                    else:
                        n = first[column]
                        at[n] = (u * a[2] + v * b[2] + w * c[2]) / (u + v + w)
                        way[n] = -1 if u > 0 else 1
                        first[column] += 1
        if fill == 0:
            for k in range(1, len(first)):
                first[k] += first[k - 1]
            at, way = np.empty(first[-1]), np.empty(first[-1], np.int8)
    out = np.zeros((wide, deep, high), np.float32)
    begin = 0
    for column in range(len(first) - 1):
        end = first[column]
        order = np.argsort(at[begin:end])
        i, j = column // (2 * deep) // 2, column % (2 * deep) // 2
        round_ = 0
        for n in range(len(order)):
            k = begin + order[n]
            if round_ > 0:
                z0, z1 = at[begin + order[n - 1]] + 0.5, at[k] + 0.5
                for cell in range(max(int(z0), 0), min(int(z1), high - 1) + 1):
                    out[i, j, cell] += np.float32(0.25 * (min(z1, cell + 1.0) - max(z0, float(cell))))
            round_ += way[k]
        begin = end
    return out


@inline
def _side(a, b, x, y):
    """On which side of the line from a to b a place lies, the same to the bit with a and b changed but for its sign."""
    if a[0] < b[0] or (a[0] == b[0] and a[1] < b[1]):
        return (b[0] - a[0]) * (y - a[1]) - (b[1] - a[1]) * (x - a[0])
    return -((a[0] - b[0]) * (y - b[1]) - (a[1] - b[1]) * (x - b[0]))


def bridging(points: Floats, triangles: Ints, surface: Bvh) -> Ints:
    """The triangles (K, 3) of a skin that span what the surface leaves open: all of whose points lie farther from it
    than twice the skin's own edges are long."""
    corner = points[triangles]
    step = float(np.median(np.linalg.norm(corner[:, 1] - corner[:, 0], axis=1)))
    far = surface.closest(points)[2] > 1.5 * step
    return triangles[far[triangles].any(axis=1)]


def _near_cells(surface: Bvh, origin: Floats, step: float, shape: Ints) -> np.ndarray:  # type: ignore[type-arg]
    """Cells that hold some of the surface: places of the triangles spread closer than a cell."""
    corner = surface.points[surface.triangles]
    longest = np.linalg.norm(corner - np.roll(corner, 1, axis=1), axis=2).max(axis=1)
    near = np.zeros(tuple(shape), bool)
    parts = np.clip(np.ceil(longest / (0.6 * step)).astype(int), 1, 64)
    for n in np.unique(parts).tolist():
        some = corner[parts == n]
        for i in range(n + 1):
            for j in range(n + 1 - i):
                place = some[:, 0] + (some[:, 1] - some[:, 0]) * (i / n) + (some[:, 2] - some[:, 0]) * (j / n)
                at = np.rint((place - origin) / step).astype(int)
                near[at[:, 0], at[:, 1], at[:, 2]] = True
    return near


def _reached(free: np.ndarray) -> np.ndarray:  # type: ignore[type-arg]
    """Free cells that hang together with the corner of the box."""
    labels, _ = ndimage.label(free)
    return np.asarray(labels == labels[0, 0, 0])


def smoothed(points: Floats, triangles: Ints, rounds: int) -> Floats:
    """Points smoothed without shrinking (G. Taubin, "A signal processing approach to fair surface design", 1995)."""
    ends = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    n = len(points)
    near = sparse.coo_array((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), shape=(n, n)).tocsr()
    near = near + near.T
    count = np.maximum(np.asarray(near.sum(axis=1)).ravel(), 1)[:, None]
    for _ in range(rounds):
        for step in (0.55, -0.57):
            points = points + step * (near @ points / count - points)
    return points


def _outward(points: Floats, triangles: Ints) -> Ints:
    """Triangles run so that the enclosed volume is positive."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return triangles[:, ::-1].copy() if float((np.cross(a, b) * c).sum()) < 0 else triangles
