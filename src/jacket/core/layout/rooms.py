"""Where on a sheet a shape would cost least: a map of what the others cover, and all places and turnings tried on it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.layout.parting import Floats, Ints, Lying, Room
from jacket.core.layout.shapes import Stock

CHOICE = 5
"""How many places are chosen from to settle at."""
NEARLY = 1.1
"""Times what a shape costs where it lies that another place may cost."""
AT_ONCE = 12
"""Places under a shape that are added up for a whole row of where it may lie before each is looked at for itself."""


class _Kept(NamedTuple):
    """What is known of shapes: where they lay (N, 6), their boxes in cells (N, 4): first row and column, how many; and from `start` (N,)
    on how deep each cell of a box lies."""

    at: Floats
    box: Ints
    start: Ints
    depth: NDArray[np.float32]


class Covered:
    """By how many pixels each middle of a cell of a sheet lies too deep in each shape. Kept by shape, so that only what has moved
    is found anew, and summed up with the weights that count for one of them."""

    def __init__(self, stock: Stock, room: Room, cell: float) -> None:
        self.stock, self.room, self.cell = stock, room, cell
        count = len(stock.radius)
        self._kept = _Kept(np.full((count, 6), np.nan), np.zeros((count, 4), np.int64), np.zeros(count, np.int64), np.zeros(0, np.float32))
        self._roomy = np.zeros(count)

    def _enlarged(self, scale: Floats) -> None:
        """Room for the boxes of larger shapes."""
        if (scale > self._roomy).any():
            self._roomy = 1.1 * scale
            sides = 2 * (self.stock.radius * self._roomy + self.room.margin.max()) / self.cell + 4
            sizes = np.minimum(sides, self.room.sizes.max() / self.cell + 2).astype(np.int64) ** 2
            at, box, *_ = self._kept
            at[:] = np.nan
            self._kept = _Kept(at, box, np.cumsum(sizes) - sizes, np.empty(int(sizes.sum()), np.float32))

    def over(self, i: int, sheet: int, weights: Floats, scale: Floats, lying: Lying) -> NDArray[np.float32]:
        """(h, w) map of a sheet in cells of what shapes other than i cover, each by its weight (N,)."""
        self._enlarged(scale)
        return np.asarray(_over(i, sheet, weights, scale, lying, self.stock, self.room, self.cell, self._kept))

    def cheapest(
        self, i: int, sheet: int, weights: Floats, scale: Floats, lying: Lying, probed: Floats, turns: Floats, flips: Floats,
        step: int, shift: float, more: float,
    ) -> Floats:  # fmt: skip
        """(T, 3) what `best_places` finds for shape i on a sheet, of what costs at most so many times what it does where it lies."""
        self._enlarged(scale)
        return np.asarray(_cheapest(
            i, sheet, weights, scale, lying, self.stock, self.room, self.cell, self._kept, probed, turns, flips, step, shift, more,
        ))  # fmt: skip


@kernel
def _over(i, sheet, weights, scale, lying, stock, room, cell, kept):
    return _summed(i, sheet, weights, scale, lying, stock, room, cell, kept)


@inline
def _summed(i, sheet, weights, scale, lying, stock, room, cell, kept):
    """What shapes other than i cover; those that have moved are looked at anew."""
    width, height = int(np.ceil(room.sizes[sheet, 0] / cell)), int(np.ceil(room.sizes[sheet, 1] / cell))
    out = np.zeros((height, width), np.float32)
    for j in range(len(scale)):
        if j == i or lying.sheet[j] != sheet:
            continue
        at = kept.at[j]
        if (
            at[0] != lying.middle[j, 0] or at[1] != lying.middle[j, 1] or at[2] != lying.turn[j] or at[3] != lying.flip[j]
            or at[4] != sheet or at[5] != scale[j]
        ):  # fmt: skip
            _cover(j, width, height, room.margin[sheet], scale[j], lying, stock, cell, kept)
            at[0], at[1], at[2] = lying.middle[j, 0], lying.middle[j, 1], lying.turn[j]
            at[3], at[4], at[5] = lying.flip[j], sheet, scale[j]
        first, left, rows, across = kept.box[j, 0], kept.box[j, 1], kept.box[j, 2], kept.box[j, 3]
        weight = np.float32(weights[j])
        for row in range(rows):
            given = kept.depth[kept.start[j] + row * across : kept.start[j] + (row + 1) * across]
            goal = out[first + row, left : left + across]
            for k in range(across):
                goal[k] += weight * given[k]
    return out


@inline
def _cover(j, width, height, margin, size, lying, stock, cell, kept):
    """Write what a shape covers, by the nearest nodes of its field."""
    reach = stock.radius[j] * size + margin
    mx, my = lying.middle[j, 0], lying.middle[j, 1]
    c, s, f = np.cos(lying.turn[j]), np.sin(lying.turn[j]), lying.flip[j]
    k = 1.0 / (size * stock.cell[j])
    rows, columns, zero = stock.rows[j], stock.columns[j], stock.offset[j]
    first, last = max(int((my - reach) / cell), 0), min(int((my + reach) / cell) + 1, height)
    left, right = max(int((mx - reach) / cell), 0), min(int((mx + reach) / cell) + 1, width)
    kept.box[j, 0], kept.box[j, 1], kept.box[j, 2], kept.box[j, 3] = first, left, max(last - first, 0), max(right - left, 0)
    at = kept.start[j]
    for row in range(first, last):
        dx, dy = (left + 0.5) * cell - mx, (row + 0.5) * cell - my
        # Half a node more, so that cutting off rounds.
        x, y = f * (c * dx + s * dy) * k - stock.low[j, 0] / stock.cell[j] + 0.5, (-s * dx + c * dy) * k - stock.low[j, 1] / stock.cell[j] + 0.5
        along, up = f * c * k * cell, -s * k * cell
        for column in range(right - left):
            p, q = x + column * along, y + column * up
            deep = 0.0
            if p >= 0.0 and q >= 0.0 and p < columns and q < rows:
                deep = max(margin - stock.values[zero + int(q) * columns + int(p)] * size, 0.0)
            kept.depth[at] = deep
            at += 1


@kernel
def _cheapest(i, sheet, weights, scale, lying, stock, room, cell, kept, probed, turns, flips, step, shift, more):
    covered = _summed(i, sheet, weights, scale, lying, stock, room, cell, kept)
    limit = np.inf
    if more < np.inf:
        limit = more * _cost_under(covered, cell, probed, lying.turn[i], lying.flip[i], lying.middle[i, 0], lying.middle[i, 1]) + 1e-6
    border = stock.border[stock.border_start[i] : stock.border_start[i + 1]] * scale[i]
    return _best_places(covered, cell, probed, border, turns, flips, room.edge[sheet], room.sizes[sheet, 0], room.sizes[sheet, 1], step, shift, limit)


@kernel
def best_places(covered, cell, places, border, turns, flips, edge, width, height, step, shift, limit):
    """(T, 3) cost and middle of the cheapest place for each turn and flip (T,): the sum of the map under `places` (P, 2). Infinite
    where there is none, or where it is not among the `CHOICE` cheapest of all turns.

    border   (B, 2) what has to lie on the sheet, `edge` from its sides
    step     cells between the places tried, the second of which lies `shift` of that beyond the first
    limit    what a place may cost: others are not looked at to the end
    """
    return _best_places(covered, cell, places, border, turns, flips, edge, width, height, step, shift, limit)


@inline
def _best_places(covered, cell, places, border, turns, flips, edge, width, height, step, shift, limit):
    out = np.empty((len(turns), 3))
    count = len(places)
    flat, tooth, wide = _combed(covered, step)
    limit = np.float32(limit)
    at = np.empty((count, 2))
    # Places whole cells apart look at the same cells about them: only the first and the last of a row or column, at the edges, differ.
    under = np.empty((3, 3, count), np.int64)
    sums = np.empty(wide + 1, np.float32)
    first = min(AT_ONCE, count)
    cheapest = np.full(CHOICE, np.float32(np.inf))
    for t in range(len(turns)):
        c, s = np.cos(turns[t]), np.sin(turns[t])
        x0, y0, x1, y1 = np.inf, np.inf, -np.inf, -np.inf
        for b in range(len(border)):
            x, y = c * border[b, 0] * flips[t] - s * border[b, 1], s * border[b, 0] * flips[t] + c * border[b, 1]
            x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x), max(y1, y)
        for p in range(count):
            at[p, 0] = (c * places[p, 0] * flips[t] - s * places[p, 1]) / cell
            at[p, 1] = (s * places[p, 0] * flips[t] + c * places[p, 1]) / cell
        out[t, 0] = np.inf
        # Never at the very edge, so that every place lies in a cell.
        left, right = max(edge, 1e-6) - x0, width - max(edge, 1e-6) - x1
        bottom, top = max(edge, 1e-6) - y0, height - max(edge, 1e-6) - y1
        if right < left or top < bottom:
            continue
        xs, ys = (left / cell, left / cell + shift * step, right / cell), (bottom / cell, bottom / cell + shift * step, top / cell)
        for p in range(count):
            for a in range(3):
                down = int(ys[a] + at[p, 1]) * wide
                for e in range(3):
                    under[a, e, p] = down + tooth[min(int(xs[e] + at[p, 0]), len(tooth) - 1)]
        across, up = _between(xs[1], xs[2], step), _between(ys[1], ys[2], step)
        best = limit
        for row in range(-1, up + 1):
            a = 0 if row < 0 else (2 if row == up else 1)
            down = row * step if a == 1 else 0
            # What lies deep is looked at for a whole row at once.
            sums[:across] = 0.0
            for p in range(first):
                there = flat[down * wide + under[a, 1, p] :]
                for e in range(across):
                    sums[e] += there[e]
            for e in range(-1, across + 1):
                side = 0 if e < 0 else (2 if e == across else 1)
                total, begin = (sums[e], first) if side == 1 else (np.float32(0.0), 0)
                if total >= best:
                    continue
                start = down * wide + (e if side == 1 else 0)
                for p in range(begin, count):
                    total += flat[start + under[a, side, p]]
                    if total >= best:
                        break
                if total < best:
                    best = total
                    out[t, 0], out[t, 1], out[t, 2] = total, (xs[side] + (e * step if side == 1 else 0)) * cell, (ys[a] + down) * cell
        # What is not among the cheapest so far need not be looked at to the end.
        if out[t, 0] < cheapest[-1]:
            cheapest[-1] = out[t, 0]
            cheapest.sort()
            limit = min(limit, cheapest[-1])
    return out


@inline
def _combed(covered, step):
    """A map with every so manieth column side by side, those from the first on before those from the second on; where each column begins,
    and how long a row is."""
    rows, columns = covered.shape
    wide = (columns - 1) // step + 1
    out, tooth = np.zeros((step, rows, wide), np.float32), np.empty(columns, np.int64)
    for column in range(columns):
        tooth[column] = (column % step) * rows * wide + column // step
        for row in range(rows):
            out[column % step, row, column // step] = covered[row, column]
    return out.ravel(), tooth, wide


@inline
def _between(first, last, step):
    """How many places lie `step` apart from the first on before the last."""
    return int(np.ceil((last - first) / step)) if last > first else 0


def probes(places: Floats, most: int, random: np.random.Generator) -> NDArray[np.float64]:
    """At most so many of the places, in an order in which the first few already tell; where there are more some may come twice."""
    count = len(places)
    return places[random.permutation(count) if count <= most else random.integers(0, count, most)]


@inline
def _cost_under(covered, cell, places, turn, flip, x, y):
    """The sum of the map under places (P, 2) of a shape that lies as given; beyond the sheet the nearest cell counts."""
    c, s = np.cos(turn), np.sin(turn)
    rows, columns = covered.shape
    total = 0.0
    for p in range(len(places)):
        px, py = places[p, 0] * flip, places[p, 1]
        column = min(max(int((x + c * px - s * py) / cell), 0), columns - 1)
        row = min(max(int((y + s * px + c * py) / cell), 0), rows - 1)
        total += covered[row, column]
    return total


def places_for(
    i: int, weights: Floats, scale: Floats, lying: Lying, known: Covered, sheets: Ints, turns: Floats, flips: Floats,
    random: np.random.Generator, better: bool = True,
) -> Floats:  # fmt: skip
    """(K, 5) the cheapest places of all for shape i, at most `CHOICE`, cheapest first: sheet, middle, turn and flip, of one for each turn
    and flip (T,) on each of some sheets; with `better` only such as cost less than the present one."""
    stock, size = known.stock, float(scale[i])
    rim = probes(stock.border[stock.border_start[i] : stock.border_start[i + 1]], 64, random)
    core = probes(stock.inside[stock.inside_start[i] : stock.inside_start[i + 1]], 32, random)
    # What lies deep tells soonest that a place is taken.
    probed = np.concatenate([core, rim]) * size
    step = min(max(round(stock.radius[i] * size / 6 / known.cell), 1), 3)
    own, out = int(lying.sheet[i]), []
    for sheet in sorted(sheets.tolist(), key=lambda k: k != own):
        # A little more than here: the map is coarse, and what is close may turn out better.
        more = NEARLY if better and sheet == own else np.inf
        found = known.cheapest(i, sheet, weights, scale, lying, probed, turns, flips, step, float(random.random()), more)
        out.append(np.column_stack([found[:, 0], np.full(len(turns), sheet), found[:, 1:], turns, flips]))
    ways = np.concatenate(out)
    ways = ways[np.argsort(ways[:, 0], kind="stable")[:CHOICE]]
    return np.ascontiguousarray(ways[np.isfinite(ways[:, 0]), 1:])
