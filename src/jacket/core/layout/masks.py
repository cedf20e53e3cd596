"""Islands as rows of runs on a grid, widened so that disjoint masks guarantee the margin."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel

Floats = NDArray[np.float64]
Ints = NDArray[np.signedinteger]


class Mask(NamedTuple):
    """Cells of an island: row r has runs [first, last) from row_start[r] to row_start[r + 1].

    `low` (2,) is where the mask's own origin lies in the island's coordinates, in cells.
    """

    width: int
    height: int
    row_start: Ints
    first: Ints
    last: Ints
    low: Floats

    @property
    def cells(self) -> int:
        """Number of cells covered."""
        return int((self.last - self.first).sum())


def island_mask(segments: Floats, widen: float) -> Mask:
    """Cells within `widen` (in cells) of an island given by its border segments (S, 2, 2) in cells.

    A cell counts when its centre is inside by winding number, or when its centre lies within
    widen + half a cell diagonal of the border: so every place within `widen` of the island is in
    a counted cell. If the masks of two islands are disjoint they are therefore at least 2 · widen
    apart, since the middle of a shorter gap would be in both.
    """
    width, height, row_start, first, last, low = _mask(np.ascontiguousarray(segments), 1.0, 0.0, float(widen))
    return Mask(width, height, row_start, first, last, low)


def turned_mask(segments: Floats, turn: float, size: float, widen: float) -> Mask:
    """The mask of an island turned by `turn` radians and `size` times as large."""
    width, height, row_start, first, last, low = _mask(segments, size * np.cos(turn), size * np.sin(turn), widen)
    return Mask(width, height, row_start, first, last, low)


@kernel
def _mask(segments, c, s, widen):
    laid = np.empty_like(segments)
    x0, y0, x1, y1 = np.inf, np.inf, -np.inf, -np.inf
    for k in range(len(segments)):
        for e in range(2):
            x, y = c * segments[k, e, 0] - s * segments[k, e, 1], s * segments[k, e, 0] + c * segments[k, e, 1]
            laid[k, e, 0], laid[k, e, 1] = x, y
            x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x), max(y1, y)
    low = np.array([np.floor(x0 - widen - 1), np.floor(y0 - widen - 1)])
    width, height = int(np.ceil(x1 + widen + 1) - low[0]), int(np.ceil(y1 + widen + 1) - low[1])
    for k in range(len(segments)):
        for e in range(2):
            laid[k, e, 0] -= low[0]
            laid[k, e, 1] -= low[1]
    grid = _raster(laid, widen, width, height)
    r0, r1, c0, c1 = height, -1, width, -1
    for row in range(height):
        for column in range(width):
            if grid[row, column]:
                r0, r1, c0, c1 = min(r0, row), max(r1, row), min(c0, column), max(c1, column)
    grid = grid[r0 : r1 + 1, c0 : c1 + 1].copy()
    low[0] += c0
    low[1] += r0
    row_start, first, last = _runs(grid)
    return c1 - c0 + 1, r1 - r0 + 1, row_start, first, last, low


@inline
def _raster(segments, widen, width, height):
    grid = np.zeros((height, width), np.bool_)
    wind = np.zeros((height, width + 1), np.int32)
    reach = widen + 0.7072
    for s in range(len(segments)):
        ax, ay, bx, by = segments[s, 0, 0], segments[s, 0, 1], segments[s, 1, 0], segments[s, 1, 1]
        dx, dy = bx - ax, by - ay
        length2 = dx * dx + dy * dy
        y0 = max(int(min(ay, by) - reach - 1), 0)
        y1 = min(int(max(ay, by) + reach + 1), height - 1)
        for y in range(y0, y1 + 1):
            cy = y + 0.5
            # The part of the segment within reach of this row bounds the columns to look at.
            t0, t1 = 0.0, 1.0
            if dy != 0.0:
                p, q = (cy - reach - ay) / dy, (cy + reach - ay) / dy
                t0, t1 = max(min(p, q), 0.0), min(max(p, q), 1.0)
                if t0 > t1:
                    continue
            xa, xb = ax + t0 * dx, ax + t1 * dx
            x0 = max(int(min(xa, xb) - reach - 1), 0)
            x1 = min(int(max(xa, xb) + reach + 1), width - 1)
            for x in range(x0, x1 + 1):
                cx = x + 0.5
                t = 0.0
                if length2 > 0.0:
                    t = min(max(((cx - ax) * dx + (cy - ay) * dy) / length2, 0.0), 1.0)
                ex, ey = ax + t * dx - cx, ay + t * dy - cy
                if ex * ex + ey * ey <= reach * reach:
                    grid[y, x] = True
        # Winding: crossings of each row's centre line, counted to the right of the crossing.
        low, high = min(ay, by), max(ay, by)
        for y in range(max(int(np.ceil(low - 0.5)), 0), min(int(np.ceil(high - 0.5)), height)):
            x = ax + (y + 0.5 - ay) / dy * dx
            column = min(max(int(np.ceil(x - 0.5)), 0), width)
            wind[y, column] += 1 if dy > 0 else -1
    for y in range(height):
        total = 0
        for x in range(width):
            total += wind[y, x]
            if total != 0:
                grid[y, x] = True
    return grid


@inline
def _runs(grid):
    height, width = grid.shape
    row_start = np.zeros(height + 1, np.int32)
    count = 0
    for y in range(height):
        for x in range(width):
            if grid[y, x] and (x == 0 or not grid[y, x - 1]):
                count += 1
        row_start[y + 1] = count
    first = np.empty(count, np.int32)
    last = np.empty(count, np.int32)
    k = 0
    for y in range(height):
        for x in range(width):
            if grid[y, x] and (x == 0 or not grid[y, x - 1]):
                first[k] = x
            if grid[y, x] and (x == width - 1 or not grid[y, x + 1]):
                last[k] = x + 1
                k += 1
    return row_start, first, last
