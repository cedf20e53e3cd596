"""Which way islands lie: by their longest straight border, by what is up on the form, by their rows of quads."""

from __future__ import annotations

import numpy as np

from jacket.core.flatten.editing import Laying
from jacket.core.flatten.unwrap import mean_up
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import from_pixel_places
from jacket.errors import EditRefused

WAYS = (("up", "up as on the form"), ("border", "by the longest straight border"), ("rows", "by rows of quads"))
STRAIGHT = np.radians(12)
"""How far a border may turn at a point and still count as straight on."""


def turned_islands(mesh: PolyMesh, islands: Islands, which: Bools, way: str) -> Floats:
    """The coordinates (C, 2) with islands flagged in `which` (count,) turned about their middles. Islands that lie nowhere,
    or have no such direction, stay."""
    uv = islands.uv
    for island in np.flatnonzero(which & islands.mapped).tolist():
        try:
            laying = Laying.of(mesh, islands, island, sound=False)
        except EditRefused:
            continue
        angle = {"up": _up, "border": _border, "rows": _rows}[way](laying)
        if angle is None or abs(angle) < 1e-12:
            continue
        own = islands.corner_labels == island
        places = islands.places[own]
        box = islands.pixel_boxes[island]
        middle = (box[:2] + box[2:]) / 2
        c, s = np.cos(angle * laying.mirror), np.sin(angle * laying.mirror)
        moved = (places - middle) @ np.array([[c, s], [-s, c]]) + middle
        uv = uv.copy()
        uv[own] = from_pixel_places(moved, np.full(len(moved), max(int(islands.sheet_of[island]), 0)), islands.sheets)
    return uv


def _up(laying: Laying) -> float | None:
    """Radians to turn by so that what is up on the form points up; None on forms that lie level."""
    up = mean_up(laying.chart, laying.uv)
    return float(np.pi / 2 - np.arctan2(up[1], up[0])) if np.hypot(*up) > 0.05 else None


def _border(laying: Laying) -> float | None:
    """Radians to the nearest quarter turn of the longest straight stretch of the outline."""
    best, angle = 0.0, None
    for loop in laying.chart.border:
        at = laying.uv[loop]
        steps = np.roll(at, -1, axis=0) - at
        way = np.arctan2(steps[:, 1], steps[:, 0])
        bend = np.abs((way - np.roll(way, 1) + np.pi) % (2 * np.pi) - np.pi)
        first = int(np.argmax(bend))
        order = np.roll(np.arange(len(at)), -first)
        start = 0
        for k in range(1, len(order) + 1):
            if k == len(order) or bend[order[k]] > STRAIGHT:
                run = order[start:k]
                whole = steps[run].sum(axis=0)
                if float(np.linalg.norm(whole)) > best:
                    best, angle = float(np.linalg.norm(whole)), float(np.arctan2(whole[1], whole[0]))
                start = k
    return _to_quarter(angle)


def _rows(laying: Laying) -> float | None:
    """Radians to the nearest quarter turn of the mean direction of edges, quarter turns alike."""
    mesh = laying.chart.mesh
    ends = laying.uv[mesh.topology.edge_points]
    step = (ends[:, 1] - ends[:, 0]) @ [1, 1j]
    size = np.abs(step)
    cross = (size * (step / np.maximum(size, 1e-300)) ** 4).sum()
    return _to_quarter(float(np.angle(cross)) / 4) if abs(cross) > 1e-6 * size.sum() else None


def _to_quarter(angle: float | None) -> float | None:
    if angle is None:
        return None
    quarter = np.pi / 2
    return float(np.round(angle / quarter) * quarter - angle)
