"""How symmetric a source is about a plane, and the plane about which it is most so."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.source.placing import shifting
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import sample_surface
from jacket.errors import MeshError
from jacket.progress import Progress, silent


@dataclass(frozen=True, eq=False)
class Plane:
    """Points x with normal · x = offset; `mean` is the mean distance of mirrored samples to the surface, in %
    of the diagonal."""

    normal: Floats
    offset: float
    mean: float = float("nan")

    def mirrored(self, points: Floats) -> Floats:
        """(N, 3) points on the other side."""
        return points - 2.0 * (points @ self.normal - self.offset)[:, None] * self.normal


def difference(mesh: PolyMesh, surface: Bvh, plane: Plane) -> NDArray[np.float64]:
    """(V,) distance of each mirrored point to the surface, in % of the diagonal."""
    return surface.closest(plane.mirrored(mesh.points))[2] / max(mesh.diagonal, 1e-300) * 100.0


def axis_plane(axis: str) -> Plane:
    """The plane through the origin across x, y or z."""
    normal = np.zeros(3)
    normal["xyz".index(axis)] = 1.0
    return Plane(normal, 0.0)


def find_plane(mesh: PolyMesh, surface: Bvh, progress: Progress = silent, samples: int = 1500) -> Plane:
    """The plane about which the source is most symmetric, through starts spread over the half sphere.

    Each start is improved by turns of closest points and the best reflection for the pairs: with the
    symmetrised covariance A of points and partners its normal is the eigenvector of the least eigenvalue
    (closest points: Besl and McKay 1992).
    """
    points = sample_surface(mesh.points, mesh.triangle_points, samples)
    if len(points) < 8:
        raise MeshError("The source is too small for a mirror plane to be found.")
    middle = points.mean(axis=0)
    axes = np.linalg.eigh(np.cov((points - middle).T))[1].T
    k = np.arange(24) + 0.5
    lift, turn = k / 24, k * np.pi * (3 - np.sqrt(5))
    spread = np.stack([np.sqrt(1 - lift**2) * np.cos(turn), np.sqrt(1 - lift**2) * np.sin(turn), lift], axis=1)
    starts = np.concatenate([np.eye(3), axes, spread])
    few = points[:: max(1, len(points) // 300)]
    first = sorted((_improved(Plane(n, float(middle @ n)), few, surface, 6, mesh.diagonal) for n in starts),
                   key=lambda p: p.mean)  # fmt: skip
    best = None
    for i, plane in enumerate(first[:5]):
        progress(i / 5, "looking for the mirror plane")
        better = _improved(plane, points, surface, 25, mesh.diagonal)
        if best is None or better.mean < best.mean - 1e-9:
            best = better
    assert best is not None
    return best


def _improved(plane: Plane, points: Floats, surface: Bvh, rounds: int, diagonal: float) -> Plane:
    kept = plane
    for _ in range(rounds):
        partner, _, far = surface.closest(plane.mirrored(points))
        mean = float(far.mean()) / max(diagonal, 1e-300) * 100.0
        if not mean >= kept.mean:
            kept = Plane(plane.normal, plane.offset, mean)
        # Pairs far apart belong to what is not symmetric at all.
        near = far <= max(float(np.percentile(far, 80)), 1e-12 * diagonal)
        p, q = points[near], partner[near]
        a = (p - p.mean(axis=0)).T @ (q - q.mean(axis=0))
        values, vectors = np.linalg.eigh((a + a.T) / 2)
        del values
        normal = vectors[:, 0]
        if normal @ plane.normal < 0:
            normal = -normal
        new = Plane(normal, float(normal @ (p.mean(axis=0) + q.mean(axis=0)) / 2))
        if np.allclose(new.normal, plane.normal, atol=1e-12) and abs(new.offset - plane.offset) < 1e-12 * diagonal:
            break
        plane = new
    return kept


def plane_to_x(plane: Plane) -> NDArray[np.float64]:
    """(4, 4) the smallest move that makes a plane the plane x = 0."""
    normal = plane.normal if plane.normal[np.argmax(np.abs(plane.normal))] > 0 else -plane.normal
    x, y, z = normal
    w = np.array([[0, y, z], [-y, 0, 0], [-z, 0, 0]])
    turn = np.eye(4)
    turn[:3, :3] = np.eye(3) + w + w @ w / (1 + x) if x > -1 + 1e-12 else np.diag([-1.0, -1.0, 1.0])
    foot = plane.normal * plane.offset
    return turn @ shifting(-foot)
