"""The rings that lengths of the pieces make, kept while a search changes a few lengths at a time.

A chain of a T-mesh is so many units long, and a row of quads that enters a patch at a unit of one side leaves it at one of the
opposite side. So every unit leads on over both of its sides, and rings are found by walking. Units have places of their own for
as long as a chain may become, so that of a change only the patches beside the chains that it touches are wired anew.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Ints
from jacket.core.rows.metric import Layout, Whole
from jacket.core.rows.tmesh import TMesh

LOGS, MOST, SQUARES, OWN, OVER, COUNT = 0.1, 0.5, 1.5, 0.3, 3.0, 8.0
"""Weights of the mean logarithm of lengths, the largest share, the sum of squared shares, the share crossed by its own ring,
the largest share over `ENOUGH`, and the number of quads being more than `SLACK` off."""
ENOUGH, SLACK = 0.08, 0.01


@dataclass(frozen=True, eq=False)
class Wiring:
    """How units of chains follow one another over patches.

    piece_chain, piece_side, piece_reverse, of   (N,) of each piece: chain, whether on its right, walked against it, unknown
    order     (N,) pieces in the order in which they lie along the sides of chains
    patch, sides   as in `Layout`
    links     (L, 5) rows that go on outside: chain and unit where one leaves, chain and unit where it comes back or −1, and how
              many quads it crosses there
    """

    piece_chain: Ints
    piece_side: Ints
    piece_reverse: Ints
    order: Ints
    of: Ints
    patch: Ints
    sides: Ints
    n_chains: int
    links: Ints

    @property
    def wires(self) -> tuple[Any, ...]:
        """The same for kernels."""
        return (self.piece_chain, self.piece_side, self.piece_reverse, self.order, self.of, self.patch, self.sides, self.n_chains, self.links)


def wiring(tm: TMesh, plan: Layout, links: Ints | None = None) -> Wiring:
    """What the search has to know of a T-mesh."""
    chain = np.array([p.chain for p in plan.pieces], np.int32)
    right = np.array([not p.left for p in plan.pieces], np.int32)
    reverse = np.array([p.reverse for p in plan.pieces], np.int32)
    start = np.array([p.start for p in plan.pieces], np.int32)
    order = np.lexsort((start, right, chain)).astype(np.int32)
    return Wiring(chain, right, reverse, order, plan.of, plan.patch, plan.sides, len(tm.chains),
                  np.zeros((0, 5), np.int64) if links is None else links)  # fmt: skip


def measured(net: Wiring, lengths: Whole, n_quads: int) -> tuple[float, float, float, float, float, float]:
    """Of lengths (U,) as far as rows go: (score, quads, mean logarithm of a ring's length, share of the longest, sum of squared
    shares, share of the quads that one ring crosses twice)."""
    return tuple(float(x) for x in _told(net.wires, lengths, n_quads))  # type: ignore[return-value]


@kernel
def _told(net, lengths, n_quads):
    board = board_of(net, lengths)
    rewire_all(net, board, lengths)
    return score_of(net, board, lengths, n_quads, np.inf, 0.0)


# ---- the board -----------------------------------------------------------------------------------------------------
# (base, long, place, to, cross, width, height, chains_of, patches_of, touched, log, ring, own, begun)
#
# base (C + 1,)   where the units of a chain begin;  long (C,) how many it has;  place (N,) where a piece begins on its chain
# to, cross       by twice the unit, plus 1 on the right: where one gets to, as such a number, −1 for nowhere, and how many quads
#                 are crossed on the way
# width, height   (P,) of the patches
# chains_of, patches_of   of each unknown its chains, of each chain its patches: tuples (starts, items)
# touched         what the last change touched: (chains, patches, marks of chains, marks of patches, [counts and stamp])
# log             what it overwrote: (places, values of to, values of cross, widths, heights)


@inline
def board_of(net, high):
    """A board with room for lengths up to `high` (U,)."""
    chain, side, of, patch, sides, n_chains = net[0], net[1], net[4], net[5], net[6], net[7]
    n, n_patches, n_unknown = len(chain), len(patch), len(high)
    base = np.zeros(n_chains + 1, np.int32)
    room = np.zeros((n_chains, 2), np.int64)
    for x in range(n):
        room[chain[x], side[x]] += high[of[x]]
    for c in range(n_chains):
        base[c + 1] = base[c] + max(room[c, 0], room[c, 1])
    of_unknown, owner = np.zeros(n, np.int32), np.zeros(n, np.int32)
    for x in range(n):
        of_unknown[x], owner[x] = of[x], chain[x]
    chains_of = _lists(of_unknown, owner, n_unknown)
    of_patch = np.zeros(n, np.int32)
    for p in range(n_patches):
        for k in range(4):
            for s in range(sides[p, k]):
                of_patch[patch[p, k] + s] = p
    patches_of = _lists(owner, of_patch, n_chains)
    units = base[n_chains]
    touched = (np.zeros(n_chains, np.int32), np.zeros(n_patches, np.int32), np.zeros(n_chains, np.int32),
               np.zeros(n_patches, np.int32), np.zeros(4, np.int32))  # fmt: skip
    log = (np.zeros(8 * units + 8, np.int32), np.zeros(8 * units + 8, np.int32), np.zeros(8 * units + 8, np.int32),
           np.zeros(n_patches, np.int32), np.zeros(n_patches, np.int32))  # fmt: skip
    return (base, np.zeros(n_chains, np.int32), np.zeros(n, np.int32), np.full(2 * units, -1, np.int32), np.zeros(2 * units, np.int32),
            np.zeros(n_patches, np.int32), np.zeros(n_patches, np.int32), chains_of, patches_of, touched, log,
            np.zeros(units, np.int32), np.zeros(units + 1, np.int32), np.zeros(1, np.int32))  # fmt: skip


@inline
def _lists(keys, values, n):
    """(starts, items) of the different values of each key."""
    starts = np.zeros(n + 1, np.int32)
    items = np.zeros(len(keys), np.int32)
    for k in keys:
        starts[k + 1] += 1
    for k in range(n):
        starts[k + 1] += starts[k]
    at = starts[:-1].copy()
    for x in range(len(keys)):
        k = keys[x]
        known = False
        for y in range(starts[k], at[k]):
            known = known or items[y] == values[x]
        if not known:
            items[at[k]] = values[x]
            at[k] += 1
    # Values that came twice leave gaps at the ends of their lists.
    ends = at
    packed, n_packed = np.zeros(len(keys), np.int32), 0
    new = np.zeros(n + 1, np.int32)
    for k in range(n):
        for y in range(starts[k], ends[k]):
            packed[n_packed] = items[y]
            n_packed += 1
        new[k + 1] = n_packed
    return new, packed


@inline
def rewire_all(net, board, lengths):
    """Wire everything for lengths (U,)."""
    n_chains, links = net[7], net[8]
    base, to, cross, touched = board[0], board[3], board[4], board[9]
    touched[4][2] += 1
    touched[4][0] = touched[4][1] = 0
    for c in range(n_chains):
        _touch(c, board)
    _rewire(net, board, lengths)
    for k in range(len(links)):
        a = 2 * (base[links[k, 0]] + links[k, 1]) + _outer(net, links[k, 0])
        cross[a] = links[k, 4]
        if links[k, 2] >= 0:
            b = 2 * (base[links[k, 2]] + links[k, 3]) + _outer(net, links[k, 2])
            to[a], to[b], cross[b] = b, a, links[k, 4]


@inline
def _outer(net, c):
    """The side of a chain on which no piece lies."""
    chain, side = net[0], net[1]
    for x in range(len(chain)):
        if chain[x] == c and side[x] == 0:
            return 1
    return 0


@inline
def _touch(c, board):
    """Note a chain and the patches beside it as touched."""
    starts, items = board[8]
    chains, patches, chain_marks, patch_marks, counts = board[9]
    if chain_marks[c] == counts[2]:
        return
    chain_marks[c] = counts[2]
    chains[counts[0]] = c
    counts[0] += 1
    for k in range(starts[c], starts[c + 1]):
        p = items[k]
        if patch_marks[p] != counts[2]:
            patch_marks[p] = counts[2]
            patches[counts[1]] = p
            counts[1] += 1


@inline
def rewire(net, board, lengths, before):
    """Wire what differs between lengths (U,) and those `before`, and remember how it was."""
    starts, items = board[7]
    counts = board[9][4]
    counts[2] += 1
    counts[0] = counts[1] = 0
    for u in range(len(lengths)):
        if lengths[u] != before[u]:
            for k in range(starts[u], starts[u + 1]):
                _touch(items[k], board)
    _rewire(net, board, lengths)


@inline
def _placed(net, board, lengths):
    """Places of the pieces of touched chains, and how long those are."""
    side, order, of = net[1], net[3], net[4]
    long, place, first = board[1], board[2], board[9]
    for k in range(first[4][0]):
        c = first[0][k]
        at, last_side = 0, -1
        low, high = _range_of(net, c)
        for n in range(low, high):
            x = order[n]
            if side[x] != last_side:
                at, last_side = 0, side[x]
            place[x] = at
            at += lengths[of[x]]
            long[c] = at


@inline
def _range_of(net, c):
    """Where the pieces of a chain lie in `order`, which is sorted by chains."""
    chain, order = net[0], net[3]
    low, high = 0, len(order)
    while low < high:
        middle = (low + high) // 2
        if chain[order[middle]] < c:
            low = middle + 1
        else:
            high = middle
    end = low
    while end < len(order) and chain[order[end]] == c:
        end += 1
    return low, end


@inline
def _rewire(net, board, lengths):
    chain, side, reverse, _, of, patch, sides = net[0], net[1], net[2], net[3], net[4], net[5], net[6]
    base, place, to, cross, width, height = board[0], board[2], board[3], board[4], board[5], board[6]
    touched, log = board[9], board[10]
    _placed(net, board, lengths)
    n_log = 0
    for q in range(touched[4][1]):
        p = touched[1][q]
        w = h = 0
        for s in range(sides[p, 0]):
            w += lengths[of[patch[p, 0] + s]]
        for s in range(sides[p, 1]):
            h += lengths[of[patch[p, 1] + s]]
        log[3][q], log[4][q] = width[p], height[p]
        width[p], height[p] = w, h
        for k in range(2):
            far = h if k == 0 else w
            # Opposite sides are walked opposite ways.
            x, left_x = patch[p, k], sides[p, k]
            y, left_y = patch[p, k + 2] + sides[p, k + 2] - 1, sides[p, k + 2]
            i = j = 0
            while left_x > 0 and left_y > 0:
                lx, ly = lengths[of[x]], lengths[of[y]]
                count = min(lx - i, ly - j)
                if count > 0:
                    at = base[chain[x]] + place[x]
                    a, da = (2 * (at + lx - 1 - i), -2) if reverse[x] else (2 * (at + i), 2)
                    at = base[chain[y]] + place[y]
                    b, db = (2 * (at + j), 2) if reverse[y] else (2 * (at + ly - 1 - j), -2)
                    a += side[x]
                    b += side[y]
                    for _ in range(count):
                        log[0][n_log], log[1][n_log], log[2][n_log] = a, to[a], cross[a]
                        log[0][n_log + 1], log[1][n_log + 1], log[2][n_log + 1] = b, to[b], cross[b]
                        n_log += 2
                        to[a], to[b] = b, a
                        cross[a] = cross[b] = far
                        a += da
                        b += db
                    i += count
                    j += count
                if i >= lx:
                    x, left_x, i = x + 1, left_x - 1, 0
                if j >= ly:
                    y, left_y, j = y - 1, left_y - 1, 0
    touched[4][3] = n_log


@inline
def restore(net, board, before):
    """As it was before the last `rewire`, from lengths `before` (U,)."""
    to, cross, width, height, touched, log = board[3], board[4], board[5], board[6], board[9], board[10]
    for k in range(touched[4][3] - 1, -1, -1):
        a = log[0][k]
        to[a], cross[a] = log[1][k], log[2][k]
    for q in range(touched[4][1]):
        p = touched[1][q]
        width[p], height[p] = log[3][q], log[4][q]
    _placed(net, board, before)


# ---- rings -----------------------------------------------------------------------------------------------------------


@inline
def _walked(first, ring, number, to, cross, limit):
    """Quads crossed on the way round from a unit, which is marked with the number of its ring; no further than a limit."""
    total = 0
    ring[first] = number
    for way in range(2):
        out = 2 * first + way
        while True:
            total += cross[out]
            goal = to[out]
            if goal < 0:
                break
            # Shifts in place of divisions: most of a search is spent here.
            unit = goal >> 1
            if unit == first or total > limit:
                return total
            ring[unit] = number
            out = goal ^ 1
    return total


@inline
def score_of(net, board, lengths, n_quads, bound, gain):
    """(score, quads, mean log length, largest share, sum of squared shares, share crossed by itself): the rows' part of the
    objective. Where it is sure to be over `bound`, something over that, and the rest is not looked at; `gain` is what short
    rings may make up for a long one."""
    chain, of, patch, sides, n_chains, links = net[0], net[4], net[5], net[6], net[7], net[8]
    base, long, place, to, cross, width, height = board[0], board[1], board[2], board[3], board[4], board[5], board[6]
    ring, own, begun = board[11], board[12], board[13]
    quads = outside = 0
    for p in range(len(patch)):
        quads += width[p] * height[p]
    for k in range(len(links)):
        outside += links[k, 4]
    if quads == 0:
        return np.inf, 0.0, 0.0, 1.0, 1.0, 1.0
    everything = quads + 0.5 * outside
    off = COUNT * max(0.0, abs(quads / n_quads - 1.0) - SLACK)
    ring[:] = -1
    # The share from which on one ring alone is over the bound.
    slope, room_left = MOST + OVER, bound + gain - off + OVER * ENOUGH
    limit = np.inf
    if room_left < np.inf:
        limit = 2.0 * everything * max((np.sqrt(slope * slope + 4.0 * SQUARES * max(room_left, 0.0)) - slope) / (2.0 * SQUARES), ENOUGH)
    rings, logs, most, squares = 0, 0.0, 0, 0.0
    for k in range(n_chains):
        # A ring that was too long lies mostly where it lay: begin there.
        c = begun[0] + k
        c = c if c < n_chains else c - n_chains
        for i in range(base[c], base[c] + long[c]):
            if ring[i] >= 0:
                continue
            total = _walked(i, ring, rings, to, cross, limit)
            if total == 0:
                continue
            rings += 1
            logs += np.log(total)
            squares += (0.5 * total / everything) ** 2
            if total > most:
                most = total
                share = 0.5 * most / everything
                least = off + MOST * share + SQUARES * squares + OVER * max(0.0, share - ENOUGH) - gain
                if least > bound:
                    begun[0] = c
                    return least, float(quads), 0.0, share, squares, 1.0
    if rings == 0:
        return np.inf, 0.0, 0.0, 1.0, 1.0, 1.0
    share = 0.5 * most / everything
    score = (
        off + LOGS * (logs / rings - 0.5 * np.log(n_quads)) + MOST * share + SQUARES * squares + OVER * max(0.0, share - ENOUGH)
    )
    if score > bound:
        return score, float(quads), logs / rings, share, squares, 1.0
    count = 0
    own[: rings + 1] = 0
    for p in range(len(patch)):
        for k in range(2):
            for s in range(sides[p, k]):
                x = patch[p, k] + s
                first = base[chain[x]] + place[x]
                for i in range(first, first + lengths[of[x]]):
                    if k == 0:
                        own[ring[i]] += 1
                    else:
                        count += own[ring[i]]
        for s in range(sides[p, 0]):
            x = patch[p, 0] + s
            first = base[chain[x]] + place[x]
            for i in range(first, first + lengths[of[x]]):
                own[ring[i]] = 0
    return score + OWN * count / quads, float(quads), logs / rings, share, squares, count / quads
