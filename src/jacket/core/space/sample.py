"""Area-uniform samples of surfaces and the gaps between two surfaces."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.geometry import edge_lengths, triangle_areas
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree

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


SUSPECT = 0.5
"""Off another surface, in % of the diagonal, from which on it is asked whether a place can be seen at all."""


MOST_SUSPECT = 3000
"""Places, the farthest first, that are looked at so: where more lie far off, most of the surface does."""


def seen_gap(surface: PolyMesh, to: Bvh, rays: Callable[[], RayTree], count: int = 30_000) -> tuple[Gap, float]:
    """As `gap`, of what can be seen from outside, in % of the surface's own diagonal; and how far the farthest place lies off
    that nothing outside sees, 0 where there is none. `rays` gives the tree of the surface, asked for only where it is needed."""
    samples = sample_surface(surface.points, surface.triangle_points, count)
    size = max(surface.diagonal, 1e-300)
    far = to.closest(samples)[2] / size * 100.0
    seen = places_seen(samples, far, rays, size)
    hidden = float(far[~seen].max(initial=0.0))
    far = far[seen] if seen.any() else far
    return Gap(float(far.mean()), float(np.percentile(far, 99)), float(far.max())), hidden


def places_seen(samples: Floats, far: Floats, rays: Callable[[], RayTree], size: float) -> NDArray[np.bool_]:
    """(N,) whether places of a surface (N, 3), `far` in % off another one, can be seen from outside; near ones count as seen."""
    seen = np.ones(len(samples), bool)
    suspect = np.argsort(-far)[: min(int((far > SUSPECT).sum()), MOST_SUSPECT)]
    if len(suspect):
        seen[suspect] = ~rays().hidden(samples[suspect], size)
    return seen


NEAR = 0.6
"""So many of a layer's own middling edges away a place still counts as covered by it."""


def uncovered_share(
    points: Floats, triangles: NDArray[np.signedinteger], layers: Sequence[PolyMesh], count: int = 3000
) -> float:
    """Share 0..1 of a surface's area that lies farther from every layer than `NEAR` of that layer's edges. Sampled."""
    samples = sample_surface(points, triangles, count)
    bare = np.ones(len(samples), bool)
    for layer in layers:
        reach = NEAR * float(np.median(edge_lengths(layer)))
        bare &= Bvh.build(layer.points, layer.triangle_points).closest(samples)[2] > reach
    return float(bare.mean()) if len(bare) else 0.0
