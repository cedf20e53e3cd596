"""Islands as masks of pixels."""

from __future__ import annotations

import numpy as np
import shapely
from shapely.ops import unary_union

from jacket.core.layout.masks import island_mask


def test_masks_cover_what_they_must() -> None:
    """Every place within `widen` of the polygon lies in a counted cell, says shapely."""
    rng = np.random.default_rng(4)
    for _ in range(6):
        hull = shapely.MultiPoint(rng.uniform(3, 40, (9, 2))).convex_hull
        ring = np.array(hull.exterior.coords)
        segments = np.stack([ring[:-1], ring[1:]], axis=1)
        mask = island_mask(segments, 2.3)
        grown = hull.buffer(2.3, quad_segs=32)
        cells = [
            shapely.box(x, y, x + 1, y + 1)
            for r in range(mask.height)
            for k in range(mask.row_start[r], mask.row_start[r + 1])
            for x in range(int(mask.low[0]) + mask.first[k], int(mask.low[0]) + mask.last[k])
            for y in [int(mask.low[1]) + r]
        ]
        covered = unary_union(cells)
        assert grown.difference(covered).area < 1e-9
        assert covered.area < hull.buffer(2.3 + 1.5).area
