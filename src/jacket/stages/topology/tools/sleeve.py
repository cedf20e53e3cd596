"""Sleeve: rings dragged across a limb, joined to a tube."""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import Any

import numpy as np

from jacket.core.derive import light_of, surface_of
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.joining import grid_faces
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.section import (
    Section,
    closed_sections,
    forks,
    limb_section,
    nearest_section,
    ring_points,
    surface_sections,
)
from jacket.errors import EditRefused
from jacket.stages.topology.tools.rings import (
    Ring,
    aligned,
    border_ring,
    capped,
    put_between,
    ring_under,
    rings_between,
    rows_between,
)
from jacket.tools.base import Option
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.strokes import Drawing, chalk, segments
from jacket.tools.view import FormCamera

LIGHT = 40_000
"""Triangles of the copy on which the plane of a ring is looked for: the one that is drawn in motion."""


class Sleeve(Drawing):
    """Drag across a limb for a ring; the next ones join it with rows. Before Enter a ring can be dragged along
    the limb, tilted with Shift, made wider with Ctrl. A click on a border takes it as the first or last ring."""

    id, label, key = "sleeve", "Sleeve", "E"
    legend = (
        ("drag across", "a ring round the limb"),
        ("drag a ring", "move; Shift tilts, Ctrl widens"),
        ("wheel", "points; Space caps; Enter"),
    )

    options = (
        Option("count", "Points (0: by size)", "count", 0, 256),
        Option("rows", "Rows (0: squares)", "count", 0, 128),
        Option("caps", "Close the ends", "switch"),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.rings: list[Ring] = []
        self.count = 0
        """Points of a ring; 0 until the first ring, which takes as many as make quads of about 34 pixels."""
        self.rows = 0
        self.caps = False
        self.start: Pointer | None = None
        self.begun: Floats | None = None
        self.grabbed = -1
        self.before: Ring | None = None

    @property
    def busy(self) -> bool:
        return self.start is not None

    @property
    def pending(self) -> bool:
        return len(self.rings) > 0

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        self.last = pointer
        place = self.under(pointer)
        near = ring_under(self.rings, pointer, self.settings.reach)
        if near >= 0:
            what = "Tilt the ring" if pointer.shift else "Widen the ring" if pointer.ctrl else "Move the ring"
            self._show(what, "drag")
        elif border_ring(self.mesh(), self.document.state, pointer, self.settings.reach) is not None:
            self._show("Take this border as a ring", "click")
        elif self.rings:
            self._show(self._said(), "Enter")
        elif place is not None:
            self.ghost = chalk(np.zeros((0, 2, 3)), "A ring round the limb", "drag across it")
        else:
            self.ghost = NO_GHOST

    def leave(self) -> None:
        self.ghost = NO_GHOST
        if self.rings:
            self._show(self._said(), "Enter")

    def _said(self) -> str:
        if len(self.rings) < 2:
            return f"A ring of {self.count} points; drag the next one"
        rows = sum(rows_between(a, b, self.rows) for a, b in zip(self.rings, self.rings[1:], strict=False))
        return f"A sleeve of {rows * self.count} quads" + (" with caps" if self.caps else "")

    def _show(self, what: str, how: str) -> None:
        lines = [segments(r.points, True) for r in self.rings]
        for a, b in zip(self.rings, self.rings[1:], strict=False):
            if len(a.points) == len(b.points):
                for ring in rings_between(self.surface(), a, b, rows_between(a, b, self.rows)):
                    lines.append(segments(ring, True))
                lines.append(np.stack([a.points, b.points], axis=1))
        marks = np.array([r.points[0] for r in self.rings]).reshape(-1, 3)
        self.ghost = chalk(np.concatenate(lines) if lines else np.zeros((0, 2, 3)), what, how, marks)

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.document.require_jacket()
        self.surface()
        self.start, self.last = pointer, pointer
        self.grabbed = ring_under(self.rings, pointer, self.settings.reach)
        self.before = self.rings[self.grabbed] if self.grabbed >= 0 else None
        self.begun = self.under(pointer)

    def move(self, pointer: Pointer) -> None:
        if self.start is None:
            return
        self.last = pointer
        if self.before is not None:
            self._changed(pointer)
        elif np.hypot(pointer.x - self.start.x, pointer.y - self.start.y) > 6:
            ring = self._cut(self.start, pointer)
            if ring is None:
                self.ghost = chalk(self._stroke(pointer), "No closed section here", "drag across a limb")
            else:
                lines = np.concatenate([segments(ring.points, True), *[segments(r.points, True) for r in self.rings]])
                self.ghost = chalk(lines, f"A ring of {self.count} points", "let go")

    def _stroke(self, pointer: Pointer) -> Floats:
        place = self.under(pointer)
        return (
            np.stack([self.begun, place])[None] if self.begun is not None and place is not None else np.zeros((0, 2, 3))
        )

    def release(self, pointer: Pointer) -> None:
        start, self.start = self.start, None
        if start is None:
            return
        if self.before is not None:
            self.before, self.grabbed = None, -1
        elif np.hypot(pointer.x - start.x, pointer.y - start.y) <= 6:
            border = border_ring(self.mesh(), self.document.state, pointer, self.settings.reach)
            if border is not None:
                self._add(border)
        else:
            ring = self._cut(start, pointer)
            if ring is None:
                raise EditRefused(
                    "The plane through this drag meets no closed section of the source; drag right across a limb."
                )
            self._add(ring)
        self.hover(pointer)

    def _add(self, ring: Ring) -> None:
        """Put a ring where it belongs along the sleeve."""
        if ring.known is not None:
            self.count = len(ring.points)
            self.rings = [self._recut(r) if r.known is None else r for r in self.rings]
        rings = put_between(self.rings, ring)
        for a, b in itertools.pairwise(rings):
            self._check_branch(a, b)
        self.rings = aligned(rings)

    def _cut(self, start: Pointer, end: Pointer) -> Ring | None:
        """The ring round the limb under the middle of the drag, through the drag's direction on the screen."""
        if start.form is None or end.form is None:
            return None
        middle = replace(start, x=(start.x + end.x) / 2, y=(start.y + end.y) / 2)
        _, first = start.form.ray(start.x, start.y)
        eye, ahead = start.form.ray(middle.x, middle.y)
        _, last = end.form.ray(end.x, end.y)
        normal = np.cross(first, last)
        wide = float(np.hypot(end.x - start.x, end.y - start.y))
        inside = self._inside(eye, ahead, start.form, wide)
        if inside is None or np.linalg.norm(normal) < 1e-9:
            return None
        # Ctrl suspends snapping: the ring then runs just as it was drawn.
        snap = 0.0 if end.ctrl else np.radians(10.0)
        found = limb_section(self.surface(), inside, np.cross(normal, ahead), normal, snap, self._light())
        return None if found is None else self._ring_of(found[0], inside, found[1])

    def _light(self) -> Bvh:
        """A light copy of the source to look for planes on."""
        return surface_of(light_of(self.document.require_source().mesh, LIGHT)[0])

    def _inside(self, eye: Floats, ahead: Floats, camera: FormCamera, wide: float) -> Floats | None:
        """The middle of what a ray goes through first, as thick as the drag is wide (pixels) at most: behind a
        torn scan's hole there is no other side."""
        surface = self.surface()
        near = surface.ray(eye, ahead)
        if near is None:
            return None
        behind = near.position + ahead * 1e-6 * float(np.linalg.norm(surface.boxes[0, 3:] - surface.boxes[0, :3]))
        far = surface.ray(behind, ahead)
        most = wide * camera.pixel_size(float(camera.project(near.position)[0, 2]))
        thick = most if far is None else min(far.distance, most)
        return near.position + ahead * 0.5 * thick

    def _ring_at(self, place: Floats, normal: Floats, through: Floats, grown: float = 1.0) -> Ring | None:
        sections = closed_sections(surface_sections(self.surface(), through, normal))
        section = nearest_section(sections, place)
        return None if section is None else self._ring_of(section, through, normal, grown)

    def _ring_of(self, section: Section, through: Floats, normal: Floats, grown: float = 1.0) -> Ring:
        if not self.rings and self.count == 0:
            self.count = 2 * int(np.clip(round(section.length / (68.0 * self.pixel)), 3, 32))
        like = self.rings[-1].points if self.rings else None
        points = ring_points(section, self.count, like)
        middle = points.mean(axis=0)
        place = through - normal * float((through - middle) @ normal)
        return Ring(middle + (points - middle) * grown, place, normal, grown)

    def _recut(self, ring: Ring) -> Ring:
        return self._ring_at(ring.points.mean(axis=0), ring.normal, ring.points.mean(axis=0), ring.grown) or ring

    def _changed(self, pointer: Pointer) -> None:
        """Drag a ring: along its axis, tilted with Shift, wider with Ctrl."""
        ring, start = self.before, self.start
        if ring is None or start is None or pointer.form is None:
            return
        if ring.known is not None:
            raise EditRefused("This ring is a border that is there already; it stays where it is.")
        camera, middle = pointer.form, ring.points.mean(axis=0)
        at = camera.project(ring.points)
        near = int(np.argmin(np.hypot(at[:, 0] - start.x, at[:, 1] - start.y)))
        size = camera.pixel_size(float(at[near, 2]))
        right, up, back = camera.rotation
        shift = right * (pointer.x - start.x) * size - up * (pointer.y - start.y) * size
        if pointer.ctrl:
            new: Ring | None = replace(ring, grown=float(np.clip(ring.grown * 1.01 ** (pointer.x - start.x), 0.2, 5.0)))
            assert new is not None
            points = middle + (ring.points - middle) * new.grown / ring.grown
            new = replace(new, points=points)
        elif pointer.shift:
            axis = unit(np.cross(back, ring.normal)[None])[0]
            angle = (pointer.y - start.y) * 0.006
            turned = ring.normal * np.cos(angle) + np.cross(axis, ring.normal) * np.sin(angle)
            turned = turned + back * (pointer.x - start.x) * 0.004
            new = self._ring_at(middle, turned / np.linalg.norm(turned), middle, ring.grown)
        else:
            along = ring.normal * float(shift @ ring.normal)
            new = self._ring_at(middle + along, ring.normal, middle + along, ring.grown)
        if new is not None:
            rings = list(self.rings)
            rings[self.grabbed] = new
            self.rings = aligned(rings)
        self._show("Change the ring", "let go")

    def wheel(self, steps: float) -> bool:
        if not self.rings or any(r.known is not None for r in self.rings):
            return bool(self.rings)
        self._recount(int(np.clip(self.count + (1 if steps > 0 else -1), 3, 256)))
        self._show(self._said(), "Enter")
        return True

    def set_option(self, name: str, value: Any) -> None:
        super().set_option(name, value)
        if name == "count" and self.rings and not any(r.known is not None for r in self.rings):
            self._recount(max(int(value), 3))
        if self.rings:
            self._show(self._said(), "Enter")

    def _recount(self, count: int) -> None:
        self.count = count
        old, self.rings = self.rings, []
        for ring in old:
            self.rings.append(self._recut(ring))
        self.rings = aligned(self.rings)

    def step(self) -> None:
        """Space: caps of quads at the ends, or open."""
        self.caps = not self.caps
        self._show(self._said(), "Enter")

    def remove(self, pointer: Pointer) -> None:
        k = ring_under(self.rings, pointer, self.settings.reach)
        if self.rings:
            self.rings.pop(k if k >= 0 else -1)
        self.hover(pointer)

    # ---- what is under the pointer --------------------------------------------------------------
    # ---- building -----------------------------------------------------------------------------
    def _check_branch(self, a: Ring, b: Ring) -> None:
        """Between two rings the limb must not fork."""
        if forks(self.surface(), a.points.mean(axis=0), b.points.mean(axis=0)):
            raise EditRefused(
                "The limb forks between these rings; end the sleeve before the fork and begin a new one behind it."
            )

    def accept(self) -> None:
        if len(self.rings) < 2:
            raise EditRefused("A sleeve needs two rings or more; drag across the limb once more.")
        if len({len(r.points) for r in self.rings}) > 1:
            raise EditRefused("The borders taken as rings have different numbers of points; use one of them only.")
        mesh = self.mesh()
        fresh: list[Floats] = []
        table: list[list[int]] = []

        up: list[bool] = []

        def put(points: Floats, known: Ints | None, grown: bool = False) -> None:
            if known is not None:
                table.append([int(p) for p in known])
                return
            first = mesh.n_points + sum(len(f) for f in fresh)
            fresh.append(points)
            up.extend([grown] * len(points))
            table.append(list(range(first, first + len(points))))

        for k, ring in enumerate(self.rings):
            put(ring.points, ring.known, ring.grown != 1.0)
            if k + 1 < len(self.rings):
                following = self.rings[k + 1]
                for points in rings_between(self.surface(), ring, following, rows_between(ring, following, self.rows)):
                    put(points, None, not (ring.grown == following.grown == 1.0))
        ids = np.array(table)
        faces = grid_faces(np.concatenate([ids, ids[:, :1]], axis=1))
        if self.caps:
            faces += capped(self.rings, self.surface(), mesh.n_points, ids, fresh)
        places = np.concatenate(fresh) if fresh else np.zeros((0, 3))
        lifted = np.zeros(len(places), bool)
        lifted[: len(up)] = up
        self.document.edit_jacket("draw a sleeve", self.joined(mesh, places, faces, lifted))
        self.rings = []
        self.ghost = NO_GHOST

    def cancel(self) -> bool:
        had = bool(self.rings) or self.start is not None
        self.rings, self.start, self.before, self.grabbed = [], None, None, -1
        return super().cancel() or had
