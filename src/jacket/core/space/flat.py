"""What lies at a place of the sheet: the nearest corner, the nearest side of a face, the triangle under it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats, Ints


@dataclass(frozen=True, eq=False)
class FlatGrid:
    """Triangles (T, 3) of corners over (C, 2) coordinates in square cells, for looking up what lies at a place."""

    uv: Floats
    triangles: Ints
    following: Ints
    low: Floats
    cell: float
    columns: int
    rows: int
    starts: Ints
    items: Ints

    @staticmethod
    def build(uv: Floats, triangles: Ints, following: Ints) -> FlatGrid:
        """Sort triangles into about as many cells as there are; those that are not mapped are left out. `following` (C,)
        is the corner after each in its face."""
        rows, low, high = _mapped(np.asarray(uv, np.float64), np.ascontiguousarray(triangles, np.int32))
        if len(rows) == 0:
            return FlatGrid(uv, rows, following, np.zeros(2), 1.0, 1, 1, np.zeros(2, np.int32), np.zeros(0, np.int32))
        span = np.maximum(high - low, 1e-12)
        cell = float(max(np.sqrt(span.prod() / max(len(rows), 1)), span.max() / 2000))
        columns, high_cells = (int(s / cell) + 1 for s in span)
        starts, items = _sorted_cells(uv, rows, low, cell, columns, high_cells)
        return FlatGrid(uv, rows, following, low, cell, columns, high_cells, starts, items)

    def near(self, x: float, y: float, reach: float) -> tuple[int, float, int, float, float, int]:
        """What lies at a place: the nearest corner and its distance, the nearest side within reach with the share along
        it and its distance, and the triangle the place lies in, by its first corner; −1 for none of each."""
        found = _near_in_cells(self.uv, self.triangles, self.following, self.low, self.cell, self.columns, self.rows,
                               self.starts, self.items, x, y, reach)  # fmt: skip
        corner, far, side, share, off, face = found
        return int(corner), float(far) ** 0.5, int(side), float(share), float(off) ** 0.5, int(face)


@kernel
def _mapped(uv, triangles):
    """The triangles whose corners are all mapped, and the box round them."""
    good, count = np.ones(len(triangles), np.bool_), 0
    low, high = np.full(2, np.inf), np.full(2, -np.inf)
    for t in range(len(triangles)):
        for j in range(3):
            c = triangles[t, j]
            good[t] &= np.isfinite(uv[c, 0]) and np.isfinite(uv[c, 1])
        if good[t]:
            count += 1
            for j in range(3):
                for k in range(2):
                    low[k] = min(low[k], uv[triangles[t, j], k])
                    high[k] = max(high[k], uv[triangles[t, j], k])
    rows, n = np.empty((count, 3), np.int32), 0
    for t in range(len(triangles)):
        if good[t]:
            rows[n] = triangles[t]
            n += 1
    return rows, low, high


@kernel
def _sorted_cells(uv, triangles, low, cell, columns, rows):
    counts = np.zeros(columns * rows + 1, np.int32)
    for step in range(2):
        if step == 1:
            for k in range(1, len(counts)):
                counts[k] += counts[k - 1]
            items = np.empty(counts[-1], np.int32)
            at = counts[:-1].copy()
        for t in range(len(triangles)):
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            x0 = int((min(uv[a, 0], uv[b, 0], uv[c, 0]) - low[0]) / cell)
            x1 = int((max(uv[a, 0], uv[b, 0], uv[c, 0]) - low[0]) / cell)
            y0 = int((min(uv[a, 1], uv[b, 1], uv[c, 1]) - low[1]) / cell)
            y1 = int((max(uv[a, 1], uv[b, 1], uv[c, 1]) - low[1]) / cell)
            for y in range(max(y0, 0), min(y1, rows - 1) + 1):
                for x in range(max(x0, 0), min(x1, columns - 1) + 1):
                    k = y * columns + x
                    if step == 0:
                        counts[k + 1] += 1
                    else:
                        items[at[k]] = t
                        at[k] += 1
    return counts, items


@kernel
def _near_in_cells(uv, triangles, following, low, cell, columns, rows, starts, items, x, y, reach):
    best, corner = reach * reach, -1
    closest, side, at = reach * reach, -1, 0.0
    face = -1
    x0, x1 = int(np.floor((x - reach - low[0]) / cell)), int(np.floor((x + reach - low[0]) / cell))
    y0, y1 = int(np.floor((y - reach - low[1]) / cell)), int(np.floor((y + reach - low[1]) / cell))
    for row in range(max(y0, 0), min(y1, rows - 1) + 1):
        for column in range(max(x0, 0), min(x1, columns - 1) + 1):
            k = row * columns + column
            for n in range(starts[k], starts[k + 1]):
                t = items[n]
                for j in range(3):
                    c = triangles[t, j]
                    ax, ay = uv[c, 0], uv[c, 1]
                    d = (ax - x) ** 2 + (ay - y) ** 2
                    if d < best or (d == best and c < corner):
                        best, corner = d, c
                    bx, by = uv[following[c], 0], uv[following[c], 1]
                    dx, dy = bx - ax, by - ay
                    s = ((x - ax) * dx + (y - ay) * dy) / max(dx * dx + dy * dy, 1e-300)
                    s = min(max(s, 0.0), 1.0)
                    e = (ax + s * dx - x) ** 2 + (ay + s * dy - y) ** 2
                    if e < closest or (e == closest and c < side):
                        closest, side, at = e, c, s
                ax, ay = uv[triangles[t, 0], 0] - x, uv[triangles[t, 0], 1] - y
                bx, by = uv[triangles[t, 1], 0] - x, uv[triangles[t, 1], 1] - y
                cx, cy = uv[triangles[t, 2], 0] - x, uv[triangles[t, 2], 1] - y
                s1, s2, s3 = ax * by - ay * bx, bx * cy - by * cx, cx * ay - cy * ax
                inside = (s1 >= 0 and s2 >= 0 and s3 >= 0) or (s1 <= 0 and s2 <= 0 and s3 <= 0)
                if inside and (face < 0 or triangles[t, 0] < face):
                    face = triangles[t, 0]
    return corner, best, side, at, closest, face
