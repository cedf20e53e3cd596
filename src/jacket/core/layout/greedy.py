"""The first layout: largest first, each in the lowest free place, the best scale by bisection.

It is valid by construction: outlines are masks widened by half the margin, and no two masks share a cell.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.layout.masks import Mask, island_mask, turned_mask
from jacket.core.mesh.polymesh import Floats
from jacket.progress import Progress, silent

MANY = 200
CELLS = 384
"""Along a sheet's longer side. Coarse on purpose: the search makes up for what cells waste, and quicker than finer cells do."""
MIDDLES = 0.7
"""Cells by which masks reach less far where cells count by their middles: all but what makes disjoint masks keep the margin."""


@dataclass(frozen=True, eq=False)
class Lay:
    """middle (N, 2) in pixels and turn (N,) in radians of outlines on one sheet, at a scale."""

    middle: Floats
    turn: Floats
    scale: float


class Greedy:
    """A grid of square cells over a sheet of `size` pixels.

    outlines  (S, 2, 2) segments of each, about the origin, at scale 1
    turns     by how many parts of a turn each may be turned (N,)
    stay      outlines in pixels of the sheet that are there already
    close     whether cells count by their middles: denser, but neighbours may lie up to a cell too near, and are to be parted
    order     in which they are laid; largest first unless given
    """

    def __init__(
        self, outlines: Sequence[Floats], areas: Floats, size: Floats, margin: float, edge: float, turns: Sequence[int],
        stay: Sequence[Floats] = (), close: bool = False, order: NDArray[np.signedinteger] | None = None,
    ) -> None:  # fmt: skip
        self.outlines, self.areas = [np.ascontiguousarray(o) for o in outlines], areas
        self.turns = np.minimum(turns, 4) if len(self.outlines) > MANY else np.array(turns)
        long = float(size.max())
        self.cell = long / min(np.ceil(long), 640 if len(self.outlines) > 300 else CELLS)
        self.widen = margin / 2 / self.cell - (MIDDLES if close else 0.0)
        self.close = close
        # Masks are widened by half the margin; the rest keeps the full margin to the edge.
        self.inset = int(np.ceil(max(edge / self.cell - self.widen, 0) - 1e-9))
        # A side that is no whole number of cells loses the last part of one.
        self.columns, self.rows = (int(side / self.cell + 1e-9) - 2 * self.inset for side in size)
        self.start = np.zeros((max(self.rows, 0), max(self.columns, 0)), np.bool_)
        for segments in stay if self.roomy else ():
            self._occupy(segments / self.cell - self.inset)
        spans = [float(np.ptp(o.reshape(-1, 2), axis=0).max()) for o in self.outlines]
        self.order = np.argsort(-np.array(spans) * np.sqrt(areas), kind="stable") if order is None else order

    @property
    def roomy(self) -> bool:
        """Whether the margins leave any room."""
        return min(self.columns, self.rows) >= 4

    def _occupy(self, segments: Floats) -> None:
        mask = island_mask(segments, self.widen)
        x0, y0 = mask.low.astype(int)
        for r in range(mask.height):
            if 0 <= y0 + r < self.rows:
                for k in range(mask.row_start[r], mask.row_start[r + 1]):
                    self.start[y0 + r, max(x0 + mask.first[k], 0) : max(x0 + mask.last[k], 0)] = True

    def _masks(self, scale: float) -> list[list[Mask]]:
        """Masks of every outline in every turning at a scale."""
        size = scale / self.cell
        return [
            [turned_mask(o, 2 * np.pi * t / turns, size, self.widen) for t in range(turns)]
            for o, turns in zip(self.outlines, self.turns.tolist(), strict=True)
        ]

    def best(self, tries: int = 4, progress: Progress = silent) -> Lay | None:
        """The layout at the largest scale found in so many tries after the first that fits; None where nothing fits."""
        if not self.roomy:
            return None
        free = float((~self.start).sum()) * self.cell**2
        high = float(np.sqrt(free / self.areas.sum()))
        # Many lie looser at first: each try costs more then than what it gains.
        many = len(self.outlines) > MANY and not self.close
        scale, found, left = (0.68 if many else 0.8) * high, None, 2 if many else tries
        for k in range(60):
            lay = self.at(scale)
            progress(k / (k + 4), "finding a first layout")
            if lay is not None:
                found = lay
            else:
                high = scale
            if found is not None:
                left -= 1
                if left <= 0 or high / found.scale < 1.01:
                    break
            scale = (found.scale + high) / 2 if found is not None else scale * 0.88
        return found

    def at(self, scale: float) -> Lay | None:
        """A layout at a scale; None where there is none in this order."""
        if not self.roomy:
            return None
        flat = [mask for own in self._masks(scale) for mask in own]
        runs = np.cumsum([0] + [len(m.first) for m in flat])
        row_start = np.concatenate([m.row_start + at for m, at in zip(flat, runs[:-1], strict=True)])
        rows_at = np.cumsum([0] + [m.height + 1 for m in flat])
        sizes = np.array([(m.width, m.height) for m in flat])
        first, last = np.concatenate([m.first for m in flat]), np.concatenate([m.last for m in flat])
        begin = np.cumsum(self.turns) - self.turns
        laid = _lay(self.order, begin, self.turns, sizes, rows_at, row_start, first, last, self.start.copy())
        if len(laid) < len(self.order):
            return None
        low = np.array([flat[m].low for m in (begin + laid[:, 0]).tolist()])
        return Lay((laid[:, 1:] - low + self.inset) * self.cell, 2 * np.pi * laid[:, 0] / self.turns, scale)


def turn_matrix(angle: float) -> NDArray[np.float64]:
    """(2, 2) a turn in radians."""
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s], [s, c]])


@inline
def _jump_row(busy, next_busy, run_end, y):
    width = busy.shape[1]
    next_busy[y, width] = width
    run_end[y, width] = width
    for x in range(width - 1, -1, -1):
        if busy[y, x]:
            next_busy[y, x] = x
            run_end[y, x] = run_end[y, x + 1] if x + 1 < width and busy[y, x + 1] else x + 1
        else:
            next_busy[y, x] = next_busy[y, x + 1]
            run_end[y, x] = x


@inline
def _jump_tables(busy):
    """For each cell the next busy cell at or after it in its row, and where a busy run ends."""
    height, width = busy.shape
    next_busy = np.empty((height, width + 1), np.int32)
    run_end = np.empty((height, width + 1), np.int32)
    for y in range(height):
        _jump_row(busy, next_busy, run_end, y)
    return next_busy, run_end


@inline
def _lowest(next_busy, run_end, row_start, first, last, width, height, limit):
    """Lowest then leftmost place (y, x) where a mask is free and its top stays below `limit`."""
    rows, columns = next_busy.shape[0], next_busy.shape[1] - 1
    for y in range(0, min(rows, limit) - height + 1):
        x = 0
        row = 0
        clear = 0
        # Go round the rows from the one that failed last until all are clear in a row.
        while x + width <= columns and clear < height:
            hit = False
            for k in range(row_start[row], row_start[row + 1]):
                c = next_busy[y + row, x + first[k]]
                if c < x + last[k]:
                    x = run_end[y + row, c] - first[k]
                    hit = True
                    break
            if hit:
                clear = 0
                if x + width > columns:
                    break
            else:
                clear += 1
                row = row + 1 if row + 1 < height else 0
        if clear >= height:
            return y, x
    return -1, -1


@inline
def _fill(busy, next_busy, run_end, row_start, first, last, x, y):
    for r in range(len(row_start) - 1):
        for k in range(row_start[r], row_start[r + 1]):
            for c in range(x + first[k], x + last[k]):
                busy[y + r, c] = True
        _jump_row(busy, next_busy, run_end, y + r)


@kernel
def _lay(order, begin, turns, sizes, rows_at, row_start, first, last, busy):
    """(N, 3) turning, column and row of each mask in the order given, or nothing where one finds no room; mask k in turning t has width
    and height in sizes[begin[k] + t], its rows from rows_at of that on."""
    next_busy, run_end = _jump_tables(busy)
    out = np.empty((len(order), 3), np.int64)
    for k in order:
        best_top, best_x, best_y, best_turn = len(busy), 0, 0, -1
        for t in range(turns[k]):
            m = begin[k] + t
            width, height = sizes[m, 0], sizes[m, 1]
            y, x = _lowest(next_busy, run_end, row_start[rows_at[m] : rows_at[m + 1]], first, last, width, height, best_top)
            if y >= 0 and (best_turn < 0 or y + height < best_top or (y + height == best_top and x < best_x)):
                best_top, best_x, best_y, best_turn = y + height, x, y, t
        if best_turn < 0:
            return out[:0]
        m = begin[k] + best_turn
        _fill(busy, next_busy, run_end, row_start[rows_at[m] : rows_at[m + 1]], first, last, best_x, best_y)
        out[k, 0], out[k, 1], out[k, 2] = best_turn, best_x, best_y
    return out
