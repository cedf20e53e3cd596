"""Edges, twins and rings of a polygon mesh, derived by counting, in linear time.

A corner doubles as the half-edge that leaves it: corner `c` stands for the directed edge
from its own point to the point of the next corner in its face.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel

Ints = NDArray[np.signedinteger]


@dataclass(frozen=True, eq=False, repr=False)
class Connectivity:
    """What touches what.

    next, prev    (C,) the following and preceding corner in the same face
    edge          (C,) the undirected edge of each half-edge
    twin          (C,) the opposite half-edge; -1 on a border, -2 where an edge has three or
                  more faces or two faces that run the same way
    edge_points   (E, 2) the end points of each edge, smaller first
    edge_corner   (E,) one half-edge of each edge
    edge_uses     (E,) number of faces at each edge
    ring_start, ring   corners around each point: ring[ring_start[p] : ring_start[p + 1]]
    """

    next: Ints
    prev: Ints
    edge: Ints
    twin: Ints
    edge_points: Ints
    edge_corner: Ints
    edge_uses: Ints
    ring_start: Ints
    ring: Ints
    corners: Ints
    starts: Ints

    @property
    def n_edges(self) -> int:
        return len(self.edge_points)

    @cached_property
    def border_edges(self) -> Ints:
        """Edges with exactly one face."""
        return np.flatnonzero(self.edge_uses == 1).astype(np.int32)

    @cached_property
    def nonmanifold_edges(self) -> Ints:
        """Edges with more than two faces, or whose two faces run the same way."""
        bad = np.zeros(self.n_edges, bool)
        bad[self.edge[self.twin == -2]] = True
        return np.flatnonzero(bad).astype(np.int32)

    @cached_property
    def border_points(self) -> NDArray[np.bool_]:
        """(V,) whether a point lies on a border edge."""
        flags = np.zeros(len(self.ring_start) - 1, bool)
        flags[self.edge_points[self.border_edges].ravel()] = True
        return flags

    @cached_property
    def valence(self) -> Ints:
        """(V,) number of edges at each point."""
        return np.bincount(self.edge_points.ravel(), minlength=len(self.ring_start) - 1).astype(np.int32)

    @cached_property
    def point_edges(self) -> tuple[Ints, Ints]:
        """Edges at each point as (start (V + 1,), edge ids)."""
        flat = self.edge_points.ravel()
        order = np.argsort(flat, kind="stable")
        counts = np.bincount(flat, minlength=len(self.ring_start) - 1)
        start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
        return start, (order // 2).astype(np.int32)

    @cached_property
    def edge_keys(self) -> NDArray[np.signedinteger]:
        """(E,) sorted keys of the edges, for looking up by point pair."""
        return self.edge_points[:, 0].astype(np.int64) << 32 | self.edge_points[:, 1].astype(np.int64)

    def find_edges(self, pairs: NDArray[Any]) -> Ints:
        """Edge ids of point pairs (K, 2) in any order; -1 where there is no such edge."""
        pairs = np.sort(np.asarray(pairs, np.int64).reshape(-1, 2), axis=1)
        keys = pairs[:, 0] << 32 | pairs[:, 1]
        if self.n_edges == 0:
            return np.full(len(keys), -1, np.int32)
        at = np.minimum(np.searchsorted(self.edge_keys, keys), self.n_edges - 1)
        return np.where(self.edge_keys[at] == keys, at, -1).astype(np.int32)

    def find_edge(self, a: int, b: int) -> int:
        """Edge id between two points, or -1."""
        return int(self.find_edges(np.array([[a, b]]))[0])

    def edge_flags(self, pairs: NDArray[Any]) -> NDArray[np.bool_]:
        """(E,) flags of the edges named by point pairs; pairs that are no edge are passed over."""
        flags = np.zeros(self.n_edges, bool)
        ids = self.find_edges(pairs)
        flags[ids[ids >= 0]] = True
        return flags

    @cached_property
    def border_loops(self) -> list[Ints]:
        """Borders as cycles of half-edges, each in the direction of its faces."""
        return _border_loops(self)


def build_connectivity(corners: Ints, starts: Ints, n_points: int) -> Connectivity:
    """Derive the connectivity of faces (`corners`, `starts`) over `n_points` points."""
    nxt, prv = _next_prev(starts, len(corners))
    ring_start, ring = _rings(corners, n_points)
    edge, twin, edge_points, edge_corner, uses = _pair_half_edges(corners, nxt, prv, ring_start, ring)
    return Connectivity(nxt, prv, edge, twin, edge_points, edge_corner, uses, ring_start, ring, corners, starts)


@kernel
def _rings(corners, n_points):
    """Corners sorted by their points, by counting: (start (V + 1,), corners)."""
    start = np.zeros(n_points + 1, np.int32)
    for c in range(len(corners)):
        start[corners[c] + 1] += 1
    for p in range(n_points):
        start[p + 1] += start[p]
    ring = np.empty(len(corners), np.int32)
    fill = start[:-1].copy()
    for c in range(len(corners)):
        p = corners[c]
        ring[fill[p]] = c
        fill[p] += 1
    return start, ring


@kernel
def _next_prev(starts, n_corners):
    nxt = np.empty(n_corners, np.int32)
    prv = np.empty(n_corners, np.int32)
    for f in range(len(starts) - 1):
        a, b = starts[f], starts[f + 1]
        for c in range(a, b):
            nxt[c] = a if c == b - 1 else c + 1
            prv[c] = b - 1 if c == a else c - 1
    return nxt, prv


@kernel
def _pair_half_edges(corners, nxt, prv, ring_start, ring):
    """Edges in the order of their points (smaller, larger), found from the corners around each smaller
    point: the half-edges that leave it and those that arrive at it."""
    n = len(corners)
    edge = np.empty(n, np.int32)
    twin = np.full(n, -1, np.int32)
    edge_points = np.empty((n, 2), np.int32)
    edge_corner = np.empty(n, np.int32)
    uses = np.zeros(n, np.int32)
    most = 1
    for p in range(len(ring_start) - 1):
        most = max(most, 2 * (ring_start[p + 1] - ring_start[p]))
    other = np.empty(most, np.int32)
    half = np.empty(most, np.int32)
    count = 0
    for p in range(len(ring_start) - 1):
        k = 0
        for j in range(ring_start[p], ring_start[p + 1]):
            c = ring[j]
            q = corners[nxt[c]]
            if q >= p:
                other[k] = q
                half[k] = c
                k += 1
            before = prv[c]
            q = corners[before]
            if q > p:
                other[k] = q
                half[k] = before
                k += 1
        if k > 48:
            order = np.argsort(other[:k].astype(np.int64) * np.int64(n) + half[:k])
            other[:k] = other[:k][order]
            half[:k] = half[:k][order]
        else:
            for i in range(1, k):
                a, b = other[i], half[i]
                j = i - 1
                while j >= 0 and (other[j] > a or (other[j] == a and half[j] > b)):
                    other[j + 1] = other[j]
                    half[j + 1] = half[j]
                    j -= 1
                other[j + 1] = a
                half[j + 1] = b
        for i in range(k):
            c = half[i]
            if i == 0 or other[i] != other[i - 1]:
                edge_points[count, 0] = p
                edge_points[count, 1] = other[i]
                edge_corner[count] = c
                count += 1
            e = count - 1
            edge[c] = e
            if uses[e] == 1:
                d = edge_corner[e]
                if corners[d] != corners[c]:
                    twin[d] = c
                    twin[c] = d
                else:
                    twin[d] = -2
                    twin[c] = -2
            elif uses[e] > 1:
                twin[c] = -2
            uses[e] += 1
    for c in range(n):
        if uses[edge[c]] > 2:
            twin[c] = -2
    return edge, twin, edge_points[:count].copy(), edge_corner[:count].copy(), uses[:count].copy()


def _border_loops(topology: Connectivity) -> list[Ints]:
    flat, starts = _trace_borders(topology.next, topology.twin)
    return [flat[a:b] for a, b in itertools.pairwise(starts.tolist())]


@kernel
def _trace_borders(nxt, twin):
    """Half-edges of all borders one after another, and where each border begins. From the head of each
    border half-edge it turns about the point to the next one; at non-manifold edges a chain ends."""
    n = len(twin)
    seen = np.zeros(n, np.bool_)
    count = 0
    for c in range(n):
        count += twin[c] == -1
    flat = np.empty(count, np.int32)
    starts = np.empty(count + 1, np.int32)
    used, loops = 0, 0
    for first in range(n):
        if twin[first] != -1 or seen[first]:
            continue
        starts[loops] = used
        loops += 1
        c = first
        while c >= 0 and not seen[c]:
            seen[c] = True
            flat[used] = c
            used += 1
            d = nxt[c]
            steps = 0
            while twin[d] >= 0 and steps <= n:
                d = nxt[twin[d]]
                steps += 1
            c = d if twin[d] == -1 else -1
    starts[loops] = used
    return flat, starts[: loops + 1].copy()


def fan_triangles(starts: Ints) -> Ints:
    """(T, 3) corner indices of the fans that triangulate faces starting at `starts`."""
    return _fan(np.asarray(starts, np.int32))


@kernel
def _fan(starts):
    total = 0
    for f in range(len(starts) - 1):
        total += starts[f + 1] - starts[f] - 2
    out = np.empty((total, 3), np.int32)
    t = 0
    for f in range(len(starts) - 1):
        a = starts[f]
        for c in range(a + 1, starts[f + 1] - 1):
            out[t, 0] = a
            out[t, 1] = c
            out[t, 2] = c + 1
            t += 1
    return out


def corner_orbits(following: Ints, preceding: Ints, twin: Ints, corners: Ints) -> tuple[Ints, Ints]:
    """Number the fans of corners that half-edge twins join: (C,) fan of each corner, (P,) the
    point each fan stood at. By construction each fan is one disk or half-disk."""
    return _orbits(following, preceding, twin, corners)


@kernel
def _orbits(following, preceding, twin, corners):
    n = len(corners)
    new = np.full(n, -1, np.int32)
    origin = np.empty(n, np.int32)
    count = 0
    for c in range(n):
        if new[c] >= 0:
            continue
        d = c
        while d >= 0 and new[d] < 0:
            new[d] = count
            d = twin[preceding[d]]
        d = twin[c]
        while d >= 0:
            d = following[d]
            if new[d] >= 0:
                break
            new[d] = count
            d = twin[d]
        origin[count] = corners[c]
        count += 1
    return new, origin[:count].copy()
