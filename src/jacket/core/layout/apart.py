"""Islands laid side by side at one density: not a packing, but at once and easy to look over."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jacket.core.mesh.polymesh import Floats
from jacket.core.uv.islands import Islands, density_scales
from jacket.core.uv.sheets import Sheet


def laid_apart(islands: Islands, where: Sheet) -> Floats:
    """UVs (C, 2) with all mapped islands at one density in rows on a sheet, none over another: boxes side by side,
    tallest first, as large as the sheet takes them. Not a packing, but at once and easy to look over."""
    ids = np.flatnonzero(islands.mapped & (islands.pixel_area > 0))
    uv = islands.uv.copy()
    if len(ids) == 0:
        return uv
    scales = density_scales(islands)
    box = islands.pixel_boxes[ids]
    spans = (box[:, 2:] - box[:, :2]) * scales[ids][:, None]
    gap = max(where.gap, 2.0)
    order = np.argsort(-spans[:, 1], kind="stable")
    room = where.size - 2 * gap
    low, high = 0.0, float(np.min(room / np.maximum(spans.max(axis=0), 1e-300)))
    for _ in range(30):
        middle = (low + high) / 2
        low, high = (middle, high) if _rows(spans[order] * middle, room, gap) is not None else (low, middle)
    corners = _rows(spans[order] * low, room, gap)
    if corners is None:
        return uv
    label = islands.corner_labels
    for k, at in zip(order, corners, strict=True):
        here = label == ids[k]
        flat = (islands.places[here] - box[k, :2]) * scales[ids[k]] * low
        uv[here] = where.coordinates(flat + at + gap)
    return uv


def _rows(spans: Floats, room: Floats, gap: float) -> Floats | None:
    """(K, 2) lower left corners of boxes set in rows from the top; None where they do not fit."""
    out = np.zeros_like(spans)
    x, top, tall = 0.0, float(room[1]), 0.0
    for k, (wide, high) in enumerate(spans.tolist()):
        if x > 0 and x + wide > room[0]:
            x, top, tall = 0.0, top - tall - gap, 0.0
        tall = max(tall, high)
        if x + wide > room[0] * (1 + 1e-9) or top - high < -1e-9:
            return None
        out[k] = x, top - high
        x += wide + gap
    return out


def laid_beside(islands: Islands, ids: Sequence[int]) -> Floats:
    """UVs (C, 2) with some islands in a row to the right of all sheets, as large as they are."""
    uv = islands.uv.copy()
    tile = max(float(s.origin[0]) for s in islands.sheets) + 1.0
    first = islands.sheets[0]
    x = first.gap
    for k in ids:
        box = islands.pixel_boxes[k]
        here = islands.corner_labels == k
        at = (islands.places[here] - box[:2] + [x, first.gap]) / first.size
        uv[here] = at + [tile + 0.02, 0.0]
        x += float(box[2] - box[0]) + first.gap
    return uv
