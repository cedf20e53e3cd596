"""Edges, twins and rings of a polygon mesh, derived by sorting half-edges.

A corner doubles as the half-edge that leaves it: corner `c` stands for the directed edge
from its own point to the point of the next corner in its face.
"""

from __future__ import annotations

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
    tail = corners.astype(np.int64)
    head = corners[nxt].astype(np.int64)
    keys = np.minimum(tail, head) << 32 | np.maximum(tail, head)
    order = np.argsort(keys, kind="stable").astype(np.int32)
    edge, twin, edge_corner, uses = _pair_half_edges(keys, order, corners)
    edge_points = np.stack([keys[edge_corner] >> 32, keys[edge_corner] & 0xFFFFFFFF], axis=1).astype(np.int32)
    counts = np.bincount(corners, minlength=n_points)
    ring_start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
    ring = np.argsort(corners, kind="stable").astype(np.int32)
    return Connectivity(nxt, prv, edge, twin, edge_points, edge_corner, uses, ring_start, ring, corners, starts)


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
def _pair_half_edges(keys, order, corners):
    n = len(keys)
    edge = np.empty(n, np.int32)
    twin = np.full(n, -1, np.int32)
    count = 0
    for k in range(n):
        if k == 0 or keys[order[k]] != keys[order[k - 1]]:
            count += 1
        edge[order[k]] = count - 1
    edge_corner = np.empty(count, np.int32)
    uses = np.zeros(count, np.int32)
    for k in range(n):
        c = order[k]
        e = edge[c]
        if uses[e] == 0:
            edge_corner[e] = c
        elif uses[e] == 1:
            d = edge_corner[e]
            if corners[d] != corners[c]:
                twin[d] = c
                twin[c] = d
            else:
                twin[d] = -2
                twin[c] = -2
        else:
            twin[c] = -2
        uses[e] += 1
    for c in range(n):
        if uses[edge[c]] > 2:
            twin[c] = -2
    return edge, twin, edge_corner, uses


def _border_loops(topology: Connectivity) -> list[Ints]:
    border = np.flatnonzero(topology.twin == -1)
    seen: set[int] = set()
    loops: list[Ints] = []
    for first in border.tolist():
        if first in seen:
            continue
        loop = []
        c = first
        while c >= 0 and c not in seen:
            seen.add(c)
            loop.append(c)
            c = _next_border(topology, c)
        loops.append(np.array(loop, np.int32))
    return loops


def _next_border(topology: Connectivity, corner: int) -> int:
    """The border half-edge that follows `corner`, turning about its head point."""
    c = int(topology.next[corner])
    for _ in range(len(topology.ring)):
        twin = int(topology.twin[c])
        if twin == -1:
            return c
        if twin == -2:
            return -1
        c = int(topology.next[twin])
    return -1


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
