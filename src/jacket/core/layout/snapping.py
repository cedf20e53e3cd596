"""Moves on a sheet that stop where it is handy: at whole pixels, on a grid, side to side, point to point."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from jacket.core.layout.arrange import Ids, box_of
from jacket.core.mesh.polymesh import Floats
from jacket.core.mesh.tables import finite_rows
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import APART


@dataclass(frozen=True, eq=False)
class Snapped:
    """A move in pixels (2,), lines (S, 2, 2) in UV coordinates that it stopped at, and what is told of it."""

    shift: Floats
    lines: Floats = field(default_factory=lambda: np.zeros((0, 2, 2)))
    what: str = ""


def snapped(islands: Islands, ids: Ids, taken: Floats, shift: Floats, how: str, grid: float, reach: float) -> Snapped:
    """A wished move of some islands, bent to where it is handy.

    taken   (2,) pixels of their sheet at which they are held;  shift  (2,) the wish in pixels
    how     "free", "px", "grid", "islands" (sides to sides, a margin apart or in line) or "points"
    reach   pixels within which sides and points pull
    """
    box = box_of(islands, ids)
    sheet = islands.sheets[max(int(islands.sheet_of[next(iter(ids))]), 0)]
    low = box[:2] - sheet.origin * APART
    lines = np.zeros((0, 2, 2))
    if how in ("px", "grid"):
        step = 1.0 if how == "px" else grid
        shift = np.round((low + shift) / step) * step - low
    elif how == "islands":
        shift, lines = _to_sides(islands, ids, box, shift, reach)
    elif how == "points":
        shift = _to_points(islands, ids, taken + sheet.origin * APART, shift, reach)
    return Snapped(np.asarray(shift, float), lines, f"{shift[0]:+.1f}, {shift[1]:+.1f} px")


def _to_sides(islands: Islands, ids: Ids, box: Floats, shift: Floats, reach: float) -> tuple[Floats, Floats]:
    own = max(int(islands.sheet_of[next(iter(ids))]), 0)
    sheet = islands.sheets[own]
    rest = np.setdiff1d(np.flatnonzero(islands.mapped & (islands.sheet_of == own)), list(ids))
    others = islands.pixel_boxes[rest]
    at = sheet.origin * APART
    out, lines = np.array(shift, float), []
    for axis in range(2):
        low, high = box[axis] + shift[axis], box[2 + axis] + shift[axis]
        targets = np.concatenate([
            others[:, 2 + axis] + sheet.gap - low, others[:, axis] - sheet.gap - high, others[:, axis] - low,
            others[:, 2 + axis] - high, [at[axis] + sheet.rim - low, at[axis] + sheet.size[axis] - sheet.rim - high],
        ])  # fmt: skip
        best = int(np.argmin(np.abs(targets)))
        if abs(targets[best]) <= reach:
            out[axis] += targets[best]
            n = len(others)
            side = high if n <= best < 2 * n or 3 * n <= best < 4 * n or best == 4 * n + 1 else low
            place = (side + targets[best] - at[axis]) / sheet.size[axis] + sheet.origin[axis]
            ends = np.array([[0.0, 0.0], [1.0, 1.0]]) + sheet.origin
            ends[:, axis] = place
            lines.append(ends)
    return out, np.array(lines).reshape(-1, 2, 2)


def _to_points(islands: Islands, ids: Ids, taken: Floats, shift: Floats, reach: float) -> Floats:
    """The border point that is nearest to where the islands are held goes to the nearest one of another island."""
    border = islands.border_corners
    mine = np.isin(islands.corner_labels[border], list(ids))
    places = islands.places[border]
    own, rest = places[mine], places[~mine & finite_rows(places)]
    if len(own) == 0 or len(rest) == 0:
        return shift
    point = own[int(np.argmin(np.hypot(*(own - taken).T)))]
    way = rest - (point + shift)
    near = int(np.argmin(np.hypot(*way.T)))
    return shift + way[near] if np.hypot(*way[near]) <= reach else shift
