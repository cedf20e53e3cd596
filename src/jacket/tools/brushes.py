"""Relax and Nudge: brushes whose size is in pixels on the screen; and Unpick, the sweep that removes."""

from __future__ import annotations

import numpy as np

from jacket.core.fit.relax import relaxed
from jacket.core.mesh.edits import faces_removed, points_removed
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.document.derived import surface_of
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.mirror import on_plane, partner_faces, partners, reflected
from jacket.tools.pick import occluder, pick, screen_points, slack_for, visible


class Brush(Tool):
    """A round brush over the points of the jacket that the pointer can see."""

    stage = "topology"
    brush = True
    what = ""

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.last: Pointer | None = None

    @property
    def busy(self) -> bool:
        return self.last is not None

    def hover(self, pointer: Pointer) -> None:
        if pointer.form is None:
            self.ghost = NO_GHOST
            return
        self.ghost = Ghost(circle=self.settings.brush, what=self.what, how="drag")

    def press(self, pointer: Pointer) -> None:
        self.document.require_jacket()
        self.document.begin(f"{self.label.lower()} points")
        self.last = pointer
        self.dab(pointer, pointer)

    def move(self, pointer: Pointer) -> None:
        if self.last is not None:
            self.dab(self.last, pointer)
            self.last = pointer
            self.ghost = Ghost(circle=self.settings.brush, what=self.what, how="let go")

    def release(self, pointer: Pointer) -> None:
        self.last = None
        self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.last = self.busy, None
        super().cancel()
        return had

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        """One touch of the brush."""

    def falloff(self, mesh: PolyMesh, pointer: Pointer) -> Floats:
        """(V,) 0..1 by distance from the pointer, only over what it sees and what hangs together."""
        weight = np.zeros(mesh.n_points)
        if pointer.form is None or mesh.n_points == 0:
            return weight
        at = screen_points(mesh, pointer.form)
        radius = self.settings.brush * max(pointer.pressure, 0.2)
        far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
        ids = np.flatnonzero(far < radius)
        hiding = occluder(self.document.state)
        ids = ids[visible(pointer.form, mesh.points[ids], hiding, slack_for(mesh, hiding))]
        ids = _hanging_together(mesh, ids, far)
        s = 1 - (far[ids] / radius) ** 2
        weight[ids] = s * s
        return weight

    def _held(self, mesh: PolyMesh) -> np.ndarray[tuple[int, ...], np.dtype[np.bool_]]:
        held = np.bincount(mesh.corners, minlength=mesh.n_points) == 0
        return held | mesh.topology.border_points if self.settings.hold_borders else held

    def mirrored(self, mesh: PolyMesh, points: Floats, weight: Floats) -> Floats:
        """Moved points with those beyond the mirror moved alike and those on it kept on it."""
        axis = self.document.state.mirror
        if not axis:
            return points
        table = partners(mesh, axis)
        ids = np.flatnonzero(weight > 0)
        on = ids[table[ids] == ids]
        source = self.document.state.source
        for _ in range(3):
            points[on] = on_plane(points[on], axis)
            if source is not None and len(on):
                points[on] = on_plane(surface_of(source.mesh).project(points[on]), axis)
        away = ids[(table[ids] >= 0) & (table[ids] != ids)]
        # Where both of a pair are under the brush the nearer one leads.
        away = away[
            (weight[away] > weight[table[away]]) | ((weight[away] == weight[table[away]]) & (away < table[away]))
        ]
        points[table[away]] = reflected(points[away], axis)
        return points


def _hanging_together(mesh: PolyMesh, ids: Ints, far: Floats) -> Ints:
    """Those of the points that edges join to the nearest one without leaving the set."""
    if len(ids) == 0:
        return ids
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    local = np.full(mesh.n_points, -1)
    local[ids] = np.arange(len(ids))
    ends = local[mesh.topology.edge_points]
    ends = ends[(ends >= 0).all(axis=1)]
    graph = coo_array((np.ones(len(ends), np.int8), (ends[:, 0], ends[:, 1])), shape=(len(ids), len(ids)))
    labels = connected_components(graph, directed=False)[1]
    return ids[labels == labels[int(np.argmin(far[ids]))]]


class Relax(Brush):
    """Evens quads under the brush while they stay on the source."""

    id, label, key = "relax", "Relax", "S"
    what = "Even the quads"
    legend = (
        ("drag", "even what is under the brush"),
        ("[ ]", "size of the brush"),
        ("Ctrl wheel", "size while dragging"),
    )

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        mesh = self.document.require_jacket().mesh
        weight = self.falloff(mesh, pointer) * self.settings.strength
        if not weight.any():
            return
        source = self.document.state.source
        surface = surface_of(source.mesh) if source is not None else surface_of(mesh)
        new = relaxed(mesh, surface, 2, held=self._held(mesh) | (weight == 0), strength=weight)
        points = self.mirrored(mesh, new.points.copy(), weight)
        self.document.edit_jacket("relax points", mesh.with_points(points))


class Nudge(Brush):
    """Carries points along with the pointer, over the source."""

    id, label, key = "nudge", "Nudge", "G"
    what = "Carry points along"
    legend = (("drag", "carry points along"), ("[ ]", "size of the brush"), ("Ctrl wheel", "size while dragging"))

    def press(self, pointer: Pointer) -> None:
        super().press(pointer)
        mesh = self.document.require_jacket().mesh
        self._weight = self.falloff(mesh, pointer) * self.settings.strength * 2
        self._start = pointer

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        if before is pointer or pointer.form is None:
            return
        base = self.document.gesture_base.jacket
        if base is None:
            return
        mesh, weight = base.mesh, np.minimum(self._weight, 1.0)
        ids = np.flatnonzero((weight > 0) & ~self._held(mesh))
        if len(ids) == 0:
            return
        camera = pointer.form
        size = camera.pixel_size(float(np.nanmean(camera.project(mesh.points[ids])[:, 2])))
        right, up, _ = camera.rotation
        shift = right * (pointer.x - self._start.x) * size - up * (pointer.y - self._start.y) * size
        moved = mesh.points[ids] + weight[ids, None] * shift
        source = self.document.state.source
        if source is not None:
            moved = surface_of(source.mesh).project(moved)
        points = mesh.points.copy()
        points[ids] = moved
        self.document.edit_jacket("nudge points", mesh.with_points(self.mirrored(mesh, points, weight)))


class Unpick(Tool):
    """Removes faces, or loose points, that the pointer sweeps over."""

    id, label, stage, key = "unpick", "Unpick", "topology", "X"
    legend = (("click", "remove a face"), ("sweep", "remove all on the way"), ("Shift", "points with their faces"))

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.sweeping = False

    @property
    def busy(self) -> bool:
        return self.sweeping

    def hover(self, pointer: Pointer) -> None:
        state = self.document.state
        self.ghost = NO_GHOST
        if state.jacket is None or pointer.form is None:
            return
        mesh = state.jacket.mesh
        found = self._found(mesh, pointer)
        if found.kind == "face":
            ring = mesh.points[mesh.face(found.id)]
            self.ghost = Ghost(
                lines=np.stack([ring, np.roll(ring, -1, axis=0)], axis=1), what="Remove the face", how="click"
            )
        elif found.kind == "point":
            self.ghost = Ghost(marks=mesh.points[[found.id]], what="Remove the point", how="click")

    def _found(self, mesh: PolyMesh, pointer: Pointer):
        hiding = occluder(self.document.state)
        loose = pick(mesh, pointer, self.settings.reach, hiding, "point")
        if loose.kind and (pointer.shift or not (mesh.corners == loose.id).any()):
            return loose
        return pick(mesh, pointer, self.settings.reach, hiding, "face")

    def press(self, pointer: Pointer) -> None:
        self.document.require_jacket()
        self.document.begin("remove faces")
        self.sweeping = True
        self.move(pointer)

    def move(self, pointer: Pointer) -> None:
        mesh = self.document.require_jacket().mesh
        found = self._found(mesh, pointer)
        axis = self.document.state.mirror
        if found.kind == "face":
            faces = np.array([found.id])
            if axis:
                faces = np.union1d(faces, partner_faces(mesh, faces, axis))
            self.document.edit_jacket("remove faces", faces_removed(mesh, faces).mesh)
        elif found.kind == "point":
            ids = {found.id}
            if axis:
                ids |= {int(p) for p in partners(mesh, axis)[[found.id]] if p >= 0}
            self.document.edit_jacket("remove points", points_removed(mesh, sorted(ids)).mesh)

    def release(self, pointer: Pointer) -> None:
        self.sweeping = False
        self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.sweeping = self.sweeping, False
        super().cancel()
        return had
