"""A closed skin over a torn scan: what automatic quads are laid on where the scan itself is in shreds.

The space is divided into cells; what can be reached from outside without passing nearer than a radius to the scan is
outside, and the skin lies that radius in from there. It is the morphological closing of the scan (J. Serra, Image
Analysis and Mathematical Morphology, 1982), with the radius as small as still keeps the inside shut.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage, sparse

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.space.bvh import Bvh
from jacket.progress import Progress, silent

TORN_BORDERS, TORN_HANDLES = 12, 12
"""Holes, and handles that no form has, from which on a surface counts as torn."""


@dataclass(frozen=True)
class Tears:
    """Holes and handles of a surface, over all its parts."""

    borders: int
    handles: int

    @property
    def torn(self) -> bool:
        """Whether the surface is better rebuilt before quads are laid on it."""
        return self.borders > TORN_BORDERS or self.handles > TORN_HANDLES


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

    low, high = surface.points.min(axis=0), surface.points.max(axis=0)
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
    return _evened(points, triangles, 6), triangles


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


def _evened(points: Floats, triangles: Ints, rounds: int) -> Floats:
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
