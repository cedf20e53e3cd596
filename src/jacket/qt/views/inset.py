"""Small pictures over the form view: the piece that a cut would free, flat, with its figures; and a loupe."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen

from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.seams.foreseen import Foreseen
from jacket.qt.theme import Palette, font
from jacket.tools.base import Asked

WIDE, HIGH, EDGE = 218.0, 214.0, 12.0


def draw_inset(painter: QPainter, found: Foreseen, asked: Asked, palette: Palette, height: int) -> None:
    """What a cut would do, in the lower left corner of a view of a height in pixels."""
    box = QRectF(EDGE, height - HIGH - EDGE, WIDE, HIGH)
    painter.setPen(QPen(QColor(palette.rule), 1))
    painter.setBrush(QColor(palette.card))
    painter.drawRect(box)
    ink, soft = QColor(palette.ink), QColor(palette.soft)
    inside = box.adjusted(10, 8, -10, -8)
    title = "Sewn, it would be" if found.sews else "This cut would free" if found.pieces > 1 else "This cut would open"
    _text(painter, inside, title, ink, True, Qt.AlignmentFlag.AlignLeft)
    if asked.offers > 1:
        _text(painter, inside, f"{asked.turn + 1} of {asked.offers}", soft, False, Qt.AlignmentFlag.AlignRight)
    picture = QRectF(inside.left() + 8, inside.top() + 22, inside.width() - 16, inside.height() - 90)
    if found.problem:
        painter.setFont(font(10))
        painter.setPen(QColor(palette.accent))
        painter.drawText(picture, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, found.problem)
    else:
        _piece(painter, found, picture, palette)
    line = QRectF(inside.left(), inside.bottom() - 62, inside.width(), 16)
    _text(painter, line, f"{len(found.faces):,} face{'s' if len(found.faces) != 1 else ''}", ink, False, Qt.AlignmentFlag.AlignLeft)
    stretch = f"stretch {_figure(found.before)} → {_figure(found.after)}"
    better = np.isfinite(found.after) and not (found.after > found.before + 5e-3) and not found.crosses
    colour = QColor(palette.good if better else palette.ink)
    _text(painter, line, stretch, colour, bool(better), Qt.AlignmentFlag.AlignRight)
    line.translate(0, 17)
    rest = f"rest: {found.pieces - 1} island{'s' if found.pieces != 2 else ''}" if found.pieces > 1 else "one island"
    _text(painter, line, rest, ink, False, Qt.AlignmentFlag.AlignLeft)
    if np.isfinite(found.seen):
        _text(painter, line, f"seen {found.seen:.2f}×", ink, True, Qt.AlignmentFlag.AlignRight)
    line.translate(0, 17)
    if found.crosses:
        _text(painter, line.adjusted(0, 0, 0, 14), "It would lie over itself: cut it once more.", QColor(palette.accent), True, Qt.AlignmentFlag.AlignLeft, 9)
        return
    hint = f"Rest: {found.rest}" if found.rest else "Space: what else is near" if asked.offers > 1 else ""
    _text(painter, line.adjusted(0, 0, 0, 14), hint, soft, False, Qt.AlignmentFlag.AlignLeft, 9)


LOUPE, TIMES, TINY = 62.0, 5.0, 12.0
"""Radius of the loupe in pixels, how much it magnifies, and the length of edges on the screen under which it is shown."""


def draw_loupe(painter: QPainter, at: Floats, ends: Ints, lit: Ints, x: float, y: float, palette: Palette, width: int) -> None:
    """What is under the pointer, magnified, where edges are too short to be told apart: edges (E, 2) of places (V, 2) in
    pixels, those in `lit` as they would be cut."""
    box = np.abs(at[ends].mean(axis=1) - [x, y]).max(axis=1) < LOUPE / TIMES + TINY
    near = np.flatnonzero(box)
    if len(near) == 0 or np.median(np.linalg.norm(at[ends[near, 0]] - at[ends[near, 1]], axis=1)) > TINY:
        return
    middle = np.array([x + LOUPE + 26 if x + 2 * LOUPE + 40 < width else x - LOUPE - 26, y - LOUPE - 20])
    painter.save()
    path = QPainterPath()
    path.addEllipse(QPointF(*middle), LOUPE, LOUPE)
    painter.setClipPath(path)
    painter.fillPath(path, QColor(palette.jacket))
    mine = np.isin(near, lit)
    for rows, colour, wide in ((near[~mine], palette.wire, 1.0), (near[mine], palette.stitch, 3.0)):
        lines = (at[ends[rows]] - [x, y]) * TIMES + middle
        painter.setPen(QPen(QColor(colour), wide))
        painter.drawLines([QLineF(ax, ay, bx, by) for (ax, ay), (bx, by) in lines.tolist()])
    painter.setClipping(False)
    painter.setPen(QPen(QColor(palette.ink), 1.5))
    painter.drawEllipse(QPointF(*middle), LOUPE, LOUPE)
    painter.restore()


def _figure(value: float) -> str:
    return f"{value:.3f}" if np.isfinite(value) and value < 100 else "–"


def _text(painter: QPainter, box: QRectF, text: str, colour: QColor, bold: bool, side: Qt.AlignmentFlag, size: int = 10) -> None:
    painter.setFont(font(size, bold=bold))
    painter.setPen(colour)
    painter.drawText(box, side | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap, text)


def _piece(painter: QPainter, found: Foreseen, box: QRectF, palette: Palette) -> None:
    low, high = found.lines.min(axis=(0, 1)), found.lines.max(axis=(0, 1))
    span = np.maximum(high - low, 1e-9)
    scale = min(box.width() / span[0], box.height() / span[1])
    middle = (low + high) / 2
    at = (found.lines - middle) * [scale, -scale] + [box.center().x(), box.center().y()]
    wire = QColor(palette.wire)
    wire.setAlpha(120 if len(found.lines) < 1500 else 60)
    for outline, pen in (
        (False, QPen(wire, 0.7)), (True, QPen(QColor(palette.stitch_dark), 2.6)), (True, QPen(QColor(palette.stitch), 1.4)),
    ):  # fmt: skip
        rows = at[found.outline == outline]
        painter.setPen(pen)
        painter.drawLines([QLineF(ax, ay, bx, by) for (ax, ay), (bx, by) in rows.tolist()])
