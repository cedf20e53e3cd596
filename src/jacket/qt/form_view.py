"""The form view: source, jacket and ghosts in three dimensions."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter

from jacket.document.derived import pickable, surface_of
from jacket.document.document import Document
from jacket.qt.glview import GlView
from jacket.qt.overlay import draw_axes
from jacket.tools.events import Pointer
from jacket.tools.view import FormCamera

CHIPS = [("source", "Source"), ("jacket", "Jacket"), ("wire", "Wire"), ("poles", "Poles"), ("islands", "Islands"),
         ("gap", "Gap to source"), ("moved", "Moved")]  # fmt: skip


class FormView(GlView):
    """Three dimensions."""

    view_name = "form"

    def __init__(self, document: Document) -> None:
        super().__init__("Form view", CHIPS, "#fbf9f4")
        self.document = document
        self.camera = FormCamera(np.zeros(3), 3.0)
        self.overlay.extra = self._paint_extra

    def _paint_extra(self, painter: QPainter) -> None:
        draw_axes(painter, self.camera.rotation, self.height())

    def project(self, points: Any) -> Any:
        return self.camera.project(points)

    def matrix_eye_rotation(self) -> tuple[Any, Any, Any]:
        return self.camera.matrix, self.camera.eye, self.camera.rotation

    def pointer(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> Pointer:
        return Pointer(
            at.x(), at.y(), form=self.camera,
            shift=bool(modifiers & Qt.KeyboardModifier.ShiftModifier),
            ctrl=bool(modifiers & Qt.KeyboardModifier.ControlModifier),
        )  # fmt: skip

    def sized(self, width: int, height: int) -> None:
        from dataclasses import replace

        self.camera = replace(self.camera, width=width, height=height)

    def drag_camera(self, kind: str, dx: float, dy: float) -> None:
        self.camera = self.camera.turned(dx, dy) if kind == "turn" else self.camera.shifted(dx, dy)

    def near_camera(self, steps: float, at: QPointF) -> None:
        self.camera = self.camera.neared(steps, self._under(at))

    def _under(self, at: QPointF) -> Any:
        """What the pointer is over, for nearing; None over nothing."""
        origin, direction = self.camera.ray(at.x(), at.y())
        state = self.document.state
        meshes = [
            o.mesh
            for o in (state.source, state.jacket)
            if o is not None and o.visible and o.mesh.n_faces and pickable(o.mesh)
        ]
        hits = [surface_of(m).ray(origin, direction) for m in meshes]
        near = min((h for h in hits if h is not None), key=lambda h: h.distance, default=None)
        return near.position if near is not None else None

    def frame_points(self, points: Any) -> None:
        """Move the camera so that points fill the view."""
        if len(points):
            self.camera = self.camera.framing(points)
            self._camera_moved()
