"""Where on a sheet a shape would cost least: a map of what the others cover, and all places and turnings tried on it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.layout.parting import Floats, Ints, Lying, Room
from jacket.core.layout.shapes import Stock, field_at

CHOICE = 5
"""How many places are chosen from to settle at."""


class Place(NamedTuple):
    """A place for a shape: what it costs there, its sheet, middle, turn and flip."""

    cost: float
    sheet: int
    x: float
    y: float
    turn: float
    flip: float


class Covered:
    """By how many pixels each middle of a cell of a sheet lies too deep in each shape. Kept by shape, so that only what has moved
    is found anew, and summed up with the weights that count for one of them."""

    def __init__(self, stock: Stock, room: Room, cell: float) -> None:
        self.stock, self.room, self.cell = stock, room, cell
        count = len(stock.radius)
        self._at = np.full((count, 6), np.nan)
        self._box = np.zeros((count, 4), np.int64)
        self._start, self._depth = np.zeros(count, np.int64), np.zeros(0, np.float32)
        self._roomy = np.zeros(count)

    def over(self, i: int, sheet: int, weights: Floats, scale: Floats, lying: Lying) -> NDArray[np.float32]:
        """(h, w) map of a sheet in cells of what shapes other than i cover, each by its weight (N,)."""
        if (scale > self._roomy).any():
            self._roomy = 1.1 * scale
            sides = 2 * (self.stock.radius * self._roomy + self.room.margin.max()) / self.cell + 4
            sizes = np.minimum(sides, self.room.sizes.max() / self.cell + 2).astype(np.int64) ** 2
            self._start = np.cumsum(sizes) - sizes
            self._depth = np.empty(int(sizes.sum()), np.float32)
            self._at[:] = np.nan
        now = np.column_stack([lying.middle, lying.turn, lying.flip, lying.sheet, scale])
        moved = np.flatnonzero((now != self._at).any(axis=1) & (lying.sheet == sheet))
        if len(moved):
            _cover(moved, scale, lying, self.stock, self.room, self.cell, self._start, self._box, self._depth)
            self._at[moved] = now[moved]
        height, width = (int(np.ceil(side / self.cell)) for side in self.room.sizes[sheet, ::-1])
        others = np.flatnonzero(lying.sheet == sheet)
        return np.asarray(_summed(others[others != i], weights, self._start, self._box, self._depth, height, width))


@kernel
def _cover(which, scale, lying, stock, room, cell, start, box, depth):
    """Write what some shapes cover into `depth` from `start` (N,) on, in boxes (N, 4) of cells: first row and column, how many."""
    for j in which:
        sheet = lying.sheet[j]
        width, height = int(np.ceil(room.sizes[sheet, 0] / cell)), int(np.ceil(room.sizes[sheet, 1] / cell))
        margin = room.margin[sheet]
        reach = stock.radius[j] * scale[j] + margin
        mx, my = lying.middle[j, 0], lying.middle[j, 1]
        c, s, f = np.cos(lying.turn[j]), np.sin(lying.turn[j]), lying.flip[j]
        k = 1.0 / (scale[j] * stock.cell[j])
        rows, columns = stock.rows[j], stock.columns[j]
        lx, ly = stock.low[j, 0] / stock.cell[j], stock.low[j, 1] / stock.cell[j]
        first, last = max(int((my - reach) / cell), 0), min(int((my + reach) / cell) + 1, height)
        left, right = max(int((mx - reach) / cell), 0), min(int((mx + reach) / cell) + 1, width)
        box[j, 0], box[j, 1], box[j, 2], box[j, 3] = first, left, max(last - first, 0), max(right - left, 0)
        at = start[j]
        for row in range(first, last):
            dy = (row + 0.5) * cell - my
            for column in range(left, right):
                dx = (column + 0.5) * cell - mx
                x, y = f * (c * dx + s * dy) * k - lx, (-s * dx + c * dy) * k - ly
                deep = 0.0
                if x >= 0.0 and y >= 0.0 and x < columns - 1 and y < rows - 1:
                    deep = max(margin - field_at(stock, j, x, y) * scale[j], 0.0)
                depth[at] = deep
                at += 1


@kernel
def _summed(which, weights, start, box, depth, height, width):
    out = np.zeros((height, width), np.float32)
    for j in which:
        across, weight = box[j, 3], np.float32(weights[j])
        for row in range(box[j, 2]):
            given = depth[start[j] + row * across : start[j] + (row + 1) * across]
            goal = out[box[j, 0] + row, box[j, 1] : box[j, 1] + across]
            for k in range(across):
                goal[k] += weight * given[k]
    return out


@kernel
def best_places(covered, cell, places, border, turns, flips, edge, width, height, stride, shift, limit):
    """(T, 3) cost and middle of the cheapest place for each turn and flip (T,): the sum of the map under `places` (P, 2). Infinite
    where there is none, or where it is not among the `CHOICE` cheapest of all turns.

    border   (B, 2) what has to lie on the sheet, `edge` from its sides
    stride   pixels between the places tried, from `shift` on
    limit    what a place may cost: others are not looked at to the end
    """
    out = np.empty((len(turns), 3))
    at = np.empty((len(places), 2))
    cheapest = np.full(CHOICE, np.inf)
    for t in range(len(turns)):
        c, s = np.cos(turns[t]), np.sin(turns[t])
        x0, y0, x1, y1 = np.inf, np.inf, -np.inf, -np.inf
        for b in range(len(border)):
            x, y = c * border[b, 0] * flips[t] - s * border[b, 1], s * border[b, 0] * flips[t] + c * border[b, 1]
            x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x), max(y1, y)
        for p in range(len(places)):
            at[p, 0] = (c * places[p, 0] * flips[t] - s * places[p, 1]) / cell
            at[p, 1] = (s * places[p, 0] * flips[t] + c * places[p, 1]) / cell
        out[t, 0] = np.inf
        # Never at the very edge, so that every place lies in a cell.
        left, right = max(edge, 1e-6) - x0, width - max(edge, 1e-6) - x1
        bottom, top = max(edge, 1e-6) - y0, height - max(edge, 1e-6) - y1
        if right < left or top < bottom:
            continue
        across, up = int((right - left) / stride) + 1, int((top - bottom) / stride) + 1
        best = limit
        for a in range(up + 1):
            # The last one stands at the very edge, whatever the stride.
            y = min(bottom + (a + shift) * stride, top) if a > 0 else bottom
            for e in range(across + 1):
                x = min(left + (e + shift) * stride, right) if e > 0 else left
                total = 0.0
                cx, cy = x / cell, y / cell
                for p in range(len(places)):
                    total += covered[int(cy + at[p, 1]), int(cx + at[p, 0])]
                    if total >= best:
                        break
                if total < best:
                    best = total
                    out[t, 0], out[t, 1], out[t, 2] = total, x, y
        # What is not among the cheapest so far need not be looked at to the end.
        if out[t, 0] < cheapest[-1]:
            cheapest[-1] = out[t, 0]
            cheapest.sort()
            limit = min(limit, cheapest[-1])
    return out


def probes(places: Floats, most: int, random: np.random.Generator) -> NDArray[np.float64]:
    """At most so many of the places, in an order in which the first few already tell; where there are more some may come twice."""
    count = len(places)
    return places[random.permutation(count) if count <= most else random.integers(0, count, most)]


@kernel
def cost_under(covered, cell, places, turn, flip, x, y):
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
) -> list[Place]:  # fmt: skip
    """The cheapest place for shape i in each turn and flip (T,) on each of some sheets, cheapest first; with `better` only
    places that cost less than the present one."""
    stock, room, cell, size = known.stock, known.room, known.cell, float(scale[i])
    rim = probes(stock.border[stock.border_start[i] : stock.border_start[i + 1]], 64, random)
    core = probes(stock.inside[stock.inside_start[i] : stock.inside_start[i + 1]], 32, random)
    # What lies deep tells soonest that a place is taken.
    places = np.concatenate([core, rim]) * size
    border = stock.border[stock.border_start[i] : stock.border_start[i + 1]] * size
    stride = float(np.clip(stock.radius[i] * size / 6, cell, 3 * cell))
    out = []
    limit = np.inf
    x, y = lying.middle[i]
    order = sorted(sheets.tolist(), key=lambda k: k != lying.sheet[i])
    for sheet in order:
        covered = known.over(i, sheet, weights, scale, lying)
        if better and sheet == lying.sheet[i]:
            # A little more than here: the map is coarse, and what is close may turn out better.
            limit = 1.1 * cost_under(covered, cell, places, lying.turn[i], lying.flip[i], x, y) + 1e-6
        found = best_places(covered, cell, places, border, turns, flips, float(room.edge[sheet]), float(room.sizes[sheet, 0]),
                            float(room.sizes[sheet, 1]), stride, float(random.random()), float(limit))  # fmt: skip
        out += [
            Place(cost, sheet, x, y, float(t), float(f))
            for (cost, x, y), t, f in zip(found.tolist(), turns, flips, strict=True) if np.isfinite(cost)
        ]  # fmt: skip
    return sorted(out)
