"""What encloses points of the plane most closely: their convex hull, the smallest rectangle and the smallest square."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

BETWEEN = 32
"""Ways round in which the smallest square is looked for besides those of the hull."""


@dataclass(frozen=True)
class Enclosing:
    """hull  area of the convex hull
    turn   radians that lay the smallest enclosing rectangle along the axes
    long   its longer side;  short  its shorter one
    square side of the smallest enclosing square, to half a percent at most
    """

    hull: float
    turn: float
    long: float
    short: float
    square: float

    @staticmethod
    def of(points: Floats) -> Enclosing:
        """What encloses points (N, 2): one side of the smallest rectangle lies on the hull (Freeman and Shapira, "Determining the
        minimum-area encasing rectangle for an arbitrary closed curve", 1975). Points on one line have no hull; their box along
        the axes is told."""
        from scipy.spatial import ConvexHull, QhullError

        try:
            found = ConvexHull(points)
        except (QhullError, ValueError):
            spans = np.ptp(points, axis=0) if len(points) else np.zeros(2)
            return Enclosing(0.0, 0.0, float(spans.max()), float(spans.min()), float(spans.max()))
        hull = points[found.vertices]
        side = np.roll(hull, -1, axis=0) - hull
        # A square need not lie on a side of the hull: it is looked for in between too.
        angles = np.concatenate([np.arctan2(side[:, 1], side[:, 0]), np.linspace(0, np.pi / 2, BETWEEN, endpoint=False)])
        x, y = _spans(hull, angles)
        k = int(np.argmin((x * y)[: len(hull)]))
        return Enclosing(float(found.volume), float(-angles[k]), float(max(x[k], y[k])), float(min(x[k], y[k])),
                         float(np.maximum(*_spans(hull, _about(angles[int(np.argmin(np.maximum(x, y)))]))).min()))  # fmt: skip


def _about(angle: float) -> Floats:
    """Angles close around one of those that were looked at."""
    return np.asarray(angle + np.linspace(-np.pi / 2, np.pi / 2, BETWEEN) / BETWEEN)


def _spans(hull: Floats, angles: Floats) -> tuple[Floats, Floats]:
    """(A,) how wide and how high a hull is, turned back by each of some angles."""
    c, s = np.cos(-angles)[:, None], np.sin(-angles)[:, None]
    return np.ptp(c * hull[:, 0] - s * hull[:, 1], axis=1), np.ptp(s * hull[:, 0] + c * hull[:, 1], axis=1)
