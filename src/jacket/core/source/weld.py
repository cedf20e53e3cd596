"""Joining points that share one position, by hashing (sorting rows is several times slower)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.mesh.unique import unique_rows


def weld_map(points: NDArray[np.float64]) -> tuple[Ints, Ints]:
    """(kept, new): indices of the first point at each position, and for every point the index of
    its representative among them. Positions must be equal to the bit (-0 counts as 0)."""
    bits = np.ascontiguousarray(points + 0.0).view(np.int64).reshape(-1, 3)
    return _weld(bits)


@kernel
def _weld(bits):
    n = len(bits)
    size = 16
    while size < 2 * n:
        size *= 2
    table = np.full(size, -1, np.int32)
    kept = np.empty(n, np.int32)
    new = np.empty(n, np.int32)
    count = 0
    for i in range(n):
        h = bits[i, 0] * np.int64(73856093) ^ bits[i, 1] * np.int64(19349663) ^ bits[i, 2] * np.int64(83492791)
        h ^= h >> 29
        h *= np.int64(0x5851F42D4C957F2D)
        h ^= h >> 32
        slot = h & (size - 1)
        while True:
            j = table[slot]
            if j < 0:
                table[slot] = count
                kept[count] = i
                new[i] = count
                count += 1
                break
            k = kept[j]
            if bits[k, 0] == bits[i, 0] and bits[k, 1] == bits[i, 1] and bits[k, 2] == bits[i, 2]:
                new[i] = j
                break
            slot = (slot + 1) & (size - 1)
    return kept[:count].copy(), new


def joined_triangles(mesh: PolyMesh) -> tuple[NDArray[np.float64], Ints]:
    """Points and triangles of a mesh with equal positions joined and faces of a repeated point dropped. (V, 3) and (T, 3)."""
    kept, new = weld_map(mesh.points)
    tri = new[mesh.triangle_points]
    return mesh.points[kept], tri[(tri[:, 0] != tri[:, 1]) & (tri[:, 1] != tri[:, 2]) & (tri[:, 2] != tri[:, 0])]


def welded_triangles(mesh: PolyMesh) -> tuple[NDArray[np.float64], Ints]:
    """Points and triangles of a mesh with equal positions joined, and faces that have no area by
    construction (a repeated point), repeats and unused points dropped. (V, 3) and (T, 3)."""
    points, tri = joined_triangles(mesh)
    canonical = np.sort(tri, axis=1).astype(np.int64)
    _, first = (
        np.unique((canonical[:, 0] << 42) + (canonical[:, 1] << 21) + canonical[:, 2], return_index=True)
        if len(points) < 2**21
        else (None, unique_rows(canonical)[0])
    )
    tri = tri[np.sort(first)]
    return compact(points, tri)


def compact(points: NDArray[np.float64], triangles: Ints) -> tuple[NDArray[np.float64], Ints]:
    """Drop points that no triangle uses."""
    used = np.zeros(len(points), bool)
    used[triangles.ravel()] = True
    new = np.cumsum(used, dtype=np.int32) - 1
    return points[used], new[triangles].astype(np.int32)
