"""Guide and Density: steering the automatic quads with curves and a brush on the source."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.core.derive import light_of
from jacket.core.fit.shift import falloff
from jacket.core.mesh.polymesh import Floats
from jacket.core.quads.steering import Guide as Curve
from jacket.core.quads.steering import Paint, guide_curve
from jacket.core.strokes.path import evened, evened_ring, length_along
from jacket.errors import EditRefused
from jacket.tools.base import Option
from jacket.tools.brush import Brush
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.mirror import AXES, reflected
from jacket.tools.pick import occluder, visible
from jacket.tools.strokes import Drawing, chalk, is_ring, segments


class Guide(Drawing):
    """Draws curves on the source that the automatic quads follow: clicks set points, a drag draws freely, Enter ends.
    Points of a curve can be dragged afterwards, Backspace takes out what is under the pointer."""

    id, label, key = "guide", "Guide", "Q"
    legend = (
        ("click, drag", "a curve; Enter ends it"),
        ("drag a point", "shape the curve"),
        ("Backspace", "takes a point or curve out"),
    )
    options = (Option("kind", "New ones", "choice", choices=(("hard", "become edges"), ("soft", "turn the flow"))),)
    actions = ("clear-guides",)

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.kind = "hard"
        self.marks: list[Floats] = []
        self.start: Pointer | None = None
        self.grabbed = (-1, -1)
        self.moved = False

    @property
    def busy(self) -> bool:
        return self.start is not None

    @property
    def pending(self) -> bool:
        return len(self.marks) > 1

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        self.last = pointer
        place = self.under(pointer)
        k, p = self._point_under(pointer)
        if self.marks:
            closes = len(self.marks) > 2 and self._near(pointer, self.marks[0])
            path = [*self.marks] if place is None or closes else [*self.marks, place]
            self._show(path, "Close the curve" if closes else "Go on to here; Enter ends", "click", closes)
        elif k >= 0:
            guide = self.document.state.guides[k]
            self.ghost = chalk(self._lines(guide), "Move this point", "drag", guide.points[[p]])
        elif self._guide_under(pointer) >= 0:
            guide = self.document.state.guides[self._guide_under(pointer)]
            self.ghost = chalk(self._lines(guide), "Make it soft" if guide.hard else "Make it hard", "Shift click")
        elif place is not None:
            self.ghost = chalk(np.zeros((0, 2, 3)), f"A {self.kind} guide from here", "click, or drag")
        else:
            self.ghost = NO_GHOST

    def _lines(self, guide: Curve) -> Floats:
        return segments(guide_curve(guide, self.surface()), guide.closed)

    def _show(self, path: list[Floats], what: str, how: str, closed: bool = False) -> None:
        marks = np.array(self.marks).reshape(-1, 3)
        lines = np.zeros((0, 2, 3))
        if len(path) > 1:
            lines = self._lines(Curve(np.array(path), True, closed, True))
        self.ghost = chalk(lines, what, how, marks)

    def _near(self, pointer: Pointer, place: Floats) -> bool:
        if pointer.form is None:
            return False
        x, y, _ = pointer.form.project(place)[0]
        return bool(np.hypot(x - pointer.x, y - pointer.y) < 1.4 * self.settings.reach)

    def _point_under(self, pointer: Pointer) -> tuple[int, int]:
        """The guide and its point under the pointer, (−1, −1) for none."""
        if pointer.form is None:
            return -1, -1
        hiding = occluder(self.document.state)
        for k, guide in enumerate(self.document.state.guides):
            at = pointer.form.project(guide.points)
            far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
            p = int(np.nanargmin(far)) if np.isfinite(far).any() else 0
            slack = 0.01 * self.document.require_source().mesh.diagonal
            if far[p] < self.settings.reach and visible(pointer.form, guide.points[[p]], hiding, slack)[0]:
                return k, p
        return -1, -1

    def _guide_under(self, pointer: Pointer) -> int:
        place = self.under(pointer)
        if place is None:
            return -1
        for k, guide in enumerate(self.document.state.guides):
            far = np.linalg.norm(guide_curve(guide, self.surface()) - place, axis=1).min()
            if far < self.settings.reach * self.pixel:
                return k
        return -1

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.surface()
        self.start, self.moved, self.path = pointer, False, []
        self.grabbed = (-1, -1) if self.marks else self._point_under(pointer)
        if self.grabbed[0] >= 0:
            self.document.begin("shape a guide")
        elif not pointer.shift:
            self.add_place(pointer, 0.0)

    def move(self, pointer: Pointer) -> None:
        start = self.start
        if start is None or (not self.moved and np.hypot(pointer.x - start.x, pointer.y - start.y) < 5):
            return
        self.moved = True
        place = self.under(pointer)
        k, p = self.grabbed
        if k >= 0:
            if place is not None:
                guides = list(self.document.gesture_base.guides)
                points = guides[k].points.copy()
                points[p] = place
                guides[k] = replace(guides[k], points=points)
                self.document.apply("shape a guide", self.document.state.with_(guides=tuple(guides)))
                self.ghost = chalk(self._lines(guides[k]), "Move this point", "let go", points[[p]])
        elif self.add_place(pointer):
            self._show(list(self.path), "Draw a guide", "let go")

    def release(self, pointer: Pointer) -> None:
        start, self.start = self.start, None
        path, self.path = self.path, []
        if start is None:
            return
        if self.grabbed[0] >= 0:
            self.grabbed = (-1, -1)
            self.document.commit()
        elif self.moved and len(path) > 2 and not self.marks:
            self._drawn(path)
        elif pointer.shift:
            self._toggle(pointer)
        elif len(self.marks) > 2 and self._near(pointer, self.marks[0]):
            self._add(Curve(np.array(self.marks), self.kind == "hard", True, True))
            self.marks = []
        elif path:
            self.marks.append(path[0])
        self.hover(pointer)

    def _drawn(self, path: list[Floats]) -> None:
        """A freely drawn stroke, as a curve through points about thirty pixels apart."""
        line = np.array(path)
        closed = is_ring(path, 2 * self.settings.reach * self.pixel)
        count = max(int(length_along(line)[-1] / (30 * self.pixel)), 2)
        points = evened_ring(line, max(count, 4)) if closed else evened(line, count + 1)
        self._add(Curve(self.surface().project(points), self.kind == "hard", closed, True))

    def _add(self, guide: Curve) -> None:
        state = self.document.state
        guides = [guide]
        if state.mirror and np.abs(guide.points[:, AXES[state.mirror]]).max() > self.settings.reach * self.pixel:
            guides.append(replace(guide, points=reflected(guide.points, state.mirror)))
        self.document.apply("draw a guide", state.with_(guides=(*state.guides, *guides)))

    def _toggle(self, pointer: Pointer) -> None:
        k = self._guide_under(pointer)
        if k < 0:
            raise EditRefused("There is no guide here to make hard or soft.")
        guides = list(self.document.state.guides)
        guides[k] = replace(guides[k], hard=not guides[k].hard)
        name = "make a guide hard" if guides[k].hard else "make a guide soft"
        self.document.apply(name, self.document.state.with_(guides=tuple(guides)))

    def accept(self) -> None:
        marks, self.marks = self.marks, []
        if len(marks) < 2:
            raise EditRefused("A guide needs two points or more; click on the source to set them.")
        self._add(Curve(np.array(marks), self.kind == "hard", False, True))
        self.ghost = NO_GHOST

    def remove(self, pointer: Pointer) -> None:
        if self.marks:
            self.marks.pop()
            self.hover(pointer)
            return
        k, p = self._point_under(pointer)
        guides = list(self.document.state.guides)
        if k >= 0 and len(guides[k].points) > (3 if guides[k].closed else 2):
            guides[k] = replace(guides[k], points=np.delete(guides[k].points, p, axis=0))
        else:
            k = k if k >= 0 else self._guide_under(pointer)
            if k < 0:
                return
            guides.pop(k)
        self.document.apply("take out a guide", self.document.state.with_(guides=tuple(guides)))
        self.hover(pointer)

    def cancel(self) -> bool:
        had = bool(self.marks) or self.start is not None
        self.marks, self.start, self.grabbed = [], None, (-1, -1)
        return super().cancel() or had


PAINTED = 40_000
"""Triangles of the copy of the source whose points carry the paint."""


class Density(Brush):
    """Paints where the automatic quads lie closer or farther apart; the number stays as wanted."""

    id, label, key = "density", "Density", "Y"
    what = "Paint density"
    legend = (
        ("drag", "paint towards the factor"),
        ("Shift", "smooth what is painted"),
        ("Ctrl", "take it away"),
    )
    options = (Option("factor", "As close as, times", "number", 0.25, 4.0, "×"),)
    actions = ("clear-paint",)

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.factor = 2.0

    def hover(self, pointer: Pointer) -> None:
        super().hover(pointer)
        self.what = (
            "Smooth the density"
            if pointer.shift
            else "Take density away"
            if pointer.ctrl
            else f"Density × {self.factor:g}"
        )

    def press(self, pointer: Pointer) -> None:
        self.document.require_source()
        self.document.begin("paint density")
        self.last = pointer
        self.dab(pointer, pointer)

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        """One touch: what the brush sees goes part of the way to the factor."""
        state = self.document.state
        source = state.source
        if pointer.form is None or source is None:
            return
        paint = state.paint
        if paint is None:
            places = light_of(source.mesh, PAINTED)[0].points.astype(float)
            paint = Paint(places, np.zeros(len(places)))
        at = pointer.form.project(paint.places)
        radius = self.settings.brush * max(pointer.pressure, 0.2)
        far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
        ids = np.flatnonzero(far < radius)
        ids = ids[visible(pointer.form, paint.places[ids], occluder(state), 0.01 * source.mesh.diagonal)]
        if len(ids) == 0:
            return
        weight = falloff(far[ids] / radius, "smooth") * self.settings.strength
        goal = np.full(len(ids), float(np.log2(self.factor)))
        if pointer.ctrl:
            goal[:] = 0.0
        elif pointer.shift:
            goal[:] = float((paint.values[ids] * weight).sum() / max(float(weight.sum()), 1e-12))
        values = paint.values.copy()
        values[ids] += weight * (goal - values[ids])
        if state.mirror:
            values = self._mirrored(paint.places, values, ids, state.mirror)
        self.document.apply("paint density", state.with_(paint=Paint(paint.places, values)))

    @staticmethod
    def _mirrored(places: Floats, values: Floats, ids: np.ndarray, axis: str) -> Floats:  # type: ignore[type-arg]
        from scipy.spatial import cKDTree

        other = cKDTree(places).query(reflected(places[ids], axis))[1]
        values[other] = values[ids]
        return values
