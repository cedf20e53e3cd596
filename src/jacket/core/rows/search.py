"""Whole-number lengths of the pieces for which rings are short, found by annealing.

The objective: mean logarithm of the rings' lengths, the share of the longest, the sum of squared shares, quads crossed by
one ring twice, and what the change costs in strain.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.rows.metric import Layout, Whole
from jacket.core.rows.tmesh import HARD, TMesh

OFF = 10.0
"""What a unit out of bounds costs."""
HEAT, COLD = 0.02, 0.001
"""Temperatures at which the search begins and ends."""
LOGS, MOST, SQUARES, OWN, OVER, COUNT = 0.1, 0.5, 1.5, 0.3, 1.0, 4.0
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
    """lengths (U,) of the unknowns; the objective there; the mean square strain of a quad."""

    lengths: Whole
    score: float
    strain: float


def searched(
    net: Wiring, start: Whole, basis: Whole, form: Floats, centre: Floats, n_quads: int, steps: int, seed: int,
    strain: float, low: Whole, high: Whole,
) -> Found:  # fmt: skip
    """Lengths near `start` (U,), from `low` to `high`, by changes along `basis` (U, K), short in the metric `form`, whose energy
    about `centre` (K,) counts by `strain` per quad. The same seed gives the same lengths."""
    wires = (net.piece_chain, net.piece_side, net.piece_reverse, net.order, net.of, net.patch, net.sides, net.n_chains, net.links)
    z, score = _annealed(
        wires, start, np.ascontiguousarray(basis.T), form, centre, n_quads, steps, seed, strain / n_quads, low, high, HEAT, COLD,
    )  # fmt: skip
    away = z - centre
    return Found(start + basis @ z, float(score), float(away @ form @ away) / n_quads)


@inline
def _root(parent, x):
    while parent[x] != x:
        parent[x] = parent[parent[x]]
        x = parent[x]
    return x


@inline
def _unit(place, length, reverse, i, chain_start):
    """The unit of a chain that is the i-th of a piece."""
    if reverse:
        return chain_start + place + length - 1 - i
    return chain_start + place + i


@inline
def _measured(net, lengths, room):
    """(quads, mean log length, largest share, sum of squared shares, share crossed by itself), or quads −1 where too big."""
    chain, side, reverse, order, of, patch, sides, n_chains, links = net
    begin, place, parent, total, own_count, ua, ub = room
    # Where each piece begins on its chain, and how long chains are.
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
    if n > len(parent):
        return -1.0, 0.0, 0.0, 0.0, 0.0
    for i in range(n):
        parent[i] = i
        total[i] = 0
        own_count[i] = 0
    for k in range(len(links)):
        if links[k, 2] >= 0:
            ra = _root(parent, begin[links[k, 0]] + links[k, 1])
            rb = _root(parent, begin[links[k, 2]] + links[k, 3])
            if ra != rb:
                parent[max(ra, rb)] = min(ra, rb)
    quads, count = 0, 0
    for p in range(len(patch)):
        for k in range(2):
            # Opposite sides are walked opposite ways.
            x, left_x = patch[p, k], sides[p, k]
            y, left_y = patch[p, k + 2] + sides[p, k + 2] - 1, sides[p, k + 2]
            i = j = 0
            while left_x > 0 and left_y > 0:
                lx, ly = lengths[of[x]], lengths[of[y]]
                if i >= lx:
                    x, left_x, i = x + 1, left_x - 1, 0
                    continue
                if j >= ly:
                    y, left_y, j = y - 1, left_y - 1, 0
                    continue
                a = _unit(place[x], lx, reverse[x], i, begin[chain[x]])
                b = _unit(place[y], ly, reverse[y], ly - 1 - j, begin[chain[y]])
                ra, rb = _root(parent, a), _root(parent, b)
                if ra != rb:
                    parent[max(ra, rb)] = min(ra, rb)
                i += 1
                j += 1
    for p in range(len(patch)):
        w = 0
        for s in range(sides[p, 0]):
            w += lengths[of[patch[p, 0] + s]]
        h = 0
        for s in range(sides[p, 1]):
            h += lengths[of[patch[p, 1] + s]]
        quads += w * h
        for k in range(2):
            n_units, x = 0, patch[p, k]
            for s in range(sides[p, k]):
                l = lengths[of[x + s]]
                for i in range(l):
                    r = _root(parent, begin[chain[x + s]] + place[x + s] + i)
                    total[r] += h if k == 0 else w
                    if k == 0:
                        own_count[r] += 1
                        ua[n_units] = r
                    else:
                        ub[n_units] = r
                    n_units += 1
        for j in range(h):
            count += own_count[ub[j]]
        for i in range(w):
            own_count[ua[i]] = 0
    outside = 0
    for k in range(len(links)):
        total[_root(parent, begin[links[k, 0]] + links[k, 1])] += links[k, 4]
        outside += links[k, 4]
    rings, logs, most, squares = 0, 0.0, 0, 0.0
    everything = quads + 0.5 * outside
    for i in range(n):
        if parent[i] == i and total[i] > 0:
            rings += 1
            logs += np.log(total[i])
            most = max(most, total[i])
            squares += (0.5 * total[i] / everything) ** 2
    if rings == 0 or quads == 0:
        return 0.0, 0.0, 1.0, 1.0, 1.0
    return float(quads), logs / rings, 0.5 * most / everything, squares, count / quads


@inline
def _score(m, n_quads):
    quads, logs, most, squares, own = m
    off = abs(quads / n_quads - 1.0)
    return (
        LOGS * (logs - 0.5 * np.log(n_quads)) + MOST * most + SQUARES * squares + OWN * own
        + OVER * max(0.0, most - ENOUGH) + COUNT * max(0.0, off - SLACK)
    )  # fmt: skip


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
    units = 16 * (n_pieces + 1) + 8 * n_quads
    room = (
        np.zeros(n_chains + 1, np.int64), np.zeros(n_pieces, np.int64), np.zeros(units, np.int64), np.zeros(units, np.int64),
        np.zeros(units, np.int64), np.zeros(units, np.int64), np.zeros(units, np.int64),
    )  # fmt: skip
    z = np.zeros(k_dim, np.int64)
    grad = -(form @ centre)
    energy = -np.dot(centre, grad)
    # Until all lengths are within their bounds only these and the strain count.
    off = _shortfall(lengths, low, high)
    rows = _score(_measured(net, lengths, room), n_quads) if off == 0 else 2.0
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
        new_rows = 2.0
        if new_off == 0:
            found = _measured(net, changed, room)
            if found[0] <= 0:
                continue
            new_rows = _score(found, n_quads)
        new = new_rows + OFF * new_off + strain * (energy + more)
        if new > bound:
            continue
        score, off = new, new_off
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
