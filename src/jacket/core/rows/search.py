"""Whole-number lengths of the pieces for which rings are short, found by annealing.

The objective: mean logarithm of the rings' lengths, the share of the longest, the sum of squared shares, quads crossed by
one ring twice, and what the change costs in strain.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.rows.metric import Layout, Whole
from jacket.core.rows.tmesh import HARD, TMesh

OFF = 10.0
"""What a unit out of bounds costs."""
HEAT, WARM, COLD = 0.02, 0.01, 0.001
"""Temperatures at which the search begins, goes on and ends."""
LOGS, MOST, SQUARES, OWN, OVER, COUNT = 0.1, 0.5, 1.5, 0.3, 1.0, 4.0
"""Weights of the mean logarithm of lengths, the largest share, the sum of squared shares, the share crossed by its own ring,
the largest share over `ENOUGH`, and the number of quads being more than `SLACK` off."""
ENOUGH, SLACK = 0.08, 0.01


SHORTER = 1.0
"""By how much the mean logarithm of lengths falls in one step at most."""


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


def lowest(tm: TMesh, plan: Layout, start: Whole) -> Whole:
    """(U,) what each unknown has to be at least: a third of what it is, and 1 between two points where lines begin."""
    low = (start + 1) // 3
    for x, piece in enumerate(plan.pieces):
        chain = tm.chains[piece.chain]
        if piece.start == 0 and piece.stop == len(chain.edges) and all(kind == HARD for kind, _ in chain.ends):
            low[plan.of[x]] = max(low[plan.of[x]], 1)
    return low


@dataclass(frozen=True)
class Found:
    """lengths (U,) of the unknowns; the objective there; the mean square strain of a quad; changes (K,) along the basis."""

    lengths: Whole
    score: float
    strain: float
    change: Whole


def searched(
    net: Wiring, start: Whole, basis: Whole, form: Floats, centre: Floats, n_quads: int, steps: int, seed: int,
    strain: float, low: Whole, high: Whole, after: Whole | None = None,
) -> Found:  # fmt: skip
    """Lengths near `start` (U,), from `low` to `high`, by changes along `basis` (U, K), short in the metric `form`, whose energy
    about `centre` (K,) counts by `strain` per quad. The search begins at no change, or goes on after one (K,), less hot. The
    same seed gives the same lengths."""
    first = np.zeros(basis.shape[1], np.int64) if after is None else after
    z, score = _annealed(
        net.wires, start + basis @ first, np.ascontiguousarray(basis.T), form, centre - first, n_quads, steps, seed,
        strain / n_quads, low, high, HEAT if after is None else WARM, COLD,
    )  # fmt: skip
    z = first + z
    away = z - centre
    return Found(start + basis @ z, float(score), float(away @ form @ away) / n_quads, z)


def measured(net: Wiring, lengths: Whole, n_quads: int) -> tuple[float, float, float, float, float, float]:
    """Of lengths (U,) as far as rows go: (score, quads, mean logarithm of a ring's length, share of the longest, sum of squared
    shares, share of the quads that one ring crosses twice)."""
    found = _told(net.wires, lengths, n_quads)
    return tuple(float(x) for x in found)  # type: ignore[return-value]


@inline
def _wired(net, lengths, room):
    """Where every unit of a chain leads on each of its sides, and the number of units, or −1 where there are too many.

    `room`: begin of chains, place of pieces, and by twice the unit plus 1 on the right: where one gets to, and how many quads
    are crossed on the way; then rings, and two tables of units for counting.
    """
    chain, side, reverse, order, of, patch, sides, n_chains, links = net
    begin, place, to, cross = room[0], room[1], room[2], room[3]
    n_pieces = len(chain)
    for c in range(n_chains + 1):
        begin[c] = 0
    at = 0
    last_chain, last_side = -1, -1
    for k in range(n_pieces):
        x = order[k]
        if chain[x] != last_chain or side[x] != last_side:
            at = 0
            last_chain, last_side = chain[x], side[x]
        place[x] = at
        at += lengths[of[x]]
        begin[chain[x] + 1] = at
    for c in range(n_chains):
        begin[c + 1] += begin[c]
    n = begin[n_chains]
    if 2 * n > len(to):
        return -1
    for i in range(2 * n):
        to[i] = -1
        cross[i] = 0
    for p in range(len(patch)):
        w = h = 0
        for s in range(sides[p, 0]):
            w += lengths[of[patch[p, 0] + s]]
        for s in range(sides[p, 1]):
            h += lengths[of[patch[p, 1] + s]]
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
                    base = begin[chain[x]] + place[x]
                    a, da = (2 * (base + lx - 1 - i), -2) if reverse[x] else (2 * (base + i), 2)
                    base = begin[chain[y]] + place[y]
                    b, db = (2 * (base + j), 2) if reverse[y] else (2 * (base + ly - 1 - j), -2)
                    a += side[x]
                    b += side[y]
                    for _ in range(count):
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
    for k in range(len(links)):
        # Outside is where nothing lies yet.
        a = 2 * (begin[links[k, 0]] + links[k, 1])
        a += 1 if to[a] >= 0 else 0
        cross[a] = links[k, 4]
        if links[k, 2] >= 0:
            b = 2 * (begin[links[k, 2]] + links[k, 3])
            b += 1 if to[b] >= 0 else 0
            to[a], to[b], cross[b] = b, a, links[k, 4]
    return n


@inline
def _walked(first, ring, number, to, cross, limit):
    """Quads crossed on the way round from a unit, which is marked with the number of its ring; no further than a limit."""
    total = 0
    ring[first] = number
    for way in range(2):
        out = 2 * first + way
        while True:
            total += cross[out]
            if to[out] < 0:
                break
            unit = to[out] // 2
            if unit == first or total > limit:
                return total
            ring[unit] = number
            out = 2 * unit + 1 - to[out] % 2
    return total


@inline
def _measured(net, lengths, room, n_quads, bound, gain):
    """(score, quads, mean log length, largest share, sum of squared shares, share crossed by itself): the rows' part of the
    objective. Where it is sure to be over `bound`, something over that, and the rest is not looked at; `gain` is what short
    rings may make up for a long one."""
    chain, of, patch, sides, links = net[0], net[4], net[5], net[6], net[8]
    begin, place, to, cross, ring, own_count, begun = room
    n = _wired(net, lengths, room)
    if n < 0:
        return np.inf, 0.0, 0.0, 1.0, 1.0, 1.0
    quads = 0
    for p in range(len(patch)):
        w = h = 0
        for s in range(sides[p, 0]):
            w += lengths[of[patch[p, 0] + s]]
        for s in range(sides[p, 1]):
            h += lengths[of[patch[p, 1] + s]]
        quads += w * h
    outside = 0
    for k in range(len(links)):
        outside += links[k, 4]
    if quads == 0:
        return np.inf, 0.0, 0.0, 1.0, 1.0, 1.0
    everything = quads + 0.5 * outside
    off = COUNT * max(0.0, abs(quads / n_quads - 1.0) - SLACK)
    for i in range(n):
        ring[i] = -1
    # The share from which on one ring alone is over the bound.
    slope, room_left = MOST + OVER, bound + gain - off + OVER * ENOUGH
    limit = np.inf
    if room_left < np.inf:
        limit = 2.0 * everything * max((np.sqrt(slope * slope + 4.0 * SQUARES * max(room_left, 0.0)) - slope) / (2.0 * SQUARES), ENOUGH)
    rings, logs, most, squares = 0, 0.0, 0, 0.0
    # A ring that was too long lies mostly where it lay: begin there.
    start = begun[0] if begun[0] < n else 0
    for k in range(n):
        i = start + k if start + k < n else start + k - n
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
                begun[0] = i
                return least, float(quads), 0.0, share, squares, 1.0
    if rings == 0:
        return np.inf, 0.0, 0.0, 1.0, 1.0, 1.0
    share = 0.5 * most / everything
    score = (
        off + LOGS * (logs / rings - 0.5 * np.log(n_quads)) + MOST * share + SQUARES * squares + OVER * max(0.0, share - ENOUGH)
    )
    if score > bound:
        return score, float(quads), logs / rings, share, squares, 1.0
    own, count = own_count, 0
    for i in range(rings):
        own[i] = 0
    for p in range(len(patch)):
        for k in range(2):
            for s in range(sides[p, k]):
                x = patch[p, k] + s
                first = begin[chain[x]] + place[x]
                for i in range(first, first + lengths[of[x]]):
                    if k == 0:
                        own[ring[i]] += 1
                    else:
                        count += own[ring[i]]
        for s in range(sides[p, 0]):
            x = patch[p, 0] + s
            first = begin[chain[x]] + place[x]
            for i in range(first, first + lengths[of[x]]):
                own[ring[i]] = 0
    return score + OWN * count / quads, float(quads), logs / rings, share, squares, count / quads


@inline
def _room(n_pieces, n_chains, n_quads):
    units = 16 * (n_pieces + 1) + 8 * n_quads
    return (
        np.zeros(n_chains + 1, np.int32), np.zeros(n_pieces, np.int32), np.zeros(2 * units, np.int32), np.zeros(2 * units, np.int32),
        np.zeros(units, np.int32), np.zeros(units, np.int32), np.zeros(1, np.int32),
    )  # fmt: skip


@kernel
def _told(net, lengths, n_quads):
    return _measured(net, lengths, _room(len(net[0]), net[7], n_quads), n_quads, np.inf, 0.0)


@inline
def _shortfall(lengths, low, high):
    out = 0
    for u in range(len(lengths)):
        out += max(0, low[u] - lengths[u]) + max(0, lengths[u] - high[u])
    return out


@kernel
def _annealed(net, start, basis, form, centre, n_quads, steps, seed, strain, low, high, heat, cold):
    np.random.seed(seed)
    k_dim, n_unknown = basis.shape
    lengths = start.copy()
    n_pieces, n_chains = len(net[0]), net[7]
    room = _room(n_pieces, n_chains, n_quads)
    z = np.zeros(k_dim, np.int64)
    grad = -(form @ centre)
    energy = -np.dot(centre, grad)
    # Until all lengths are within their bounds only these and the strain count.
    off = _shortfall(lengths, low, high)
    rows, logs = 2.0, 0.5 * np.log(n_quads)
    if off == 0:
        known = _measured(net, lengths, room, n_quads, np.inf, 0.0)
        rows, logs = known[0], known[2]
    score = rows + OFF * off + strain * energy
    best, best_z = score, z.copy()
    changed = np.zeros(n_unknown, np.int64)
    for step in range(steps):
        temperature = heat * (cold / heat) ** (step / steps)
        i = np.random.randint(k_dim)
        s = 1 if np.random.random() < 0.5 else -1
        j, t = -1, 0
        if np.random.random() < 0.4:
            j = np.random.randint(k_dim)
            t = 1 if np.random.random() < 0.5 else -1
            if j == i:
                j, t = -1, 0
        more = 2.0 * s * grad[i] + form[i, i]
        if j >= 0:
            more += 2.0 * t * grad[j] + form[j, j] + 2.0 * s * t * form[i, j]
        bound = score - temperature * np.log(np.random.random() + 1e-300)
        # What the rings can gain at most is known well enough to spare most measurements.
        if off == 0 and strain * (energy + more) - 0.5 * LOGS * np.log(n_quads) > bound:
            continue
        new_off = 0
        for u in range(n_unknown):
            d = s * basis[i, u]
            if j >= 0:
                d += t * basis[j, u]
            changed[u] = lengths[u] + d
            new_off += max(0, low[u] - changed[u]) + max(0, changed[u] - high[u])
            if new_off > off:
                break
        if new_off > off:
            continue
        new_rows, new_logs = 2.0, logs
        if new_off == 0:
            # No step has been seen to shorten rings by more than that in the mean, so longer ones need not be made up for.
            gain = LOGS * (0.5 * np.log(n_quads) - logs + SHORTER)
            found = _measured(net, changed, room, n_quads, bound - strain * (energy + more), gain)
            new_rows, new_logs = found[0], found[2]
        new = new_rows + OFF * new_off + strain * (energy + more)
        if new > bound:
            continue
        score, off, logs = new, new_off, new_logs
        energy += more
        z[i] += s
        if j >= 0:
            z[j] += t
        for a in range(k_dim):
            grad[a] += s * form[i, a]
            if j >= 0:
                grad[a] += t * form[j, a]
        for u in range(n_unknown):
            lengths[u] = changed[u]
        if score < best:
            best = score
            best_z[:] = z
    return best_z, best
