"""The place under the pointer, marked in the other view too: the same spot on the form and on the sheet."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer

from jacket.commands.beside import is_large
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.space.segments import barycentric
from jacket.program import Program
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.tools.events import Pointer
from jacket.tools.pick import occluder, pick, pick_flat

STAGES = ("seams", "flatten", "layout", "deliver")


class Pointing(QObject):
    """Follows the pointer in either view while islands lie flat."""

    def __init__(self, program: Program, form: FormView, flat: FlatView, parent: QObject) -> None:
        super().__init__(parent)
        self.program, self.form, self.flat = program, form, flat
        self._soon = QTimer(self, interval=20, singleShot=True)
        self._soon.timeout.connect(self.follow)
        for view in (form, flat):
            view.ghost_changed.connect(self._follow_soon)
            view.came_to_rest.connect(self._follow_soon)

    def _follow_soon(self) -> None:
        """Of a large layer places are looked up anew after each change: not in the very event that made it."""
        if is_large(self.program.document.state):
            self._soon.start()
        else:
            self.follow()

    def follow(self) -> None:
        """Mark the place in the view that the pointer is not in."""
        on_form, on_sheet = None, None
        jacket = self.program.document.state.jacket
        busy = self.program.tool.busy or self.program.document.in_gesture
        if jacket is not None and jacket.mesh.uv is not None and self.program.stage.id in STAGES and not busy:
            if self.flat.overlay.pointer.x() >= 0:
                on_form = place_on_form(jacket.mesh, self._pointer(self.flat))
            elif self.form.overlay.pointer.x() >= 0 and not self.form.moving and self.form.ready():
                on_sheet = self._on_sheet(jacket.mesh)
        for view, spot in ((self.form, on_form), (self.flat, on_sheet)):
            if (spot is None) != (view.overlay.spot is None) or (spot is not None and not np.array_equal(spot, view.overlay.spot)):
                view.overlay.spot = spot
                view.overlay.update()

    @staticmethod
    def _pointer(view: Any) -> Pointer:
        found: Pointer = view.pointer_now()
        return found

    def _on_sheet(self, mesh: PolyMesh) -> Floats | None:
        pointer = self._pointer(self.form)
        found = pick(mesh, pointer, 0.0, occluder(self.program.document.state), "face") if pointer is not None else None
        if found is None or found.kind != "face" or found.position is None:
            return None
        return carried_over(mesh, found.id, mesh.points[mesh.corners], mesh.uv, found.position)


def place_on_form(mesh: PolyMesh, pointer: Pointer | None) -> Floats | None:
    """(3,) the place of the form that lies under a pointer over the sheet; None over none."""
    if pointer is None or pointer.flat is None or mesh.uv is None:
        return None
    found = pick_flat(mesh, pointer, 0.0, "face")
    if found.kind != "face":
        return None
    return carried_over(mesh, found.id, mesh.uv, mesh.points[mesh.corners], pointer.flat.place(pointer.x, pointer.y))


def carried_over(mesh: PolyMesh, face: int, here: Any, there: Any, place: Floats) -> Floats | None:
    """A place in a face by the corners' positions `here` (C, D), as the same place by those `there` (C, K): in the triangle of
    its fan that it lies in, or nearest to it."""
    first, count = int(mesh.starts[face]), int(mesh.sizes[face])
    best, least = None, np.inf
    for k in range(1, count - 1):
        corners = [first, first + k, first + k + 1]
        weights = barycentric(place, np.asarray(here)[corners])
        if weights is None:
            continue
        outside = float(np.maximum(-weights, 0).sum())
        if outside < least:
            best, least = weights @ np.asarray(there)[corners], outside
    return best if best is not None and np.isfinite(best).all() else None
