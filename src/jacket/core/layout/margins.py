"""The margin that a layout really keeps, measured exactly."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

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
    surplus: float = np.inf
    """Pixels above what the sheet asks for there, below 0 where some are missing."""


def least_margins(islands: Islands, stacks: NDArray[np.signedinteger] | None = None) -> list[Margin]:
    """The margin of each sheet: the distance that is nearest to what is asked for there, or furthest below it. Islands of one
    number in `stacks` (count,) lie on one another on purpose. Distances are shapely's, between the outlines; an island wholly inside a hole of another
    is measured to the hole."""
    return [_least_margin(islands, k, stacks) for k in range(len(islands.sheets))]


def _laid(islands: Islands, sheet: int) -> tuple[NDArray[np.signedinteger], NDArray[np.float64], list[Any]]:
    """Islands of a sheet, how far each stays from the sheet's edge in pixels, and their outlines for shapely."""
    import shapely

    ids = np.flatnonzero(islands.mapped & (islands.pixel_area > 0) & (islands.sheet_of == sheet))
    where = islands.sheets[sheet]
    origin = where.origin * APART
    boxes = islands.pixel_boxes[ids] - np.concatenate([origin, origin])
    edge = np.minimum(boxes[:, :2].min(axis=1, initial=np.inf), (where.size - boxes[:, 2:]).min(axis=1, initial=np.inf))
    return ids, edge, [shapely.multilinestrings(shapely.linestrings(islands.pixel_outline(int(k)) - origin)) for k in ids]


def _apart(stacks: NDArray[np.signedinteger] | None, a: int, b: int) -> bool:
    """Whether two islands are to keep a distance: those of one stack are not."""
    return stacks is None or stacks[a] < 0 or stacks[a] != stacks[b]


def _least_margin(islands: Islands, sheet: int, stacks: NDArray[np.signedinteger] | None) -> Margin:
    import shapely

    ids, edge, outlines = _laid(islands, sheet)
    where = islands.sheets[sheet]
    if len(ids) == 0:
        return Margin(sheet, np.inf)
    # What counts is what is left of the distance that is wanted: to the edge that may be another than between islands.
    near = int(np.argmin(edge))
    best, pixels, pair = float(edge[near]) - where.rim, float(edge[near]), (int(ids[near]), -1)
    tree = shapely.STRtree(outlines)
    for k, line in enumerate(outlines):
        for j in tree.query(line, predicate="dwithin", distance=max(best + where.gap, 0.0)):
            if j > k and _apart(stacks, ids[k], ids[j]):
                far = float(shapely.distance(line, outlines[j]))
                if far - where.gap < best:
                    best, pixels, pair = far - where.gap, far, (int(ids[k]), int(ids[j]))
    return Margin(sheet, pixels, pair, best)


def least_margin(islands: Islands) -> Margin:
    """The margin of all sheets that is nearest to what its sheet asks for, or furthest below it."""
    return min(least_margins(islands), key=lambda m: m.surplus)


def close_islands(islands: Islands, stacks: NDArray[np.signedinteger] | None = None) -> NDArray[np.signedinteger]:
    """(P, 2) pairs of islands of one sheet that come closer than its margin, the second −1 for the sheet's edge."""
    import shapely

    out: list[tuple[int, int]] = []
    for k, sheet in enumerate(islands.sheets):
        ids, edge, outlines = _laid(islands, k)
        out += [(int(i), -1) for i in ids[edge < sheet.rim - 1e-6]]
        if outlines:
            one, other = shapely.STRtree(outlines).query(outlines, predicate="dwithin", distance=max(sheet.gap - 1e-6, 0.0))
            out += [(a, b) for a, b in zip(ids[one].tolist(), ids[other].tolist(), strict=True) if a < b and _apart(stacks, a, b)]
    return np.array(out, np.int64).reshape(-1, 2)
