"""The form view: source, jacket and ghosts in three dimensions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter

from jacket.core.derive import form_of, normals_of, pickable, surface_of
from jacket.core.mesh.nodes import BARE
from jacket.core.mesh.poles import irregular_points
from jacket.core.seams.foreseen import Foreseen
from jacket.core.store import STORE
from jacket.document.document import Document
from jacket.qt.theme import DAY, Palette
from jacket.qt.views.glview import GlView
from jacket.qt.views.inset import draw_inset, draw_loupe
from jacket.qt.views.overlay import draw_axes, draw_halves, draw_node, draw_poles, draw_wipe
from jacket.tools.base import Asked
from jacket.tools.events import Pointer
from jacket.tools.pick import occluder, screen_points, slack_for, visible
from jacket.tools.view import FormCamera

CHIPS = [("source", "Source"), ("jacket", "Jacket"), ("wire", "Wire"), ("islands", "Islands"), ("through", "Through"),
         ("poles", "Poles"), ("lit", "As in the game"), ("cage", "Cage"), ("gap", "Gap to source"), ("moved", "Moved")]  # fmt: skip

MOST_POLES = 220
"""So many poles get their valence written beside them; more are dots until the view is nearer."""


class FormView(GlView):
    """Three dimensions."""

    view_name = "form"

    def __init__(self, document: Document) -> None:
        super().__init__("Form view", CHIPS, "#fbf9f4")
        self.document = document
        self.camera = FormCamera(np.zeros(3), 3.0)
        self.overlay.extra = self._paint_extra
        self.mark_poles = False
        self.show_nodes = False
        self.differ: Callable[[QPainter], None] | None = None
        self.outlines: Callable[[QPainter], None] | None = None
        self.inset: tuple[Foreseen, Asked] | None = None
        self.palette_: Palette = DAY
        self.halves: tuple[str, str] | None = None
        """What is shown in the left and in the right half, where two meshes are compared."""
        self.wipe = 1.0
        """How much of the width shows the light mesh, the dense one beside it."""
        self.apart = False
        """Whether the light mesh stands in the left half and the dense one in the right."""

    def _paint_extra(self, painter: QPainter) -> None:
        # During a drag the jacket changes with every event; what costs more than a frame waits for its end.
        if not self.moving and not (self.tool is not None and self.tool.busy):
            if self.mark_poles:
                self._paint_poles(painter)
            if self.outlines is not None:
                self.outlines(painter)
        if self.differ is not None and not self.apart:
            self.differ(painter)
        if self.show_nodes:
            self._paint_nodes(painter)
        if self.apart:
            draw_halves(painter, ("light", "dense"), self.width(), self.height())
        if self.wipe < 1.0:
            draw_wipe(painter, self.wipe, self.width(), self.height())
        if self.halves is not None:
            draw_halves(painter, self.halves, self.width(), self.height())
        if self.tool is not None and self.tool.asks is not None and self.overlay.pointer.x() >= 0 and not self.moving:
            self._paint_loupe(painter, self.tool.asks)
        if self.inset is not None and not self.moving:
            draw_inset(painter, *self.inset, self.palette_, self.height())
            return
        draw_axes(painter, self.camera.rotation, self.height())

    def _paint_loupe(self, painter: QPainter, asked: Asked) -> None:
        at, spot = screen_points(asked.mesh, self.camera)[:, :2], self.overlay.pointer
        ends, mesh = asked.mesh.topology.edge_points, asked.mesh
        facing = np.einsum("ij,ij->i", normals_of(mesh), self.camera.eye - mesh.points) > 0
        front = np.flatnonzero(facing[ends].any(axis=1))
        lit = np.flatnonzero(np.isin(front, asked.edges))
        draw_loupe(painter, at, ends[front], lit, spot.x(), spot.y(), self.palette_, self.width())

    def _paint_poles(self, painter: QPainter) -> None:
        jacket = self.document.state.jacket
        if jacket is None or not jacket.visible or not self.ready():
            return
        mesh = jacket.mesh
        store: dict[str, Any] = STORE.get((*form_of(mesh), self.camera), "seen poles", dict)
        if not store:
            ids = STORE.get((mesh.aspect("faces"),), "poles", lambda: irregular_points(mesh))
            at = self.camera.project(mesh.points[ids])[:, :2] if len(ids) else np.zeros((0, 2))
            inside = ((at > 0) & (at < [self.width(), self.height()])).all(axis=1)
            at, ids = at[inside], ids[inside]
            if len(ids) <= MOST_POLES:
                hiding = occluder(self.document.state)
                keep = visible(self.camera, mesh.points[ids], hiding, slack_for(mesh, hiding))
                at, ids = at[keep], ids[keep]
            store.update(at=at, ids=ids)
        at, ids = store["at"], store["ids"]
        if len(ids) <= MOST_POLES:
            draw_poles(painter, at, mesh.topology.valence[ids])

    def _paint_nodes(self, painter: QPainter) -> None:
        """Pivot and sockets of the active layer, where some were set; they lie over everything, as they are often inside."""
        jacket = self.document.state.jacket
        if jacket is None or not jacket.visible or jacket.mesh.n_faces == 0 or jacket.nodes == BARE:
            return
        nodes, size = jacket.nodes, 0.06 * jacket.mesh.diagonal
        places = [np.array(nodes.pivot), *(np.array(s.place) + k * size * np.array(s.towards) for s in nodes.sockets for k in (0, 1))]
        at = self.camera.project(np.array(places))[:, :2]
        if np.isfinite(at[0]).all():
            draw_node(painter, at[0], None, "pivot")
        for k, socket in enumerate(nodes.sockets):
            if np.isfinite(at[2 * k + 1 : 2 * k + 3]).all():
                draw_node(painter, at[2 * k + 1], at[2 * k + 2], socket.name)

    def project(self, points: Any) -> Any:
        at = self.camera.project(points)
        return at - np.array([0.25 * self.width(), 0.0, 0.0]) if self.apart else at

    def matrix_eye_rotation(self) -> tuple[Any, Any, Any]:
        return self.camera.matrix, self.camera.eye, self.camera.rotation

    def pointer(self, at: QPointF, modifiers: Qt.KeyboardModifier) -> Pointer:
        return Pointer(
            at.x() + self._aside(at), at.y(), form=self.camera,
            shift=bool(modifiers & Qt.KeyboardModifier.ShiftModifier),
            ctrl=bool(modifiers & Qt.KeyboardModifier.ControlModifier), pressure=self.pressure,
        )  # fmt: skip

    def _aside(self, at: QPointF) -> float:
        """Either half shows the middle of the view where two stand side by side: what one points at lies a quarter of the width
        aside."""
        return 0.25 * self.width() * (1 if at.x() < 0.5 * self.width() else -1) if self.apart else 0.0

    @property
    def per_unit(self) -> float:
        """About how many pixels a unit has at the place that is looked at."""
        return self.camera.focal / self.camera.distance

    def sized(self, width: int, height: int) -> None:
        self.camera = replace(self.camera, width=width, height=height)

    def drag_camera(self, kind: str, dx: float, dy: float) -> None:
        self.camera = self.camera.turned(dx, dy) if kind == "turn" else self.camera.shifted(dx, dy)

    def near_camera(self, steps: float, at: QPointF) -> None:
        self.camera = self.camera.neared(steps, self._under(at))

    def _under(self, at: QPointF) -> Any:
        """What the pointer is over, for nearing; None over nothing."""
        origin, direction = self.camera.ray(at.x() + self._aside(at), at.y())
        state = self.document.state
        meshes = [
            o.mesh
            for o in (state.source, state.jacket)
            if o is not None and o.visible and o.mesh.n_faces and pickable(o.mesh)
        ]
        hits = [surface_of(m).ray(origin, direction) for m in meshes]
        near = min((h for h in hits if h is not None), key=lambda h: h.distance, default=None)
        return near.position if near is not None else None

    def frame_points(self, points: Any, whole: bool = False) -> None:
        """Move the camera so that points fill the view; `whole` where they are all there is."""
        if len(points):
            self.camera = self.camera.framing(points, whole)
            self._camera_moved()
