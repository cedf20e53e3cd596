"""The margin that a layout really keeps, measured exactly."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import APART


@dataclass(frozen=True)
class Margin:
    """Least distance on a sheet in its pixels, and the pair of islands it lies between, the second −1 for the edge.
    Infinite where nothing lies on the sheet; below 0 where an island reaches over the edge; 0 where islands overlap."""

    sheet: int
    pixels: float
    pair: tuple[int, int] | None = None


def least_margins(islands: Islands, stacks: NDArray[np.signedinteger] | None = None) -> list[Margin]:
    """The margin of each sheet; islands of one number in `stacks` (count,) lie on one another on purpose. Distances are shapely's, between the outlines; an island wholly inside a hole of another
    is measured to the hole."""
    return [_least_margin(islands, k, stacks) for k in range(len(islands.sheets))]


def _least_margin(islands: Islands, sheet: int, stacks: NDArray[np.signedinteger] | None) -> Margin:
    import shapely

    ids = np.flatnonzero(islands.mapped & (islands.pixel_area > 0) & (islands.sheet_of == sheet))
    if len(ids) == 0:
        return Margin(sheet, np.inf)
    where = islands.sheets[sheet]
    origin = where.origin * APART
    outlines = [shapely.multilinestrings(shapely.linestrings(islands.pixel_outline(int(k)) - origin)) for k in ids]
    boxes = islands.pixel_boxes[ids] - np.concatenate([origin, origin])
    edge = np.minimum(boxes[:, :2].min(axis=1), (where.size - boxes[:, 2:]).min(axis=1))
    best, pair = float(edge.min()), (int(ids[int(np.argmin(edge))]), -1)
    tree = shapely.STRtree(outlines)
    for k, line in enumerate(outlines):
        reach = best if best > 0 else 0.0
        for j in tree.query(line, predicate="dwithin", distance=max(reach, 0.0)):
            if j > k and (stacks is None or stacks[ids[j]] < 0 or stacks[ids[j]] != stacks[ids[k]]):
                far = float(shapely.distance(line, outlines[j]))
                if far < best:
                    best, pair = far, (int(ids[k]), int(ids[j]))
    return Margin(sheet, best, pair)


def least_margin(islands: Islands) -> Margin:
    """The least margin of all sheets against what each asks for."""
    return min(least_margins(islands), key=lambda m: m.pixels - islands.sheets[m.sheet].gap)


def close_islands(islands: Islands, stacks: NDArray[np.signedinteger] | None = None) -> NDArray[np.signedinteger]:
    """(P, 2) pairs of islands of one sheet that come closer than its margin, the second −1 for the sheet's edge."""
    import shapely

    out: list[tuple[int, int]] = []
    for k, sheet in enumerate(islands.sheets):
        ids = np.flatnonzero(islands.mapped & (islands.pixel_area > 0) & (islands.sheet_of == k))
        if len(ids) == 0:
            continue
        boxes = islands.pixel_boxes[ids] - np.tile(sheet.origin * APART, 2)
        off = np.minimum(boxes[:, :2].min(axis=1), (sheet.size - boxes[:, 2:]).min(axis=1))
        out += [(int(i), -1) for i in ids[off < sheet.rim - 1e-6]]
        outlines = [shapely.multilinestrings(shapely.linestrings(islands.pixel_outline(int(i)))) for i in ids]
        one, other = shapely.STRtree(outlines).query(outlines, predicate="dwithin", distance=max(sheet.gap - 1e-6, 0.0))
        for a, b in zip(ids[one].tolist(), ids[other].tolist(), strict=True):
            if a < b and (stacks is None or stacks[a] < 0 or stacks[a] != stacks[b]):
                out.append((a, b))
    return np.array(out, np.int64).reshape(-1, 2)
