"""Islands of the same shape: found by how their faces hang together and by their form, and laid point on point.

Two islands are twins when a walk over the one, face by face, can be repeated on the other (an isomorphism of their
half-edges, found as in canonical codes of planar maps, Weinberg 1966) and every edge is as long there as here, within a
tolerance. Mirrored twins are walked the other way round.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.uv.islands import Islands

TRIES = 64
"""Beginnings of a walk that are tried on the other island at most, best first."""


@dataclass(frozen=True, eq=False)
class Twins:
    """Islands that have one shape.

    islands   the first is the one the others are compared with
    mirrored  (K,) whether each is the first one's mirror image
    corners   (K, C) half-edges of each that answer to those of the first
    """

    islands: tuple[int, ...]
    mirrored: NDArray[np.bool_]
    corners: NDArray[np.signedinteger]


def find_twins(islands: Islands, tolerance: float = 0.01, mirrored: bool = True, among: Sequence[int] = ()) -> list[Twins]:
    """Groups of two or more twins, largest islands first.

    tolerance  how much lengths on the surface may differ, as a share of the island's size (√ of its area)
    mirrored   whether mirror images count
    among      the islands looked at, all mapped ones unless some are named
    """
    walked = _Walked.of(islands)
    known = [walked.island(k) for k in (among or np.flatnonzero(islands.mapped).tolist())]
    known.sort(key=lambda w: -w.size)
    groups: list[list[tuple[_Walkable, bool, Ints]]] = []
    for one in known:
        for group in groups:
            first = group[0][0]
            found = _answer(first, one, tolerance, mirrored)
            if found is not None:
                group.append((one, *found))
                break
        else:
            groups.append([(one, False, one.corners)])
    return [
        Twins(tuple(w.island for w, _, _ in g), np.array([m for _, m, _ in g]), np.array([c for _, _, c in g]))
        for g in groups if len(g) > 1
    ]  # fmt: skip


def laid_on(islands: Islands, twins: Twins, onto: int | None = None) -> Floats:
    """UVs (C, 2) with every twin laid point on point on one of them, the first unless another is named."""
    uv = islands.uv.copy()
    base = twins.islands.index(onto) if onto is not None else 0
    for k in range(len(twins.islands)):
        uv[twins.corners[k]] = islands.uv[twins.corners[base]]
    return uv


@dataclass(frozen=True, eq=False)
class _Walkable:
    """An island as a walk sees it: its half-edges by number, their neighbours in it, lengths on the surface."""

    island: int
    corners: Ints
    next: Ints
    previous: Ints
    across: Ints
    length: Floats
    diagonal: Floats
    sides: Ints
    size: float
    mark: tuple[int, ...]


@dataclass(frozen=True, eq=False)
class _Walked:
    """Half-edges (C,) of all islands as walks see them: those of an island lie together in `order`, and neighbours are numbered
    within it."""

    islands: Islands
    order: Ints
    start: Ints
    next: Ints
    previous: Ints
    across: Ints
    length: Floats
    diagonal: Floats
    sides: Ints

    @staticmethod
    def of(islands: Islands) -> _Walked:
        mesh: PolyMesh = islands.mesh
        t = mesh.topology
        labels = islands.corner_labels
        order = np.argsort(labels, kind="stable")
        start = np.searchsorted(labels[order], np.arange(islands.count + 1))
        local = np.empty(len(order), np.int64)
        local[order] = np.arange(len(order)) - start[labels[order]]
        across, length, diagonal = _neighbours(mesh.points, mesh.corners, t.next, t.twin, t.edge, islands.borders, local)
        sides = (mesh.starts[1:] - mesh.starts[:-1])[mesh.face_of_corner].astype(np.int64)
        return _Walked(islands, order, start, local[t.next], local[t.prev], across, length, diagonal, sides)

    def island(self, island: int) -> _Walkable:
        """One of them."""
        corners = self.order[self.start[island] : self.start[island + 1]]
        across, sides = self.across[corners], self.sides[corners]
        size = float(np.sqrt(max(self.islands.surface_area[island], 1e-300)))
        mark = (len(corners), int((across < 0).sum()), *np.bincount(np.minimum(sides, 9), minlength=10).tolist())
        return _Walkable(island, corners, self.next[corners], self.previous[corners], across, self.length[corners],
                         self.diagonal[corners], sides, size, mark)  # fmt: skip


@kernel
def _neighbours(points, corners, following, twin, edge, borders, local):
    """(C,) the neighbour across each half-edge within its island, −1 for none; its length, and that of the way from its
    beginning to the end of the next."""
    n = len(corners)
    across, length, diagonal = np.empty(n, np.int64), np.zeros(n), np.zeros(n)
    for c in range(n):
        across[c] = local[twin[c]] if twin[c] >= 0 and not borders[edge[c]] else -1
        a, b, d = corners[c], corners[following[c]], corners[following[following[c]]]
        for k in range(3):
            length[c] += (points[b, k] - points[a, k]) ** 2
            diagonal[c] += (points[d, k] - points[a, k]) ** 2
    return across, np.sqrt(length), np.sqrt(diagonal)


def _answer(first: _Walkable, other: _Walkable, tolerance: float, mirrored: bool) -> tuple[bool, Ints] | None:
    """Whether the other is the first's twin: mirrored or not, and its half-edges in the first's order."""
    if first.mark != other.mark or abs(first.size - other.size) > tolerance * first.size:
        return None
    limit = tolerance * first.size
    # The rarest half-edges are the best beginning: on the border where there is one, the longest of them.
    pool = np.flatnonzero(first.across < 0)
    pool = pool if len(pool) else np.arange(len(first.across))
    start = int(pool[np.argmax(first.length[pool])])
    fits = np.flatnonzero(((other.across < 0) == (first.across[start] < 0)) & (other.sides == first.sides[start])
                          & (np.abs(other.length - first.length[start]) <= limit))  # fmt: skip
    for turned in (False, True) if mirrored else (False,):
        best: tuple[float, Ints] | None = None
        # The other's half-edges whose neighbours are as long as the first's come first.
        ahead, behind = (other.next, other.previous) if not turned else (other.previous, other.next)
        unlike = (np.abs(other.length[ahead[fits]] - first.length[first.next[start]])
                  + np.abs(other.length[behind[fits]] - first.length[first.previous[start]]))  # fmt: skip
        for at in fits[np.argsort(unlike, kind="stable")][:TRIES].tolist():
            worst, match = _walk(start, at, turned, first.next, first.across, first.length, first.diagonal, first.sides,
                                 other.next, other.previous, other.across, other.length, other.diagonal, other.sides, limit)  # fmt: skip
            if worst <= limit and (best is None or worst < best[0]):
                best = worst, match
                if worst < 1e-9 * first.size:
                    break
        if best is not None:
            return turned, _corners(other, best[1], turned)
    return None


def _corners(other: _Walkable, match: Ints, turned: bool) -> Ints:
    """Corners whose points answer to one another: of a half-edge walked the other way its end is what its beginning was."""
    return np.asarray(other.corners[other.next[match] if turned else match])


@kernel
def _walk(start, at, turned, ahead, across, length, diagonal, sides, other_next, other_previous, other_across, other_length,
          other_diagonal, other_sides, limit):  # fmt: skip
    """Repeat a walk from half-edge `start` of one island from `at` of the other: the worst difference of lengths (inf where
    it cannot be repeated) and (C,) the half-edge that answers to each."""
    n = len(ahead)
    match = np.full(n, -1, np.int64)
    taken = np.zeros(n, np.bool_)
    queue = np.empty(n, np.int64)
    match[start] = at
    taken[at] = True
    queue[0] = start
    head, tail = 0, 1
    worst = 0.0
    while head < tail:
        h = queue[head]
        head += 1
        g = match[h]
        if sides[h] != other_sides[g] or (across[h] < 0) != (other_across[g] < 0):
            return np.inf, match
        # Edges and the ways from each to the end of the next: together they hold a face's form.
        d = other_diagonal[other_previous[g]] if turned else other_diagonal[g]
        worst = max(worst, max(abs(length[h] - other_length[g]), abs(diagonal[h] - d)))
        if worst > limit:
            return np.inf, match
        for way in range(2):
            if way == 0:
                h2 = ahead[h]
                g2 = other_previous[g] if turned else other_next[g]
            else:
                h2 = across[h]
                g2 = other_across[g]
                if h2 < 0:
                    continue
            if match[h2] < 0:
                if taken[g2]:
                    return np.inf, match
                match[h2] = g2
                taken[g2] = True
                queue[tail] = h2
                tail += 1
            elif match[h2] != g2:
                return np.inf, match
    if tail < n:
        return np.inf, match
    return worst, match
