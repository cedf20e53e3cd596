"""Outlines to be packed as what the search needs of them: places along the border and inside, and a signed distance field.

The field holds at any size, place and turning, so it is made once and not for every trial.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import distance_transform_edt

from jacket.core.jit import inline, kernel
from jacket.core.mesh.unique import unique_rows

Floats = NDArray[np.float64]
Ints = NDArray[np.signedinteger]

MOST_CELLS = 320
"""Cells of a field along its longer side."""


@dataclass(frozen=True, eq=False)
class Shape:
    """One outline at rest, in pixels at the reference size, its origin in the middle of its box.

    segments  (S, 2, 2) closed border, holes and several parts allowed
    area      square pixels inside
    border    (N, 2) places along it; weight (N,) the length each stands for
    inside    (M, 2) places within, for telling what it would cover
    radius    greatest distance of the border from the origin
    field     (h, w) signed distance, below 0 inside, at `low` + (column, row) · cell
    """

    segments: Floats
    area: float
    border: Floats
    weight: Floats
    inside: Floats
    radius: float
    field: NDArray[np.float32]
    low: Floats
    cell: float

    @staticmethod
    def of(segments: Floats, area: float, spacing: float, cell: float, reach: float) -> Shape:
        """Places every `spacing` and a field of cells of `cell` that is true up to `reach` outside."""
        segments = chained(np.ascontiguousarray(segments, np.float64))
        low, high = segments.min(axis=(0, 1)), segments.max(axis=(0, 1))
        cell = max(cell, float((high - low).max()) / MOST_CELLS)
        origin = low - reach - cell
        size = np.ceil((high - low + 2 * (reach + cell)) / cell).astype(int) + 1
        field = signed_distances(segments, origin, cell, int(size[0]), int(size[1]))
        border, weight = border_places(segments, spacing)
        row, column = np.nonzero(field < -0.6 * spacing)
        step = max(spacing / cell, 1.0)
        keep = ((row % step) < 1.0) & ((column % step) < 1.0)
        inside = np.stack([column[keep], row[keep]], axis=1) * cell + origin
        return Shape(segments, area, border, weight, inside, float(np.hypot(*segments.reshape(-1, 2).T).max()), field, origin, cell)


def chained(segments: Floats) -> Floats:
    """The same closed segments (S, 2, 2) in the order in which one ends where the next begins, loop after loop."""
    ids = unique_rows(segments.reshape(-1, 2))[1].reshape(-1, 2)
    return segments[_chain(np.ascontiguousarray(ids), np.argsort(ids[:, 0], kind="stable"))]


@kernel
def _chain(ids, by_start):
    count = len(ids)
    starts = ids[by_start, 0]
    done = np.zeros(count, np.bool_)
    out = np.empty(count, np.int64)
    n = 0
    for first in range(count):
        s = first
        while s >= 0 and not done[s]:
            done[s] = True
            out[n] = s
            n += 1
            k = np.searchsorted(starts, ids[s, 1])
            s = -1
            while k < count and starts[k] == ids[out[n - 1], 1]:
                if not done[by_start[k]]:
                    s = by_start[k]
                    break
                k += 1
    return out


def border_places(segments: Floats, spacing: float) -> tuple[Floats, Floats]:
    """(N, 2) places along border segments (S, 2, 2) at most `spacing` apart, corners that turn among them, and the length
    (N,) that each stands for. Short segments share places: about one a spacing is kept."""
    return _border_places(np.ascontiguousarray(segments), float(spacing))


@kernel
def _border_places(segments, spacing):
    total = 0.0
    for s in range(len(segments)):
        total += np.hypot(segments[s, 1, 0] - segments[s, 0, 0], segments[s, 1, 1] - segments[s, 0, 1])
    out = np.empty((int(total / spacing) + 2 * len(segments) + 2, 2))
    weight = np.empty(len(out))
    n = 0
    # Length run since the last place, carried on over short segments in the order they are given in.
    since = spacing
    for s in range(len(segments)):
        ax, ay, bx, by = segments[s, 0, 0], segments[s, 0, 1], segments[s, 1, 0], segments[s, 1, 1]
        length = np.hypot(bx - ax, by - ay)
        if length > spacing:
            parts = int(np.ceil(length / spacing))
            for k in range(parts):
                t = k / parts
                out[n, 0], out[n, 1] = ax + t * (bx - ax), ay + t * (by - ay)
                weight[n] = length / parts
                n += 1
            since = spacing
        else:
            # Corners are kept whatever comes before: they reach into others first.
            p = s - 1 if s > 0 else len(segments) - 1
            ux, uy = segments[p, 1, 0] - segments[p, 0, 0], segments[p, 1, 1] - segments[p, 0, 1]
            sharp = ux * (bx - ax) + uy * (by - ay) < 0.85 * np.hypot(ux, uy) * length
            if since >= spacing or (sharp and since > 0.2 * spacing):
                out[n, 0], out[n, 1] = ax, ay
                weight[n] = 0.0
                n += 1
                since = 0.0
            since += length
            weight[max(n - 1, 0)] += length
    return out[:n].copy(), weight[:n].copy()


def signed_distances(segments: Floats, low: Floats, cell: float, width: int, height: int) -> NDArray[np.float32]:
    """(height, width) distances to a closed border, below 0 inside by winding number. Exact within two cells of the border,
    from there on by the nearest such node (Felzenszwalb and Huttenlocher's transform as SciPy has it)."""
    near, inside = _near_border(np.ascontiguousarray((segments - low) / cell), width, height)
    known = np.isfinite(near)
    far, (row, column) = distance_transform_edt(~known, return_indices=True)
    whole = np.where(known, near, far + near[row, column])
    return (np.where(inside, -whole, whole) * cell).astype(np.float32)


@kernel
def _near_border(segments, width, height):
    near = np.full((height, width), np.inf)
    wind = np.zeros((height, width + 1), np.int32)
    inside = np.zeros((height, width), np.bool_)
    band = 2.0
    for s in range(len(segments)):
        ax, ay, bx, by = segments[s, 0, 0], segments[s, 0, 1], segments[s, 1, 0], segments[s, 1, 1]
        dx, dy = bx - ax, by - ay
        length2 = dx * dx + dy * dy
        for y in range(max(int(min(ay, by) - band), 0), min(int(max(ay, by) + band) + 1, height - 1) + 1):
            t0, t1 = 0.0, 1.0
            if dy != 0.0:
                p, q = (y - band - ay) / dy, (y + band - ay) / dy
                t0, t1 = max(min(p, q), 0.0), min(max(p, q), 1.0)
                if t0 > t1:
                    continue
            xa, xb = ax + t0 * dx, ax + t1 * dx
            for x in range(max(int(min(xa, xb) - band), 0), min(int(max(xa, xb) + band) + 1, width - 1) + 1):
                t = 0.0
                if length2 > 0.0:
                    t = min(max(((x - ax) * dx + (y - ay) * dy) / length2, 0.0), 1.0)
                d = np.hypot(ax + t * dx - x, ay + t * dy - y)
                if d < band and d < near[y, x]:
                    near[y, x] = d
        for y in range(max(int(np.ceil(min(ay, by))), 0), min(int(np.ceil(max(ay, by))), height)):
            column = min(max(int(np.ceil(ax + (y - ay) / dy * dx)), 0), width)
            wind[y, column] += 1 if dy > 0 else -1
    for y in range(height):
        total = 0
        for x in range(width):
            total += wind[y, x]
            inside[y, x] = total != 0
    return near, inside


RUN = 8
"""Places along a border that are looked at as one first, and runs of them that are before that."""


class Stock(NamedTuple):
    """The shapes of a packing in flat arrays, as kernels read them; places of shape k are start[k] to start[k + 1]. Border places
    stand in runs of `RUN`, each within a circle: middle (R, 2) and radius (R,); and so many runs in a stretch (S)."""

    border: Floats
    weight: Floats
    border_start: Ints
    run_middle: Floats
    run_radius: Floats
    run_start: Ints
    stretch_middle: Floats
    stretch_radius: Floats
    stretch_start: Ints
    inside: Floats
    inside_start: Ints
    values: NDArray[np.float32]
    offset: Ints
    rows: Ints
    columns: Ints
    low: Floats
    cell: Floats
    radius: Floats


@inline
def field_at(stock, k, x, y):
    """Signed distance of shape k at its own size at (x, y) in cells of its field, between the four nodes around."""
    columns, p, q = stock.columns[k], int(x), int(y)
    u, v = x - p, y - q
    n = stock.offset[k] + q * columns + p
    low = stock.values[n] + u * (stock.values[n + 1] - stock.values[n])
    high = stock.values[n + columns] + u * (stock.values[n + columns + 1] - stock.values[n + columns])
    return low + v * (high - low)


def stock_of(shapes: Sequence[Shape]) -> Stock:
    """The arrays of some shapes."""

    def starts(parts: list[int]) -> Ints:
        return np.concatenate([[0], np.cumsum(parts)]).astype(np.int64)

    def runs(places: int) -> tuple[Floats, Floats, Ints]:
        around = [_runs(s.border, places) for s in shapes]
        return np.concatenate([m for m, _ in around]), np.concatenate([r for _, r in around]), starts([len(m) for m, _ in around])

    return Stock(
        np.concatenate([s.border for s in shapes]), np.concatenate([s.weight for s in shapes]),
        starts([len(s.border) for s in shapes]), *runs(RUN), *runs(RUN * RUN), np.concatenate([s.inside for s in shapes]),
        starts([len(s.inside) for s in shapes]), np.concatenate([s.field.ravel() for s in shapes]),
        starts([s.field.size for s in shapes]), np.array([s.field.shape[0] for s in shapes]),
        np.array([s.field.shape[1] for s in shapes]), np.array([s.low for s in shapes]),
        np.array([s.cell for s in shapes], float), np.array([s.radius for s in shapes], float),
    )  # fmt: skip


def _runs(border: Floats, count: int) -> tuple[Floats, Floats]:
    """(R, 2) middles and (R,) radii of circles round runs of so many places (N, 2)."""
    parts = [border[k : k + count] for k in range(0, len(border), count)]
    middle = np.array([(p.min(axis=0) + p.max(axis=0)) / 2 for p in parts]).reshape(-1, 2)
    return middle, np.array([np.hypot(*(p - m).T).max() for p, m in zip(parts, middle, strict=True)])
