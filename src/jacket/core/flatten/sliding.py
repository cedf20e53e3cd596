"""Sliding on the sheet: points of an edge or a loop go along the edges that lead off it to either side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh

MOST = 0.9
"""How far towards the neighbours points go at most: on them faces would have no area."""


@dataclass(frozen=True, eq=False)
class Rails:
    """Flat points (K,) that slide, and what leads from each to the left and to the right, (K, 2) on the sheet; zero where
    nothing does."""

    ids: Ints
    left: Floats
    right: Floats

    def moves(self, share: float) -> Floats:
        """(K, 2) how far each goes: towards the left by a share up to `MOST`, to the right where it is negative."""
        share = float(np.clip(share, -MOST, MOST))
        return share * self.left if share >= 0 else -share * self.right


def rails_of(mesh: PolyMesh, fans: Ints, places: Floats, edges: Ints, corner: int) -> Rails:
    """Rails of edges of one island that hang together from a corner on; `corner` is of one of them, and left is its own side.
    fans (C,) flat point of each corner, places (P, 2) where they lie. Edges that branch off are left out."""
    topology = mesh.topology
    inside = np.zeros(topology.n_edges, bool)
    inside[edges] = True
    sides = _directed(mesh, fans, np.flatnonzero(inside[topology.edge]))
    known: dict[tuple[int, int], tuple[int, int]] = {}
    start = (int(fans[corner]), int(fans[topology.next[corner]]))
    todo = [start]
    while todo:
        step = todo.pop()
        if step in known or step not in sides or step[::-1] in known:
            continue
        known[step] = sides[step]
        a, b = step
        todo += [(b, c) for c in sides.around.get(b, ()) if c != a]
        todo += [(c, a) for c in sides.around.get(a, ()) if c != b]
    lead: dict[int, tuple[list[int], list[int]]] = {}
    prev, following = topology.prev, topology.next
    on = {p for step in known for p in step}
    for (a, b), (left, right) in known.items():
        for side, c in ((0, left), (1, right)):
            if c < 0:
                continue
            # Left of a → b its own corner leads on; right of it the corner of b → a does.
            first, second = (a, b) if side == 0 else (b, a)
            for point, target in ((first, int(fans[prev[c]])), (second, int(fans[following[following[c]]]))):
                if target not in on:
                    lead.setdefault(point, ([], []))[side].append(target)
    ids = np.array(sorted(on), np.int64)
    ways = np.zeros((2, len(ids), 2))
    for k, point in enumerate(ids.tolist()):
        for side in (0, 1):
            targets = lead.get(point, ([], []))[side]
            if targets:
                ways[side, k] = places[targets].mean(axis=0) - places[point]
    return Rails(ids, ways[0], ways[1])


class _Sides(dict[tuple[int, int], tuple[int, int]]):
    """Corners left and right of edges between flat points in either direction, −1 for none."""

    around: dict[int, list[int]]


def _directed(mesh: PolyMesh, fans: Ints, corners: Ints) -> _Sides:
    out, around = _Sides(), dict[int, list[int]]()
    starts, ends = fans[corners].tolist(), fans[mesh.topology.next[corners]].tolist()
    for c, a, b in zip(corners.tolist(), starts, ends, strict=True):
        out[a, b] = (c, out.get((a, b), (-1, -1))[1])
        out[b, a] = (out.get((b, a), (-1, -1))[0], c)
        for p, q in ((a, b), (b, a)):
            row = around.setdefault(p, [])
            if q not in row:
                row.append(q)
    out.around = around
    return out


def point_rails(mesh: PolyMesh, fans: Ints, places: Floats, point: int) -> Floats:
    """(N, 2) ways from a flat point along its edges on the sheet."""
    following = mesh.topology.next
    mine = np.flatnonzero(fans == point)
    towards = np.concatenate([fans[following[mine]], fans[mesh.topology.prev[mine]]])
    return np.asarray(places[np.unique(towards)] - places[point])
