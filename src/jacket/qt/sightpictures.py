"""Small pictures of sight lines: the form as it is seen from there, its seams drawn where they show."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap, QPolygonF

from jacket.core.mesh.geometry import face_centres, face_normals
from jacket.core.mesh.polymesh import Bools, PolyMesh
from jacket.core.seams.sight import Sight
from jacket.qt.theme import Palette

WIDE, HIGH = 48, 44
MOST = 6000
"""Faces that are drawn at most: a picture of so few pixels shows no more."""


def sight_picture(mesh: PolyMesh, sight: Sight, cut: Bools, palette: Palette) -> QPixmap:
    """What is seen from the first place of a sight line, for a mesh that is cut at flagged edges (E,)."""
    out = QPixmap(2 * WIDE, 2 * HIGH)
    out.setDevicePixelRatio(2.0)
    out.fill(QColor(palette.form_ground))
    eye, target = sight.places()[0], np.array(sight.target)
    back = (eye - target) / max(float(np.linalg.norm(eye - target)), 1e-300)
    side = np.cross([0.0, 1, 0] if abs(back[1]) < 0.999 else [0.0, 0, -1], back)
    side /= max(float(np.linalg.norm(side)), 1e-300)
    frame = np.stack([side, np.cross(back, side), back])
    seen = (mesh.points - eye) @ frame.T
    depth = -seen[:, 2]
    if mesh.n_faces == 0 or not (depth > 0).all():
        return out
    flat = seen[:, :2] / depth[:, None]
    low, high = flat.min(axis=0), flat.max(axis=0)
    scale = 0.86 * min(WIDE / max(high[0] - low[0], 1e-9), HIGH / max(high[1] - low[1], 1e-9))
    at = (flat - (low + high) / 2) * [scale, -scale] + [WIDE / 2, HIGH / 2]
    normals, centres = face_normals(mesh), face_centres(mesh)
    towards = eye - centres
    facing = np.einsum("ij,ij->i", normals, towards) / np.maximum(np.linalg.norm(towards, axis=1), 1e-300)
    front = np.flatnonzero(facing > 0)
    front = front[np.argsort(-np.linalg.norm(towards[front], axis=1))][:: max(1, len(front) // MOST)]
    painter = QPainter(out)
    painter.setPen(Qt.PenStyle.NoPen)
    base = QColor(palette.jacket)
    edge_of, first = mesh.topology.edge, mesh.starts
    for f in front.tolist():
        corners = range(int(first[f]), int(first[f + 1]))
        painter.setBrush(base.darker(100 + int(70 * (1 - facing[f]))))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPolygon(QPolygonF([QPointF(*at[mesh.corners[c]]) for c in corners]))
        # A seam goes on with its face, so that what lies before covers it.
        for c in corners:
            if cut[edge_of[c]]:
                a, b = mesh.topology.edge_points[edge_of[c]]
                painter.setPen(QPen(QColor(palette.stitch), 1.4))
                painter.drawLine(QLineF(*at[a], *at[b]))
    painter.end()
    return out
