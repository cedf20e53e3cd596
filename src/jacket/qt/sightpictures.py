"""Small pictures of sight lines: the form as it is seen from there, its seams drawn where they show."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPixmap

from jacket.core.mesh.geometry import face_centres, face_normals
from jacket.core.mesh.polymesh import Bools, PolyMesh
from jacket.core.mesh.tables import bounds
from jacket.core.seams.sight import Sight
from jacket.core.space.raster import nearest
from jacket.qt.theme import Palette, rgb

WIDE, HIGH = 48, 44


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
    low, high = bounds(flat)
    scale = 0.86 * min(2 * WIDE / max(high[0] - low[0], 1e-9), 2 * HIGH / max(high[1] - low[1], 1e-9))
    at = (flat - (low + high) / 2) * [scale, -scale] + [WIDE, HIGH]
    front = np.einsum("ij,ij->i", face_normals(mesh), eye - face_centres(mesh)) > 0
    triangles = np.flatnonzero(front[mesh.triangle_faces])
    which, _ = nearest(np.column_stack([at, depth]), mesh.triangle_points[triangles], 2 * WIDE, 2 * HIGH)
    on = which >= 0
    which[on] = triangles[which[on]]
    facing = face_normals(mesh)[mesh.triangle_faces[which[on]]] @ back
    pixels = np.empty((2 * HIGH, 2 * WIDE, 3))
    pixels[:] = rgb(palette.form_ground)[:3]
    pixels[on] = np.array(rgb(palette.jacket)[:3]) / (1.0 + 0.7 * (1 - np.clip(facing, 0, 1)))[:, None]
    small = np.ascontiguousarray(np.clip(255 * pixels, 0, 255), np.uint8)
    image = QImage(small.data, 2 * WIDE, 2 * HIGH, 6 * WIDE, QImage.Format.Format_RGB888).copy()
    image.setDevicePixelRatio(2.0)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor(palette.stitch), 1.2))
    # What lies on the back of the form alone is not seen.
    fore = np.zeros(mesh.topology.n_edges, bool)
    fore[mesh.topology.edge[front[mesh.face_of_corner]]] = True
    ends = mesh.topology.edge_points[cut & fore]
    for (ax, ay), (bx, by) in (at[ends[_shows(at, depth, ends, which, mesh)]] / 2).tolist():
        painter.drawLine(QLineF(QPointF(ax, ay), QPointF(bx, by)))
    painter.end()
    return QPixmap.fromImage(image)


def _shows(at: np.ndarray, depth: np.ndarray, ends: np.ndarray, which: np.ndarray, mesh: PolyMesh) -> np.ndarray:
    """(S,) of edges by their ends (S, 2) those whose middle nothing is before, by the nearest triangle of each pixel."""
    if len(ends) == 0:
        return np.zeros(0, bool)
    x, y = np.clip(at[ends].mean(axis=1).astype(int), 0, [which.shape[1] - 1, which.shape[0] - 1]).T
    t = which[y, x]
    nearer = depth[mesh.triangle_points[np.maximum(t, 0)]].mean(axis=1)
    span = float(np.ptp(depth))
    return np.asarray((t < 0) | (depth[ends].mean(axis=1) < nearer + 0.03 * span))
