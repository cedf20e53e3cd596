"""Overlapping outlines moved apart: a smooth energy of what lies too close, and its descent.

What lies closer than the margin costs the square of what is missing, along the border of both sides of a pair, measured in
the other's signed distance field (Imamichi, Yagiura and Nagamochi 2009 minimise penetration in the same way). Pairs carry
weights, so a search can insist on those that will not part (guided local search, Voudouris and Tsang 1999, as Egeblad,
Nielsen and Odgaard 2007 use it for nesting).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.layout.shapes import RUN, field_at

Floats = NDArray[np.float64]
Ints = NDArray[np.signedinteger]
Bools = NDArray[np.bool_]

WALL = 4.0
"""What lies over the edge counts as much as several neighbours."""
LEAP = 12.0
"""Pixels a shape goes in one step at most, so that none jumps over another."""


class Room(NamedTuple):
    """sizes (K, 2) of sheets in pixels; least distance between shapes, margin (K,), and to the edge, edge (K,)."""

    sizes: Floats
    margin: Floats
    edge: Floats


class Lying(NamedTuple):
    """How shapes lie: middle (N, 2) in pixels of its sheet, turn (N,) in radians, flip (N,) 1 or −1 where mirrored before
    turning, sheet (N,)."""

    middle: Floats
    turn: Floats
    flip: Floats
    sheet: Ints

    def copied(self) -> Lying:
        """One whose arrays may be written into."""
        return Lying(self.middle.copy(), self.turn.copy(), self.flip.copy(), self.sheet.copy())


@inline
def _apart(stock, j, x, y, around, cells, margin, scale):
    """Whether all within a circle, its middle at (x, y) in cells of the field of j, lies farther from j than the margin; it is
    `around` wide, which is so many cells."""
    rows, columns = stock.rows[j], stock.columns[j]
    if x < -cells or y < -cells or x >= columns - 1 + cells or y >= rows - 1 + cells:
        return True
    if x >= 0.0 and y >= 0.0 and x < columns - 1 and y < rows - 1:
        # A distance changes no faster than the way, but for what cells leave out.
        return margin - field_at(stock, j, x, y) * scale + around + 2.0 * stock.cell[j] * scale <= 0.0
    return False


@inline
def _one_way(i, j, weight, margin, scale, lying, stock, grad):
    """Energy of the border of i in the field of j, adding to `grad` (N, 3), and the deepest miss."""
    ci, si, fi = np.cos(lying.turn[i]), np.sin(lying.turn[i]), lying.flip[i]
    cj, sj, fj = np.cos(lying.turn[j]), np.sin(lying.turn[j]), lying.flip[j]
    rows, columns = stock.rows[j], stock.columns[j]
    h, zero = stock.cell[j], stock.offset[j]
    dx, dy = lying.middle[i, 0] - lying.middle[j, 0], lying.middle[i, 1] - lying.middle[j, 1]
    # From the frame of i to cells of j in one step.
    k = 1.0 / (scale[j] * h)
    m00 = fj * (cj * ci + sj * si) * fi * scale[i] * k
    m01 = fj * (-cj * si + sj * ci) * scale[i] * k
    m10 = (-sj * ci + cj * si) * fi * scale[i] * k
    m11 = (sj * si + cj * ci) * scale[i] * k
    ox = fj * (cj * dx + sj * dy) * k - stock.low[j, 0] / h
    oy = (-sj * dx + cj * dy) * k - stock.low[j, 1] / h
    energy, worst = 0.0, 0.0
    first_run, last_run = stock.run_start[i], stock.run_start[i + 1]
    for stretch in range(stock.stretch_start[i], stock.stretch_start[i + 1]):
        mx, my, around = stock.stretch_middle[stretch, 0], stock.stretch_middle[stretch, 1], stock.stretch_radius[stretch] * scale[i]
        if _apart(stock, j, m00 * mx + m01 * my + ox, m10 * mx + m11 * my + oy, around, around * k, margin, scale[j]):
            continue
        run = first_run + RUN * (stretch - stock.stretch_start[i])
        for r in range(run, min(run + RUN, last_run)):
            mx, my, around = stock.run_middle[r, 0], stock.run_middle[r, 1], stock.run_radius[r] * scale[i]
            if _apart(stock, j, m00 * mx + m01 * my + ox, m10 * mx + m11 * my + oy, around, around * k, margin, scale[j]):
                continue
            first = stock.border_start[i] + RUN * (r - first_run)
            for b in range(first, min(first + RUN, stock.border_start[i + 1])):
                bx, by = stock.border[b, 0], stock.border[b, 1]
                x, y = m00 * bx + m01 * by + ox, m10 * bx + m11 * by + oy
                if x < 0.0 or y < 0.0 or x >= columns - 1 or y >= rows - 1:
                    continue
                p, q = int(x), int(y)
                u, v = x - p, y - q
                n = zero + q * columns + p
                f00, f10, f01, f11 = stock.values[n], stock.values[n + 1], stock.values[n + columns], stock.values[n + columns + 1]
                low, high = f00 + u * (f10 - f00), f01 + u * (f11 - f01)
                miss = margin - (low + v * (high - low)) * scale[j]
                if miss <= 0.0:
                    continue
                worst = max(worst, miss)
                w = weight * stock.weight[b] * scale[i]
                energy += w * miss * miss
                # Slope of the distance in the world: the field is a distance, so its size cancels.
                gx = ((f10 - f00) * (1.0 - v) + (f11 - f01) * v) / h * fj
                gy = (high - low) / h
                pull = -2.0 * w * miss
                wx, wy = (cj * gx - sj * gy) * pull, (sj * gx + cj * gy) * pull
                lx, ly = bx * fi * scale[i], by * scale[i]
                px, py = ci * lx - si * ly, si * lx + ci * ly
                grad[i, 0] += wx
                grad[i, 1] += wy
                grad[i, 2] += wy * px - wx * py
                grad[j, 0] -= wx
                grad[j, 1] -= wy
                grad[j, 2] -= wy * (px + dx) - wx * (py + dy)
    return energy, worst


@inline
def _walls(i, scale, lying, stock, room, grad):
    sheet = lying.sheet[i]
    edge, width, height = room.edge[sheet], room.sizes[sheet, 0], room.sizes[sheet, 1]
    mx, my = lying.middle[i, 0], lying.middle[i, 1]
    reach = stock.radius[i] * scale + edge
    if mx > reach and my > reach and mx < width - reach and my < height - reach:
        return 0.0, 0.0
    c, s = np.cos(lying.turn[i]), np.sin(lying.turn[i])
    energy, worst = 0.0, 0.0
    for b in range(stock.border_start[i], stock.border_start[i + 1]):
        lx, ly = stock.border[b, 0] * lying.flip[i] * scale, stock.border[b, 1] * scale
        px, py = c * lx - s * ly, s * lx + c * ly
        x, y = mx + px, my + py
        ox = max(edge - x, 0.0) - max(x - width + edge, 0.0)
        oy = max(edge - y, 0.0) - max(y - height + edge, 0.0)
        if ox == 0.0 and oy == 0.0:
            continue
        worst = max(worst, max(abs(ox), abs(oy)))
        w = WALL * stock.weight[b] * scale
        energy += w * (ox * ox + oy * oy)
        grad[i, 0] -= 2.0 * w * ox
        grad[i, 1] -= 2.0 * w * oy
        grad[i, 2] -= 2.0 * w * (oy * px - ox * py)
    return energy, worst


@inline
def _energy(pairs, weights, active, scale, lying, stock, room, grad, share, walls):
    grad[:] = 0.0
    energy, worst = 0.0, 0.0
    for p in range(len(pairs)):
        i, j = pairs[p, 0], pairs[p, 1]
        share[p] = 0.0
        margin = room.margin[lying.sheet[i]]
        reach = stock.radius[i] * scale[i] + stock.radius[j] * scale[j] + margin
        dx, dy = lying.middle[i, 0] - lying.middle[j, 0], lying.middle[i, 1] - lying.middle[j, 1]
        if dx * dx + dy * dy > reach * reach:
            continue
        a, deep_a = _one_way(i, j, weights[p], margin, scale, lying, stock, grad)
        b, deep_b = _one_way(j, i, weights[p], margin, scale, lying, stock, grad)
        share[p] = (a + b) / weights[p]
        energy += a + b
        worst = max(worst, max(deep_a, deep_b))
    for i in range(len(active)):
        walls[i] = 0.0
        if active[i]:
            walls[i], deep = _walls(i, scale[i], lying, stock, room, grad)
            energy += walls[i]
            worst = max(worst, deep)
    return energy, worst


@kernel
def close_pairs(active, scale, lying, stock, room, slack):
    """(P, 2) pairs on one sheet whose circles come within the margin and `slack`, at least one of them active."""
    return _close_pairs(active, scale, lying, stock, room, slack)


@inline
def _close_pairs(active, scale, lying, stock, room, slack):
    n = len(active)
    count = 0
    out = np.empty((max(8 * n, 64), 2), np.int64)
    for i in range(n):
        if not active[i]:
            continue
        for j in range(n):
            if j == i or (active[j] and j < i) or lying.sheet[i] != lying.sheet[j]:
                continue
            reach = stock.radius[i] * scale[i] + stock.radius[j] * scale[j] + room.margin[lying.sheet[i]] + slack
            dx, dy = lying.middle[i, 0] - lying.middle[j, 0], lying.middle[i, 1] - lying.middle[j, 1]
            if dx * dx + dy * dy < reach * reach:
                if count == len(out):
                    wider = np.empty((2 * count, 2), np.int64)
                    wider[:count] = out
                    out = wider
                out[count, 0], out[count, 1] = min(i, j), max(i, j)
                count += 1
    return out[:count].copy()


@kernel
def descend(pairs, weights, active, turning, scale, lying, stock, room, rounds, enough):
    """Minimise the energy over active shapes, of which some are `turning` (N,), by limited-memory BFGS (Nocedal 1980), writing into `lying`; angles are counted
    in pixels at the shape's rim. Ends when nothing misses more than `enough` pixels, or when it hardly gets better.

    Returns the energy, the deepest miss, what each pair misses without its weight (P,), and what each shape misses at the
    walls (N,).
    """
    return _descend(pairs, weights, active, turning, scale, lying, stock, room, rounds, enough)


@inline
def _descend(pairs, weights, active, turning, scale, lying, stock, room, rounds, enough):
    memory = 6
    ids = np.flatnonzero(active)
    dim = 3 * len(ids)
    grad3, share, walls = np.zeros((len(active), 3)), np.zeros(len(pairs)), np.zeros(len(active))
    rim = np.empty(len(ids))
    for a in range(len(ids)):
        rim[a] = max(0.7 * stock.radius[ids[a]] * scale[ids[a]], 1e-9)
    energy, worst = _energy(pairs, weights, active, scale, lying, stock, room, grad3, share, walls)
    g, old_g, way = np.empty(dim), np.empty(dim), np.empty(dim)
    _gather(ids, rim, turning, grad3, g)
    steps, changes, rho = np.zeros((memory, dim)), np.zeros((memory, dim)), np.zeros(memory)
    alpha = np.zeros(memory)
    kept, at, slow = 0, 0, 0
    base_middle, base_turn = lying.middle.copy(), lying.turn.copy()
    for _ in range(rounds):
        if worst <= enough or slow >= 3:
            break
        way[:] = -g
        for k in range(kept):
            q = (at - 1 - k) % memory
            alpha[q] = rho[q] * np.dot(steps[q], way)
            way -= alpha[q] * changes[q]
        if kept > 0:
            q = (at - 1) % memory
            way *= 1.0 / max(rho[q] * np.dot(changes[q], changes[q]), 1e-300)
        else:
            way *= max(worst, 0.1) / max(np.sqrt(np.dot(g, g)), 1e-300)
        for k in range(kept - 1, -1, -1):
            q = (at - 1 - k) % memory
            way += (alpha[q] - rho[q] * np.dot(changes[q], way)) * steps[q]
        slope = np.dot(way, g)
        if slope >= 0.0:
            way[:] = -g
            slope = -np.dot(g, g)
            kept = 0
        if slope > -1e-14:
            break
        step = min(1.0, LEAP / max(np.max(np.abs(way)), 1e-300))
        base_middle[:] = lying.middle
        base_turn[:] = lying.turn
        old_g[:] = g
        new, deep, found = energy, worst, False
        for _try in range(10):
            _shift(ids, rim, way, step, base_middle, base_turn, lying)
            new, deep = _energy(pairs, weights, active, scale, lying, stock, room, grad3, share, walls)
            if new <= energy + 1e-4 * step * slope:
                found = True
                break
            step *= 0.4
        if not found:
            _shift(ids, rim, way, 0.0, base_middle, base_turn, lying)
            energy, worst = _energy(pairs, weights, active, scale, lying, stock, room, grad3, share, walls)
            if kept == 0:
                break
            kept = 0
            _gather(ids, rim, turning, grad3, g)
            continue
        _gather(ids, rim, turning, grad3, g)
        slow = slow + 1 if energy - new < 0.01 * energy else 0
        energy, worst = new, deep
        steps[at] = step * way
        changes[at] = g - old_g
        dot = np.dot(steps[at], changes[at])
        if dot > 1e-12:
            rho[at] = 1.0 / dot
            at = (at + 1) % memory
            kept = min(kept + 1, memory)
    return energy, worst, share, walls


@inline
def _gather(ids, rim, turning, grad3, g):
    for a in range(len(ids)):
        g[3 * a] = grad3[ids[a], 0]
        g[3 * a + 1] = grad3[ids[a], 1]
        g[3 * a + 2] = grad3[ids[a], 2] / rim[a] if turning[ids[a]] else 0.0


@inline
def _shift(ids, rim, way, step, base_middle, base_turn, lying):
    for a in range(len(ids)):
        i = ids[a]
        lying.middle[i, 0] = base_middle[i, 0] + step * way[3 * a]
        lying.middle[i, 1] = base_middle[i, 1] + step * way[3 * a + 1]
        lying.turn[i] = base_turn[i] + step * way[3 * a + 2] / rim[a]


@kernel
def settled(active, weight, turning, scale, lying, stock, room, rounds, enough, slack):
    """Active shapes moved apart as by `descend`, the pairs looked for anew where one went far: energy, deepest miss, pairs (P, 2), what
    each pair misses, and walls. weight (N, N) of pairs, or (0, 0) where all count the same."""
    return _settled(active, weight, turning, scale, lying, stock, room, rounds, enough, slack)


@inline
def _settled(active, weight, turning, scale, lying, stock, room, rounds, enough, slack):
    before = lying.middle.copy()
    while True:
        before[:] = lying.middle
        pairs = _close_pairs(active, scale, lying, stock, room, slack)
        weights = np.ones(len(pairs))
        if len(weight) > 0:
            for p in range(len(pairs)):
                weights[p] = weight[pairs[p, 0], pairs[p, 1]]
        energy, worst, share, walls = _descend(pairs, weights, active, turning, scale, lying, stock, room, rounds, enough)
        # Who went far may lie on shapes that were far away before.
        gone = 0.0
        for i in range(len(active)):
            gone = max(gone, np.hypot(lying.middle[i, 0] - before[i, 0], lying.middle[i, 1] - before[i, 1]))
        rounds -= 12
        if rounds <= 0 or 2.0 * gone <= slack:
            return energy, worst, pairs, share, walls


@kernel
def best_tried(i, places, weight, turning, scale, lying, stock, room, rounds, enough, slack):
    """Put a shape where it costs least, of where it lies and of what comes of settling from some places (K, 5): sheet, x, y, turn and
    flip; writes into `lying`."""
    active = np.zeros(len(lying.turn), np.bool_)
    active[i] = True
    best = _settled(active, weight, turning, scale, lying, stock, room, 0, enough, slack)[0]
    sheet, x, y, turn, flip = lying.sheet[i], lying.middle[i, 0], lying.middle[i, 1], lying.turn[i], lying.flip[i]
    for k in range(len(places)):
        lying.sheet[i] = int(places[k, 0])
        lying.middle[i, 0], lying.middle[i, 1], lying.turn[i], lying.flip[i] = places[k, 1], places[k, 2], places[k, 3], places[k, 4]
        energy = _settled(active, weight, turning, scale, lying, stock, room, rounds, enough, slack)[0]
        if energy < best:
            best, sheet = energy, lying.sheet[i]
            x, y, turn, flip = lying.middle[i, 0], lying.middle[i, 1], lying.turn[i], lying.flip[i]
    lying.sheet[i], lying.middle[i, 0], lying.middle[i, 1], lying.turn[i], lying.flip[i] = sheet, x, y, turn, flip
