"""What is worked out beside the window for the Seams stage: what a cut under the pointer would do, figures of seam sets."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer

from jacket.core.derive import lying_at, set_figures_of, sky_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.foreseen import Foreseen, foresee
from jacket.core.seams.kept import set_flags, set_names
from jacket.core.uv.sets import cut_flags
from jacket.program import Program
from jacket.progress import Progress
from jacket.qt.views.flat_view import FlatView
from jacket.qt.views.form_view import FormView
from jacket.qt.work import Worker
from jacket.tools.base import Asked


class Foreseeing(QObject):
    """Follows what the tool asks about; what the pointer has left meanwhile is dropped."""

    def __init__(self, program: Program, form: FormView, flat: FlatView, parent: QObject) -> None:
        super().__init__(parent)
        self.program, self.form = program, form
        self.worker, self.figures = Worker(self), Worker(self)
        self._asked: Asked | None = None
        self._working: Asked | None = None
        form.ghost_changed.connect(self.follow)
        flat.ghost_changed.connect(self.follow)
        self.timer = QTimer(self, interval=200, singleShot=True)
        self.timer.timeout.connect(self._measure)

    @property
    def busy(self) -> bool:
        """Whether something is being worked out."""
        return self.worker.busy or self.figures.busy or self.timer.isActive()

    def close(self) -> None:
        """Stop everything and wait for it."""
        self.timer.stop()
        for worker in (self.worker, self.figures):
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

    # ---- figures of seam sets ---------------------------------------------------------------------------------------
    def refresh(self) -> None:
        """Something changed that figures of seam sets follow from."""
        if self.program.stage.id == "seams":
            self.timer.start()

    def _measure(self) -> None:
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
