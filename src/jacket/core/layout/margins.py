"""The margin that a layout really keeps, measured exactly."""

from __future__ import annotations

import numpy as np

from jacket.core.layout.islands import Islands


def least_margin(islands: Islands, size: int) -> tuple[float, tuple[int, int] | None]:
    """Least distance in pixels between two islands or an island and the sheet's edge, and the pair
    of islands (the second −1 for the edge). Infinite for an empty sheet; 0 where islands overlap.

    Distances are shapely's, between the outlines; an island wholly inside a hole of another is
    measured to the hole.
    """
    import shapely

    ids = np.flatnonzero(islands.mapped & (islands.sheet_area > 0))
    if len(ids) == 0:
        return np.inf, None
    outlines = [shapely.multilinestrings(shapely.linestrings(islands.outline(int(k)) * size)) for k in ids]
    boxes = islands.boxes()[ids] * size
    edge = np.minimum(boxes[:, :2].min(axis=1), (size - boxes[:, 2:]).min(axis=1))
    best, pair = float(edge.min()), (int(ids[int(np.argmin(edge))]), -1)
    tree = shapely.STRtree(outlines)
    for k, line in enumerate(outlines):
        reach = best if best > 0 else 0.0
        for j in tree.query(line, predicate="dwithin", distance=max(reach, 0.0)):
            if j > k:
                far = float(shapely.distance(line, outlines[j]))
                if far < best:
                    best, pair = far, (int(ids[k]), int(ids[j]))
    return best, pair
