"""Where on a sheet a shape would cost least: a map of what the others cover, and all places and turnings tried on it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.layout.parting import Floats, Ints, Lying, Room
from jacket.core.layout.shapes import Stock


class Place(NamedTuple):
    """A place for a shape: what it costs there, its sheet, middle, turn and flip."""

    cost: float
    sheet: int
    x: float
    y: float
    turn: float
    flip: float


@kernel
def cover(i, sheet, weights, scale, lying, stock, room, cell):
    """(h, w) map of a sheet in cells: by how many pixels each middle of a cell lies too deep in shapes other than i,
    each by its weight (N,)."""
    width, height = int(np.ceil(room.sizes[sheet, 0] / cell)), int(np.ceil(room.sizes[sheet, 1] / cell))
    out = np.zeros((height, width), np.float32)
    margin = room.margin[sheet]
    for j in range(len(scale)):
        if j == i or lying.sheet[j] != sheet:
            continue
        reach = stock.radius[j] * scale[j] + margin
        mx, my = lying.middle[j, 0], lying.middle[j, 1]
        c, s, f = np.cos(lying.turn[j]), np.sin(lying.turn[j]), lying.flip[j]
        k = 1.0 / (scale[j] * stock.cell[j])
        rows, columns, zero = stock.rows[j], stock.columns[j], stock.offset[j]
        lx, ly = stock.low[j, 0] / stock.cell[j], stock.low[j, 1] / stock.cell[j]
        for row in range(max(int((my - reach) / cell), 0), min(int((my + reach) / cell) + 1, height)):
            dy = (row + 0.5) * cell - my
            for column in range(max(int((mx - reach) / cell), 0), min(int((mx + reach) / cell) + 1, width)):
                dx = (column + 0.5) * cell - mx
                x, y = f * (c * dx + s * dy) * k - lx, (-s * dx + c * dy) * k - ly
                if x < 0.0 or y < 0.0 or x >= columns - 1 or y >= rows - 1:
                    continue
                p, q = int(x), int(y)
                u, v = x - p, y - q
                n = zero + q * columns + p
                low = stock.values[n] + u * (stock.values[n + 1] - stock.values[n])
                high = stock.values[n + columns] + u * (stock.values[n + columns + 1] - stock.values[n + columns])
                miss = margin - (low + v * (high - low)) * scale[j]
                if miss > 0.0:
                    out[row, column] += np.float32(weights[j] * miss)
    return out


@kernel
def best_places(covered, cell, places, border, turns, flips, edge, width, height, stride, shift, limit):
    """(T, 3) cost and middle of the cheapest place for each turn and flip (T,): the sum of the map under `places` (P, 2).

    border   (B, 2) what has to lie on the sheet, `edge` from its sides
    stride   pixels between the places tried, from `shift` on
    limit    what a place may cost: others are not looked at to the end
    """
    out = np.empty((len(turns), 3))
    rows, columns = covered.shape
    at = np.empty((len(places), 2))
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
        left, right = edge - x0, width - edge - x1
        bottom, top = edge - y0, height - edge - y1
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
                    column = min(max(int(cx + at[p, 0]), 0), columns - 1)
                    row = min(max(int(cy + at[p, 1]), 0), rows - 1)
                    total += covered[row, column]
                    if total >= best:
                        break
                if total < best:
                    best = total
                    out[t, 0], out[t, 1], out[t, 2] = total, x, y
    return out


def probes(places: Floats, most: int, random: np.random.Generator) -> NDArray[np.float64]:
    """At most so many of the places, in an order in which the first few already tell."""
    return places[random.permutation(len(places))[:most]]


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
    i: int, weights: Floats, scale: Floats, lying: Lying, stock: Stock, room: Room, sheets: Ints, turns: Floats,
    flips: Floats, cell: float, random: np.random.Generator, better: bool = True,
) -> list[Place]:  # fmt: skip
    """The cheapest place for shape i in each turn and flip (T,) on each of some sheets, cheapest first; with `better` only
    places that cost less than the present one."""
    size = float(scale[i])
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
        covered = cover(i, sheet, weights, scale, lying, stock, room, cell)
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
