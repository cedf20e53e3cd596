"""Weave: strokes that cross become a grid."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np

from jacket.core.fit.shift import falloff
from jacket.core.mesh.polymesh import Floats
from jacket.core.strokes.path import evened, evened_ring, length_along, smoothed
from jacket.core.strokes.weave import Stroke, Woven, woven
from jacket.errors import EditRefused
from jacket.stages.topology.tools.ladder import _there
from jacket.tools.base import Option
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.pick import open_points
from jacket.tools.strokes import Drawing, chalk, face_lines, is_ring, segments


class Weave(Drawing):
    """Strokes lie as chalk until Enter; every cell of four becomes a quad, larger cells stay open and are marked."""

    id, label, key = "weave", "Weave", "W"
    legend = (
        ("drag", "a stroke; Shift bends one"),
        ("Backspace", "takes a stroke away"),
        ("Enter", "weaves; wheel: spans of a tube"),
    )

    options = (
        Option("triangles", "Cells of three become triangles", "switch"),
        Option("spans", "Spans of a tube", "count", 3, 128),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.strokes: list[Stroke] = []
        self.spans = 8
        self.triangles = True
        self._woven: tuple[object, Woven] | None = None
        self.bent = -1
        self.start: Pointer | None = None

    @property
    def busy(self) -> bool:
        return bool(self.path) or self.bent >= 0

    @property
    def pending(self) -> bool:
        return bool(self.strokes)

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        self.last = pointer
        place = self.under(pointer)
        if pointer.shift and self._stroke_under(pointer) >= 0:
            self.ghost = chalk(self._chalk(), "Bend this stroke", "Shift drag")
        elif self.strokes:
            self._show()
        elif place is not None:
            self.ghost = chalk(np.zeros((0, 2, 3)), "Draw strokes that cross", "drag")
        else:
            self.ghost = NO_GHOST

    def leave(self) -> None:
        self.ghost = NO_GHOST
        if self.strokes:
            self._show()

    def _show(self) -> None:
        try:
            result = self._result()
        except EditRefused as reason:
            self.ghost = chalk(self._chalk(), str(reason), "Backspace takes a stroke away")
            return
        what = f"Weave {len(result.quads)} quads"
        if result.triangles:
            what += (
                f", {len(result.triangles)} triangles"
                if self.triangles
                else f", {len(result.triangles)} triangles left open"
            )
        if result.larger:
            what += f"; {len(result.larger)} larger cells stay open"
        marks = [result.points[c].mean(axis=0) for c in result.larger]
        lines = np.concatenate([self._chalk(), face_lines(result.points, result.quads)])
        self.ghost = chalk(lines, what, "Enter", np.array(marks).reshape(-1, 3))

    def _chalk(self) -> Floats:
        rows = [segments(s.path, s.closed) for s in self.strokes]
        if len(self.path) > 1:
            rows.append(segments(np.array(self.path)))
        return np.concatenate(rows) if rows else np.zeros((0, 2, 3))

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.document.require_jacket()
        self.surface()
        self.path, self.bent = [], -1
        if pointer.shift:
            self.bent = self._stroke_under(pointer)
        if self.bent >= 0:
            self.start, self.before = pointer, self.strokes[self.bent]
            return
        self.add_place(pointer, 0.0)

    def _stroke_under(self, pointer: Pointer) -> int:
        """The stroke within reach of the pointer, −1 for none."""
        place = self.under(pointer)
        if place is None or not self.strokes:
            return -1
        far = [float(np.linalg.norm(s.path - place, axis=1).min()) for s in self.strokes]
        return int(np.argmin(far)) if min(far) < 1.6 * self.settings.reach * self.pixel else -1

    def _bend(self, pointer: Pointer) -> None:
        """Carry the grabbed place of a stroke along, and its neighbours less and less."""
        start, place = self.under(self.start) if self.start is not None else None, self.under(pointer)
        if start is None or place is None:
            return
        path = self.before.path
        along = length_along(path)
        at = along[int(np.argmin(np.linalg.norm(path - start, axis=1)))]
        off = np.abs(along - at)
        if self.before.closed:
            total = float(along[-1] + np.linalg.norm(path[0] - path[-1]))
            off = np.minimum(off, total - off)
        weight = falloff(off / max(0.35 * float(along[-1]), 1e-12), "smooth")
        moved = self.surface().project(path + weight[:, None] * (place - start))
        self.strokes[self.bent] = Stroke(moved, self.before.closed)
        self._woven = None

    def move(self, pointer: Pointer) -> None:
        if self.bent >= 0:
            self._bend(pointer)
            self.ghost = chalk(self._chalk(), "Bend this stroke", "let go")
            return
        if self.path:
            self.last = pointer
            self.add_place(pointer)
            self.ghost = chalk(self._chalk(), "A stroke", "let go")

    def release(self, pointer: Pointer) -> None:
        if self.bent >= 0:
            self.bent = -1
            self.hover(pointer)
            return
        path, self.path = self.path, []
        reach = self.settings.reach * 1.6 * self.pixel
        for piece in self._unbroken(path):
            if len(piece) > 1 and float(length_along(np.array(piece))[-1]) > 3 * reach:
                self.strokes.append(self._stroke(piece, reach))
                self._woven = None
        self.hover(pointer)

    def _unbroken(self, path: list[Floats]) -> list[list[Floats]]:
        """A stroke in the pieces in which it lies on the source: it breaks where it jumps from a nearer part to one
        behind, by far more than the pointer moved."""
        if len(path) < 3:
            return [path]
        steps = np.linalg.norm(np.diff(np.array(path), axis=0), axis=1)
        cuts = np.flatnonzero(steps > 6 * max(float(np.median(steps)), 4 * self.pixel)) + 1
        ends = [0, *cuts.tolist(), len(path)]
        return [path[a:b] for a, b in itertools.pairwise(ends)]

    def _stroke(self, path: list[Floats], reach: float) -> Stroke:
        """A stroke evened to pieces of a few pixels, closed where it comes back to its start."""
        surface = self.surface()
        closed = is_ring(path, 2 * reach)
        line = np.array(path)
        total = float(length_along(line)[-1])
        count = int(np.clip(total / (4 * self.pixel), 8, 400))
        if closed:
            return Stroke(surface.project(evened_ring(line, count)), True)
        return Stroke(smoothed(evened(line, count), 2, surface))

    def remove(self, pointer: Pointer) -> None:
        if not self.strokes:
            return
        place = self.under(pointer)
        k = len(self.strokes) - 1
        if place is not None:
            far = [float(np.linalg.norm(s.path - place, axis=1).min()) for s in self.strokes]
            if min(far) < 2 * self.settings.reach * self.pixel:
                k = int(np.argmin(far))
        self.strokes.pop(k)
        self._woven = None
        self.hover(pointer)

    def set_option(self, name: str, value: Any) -> None:
        super().set_option(name, value)
        self._woven = None

    def step(self) -> None:
        """Space: triangles are filled, or left open."""
        self.triangles = not self.triangles
        self._show()

    def wheel(self, steps: float) -> bool:
        if not any(s.closed for s in self.strokes):
            return False
        self.spans = int(np.clip(self.spans + (1 if steps > 0 else -1), 3, 128))
        self._woven = None
        self._show()
        return True

    def _result(self) -> Woven:
        """The cells of the strokes, kept until they change."""
        key = (len(self.strokes), self.spans, id(self.document.state.jacket))
        if self._woven is None or self._woven[0] != key:
            mesh = self.mesh()
            anchors = mesh.points[open_points(mesh)] if mesh.n_points else np.zeros((0, 3))
            reach = self.settings.reach * 1.6 * self.pixel
            self._woven = (key, woven(self.strokes, self.surface(), reach, anchors, self.spans))
        return self._woven[1]

    def accept(self) -> None:
        result = self._result()
        cells = result.quads + (result.triangles if self.triangles else [])
        if not cells:
            raise EditRefused("No cell of these strokes has four sides yet; draw strokes that cross them.")
        mesh = self.mesh()
        anchors = np.flatnonzero(open_points(mesh)) if mesh.n_points else np.zeros(0, int)
        used = sorted({p for c in cells for p in c})
        ids: dict[int, int] = {}
        fresh: list[Floats] = []
        for p in used:
            if result.known[p] >= 0:
                ids[p] = int(anchors[result.known[p]])
            else:
                ids[p] = mesh.n_points + len(fresh)
                fresh.append(result.points[p])
        faces = [[ids[p] for p in c] for c in cells]
        faces = [f for f in faces if not _there(mesh, f)]
        self.document.edit_jacket("weave", self.joined(mesh, np.array(fresh).reshape(-1, 3), faces))
        self.strokes, self._woven = [], None
        self.ghost = NO_GHOST

    def cancel(self) -> bool:
        had = super().cancel()
        if not had:
            return False
        self.strokes, self._woven, self.bent = [], None, -1
        return True
