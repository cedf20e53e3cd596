"""Whole-number lengths of the pieces for which rings are short, found by annealing.

The objective: mean logarithm of the rings' lengths, the share of the longest, the sum of squared shares, quads crossed by
one ring twice, and what the change costs in strain.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats
from jacket.core.rows.metric import Layout, Whole
from jacket.core.rows.tmesh import HARD, TMesh
from jacket.core.rows.wires import LOGS, Wiring, board_of, restore, rewire, rewire_all, score_of

OFF = 10.0
"""What a unit out of bounds costs."""
HEAT, WARM, COLD = 0.02, 0.01, 0.001
"""Temperatures at which the search begins, goes on and ends."""
SHORTER = 1.0
"""By how much the mean logarithm of lengths falls in one step at most."""


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
    board = board_of(net, high)
    wired = False
    z = np.zeros(k_dim, np.int64)
    grad = -(form @ centre)
    energy = -np.dot(centre, grad)
    # Until all lengths are within their bounds only these and the strain count.
    off = _shortfall(lengths, low, high)
    rows, logs = 2.0, 0.5 * np.log(n_quads)
    if off == 0:
        rewire_all(net, board, lengths)
        wired = True
        known = score_of(net, board, lengths, n_quads, np.inf, 0.0)
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
            if wired:
                rewire(net, board, changed, lengths)
            else:
                rewire_all(net, board, changed)
            found = score_of(net, board, changed, n_quads, bound - strain * (energy + more), gain)
            new_rows, new_logs = found[0], found[2]
        new = new_rows + OFF * new_off + strain * (energy + more)
        if new > bound:
            if wired:
                restore(net, board, lengths)
            continue
        wired = new_off == 0
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
