"""What is worked out beside the window for the Seams stage: what a cut under the pointer would do, figures of seam sets."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer

from jacket.core.derive import lying_at, set_figures_of, sky_of
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import Aspect, Bools, PolyMesh
from jacket.core.seams.foreseen import Foreseen, faces_at, foresee
from jacket.core.seams.kept import set_flags, set_names
from jacket.core.uv.sets import cut_flags, piece_labels
from jacket.program import Program
from jacket.progress import Progress
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.qt.work import Worker
from jacket.stages.seams.values import SeamsValues
from jacket.tools.base import Asked

MOST_RELAID = 6
"""Pieces that are laid flat anew at once; where more are others, as after putting a seam set on, flattening is asked for."""


class Foreseeing(QObject):
    """Follows what the tool asks about; what the pointer has left meanwhile is dropped."""

    def __init__(self, program: Program, form: FormView, flat: FlatView, parent: QObject) -> None:
        super().__init__(parent)
        self.program, self.form = program, form
        self.worker, self.figures, self.flattener = Worker(self), Worker(self), Worker(self)
        self._cuts: tuple[int, Aspect, Aspect, Bools] | None = None
        self._changed: Any = np.zeros(0, np.int64)
        self._asked: Asked | None = None
        self._working: Asked | None = None
        form.ghost_changed.connect(self.follow)
        flat.ghost_changed.connect(self.follow)
        self.timer = QTimer(self, interval=200, singleShot=True)
        self.timer.timeout.connect(self._measure)

    @property
    def busy(self) -> bool:
        """Whether something is being worked out."""
        return self.worker.busy or self.figures.busy or self.flattener.busy or self.timer.isActive()

    def close(self) -> None:
        """Stop everything and wait for it."""
        self.timer.stop()
        for worker in (self.worker, self.figures, self.flattener):
            worker.stop()
            worker.wait(5)

    # ---- the cut under the pointer --------------------------------------------------------------------------------
    def follow(self) -> None:
        """The ghost is another one: look ahead for what the tool asks about now."""
        asked = self.program.tool.asks
        if asked is None or not _same(asked, self._asked):
            # Another cut: what is shown is no longer true.
            if self.form.inset is not None:
                self.form.inset = None
                self.form.overlay.update()
        elif asked.turn == self._asked.turn if self._asked is not None else False:
            return
        self._asked = asked
        self._start()

    def _start(self) -> None:
        asked = self._asked
        if asked is None or self.worker.busy:
            return
        self._working = asked
        mesh = asked.mesh

        def job(progress: Progress) -> Foreseen:
            return foresee(mesh, cut_flags(mesh), asked.edges, sky_of(mesh), lying_at(mesh, asked.edges))

        self.worker.start("look ahead", job, self._seen, self.program.say)

    def _seen(self, found: Foreseen) -> None:
        done, self._working = self._working, None
        if done is not None and self._asked is not None and _same(done, self._asked):
            self.form.inset = (found, self._asked)
            self.form.overlay.update()
        elif self._asked is not None:
            self._start()

    # ---- islands that turn into their new shape ------------------------------------------------------------------------
    def _follow_cuts(self) -> None:
        """Lay flat anew what was cut or sewn since the last look, where it lies on the sheet."""
        document = self.program.document
        layer = document.state.jacket
        if document.in_gesture:
            return
        if layer is None or self.program.stage.id != "seams" or layer.mesh.uv is None or not self.program.values(SeamsValues).live:
            self._cuts = None
            return
        mesh = layer.mesh
        faces, known = mesh.aspect("faces"), self._cuts
        now = (layer.id, faces, mesh.aspect("uv"), cut_flags(mesh))
        self._cuts = now
        if known is None or known[0] != layer.id or known[1] is not faces or known[2] is not now[2]:
            return  # another layer, other faces, or the sheet was laid out otherwise
        self._changed = np.union1d(self._changed, np.flatnonzero(known[3] != now[3]))
        self._relay()

    def _relay(self) -> None:
        state = self.program.document.state
        # What the user asked for stands on the layer as it is: changing it now would throw that away.
        if len(self._changed) == 0 or self.flattener.busy or state.jacket is None or not self.program.tasks.settled:
            return
        mesh, sheets, layer_id = state.jacket.mesh, state.sheets, state.active
        changed, self._changed = self._changed[self._changed < mesh.topology.n_edges], np.zeros(0, np.int64)
        pieces = np.unique(piece_labels(mesh)[1][faces_at(mesh, changed)]) if len(changed) else changed
        if not 0 < len(pieces) <= MOST_RELAID:
            return

        def done(result: PolyMesh) -> None:
            document = self.program.document
            now = document.state.jacket
            quiet = not document.in_gesture and self.program.tasks.settled
            if now is not None and now.id == layer_id and now.mesh is mesh and quiet:
                # No step of its own: it belongs to the cut, and goes with it.
                self._cuts = (layer_id, result.aspect("faces"), result.aspect("uv"), cut_flags(result))
                document.amend(document.state.with_jacket_mesh(result, document.state.held))
            elif now is not None and now.id == layer_id:
                self._changed = np.union1d(self._changed, changed)
                self.timer.start()
                return
            self._relay()

        self.flattener.start("lay flat what is cut", lambda progress: unwrap(mesh, pieces, progress, sheets)[0], done, self.program.say)

    # ---- figures of seam sets ---------------------------------------------------------------------------------------
    def refresh(self) -> None:
        """Something changed that figures of seam sets follow from."""
        self._follow_cuts()
        if self.program.stage.id == "seams":
            self.timer.start()

    def _measure(self) -> None:
        self._follow_cuts()
        self._relay()
        state = self.program.document.state
        if self.program.stage.id != "seams" or state.jacket is None or self.program.document.in_gesture:
            return
        if self.figures.busy or self.program.tasks.busy:
            self.timer.start()
            return
        mesh, sights = state.jacket.mesh, state.sights
        missing = next((f for f in ways_to_cut(mesh) if set_figures_of(mesh, f, sights, known=True) is None), None)
        if missing is None:
            return

        def done(_: Any) -> None:
            self.program.take_note("figures")
            self.timer.start()

        self.figures.start("measure seams", lambda progress: set_figures_of(mesh, missing, sights), done, self.program.say)


def ways_to_cut(mesh: PolyMesh) -> list[Any]:
    """Flags (E,) of what is cut and of every seam set."""
    if mesh.n_faces == 0:
        return []
    return [cut_flags(mesh), *(set_flags(mesh, n) for n in set_names(mesh))]


def _same(a: Asked, b: Asked | None) -> bool:
    return b is not None and a.mesh is b.mesh and np.array_equal(a.edges, b.edges)
