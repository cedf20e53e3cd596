"""Area-uniform samples of surfaces and the gaps between two surfaces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.geometry import triangle_areas
from jacket.core.space.bvh import Bvh

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Gap:
    """Distances from samples of one surface to another, in % of a diagonal."""

    mean: float
    p99: float
    largest: float


def sample_surface(points: Floats, triangles: NDArray[np.signedinteger], count: int, seed: int = 7) -> Floats:
    """(count, 3) positions spread uniformly by area; seeded, so repeatable."""
    areas = triangle_areas(points, triangles)
    total = areas.sum()
    if total <= 0:
        return points[triangles[:, 0]][:count]
    rng = np.random.default_rng(seed)
    # Stratified along the summed areas: fewer clumps than independent draws.
    at = (np.arange(count) + rng.random(count)) / count * total
    which = np.minimum(np.searchsorted(np.cumsum(areas), at), len(triangles) - 1)
    u, v = rng.random(count), rng.random(count)
    over = u + v > 1
    u[over], v[over] = 1 - u[over], 1 - v[over]
    a, b, c = (points[triangles[which, k]] for k in range(3))
    return a + u[:, None] * (b - a) + v[:, None] * (c - a)


def gap(points: Floats, triangles: NDArray[np.signedinteger], to: Bvh, diagonal: float, count: int = 30_000) -> Gap:
    """How far samples of a surface lie from another, in % of `diagonal`."""
    samples = sample_surface(points, triangles, count)
    far = to.closest(samples)[2] / max(diagonal, 1e-300) * 100.0
    return Gap(float(far.mean()), float(np.percentile(far, 99)), float(far.max()))
