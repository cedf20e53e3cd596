"""Degrees between the light mesh as a game shows it and the dense one, found beside the window whenever the view stands still."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QLinearGradient, QPainter

from jacket.core.bake.compare import Delivered, halved
from jacket.core.bake.made import Bake
from jacket.core.bake.seen import Seen, compared, dense_look, heated, light_look
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sheets import Sheet
from jacket.jobs.bake import BakeLayer, dense_of
from jacket.jobs.intake_views import MOST, NEAR
from jacket.program import Program
from jacket.qt.overlooking import Overlooking
from jacket.qt.scene.lit import handed_of, sheets_of_triangles
from jacket.qt.theme import font
from jacket.qt.views.form_view import FormView
from jacket.stages.deliver.baking import layers_and_sources
from jacket.stages.deliver.wearing import dressed, skin_follows

DIFFERENCE = "difference"
"""What is shown in place of a map."""


class Differing(Overlooking):
    """Keeps the form view's picture of the difference true to what is looked at, or takes it away."""

    def __init__(self, program: Program, form: FormView, parent: QObject) -> None:
        super().__init__(program, form, 200, parent)
        self.seen: Seen | None = None
        self._key: object = None
        self._image: QImage | None = None
        form.differ = self.paint

    @property
    def wanted(self) -> bool:
        """Whether the difference is what is shown."""
        program = self.program
        return program.stage.id == "deliver" and program.display.lit and program.display.map == DIFFERENCE

    def follow(self) -> None:
        """Something changed that it may follow from."""
        if self.wanted and self._now() != self._key:
            self._timer.start()
        elif not self.wanted and self._image is not None:
            self._image, self._key, self.seen = None, None, None
            self.form.overlay.update()

    def _now(self) -> tuple[Any, ...]:
        state, program = self.program.document.state, self.program
        rows = tuple((j.id, skin_follows(j.mesh), j.pictures, j.decals) for j in state.looked_at)
        sources = tuple(s.mesh for s in layers_and_sources(state)[1])
        return (self.form.camera, program.baked, program.display.mip, rows, sources, state.sheets)

    def _look(self) -> None:
        if not self.wanted:
            return
        if self.worker.busy or self.form.moving or self.program.document.in_gesture:
            self._timer.start()
            return
        state, camera, key = self.program.document.state, self.form.camera, self._now()
        meshes = [(j.mesh, dressed(self.program.baked, j, state)) for j in state.looked_at]
        sources = [s for s in layers_and_sources(state)[1] if s.mesh.n_faces]
        mip = self.program.display.mip

        def job(_: Any) -> Seen:
            dense = dense_of([BakeLayer(s.name, s.mesh) for s in sources])
            light = [part for mesh, baked in meshes for part in shown_parts(mesh, state.sheets, baked, mip)]
            w, h = camera.width, camera.height
            return compared(light_look(light, camera.project, w, h), dense_look(dense, camera.project, w, h), NEAR * dense.diagonal)

        def done(seen: Seen) -> None:
            picture = heated(seen.degrees, MOST)
            rgba = np.dstack([picture, np.where(np.isfinite(seen.degrees), 255, 0).astype(np.uint8)])
            rgba = np.ascontiguousarray(rgba)
            image = QImage(rgba.tobytes(), rgba.shape[1], rgba.shape[0], 4 * rgba.shape[1], QImage.Format.Format_RGBA8888)
            self.seen, self._image, self._key = seen, image.copy(), key
            self.form.overlay.update()
            self.follow()  # the view may be another by now

        self.worker.start("compare with the dense mesh", job, done, self.program.say)

    def paint(self, painter: QPainter) -> None:
        """The picture over the form, where it is still of this view, and how to read it."""
        if not self.wanted:
            return
        current = self._image is not None and self.seen is not None and self._now() == self._key
        if current and self._image is not None:
            painter.drawImage(0, 0, self._image)
        height, width = self.form.height(), self.form.width()
        box = QRectF(width - 330, height - 34, 130, 10)
        scale = QLinearGradient(box.left(), 0, box.right(), 0)
        for share, colour in ((0.0, "#fbf9f4"), (0.5, "#e3a712"), (1.0, "#7c2d3a")):
            scale.setColorAt(share, QColor(colour))
        painter.fillRect(box, scale)
        painter.setFont(font(10, bold=True))
        painter.setPen(QColor("#fbf9f4"))
        painter.drawText(QRectF(box.left() - 30, box.top() - 4, 26, 18), Qt.AlignmentFlag.AlignRight, "0°")
        painter.drawText(QRectF(box.right() + 4, box.top() - 4, 40, 18), Qt.AlignmentFlag.AlignLeft, f"{MOST:.0f}°")
        said = "comparing…"
        if current and self.seen is not None:
            said = f"mean {self.seen.mean:.2f}°, 95 % under {self.seen.percentile(95):.1f}°" if np.isfinite(self.seen.mean) else "nothing to compare"
        painter.drawText(QRectF(box.left() - 60, box.top() - 24, 380, 18), Qt.AlignmentFlag.AlignLeft, f"Off the dense mesh: {said}")


def shown_parts(mesh: PolyMesh, sheets: tuple[Sheet, ...], baked: Bake | None, mip: int) -> list[tuple[Delivered, NDArray[np.float32] | None]]:
    """The triangles of a layer as a receiver has them, those of each sheet with its normal map at a mip level."""
    given = handed_of(mesh)
    places = mesh.points[mesh.corners[given.corner]]
    tri, on = given.triangles, sheets_of_triangles(given, sheets)
    out: list[tuple[Delivered, NDArray[np.float32] | None]] = []
    for k in (*range(len(sheets)), -1):
        mine = tri[on == k]
        if len(mine) == 0:
            continue
        maps = next((s.maps for s in baked.sheets if k >= 0 and s.sheet.tile == sheets[k].tile), {}) if baked is not None else {}
        uv, picture = None, None
        if k >= 0 and given.uv is not None and given.tangents is not None and "normal" in maps:
            flat = given.uv[mine] - sheets[k].origin
            uv = np.stack([flat[..., 0], 1.0 - flat[..., 1]], axis=-1)
            picture = maps["normal"].eight().astype(np.float32) / np.float32(255)
            for _ in range(mip):
                picture = halved(picture) if min(picture.shape[:2]) > 1 else picture
        tangents = given.tangents[mine] if given.tangents is not None else None
        out.append((Delivered(places[mine], given.normals[mine], tangents, uv), picture))
    return out
