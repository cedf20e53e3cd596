"""Paths on a surface: evening, smoothing, normals."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats
from jacket.core.space.bvh import Bvh


def length_along(path: Floats) -> Floats:
    """(K,) distance from the start along a path (K, 3)."""
    steps = np.linalg.norm(np.diff(path, axis=0), axis=1)
    return np.concatenate([[0.0], np.cumsum(steps)])


def evened(path: Floats, count: int) -> Floats:
    """`count` places evenly spaced along a path, both ends included."""
    along = length_along(path)
    if along[-1] == 0:
        return np.repeat(path[:1], count, axis=0)
    wanted = np.linspace(0.0, along[-1], count)
    return np.stack([np.interp(wanted, along, path[:, k]) for k in range(3)], axis=1)


def evened_ring(ring: Floats, count: int, first: float = 0.0) -> Floats:
    """`count` places evenly spaced round a closed ring (K, 3), beginning `first` (0..1) of the way round."""
    closed = np.concatenate([ring, ring[:1]])
    along = length_along(closed)
    wanted = (np.arange(count) / count + first) % 1.0 * along[-1]
    return np.stack([np.interp(wanted, along, closed[:, k]) for k in range(3)], axis=1)


def smoothed(path: Floats, rounds: int, surface: Bvh | None = None) -> Floats:
    """A path with its jitter evened out, its ends where they were; back on the surface where one is given."""
    out = path.copy()
    for _ in range(rounds):
        if len(out) > 2:
            out[1:-1] = 0.25 * out[:-2] + 0.5 * out[1:-1] + 0.25 * out[2:]
    return surface.project(out) if surface is not None and len(out) else out


def normals_at(surface: Bvh, places: Floats) -> Floats:
    """(N, 3) unit normals of the triangles nearest to places."""
    if len(surface.triangles) == 0 or len(places) == 0:
        return np.tile([0.0, 0.0, 1.0], (len(places), 1))
    _, triangle, _ = surface.closest(places)
    a, b, c = (surface.points[surface.triangles[triangle, k]] for k in range(3))
    return unit(np.cross(b - a, c - a))


def tangents(path: Floats, closed: bool = False) -> Floats:
    """(K, 3) unit directions along a path."""
    if len(path) < 2:
        return np.tile([1.0, 0.0, 0.0], (len(path), 1))
    if closed:
        return unit(np.roll(path, -1, axis=0) - np.roll(path, 1, axis=0))
    ahead = np.concatenate([path[1:], path[-1:]])
    behind = np.concatenate([path[:1], path[:-1]])
    return unit(ahead - behind)


def tangent_frames(normals: Floats) -> tuple[Floats, Floats]:
    """(N, 3) two unit directions across each normal, the second a quarter turn counter-clockwise from the first."""
    x = np.where(np.abs(normals[:, :1]) < 0.8, [1.0, 0.0, 0.0], [0.0, 1.0, 0.0])
    x = unit(x - normals * (x * normals).sum(axis=1, keepdims=True))
    return x, np.cross(normals, x)
