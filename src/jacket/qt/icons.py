"""Line icons of the tools, drawn here so that they share one hand."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

from jacket.qt.pictograms import PICTURES, paint

Painter = Callable[[QPainter], None]


def _draft(p: QPainter) -> None:
    ring = [QPointF(7, 6), QPointF(22, 8), QPointF(20, 22), QPointF(5, 20)]
    p.drawPolygon(QPolygonF(ring))
    p.setBrush(p.pen().color())
    for at in ring:
        p.drawEllipse(at, 2.2, 2.2)


def _nudge(p: QPainter) -> None:
    p.drawLine(QPointF(6, 21), QPointF(20, 8))
    p.drawPolyline([QPointF(13, 8), QPointF(20, 8), QPointF(20, 15)])


def _relax(p: QPainter) -> None:
    p.drawPolyline([QPointF(4 + k, 14 - 4.5 * _wave(k / 20)) for k in range(21)])


def _wave(t: float) -> float:
    import math

    return math.sin(t * 2 * math.pi)


def _unpick(p: QPainter) -> None:
    p.drawLine(QPointF(7, 7), QPointF(21, 21))
    p.drawLine(QPointF(21, 7), QPointF(7, 21))


def _hold(p: QPainter) -> None:
    pen = QPen(p.pen())
    pen.setStyle(Qt.PenStyle.DashLine)
    p.drawRect(QRectF(9, 9, 12, 12))
    p.setPen(pen)
    p.drawRect(QRectF(5, 5, 20, 20))


def _look(p: QPainter) -> None:
    # A lamp over a form.
    p.drawEllipse(QPointF(20, 8), 3.4, 3.4)
    for x, y in ((20, 2), (26, 8), (15.6, 3.6), (24.4, 12.4)):
        p.drawLine(QPointF(20 + 0.78 * (x - 20), 8 + 0.78 * (y - 8)), QPointF(x, y))
    p.drawArc(QRectF(4, 13, 14, 14), 0, 180 * 16)
    p.drawLine(QPointF(2, 20), QPointF(20, 20))


def _slide(p: QPainter) -> None:
    # A row between two others, on its way.
    p.drawLine(QPointF(5, 6), QPointF(5, 24))
    p.drawLine(QPointF(25, 6), QPointF(25, 24))
    pen = QPen(p.pen())
    dashed = QPen(pen)
    dashed.setStyle(Qt.PenStyle.DashLine)
    p.setPen(dashed)
    p.drawLine(QPointF(12, 6), QPointF(12, 24))
    p.setPen(pen)
    p.drawLine(QPointF(18, 6), QPointF(18, 24))
    p.drawPolyline([QPointF(8, 15), QPointF(22, 15), QPointF(19, 12)])


def _cast(p: QPainter) -> None:
    # A lamp that throws a form onto a sheet.
    p.drawEllipse(QPointF(7, 7), 3, 3)
    p.drawLine(QPointF(9.5, 9), QPointF(24, 13))
    p.drawLine(QPointF(9, 9.5), QPointF(13, 24))
    p.drawPolygon(QPolygonF([QPointF(24, 13), QPointF(26, 24), QPointF(13, 24)]))


def _decal(p: QPainter) -> None:
    # A picture with a corner that still stands off.
    p.drawPolyline([QPointF(17, 24), QPointF(4, 24), QPointF(4, 5), QPointF(24, 5), QPointF(24, 17)])
    p.drawPolygon(QPolygonF([QPointF(17, 24), QPointF(17, 17), QPointF(24, 17)]))
    p.drawPolyline([QPointF(8, 19), QPointF(11, 12), QPointF(14, 16), QPointF(18, 10)])


def _hull(p: QPainter) -> None:
    p.drawEllipse(QRectF(8, 8, 12, 12))
    pen = QPen(p.pen())
    pen.setStyle(Qt.PenStyle.DotLine)
    p.setPen(pen)
    p.drawEllipse(QRectF(3, 3, 22, 22))


def _probe(p: QPainter) -> None:
    p.drawLine(QPointF(22, 5), QPointF(11, 16))
    p.drawPolygon(QPolygonF([QPointF(11, 16), QPointF(7, 22), QPointF(13, 18)]))
    p.drawLine(QPointF(5, 24), QPointF(17, 24))


def _cut(p: QPainter) -> None:
    p.drawEllipse(QPointF(9, 20), 3.2, 3.2)
    p.drawEllipse(QPointF(19, 20), 3.2, 3.2)
    p.drawLine(QPointF(10.6, 17.3), QPointF(18, 5))
    p.drawLine(QPointF(17.4, 17.3), QPointF(10, 5))


def _sew(p: QPainter) -> None:
    p.drawLine(QPointF(5, 22), QPointF(22, 5))
    p.drawEllipse(QPointF(20.5, 6.5), 2.6, 2.6)
    p.drawPolyline([QPointF(20, 7), QPointF(25, 12), QPointF(21, 16), QPointF(25, 20)])


def _place(p: QPainter) -> None:
    p.drawRect(QRectF(4, 4, 20, 20))
    p.drawRect(QRectF(8, 12, 8, 8))
    p.drawLine(QPointF(16, 12), QPointF(21, 7))
    p.drawPolyline([QPointF(17, 7), QPointF(21, 7), QPointF(21, 11)])


def _sift(p: QPainter) -> None:
    p.drawArc(QRectF(4, 2, 20, 16), 180 * 16, 180 * 16)
    p.drawLine(QPointF(4, 10), QPointF(24, 10))
    p.setBrush(p.pen().color())
    for at in (QPointF(9, 23), QPointF(14, 25), QPointF(19, 22)):
        p.drawEllipse(at, 1.3, 1.3)


def _gauge(p: QPainter) -> None:
    p.drawLine(QPointF(5, 22), QPointF(22, 5))
    for t in (0.0, 0.33, 0.66, 1.0):
        x, y = 5 + 17 * t, 22 - 17 * t
        size = 4.0 if t in (0.0, 1.0) else 2.4
        p.drawLine(QPointF(x - size, y - size), QPointF(x + size, y + size))


def _ground(p: QPainter) -> None:
    p.drawPolygon(QPolygonF([QPointF(14, 5), QPointF(21, 17), QPointF(7, 17)]))
    p.drawLine(QPointF(3, 22), QPointF(25, 22))
    for x in (6, 12, 18, 24):
        p.drawLine(QPointF(x, 22), QPointF(x - 3, 26))


def _ladder(p: QPainter) -> None:
    p.drawLine(QPointF(7, 24), QPointF(11, 4))
    p.drawLine(QPointF(17, 24), QPointF(21, 4))
    for t in (0.15, 0.4, 0.65, 0.9):
        p.drawLine(QPointF(7 + 4 * t, 24 - 20 * t), QPointF(17 + 4 * t, 24 - 20 * t))


def _weave(p: QPainter) -> None:
    for k in (7, 14, 21):
        p.drawPolyline([QPointF(4, k - 1), QPointF(10, k + 1), QPointF(18, k - 1), QPointF(24, k + 1)])
        p.drawPolyline([QPointF(k + 1, 4), QPointF(k - 1, 10), QPointF(k + 1, 18), QPointF(k - 1, 24)])


def _sleeve(p: QPainter) -> None:
    for y, w in ((6, 7.0), (14, 8.5), (22, 7.0)):
        p.drawEllipse(QPointF(14, y), w, 2.8)
    p.drawLine(QPointF(7, 6), QPointF(7, 22))
    p.drawLine(QPointF(21, 6), QPointF(21, 22))


def _darn(p: QPainter) -> None:
    p.drawEllipse(QPointF(14, 14), 10, 10)
    for k in (-5, 0, 5):
        half = (100 - k * k) ** 0.5
        p.drawLine(QPointF(14 - half, 14 + k), QPointF(14 + half, 14 + k))
        p.drawLine(QPointF(14 + k, 14 - half), QPointF(14 + k, 14 + half))


def _rows(p: QPainter) -> None:
    p.drawRect(QRectF(4, 6, 20, 16))
    p.drawLine(QPointF(4, 11.5), QPointF(24, 11.5))
    p.drawLine(QPointF(4, 16.5), QPointF(24, 16.5))
    p.drawPolyline([QPointF(11, 2.5), QPointF(14, 5.5), QPointF(17, 2.5)])
    p.drawPolyline([QPointF(11, 25.5), QPointF(14, 22.5), QPointF(17, 25.5)])


def _move(p: QPainter) -> None:
    p.drawLine(QPointF(14, 14), QPointF(14, 4))
    p.drawLine(QPointF(14, 14), QPointF(23, 19))
    p.drawLine(QPointF(14, 14), QPointF(5, 19))
    p.setBrush(p.pen().color())
    for at in (QPointF(14, 4), QPointF(23, 19), QPointF(5, 19)):
        p.drawEllipse(at, 2.0, 2.0)


def _carry(p: QPainter) -> None:
    p.drawRect(QRectF(4, 12, 12, 12))
    p.drawLine(QPointF(10, 18), QPointF(23, 5))
    p.drawPolyline([QPointF(17, 5), QPointF(23, 5), QPointF(23, 11)])


def _lift(p: QPainter) -> None:
    p.drawPolyline([QPointF(4, 22), QPointF(9, 22), QPointF(14, 12), QPointF(19, 22), QPointF(24, 22)])
    p.drawLine(QPointF(14, 10), QPointF(14, 3))
    p.drawPolyline([QPointF(11, 6), QPointF(14, 3), QPointF(17, 6)])


def _tidy(p: QPainter) -> None:
    for y in (7, 14, 21):
        p.drawLine(QPointF(4, y), QPointF(24, y))
    p.setBrush(p.pen().color())
    for at in (QPointF(8, 7), QPointF(14, 7), QPointF(20, 7), QPointF(8, 14), QPointF(20, 14), QPointF(14, 21)):
        p.drawEllipse(at, 1.8, 1.8)


def _guide(p: QPainter) -> None:
    path = QPainterPath(QPointF(5, 22))
    path.cubicTo(QPointF(8, 4), QPointF(18, 26), QPointF(23, 6))
    p.drawPath(path)
    p.setBrush(p.pen().color())
    for at in (QPointF(5, 22), QPointF(14, 14), QPointF(23, 6)):
        p.drawEllipse(at, 2.0, 2.0)


def _density(p: QPainter) -> None:
    p.setBrush(p.pen().color())
    for k, row in enumerate(((5, 12, 19, 26), (4, 9, 14, 19, 24), (3, 6.5, 10, 13.5, 17, 20.5, 24))):
        for x in row:
            p.drawEllipse(QPointF(min(x, 25), 7 + 7 * k), 1.5, 1.5)


_PAINTERS: dict[str, Painter] = {
    "draft": _draft, "nudge": _nudge, "flat-nudge": _nudge, "relax": _relax, "flat-relax": _relax, "unpick": _unpick, "hold": _hold, "cut": _cut, "sew": _sew, "look": _look, "probe": _probe, "hull": _hull, "decal": _decal, "slide": _slide, "cast": _cast,
    "place": _place, "ladder": _ladder, "weave": _weave, "sleeve": _sleeve, "darn": _darn, "rows": _rows, "move": _move, "carry": _carry, "lift": _lift, "tidy": _tidy, "guide": _guide, "density": _density, "sift": _sift, "gauge": _gauge, "ground": _ground,
}  # fmt: skip


def has_icon(name: str) -> bool:
    """Whether there is a picture of a tool or command."""
    return name in _PAINTERS or name in PICTURES


def icon(name: str, colour: str, size: int = 28) -> QIcon:
    """The icon of a tool or command in a colour."""
    picture = QPixmap(size * 2, size * 2)
    picture.setDevicePixelRatio(2.0)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(colour), 1.7, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin))
    if name in PICTURES:
        paint(painter, name)
    else:
        _PAINTERS.get(name, _hold)(painter)
    painter.end()
    return QIcon(picture)
