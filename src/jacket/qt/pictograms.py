"""Pictures of commands, drawn from a few strokes each on a field of 28 by 28.

A picture is a list of words: `l` a line through places, `p` a closed line, `r` a rectangle (x,y,w,h), `c` a circle
(x,y,r), `d` dots, `a` an arrow from one place to the next, `o` a closed line filled thinly, `s` a dashed line.
"""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

PICTURES = {
    # layers
    "add-layer": "p 4,12 14,7 24,12 14,17 / l 4,17 14,22 24,17 / l 22,3 22,9 / l 19,6 25,6",
    "copy-layer": "r 4,4,13,13 / r 11,11,13,13",
    "split-layer": "r 4,6,9,16 / s 14,3 14,25 / r 17,9,8,13",
    "join-layers": "r 3,8,9,12 / r 16,8,9,12 / a 8,14 13,14 / a 20,14 15,14",
    "rename-layer": "l 5,23 9,22 22,9 19,6 6,19 5,23 / l 14,24 24,24",
    "rename-layers": "l 4,19 8,18 17,9 14,6 5,15 4,19 / l 14,18 24,18 / l 14,23 24,23 / l 20,13 24,13",
    "layer-up": "a 14,20 14,6 / l 6,23 22,23",
    "layer-down": "a 14,6 14,20 / l 6,23 22,23",
    "lock-layer": "r 7,13,14,11 / l 10,13 10,9 12,6 16,6 18,9 18,13 / d 14,18",
    "remove-layer": "r 5,5,18,18 / l 10,10 18,18 / l 18,10 10,18",
    "mirror-layer-x": "s 14,3 14,25 / p 11,8 11,20 4,20 / p 17,8 17,20 24,20",
    "mirror-layer-y": "s 3,14 25,14 / p 8,11 20,11 20,4 / p 8,17 20,17 20,24",
    "mirror-layer-z": "s 5,23 23,5 / p 5,16 5,7 14,7 / p 23,12 23,21 14,21",
    # the flat view
    "pin": "c 14,9,5 / l 14,14 14,24 / l 9,24 19,24",
    "refine": "p 4,8 12,5 23,9 20,22 7,20 / s 8,11 19,13 / s 8,16 18,18",
    "pinch": "a 3,14 10,14 / a 25,14 18,14 / a 14,3 14,10 / a 14,25 14,18",
    "square-up": "r 5,5,18,18 / l 11,5 11,23 / l 17,5 17,23 / l 5,11 23,11 / l 5,17 23,17",
    # layout
    "align": "l 5,3 5,25 / r 8,6,14,6 / r 8,16,9,6",
    "stack": "p 4,10 14,5 24,10 14,15 / l 4,15 14,20 24,15 / l 4,20 14,25 24,20",
    "weigh": "l 14,4 14,24 / l 9,24 19,24 / l 4,9 24,7 / l 4,9 1,16 7,16 4,9 / l 24,7 21,14 27,14 24,7",
    "align-left": "l 5,3 5,25 / r 8,6,14,6 / r 8,16,9,6",
    "align-right": "l 23,3 23,25 / r 6,6,14,6 / r 11,16,9,6",
    "align-top": "l 3,5 25,5 / r 6,8,6,14 / r 16,8,6,9",
    "align-bottom": "l 3,23 25,23 / r 6,6,6,14 / r 16,11,6,9",
    "align-across": "s 3,14 25,14 / r 5,7,6,14 / r 16,10,6,8",
    "align-up": "s 14,3 14,25 / r 7,5,14,6 / r 10,16,8,6",
    "spread-across": "r 3,9,4,10 / r 12,9,4,10 / r 21,9,4,10 / a 8,22 11,22 / a 20,22 17,22",
    "spread-up": "r 9,3,10,4 / r 9,12,10,4 / r 9,21,10,4 / a 22,8 22,11 / a 22,20 22,17",
    "fit-sheet": "r 4,4,20,20 / p 9,10 19,10 17,18 9,18 / a 8,9 5,6 / a 20,19 23,22",
    "fit-width": "l 4,4 4,24 / l 24,4 24,24 / r 9,10,10,8 / a 9,14 5,14 / a 19,14 23,14",
    "fit-height": "l 4,4 24,4 / l 4,24 24,24 / r 10,9,8,10 / a 14,9 14,5 / a 14,19 14,23",
    "turn-left": "r 5,14,12,9 / l 20,20 22,14 19,9 14,7 / a 14,7 9,8",
    "turn-right": "r 11,14,12,9 / l 8,20 6,14 9,9 14,7 / a 14,7 19,8",
    "mirror-across": "s 14,3 14,25 / p 11,8 11,20 4,20 / p 17,8 17,20 24,20",
    "mirror-up": "s 3,14 25,14 / p 8,11 20,11 20,4 / p 8,17 20,17 20,24",
    "stand-box": "s 6,9 14,4 22,18 14,23 6,9 / r 9,7,10,15",
    "stand-edge": "l 4,23 24,23 / s 5,19 22,12 / a 21,15 21,21",
    "hold-twins": "p 4,7 11,5 12,13 5,14 / p 16,15 23,13 24,21 17,22 / s 11,14 17,14",
    "stack-twins": "p 4,12 14,7 24,12 14,17 / l 4,17 14,22 24,17 / a 14,2 14,6",
    "unstack": "p 4,9 14,4 24,9 14,14 / p 4,19 14,14 24,19 14,24",
    "lay-on": "p 5,15 14,11 23,15 14,19 / d 9,15 19,15 / a 14,3 14,9",
    "like-size": "r 4,10,8,8 / r 16,10,8,8 / a 12,22 16,22",
    "like-turning": "r 4,8,8,11 / r 16,8,8,11 / l 17,24 20,22 23,24",
    "like-place": "r 4,4,9,9 / s 15,15 24,15 24,24 15,24 15,15 / a 18,18 14,14",
    "like-density": "r 4,9,9,9 / r 15,9,9,9 / l 7,9 7,18 / l 10,9 10,18 / l 18,9 18,18 / l 21,9 21,18",
    "offset-sheet": "r 3,8,10,12 / s 15,8 25,8 25,20 15,20 15,8 / a 10,14 18,14",
    "onset-sheet": "s 3,8 13,8 13,20 3,20 3,8 / r 15,8,10,12 / a 18,14 10,14",
    "to-sheet": "r 4,9,20,15 / a 14,3 14,15",
    "hold-left": "p 4,7 12,5 13,13 5,14 / s 16,15 24,13 24,21 17,22 16,15 / c 9,9,2",
    "lock-done": "r 12,15,12,9 / l 15,15 15,12 18,10 21,12 21,15 / l 3,9 6,13 12,5",
    "weigh-more": "r 6,6,16,16 / l 14,10 14,18 / l 10,14 18,14",
    "weigh-less": "r 9,9,10,10 / l 11,14 17,14",
    "weigh-plain": "l 5,11 23,11 / l 5,17 23,17",
    # seam sets
    "keep-seams": "s 4,9 24,9 / a 14,11 14,19 / l 5,19 5,24 23,24 23,19",
    "put-on-seams": "s 4,22 24,22 / l 8,13 13,18 22,6",
    "add-seams": "s 4,20 24,20 / l 14,4 14,14 / l 9,9 19,9",
    "take-off-seams": "s 4,20 24,20 / l 9,9 19,9",
    "rename-seams": "l 5,19 9,18 20,7 17,4 6,15 5,19 / s 4,24 24,24",
    "forget-seams": "s 4,22 24,22 / l 9,5 19,15 / l 19,5 9,15",
    "blink-seams": "s 3,7 12,7 / s 16,21 25,21 / a 14,7 22,7 / a 14,21 6,21",
    # tidy
    "straighten": "l 4,18 9,21 14,17 19,21 24,18 / l 4,9 24,9 / d 4,9 14,9 24,9",
    "even-path": "l 4,14 24,14 / d 4,14 10.7,14 17.3,14 24,14 / l 4,20 6,20 / l 22,20 24,20",
    "space-loops": "l 6,5 6,23 / l 12,5 12,23 / l 18,5 18,23 / l 24,5 24,23 / a 8,14 11,14",
    "round-ring": "c 14,14,9 / d 14,5 21.8,9.5 21.8,18.5 14,23 6.2,18.5 6.2,9.5",
    "flatten-own": "l 3,17 25,17 / a 9,6 9,14 / a 19,6 19,14 / d 9,17 19,17",
    "flatten-last": "l 3,20 25,12 / a 9,5 9,15 / a 19,22 19,16 / d 14,16",
    "planar-faces": "o 5,9 15,5 24,11 14,16 / l 5,20 14,24 24,18",
    "untangle": "l 6,6 20,20 / l 20,6 6,20 / a 14,25 24,25",
    "cancel-pair": "p 7,4 11,9 7,14 3,9 / p 21,4 25,9 21,14 17,9 / l 9,19 19,25 / l 19,19 9,25",
    "move-pole": "p 8,9 13,14 8,19 3,14 / a 14,14 25,14",
    "collapse-row": "l 5,5 23,5 / l 5,23 23,23 / s 5,14 23,14 / a 10,8 10,12 / a 18,20 18,16",
    "add-row": "l 5,5 23,5 / l 5,23 23,23 / l 5,14 23,14 / d 5,14 14,14 23,14",
    "turn-edge": "r 5,7,18,14 / l 5,14 23,14 / s 14,7 14,21",
    "pair-triangles": "p 5,5 23,5 23,23 5,23 / s 5,23 23,5",
    # holding
    "grow-held": "o 10,10 18,10 18,18 10,18 / p 4,4 24,4 24,24 4,24",
    "shrink-held": "p 4,4 24,4 24,24 4,24 / s 10,10 18,10 18,18 10,18 10,10 / a 5,14 9,14",
    "loops-held": "l 4,8 24,8 / l 4,20 24,20 / l 3,14 25,14 / d 9,14 14,14 19,14",
    "rings-held": "l 8,4 8,24 / l 14,4 14,24 / l 20,4 20,24 / s 3,14 25,14",
    "link-held": "c 9,14,5 / c 19,14,5",
    "outline-held": "s 5,5 23,5 23,23 5,23 5,5 / o 10,10 18,10 18,18 10,18",
    "path-held": "l 4,22 11,15 16,18 24,6 / d 4,22 24,6",
    "invert-held": "o 4,4 14,4 14,24 4,24 / p 14,4 24,4 24,24 14,24",
    "hold-layer": "o 4,12 14,7 24,12 14,17 / l 4,17 14,22 24,17",
    "as-points": "d 7,7 21,7 7,21 21,21 / s 7,7 21,7 21,21 7,21 7,7",
    "as-edges": "l 7,7 21,7 21,21 / s 21,21 7,21 7,7",
    "as-faces": "o 6,6 22,6 22,22 6,22",
    # sheets and sets
    "add-sheet": "r 4,6,15,18 / l 22,3 22,9 / l 19,6 25,6",
    "rename-sheet": "r 4,4,14,20 / l 13,24 14,20 23,11 25,13 16,22 13,24",
    "remove-sheet": "r 5,4,18,20 / l 10,10 18,18 / l 18,10 10,18",
    "add-set": "r 4,8,16,16 / l 4,16 20,16 / l 12,8 12,24 / l 23,2 23,8 / l 20,5 26,5",
    "copy-set": "r 3,3,14,14 / r 10,10,15,15 / l 10,17.5 25,17.5 / l 17.5,10 17.5,25",
    "rename-set": "r 3,5,15,15 / l 3,12.5 18,12.5 / l 12,25 13,21 22,12 24,14 15,23 12,25",
    "remove-set": "r 4,4,20,20 / l 9,9 19,19 / l 19,9 9,19",
    "name-island": "l 5,23 9,22 22,9 19,6 6,19 5,23",
    "group-islands": "c 10,10,5 / c 19,19,4 / s 3,3 25,3 25,25 3,25 3,3",
    "lock-islands": "r 7,13,14,11 / l 10,13 10,9 12,6 16,6 18,9 18,13 / d 14,18",
    "done-islands": "l 5,15 11,21 23,7",
}


def paint(painter: QPainter, name: str) -> None:
    """Draw a picture with the painter's pen."""
    for stroke in PICTURES[name].split("/"):
        word, *rest = stroke.split()
        values = [tuple(float(v) for v in place.split(",")) for place in rest]
        _DRAW[word](painter, values)


def _points(values: list[tuple[float, ...]]) -> list[QPointF]:
    return [QPointF(v[0], v[1]) for v in values]


def _line(p: QPainter, values: list[tuple[float, ...]]) -> None:
    p.drawPolyline(_points(values))


def _dashed(p: QPainter, values: list[tuple[float, ...]]) -> None:
    pen = QPen(p.pen())
    thin = QPen(pen)
    thin.setStyle(Qt.PenStyle.DotLine)
    p.setPen(thin)
    p.drawPolyline(_points(values))
    p.setPen(pen)


def _closed(p: QPainter, values: list[tuple[float, ...]]) -> None:
    p.drawPolygon(QPolygonF(_points(values)))


def _filled(p: QPainter, values: list[tuple[float, ...]]) -> None:
    wash = QColor(p.pen().color())
    wash.setAlpha(90)
    p.setBrush(wash)
    p.drawPolygon(QPolygonF(_points(values)))
    p.setBrush(Qt.BrushStyle.NoBrush)


def _rectangle(p: QPainter, values: list[tuple[float, ...]]) -> None:
    x, y, w, h = values[0]
    p.drawRect(QRectF(x, y, w, h))


def _circle(p: QPainter, values: list[tuple[float, ...]]) -> None:
    x, y, r = values[0]
    p.drawEllipse(QPointF(x, y), r, r)


def _dots(p: QPainter, values: list[tuple[float, ...]]) -> None:
    p.setBrush(p.pen().color())
    for at in _points(values):
        p.drawEllipse(at, 1.7, 1.7)
    p.setBrush(Qt.BrushStyle.NoBrush)


def _arrow(p: QPainter, values: list[tuple[float, ...]]) -> None:
    (ax, ay), (bx, by) = values[0][:2], values[1][:2]
    way = math.atan2(by - ay, bx - ax)
    p.drawLine(QPointF(ax, ay), QPointF(bx, by))
    for turn in (2.5, -2.5):
        p.drawLine(QPointF(bx, by), QPointF(bx + 4.5 * math.cos(way + turn), by + 4.5 * math.sin(way + turn)))


_DRAW = {"l": _line, "s": _dashed, "p": _closed, "o": _filled, "r": _rectangle, "c": _circle, "d": _dots, "a": _arrow}
