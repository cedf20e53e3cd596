"""Where the outlines of jacket and source differ, found beside the window whenever the view stands still."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, QPointF
from PySide6.QtGui import QColor, QImage, QPainter

from jacket.core.derive import light_of
from jacket.core.mesh.polymesh import Bools, PolyMesh
from jacket.core.space.raster import covered
from jacket.program import Program
from jacket.qt.overlooking import Overlooking
from jacket.qt.theme import font
from jacket.qt.views.form_view import FormView
from jacket.qt.views.overlay import difference_picture
from jacket.tools.view import FormCamera

MOST = 240_000
"""Triangles of the source that are looked at: its outline is a light copy's."""


@dataclass(frozen=True, eq=False)
class Outlines:
    """Pixels (H, W) that only the source covers, those that only the jacket does, and the share of the source's in which they
    differ."""

    beyond: Bools
    short: Bools
    share: float


class Outlining(Overlooking):
    """Keeps the form view's picture of differing outlines true to what is looked at, or takes it away."""

    def __init__(self, program: Program, form: FormView, parent: QObject) -> None:
        super().__init__(program, form, 30, parent)
        self.found: Outlines | None = None
        self._key: object = None
        self._image: QImage | None = None
        form.outlines = self.paint

    def follow(self) -> None:
        """Something changed that it may follow from."""
        now = self._now()
        if now is None and self.found is not None:
            self.found, self._key, self._image = None, None, None
            self.form.overlay.update()
        elif now is not None and now != self._key:
            self._timer.start()

    def _now(self) -> tuple[FormCamera, PolyMesh, PolyMesh] | None:
        """What it follows from; None where it is not shown."""
        state = self.program.document.state
        source, jacket = state.source, state.jacket
        if not self.program.display.outline or source is None or jacket is None or jacket.mesh.n_faces == 0:
            return None
        return (self.form.camera, source.mesh, jacket.mesh) if source.visible and jacket.visible else None

    def _look(self) -> None:
        now = self._now()
        if now is None:
            return
        if self.worker.busy or self.form.moving or self.program.document.in_gesture:
            self._timer.start()
            return
        camera, source, jacket = now

        def job(_: Any) -> Outlines:
            theirs, ours = (covered(camera.project(m.points), m.triangle_points, camera.width, camera.height)
                            for m in (light_of(source, MOST)[0], jacket))  # fmt: skip
            beyond, short = theirs & ~ours, ours & ~theirs
            return Outlines(beyond, short, float(beyond.sum() + short.sum()) / max(int(theirs.sum()), 1))

        def done(found: Outlines) -> None:
            self.found, self._key, self._image = found, now, difference_picture(found.beyond, found.short)
            self.form.overlay.update()
            self.follow()  # the view may be another by now

        self.worker.start("compare outlines", job, done, self.program.say)

    def paint(self, painter: QPainter) -> None:
        """The picture over the form, where it is still of this view, and its figure."""
        now = self._now()
        if now is None:
            return
        current = now == self._key
        if current and self._image is not None:
            painter.drawImage(0, 0, self._image)
        painter.setFont(font(11, bold=True))
        painter.setPen(QColor("#fbf9f4"))
        said = f"Outline differs by {100 * self.found.share:.2f} % of the source's" if current and self.found is not None else "Comparing outlines…"
        painter.drawText(QPointF(90, self.form.height() - 22), said)
