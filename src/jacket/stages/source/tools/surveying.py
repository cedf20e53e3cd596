"""The Source stage's tools: Sift picks loose parts, Gauge measures, Ground stands the source on three points."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.derive import parts_of, surface_of
from jacket.core.source.mend import triangles_of
from jacket.core.source.placing import measured_scaling, upright_by_points
from jacket.document.document import Document
from jacket.document.edits import sources as sources_steps
from jacket.document.state import Held, SourceObject
from jacket.errors import JacketError
from jacket.tools.base import Tool, ToolSettings
from jacket.tools.events import NO_GHOST, Ghost, Pointer

Floats = NDArray[np.float64]


def source_under(document: Document, pointer: Pointer) -> tuple[SourceObject, int, Floats] | None:
    """The visible source under the pointer, the face that was hit, and where (3,)."""
    if pointer.form is None:
        return None
    origin, direction = pointer.form.ray(pointer.x, pointer.y)
    best: tuple[float, SourceObject, int, Floats] | None = None
    for source in document.state.sources:
        if not source.visible:
            continue
        hit = surface_of(source.mesh).ray(origin, direction)
        if hit is not None and (best is None or hit.distance < best[0]):
            mesh = source.mesh
            face = hit.triangle if mesh.is_triangles else int(mesh.triangle_faces[hit.triangle])
            best = (hit.distance, source, face, hit.position)
    return best[1:] if best is not None else None


class Sift(Tool):
    """Picks loose parts of the source, to keep or to drop them."""

    id, label, stage, key = "sift", "Sift", "source", "S"
    legend = (
        ("click", "pick a loose part"),
        ("Ctrl click", "one more, or let go"),
        ("Shift click", "all smaller parts"),
    )

    def __init__(self, document: Document, settings: ToolSettings) -> None:
        super().__init__(document, settings)
        self._shown: tuple[int, int, Floats] = (0, -1, np.zeros((0, 2, 3)))

    def _aim(self, pointer: Pointer) -> tuple[SourceObject, NDArray[np.signedinteger], int] | None:
        found = source_under(self.document, pointer)
        if found is None:
            return None
        source, face, _ = found
        count, labels = parts_of(source.mesh)
        part = int(labels[face])
        if pointer.shift:
            sizes = np.bincount(labels, minlength=count)
            return source, np.flatnonzero(sizes[labels] < sizes[part]).astype(np.int32), part
        return source, np.flatnonzero(labels == part).astype(np.int32), part

    def hover(self, pointer: Pointer) -> None:
        aim = self._aim(pointer)
        self.ghost = NO_GHOST
        if aim is None:
            return
        source, faces, part = aim
        what = (
            f"Pick the {len(faces):,} faces of smaller parts"
            if pointer.shift
            else f"Pick this part: {len(faces):,} faces"
        )
        lines = np.zeros((0, 2, 3)) if pointer.shift else self._box(source, faces, part)
        self.ghost = Ghost(lines=lines, what=what, how="Shift click" if pointer.shift else "click")

    def _box(self, source: SourceObject, faces: NDArray[np.signedinteger], part: int) -> Floats:
        """The box round a part: its outline would cost a frame."""
        if self._shown[:2] != (id(source.mesh), part):
            corner = triangles_of(source.mesh, faces).reshape(-1, 3)
            self._shown = (id(source.mesh), part, box_lines(corner.min(axis=0), corner.max(axis=0)))
        return self._shown[2]

    def press(self, pointer: Pointer) -> None:
        aim = self._aim(pointer)
        document = self.document
        if aim is None:
            if not pointer.ctrl:
                document.amend(document.state.with_(picked=Held()))
            return
        source, faces, _ = aim
        chosen = document.state.chosen_source
        more = chosen is not None and chosen.id == source.id and pointer.ctrl
        sources_steps.choose_source(document, source.id)
        picked = document.state.picked.ids
        if more and len(faces):
            taken = np.isin(faces, picked).all()
            faces = np.setdiff1d(picked, faces) if taken else np.union1d(picked, faces)
        sources_steps.pick_faces(document, faces)


def box_lines(low: Floats, high: Floats) -> Floats:
    """(12, 2, 3) the edges of a box."""
    corner = np.array([[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]]
                       for i in (0, 1) for j in (0, 1) for k in (0, 1)])  # fmt: skip
    pairs = [(a, b) for a in range(8) for b in range(a + 1, 8) if bin(a ^ b).count("1") == 1]
    return np.array([[corner[a], corner[b]] for a, b in pairs])


class _Points(Tool):
    """A tool that collects points on the source, one click each."""

    wanted = 2

    def __init__(self, document: Document, settings: ToolSettings) -> None:
        super().__init__(document, settings)
        self.points: list[Floats] = []
        self.on: SourceObject | None = None

    @property
    def whole(self) -> bool:
        """Whether all points are there, and the source they lie on still stands where it stood."""
        return len(self.points) == self.wanted and self._stands()

    def _stands(self) -> bool:
        return self.on is not None and any(s.mesh is self.on.mesh for s in self.document.state.sources)

    def press(self, pointer: Pointer) -> None:
        found = source_under(self.document, pointer)
        if found is None:
            return
        if len(self.points) == self.wanted or not self._stands() or (self.on is not None and self.on.id != found[0].id):
            self.points = []
        self.on = found[0]
        sources_steps.choose_source(self.document, found[0].id)
        self.points.append(found[2])
        self.hover(pointer)

    def cancel(self) -> bool:
        had = bool(self.points)
        self.points, self.on = [], None
        return super().cancel() or had

    def remove(self, pointer: Pointer) -> None:
        if self.points:
            self.points.pop()
        self.hover(pointer)

    def leave(self) -> None:
        self.ghost = self._ghost(self.points, "", "") if self.points and self._stands() else NO_GHOST

    def _ghost(self, points: list[Floats], what: str, how: str) -> Ghost:
        at = np.array(points).reshape(-1, 3)
        lines = np.stack([at[:-1], at[1:]], axis=1) if len(at) > 1 else np.zeros((0, 2, 3))
        if len(at) == 3:
            lines = np.concatenate([lines, at[[2, 0]][None]])
        return Ghost(lines=lines, marks=at, what=what, how=how)


class Gauge(_Points):
    """Measures the distance of two points on the source; typing what it should be scales the source."""

    id, label, stage, key = "gauge", "Gauge", "source", "G"
    legend = (
        ("click", "two points to measure"),
        ("Backspace", "takes the last one back"),
        ("type", "what it should be"),
    )

    @property
    def distance(self) -> float:
        """Between the two points, in the source's units; nought while they are not set."""
        return float(np.linalg.norm(self.points[1] - self.points[0])) if self.whole else 0.0

    def hover(self, pointer: Pointer) -> None:
        if self.points and not self._stands():
            self.points, self.on = [], None
        found = source_under(self.document, pointer)
        if self.whole:
            self.ghost = self._ghost(self.points, f"{self.distance:.5g} u", "type what it should be in the panel")
        elif found is None:
            self.leave()
        elif self.points:
            far = float(np.linalg.norm(found[2] - self.points[0]))
            self.ghost = self._ghost([*self.points, found[2]], f"Measure to here: {far:.5g} u", "click")
        else:
            self.ghost = self._ghost([found[2]], "Measure from here", "click")

    def scale_to(self, wanted: float) -> None:
        """Scale the source so that the measured distance becomes `wanted`."""
        if not self.whole or self.on is None:
            raise JacketError("Measure first: click two points on the source with Gauge.")
        source = self.document.open_source()
        a, b = self.points
        matrix = measured_scaling(a, b, wanted)
        sources_steps.place_source(self.document, f"scale to {wanted:g}", source.id, matrix)
        self.points, self.on = [p * matrix[0, 0] for p in (a, b)], sources_steps.source_of(self.document, source.id)
        self.leave()


class Ground(_Points):
    """Stands the source on three points of its ground."""

    id, label, stage, key = "ground", "Ground", "source", "U"
    wanted = 3
    legend = (("click", "three points of the ground"), ("Backspace", "takes the last one back"))

    def hover(self, pointer: Pointer) -> None:
        if self.points and not self._stands():
            self.points, self.on = [], None
        found = source_under(self.document, pointer)
        if found is None:
            self.leave()
            return
        words = ("First point of the ground", "Second point of the ground", "Stand it on these three points")
        self.ghost = self._ghost([*self.points, found[2]], words[min(len(self.points), 2)], "click")

    def press(self, pointer: Pointer) -> None:
        super().press(pointer)
        if not self.whole or self.on is None:
            return
        ground, self.points = np.array(self.points), []
        source = self.document.open_source()
        sources_steps.place_source(self.document, "stand on three points", source.id, upright_by_points(source.mesh, ground))
        self.on = None
        self.ghost = NO_GHOST
