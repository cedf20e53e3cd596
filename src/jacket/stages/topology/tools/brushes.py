"""Relax and Nudge: brushes whose size is in pixels on the screen; and Unpick, the sweep that removes."""

from __future__ import annotations

import numpy as np

from jacket.core.derive import surface_of
from jacket.core.fit.relax import Lines, relaxed_part
from jacket.core.fit.tidy import evened_path
from jacket.core.mesh.edits import faces_removed, points_removed
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.mesh.rows import edges_dissolved, loop_points
from jacket.core.mesh.walks import edge_loop
from jacket.core.space.bvh import Bvh
from jacket.errors import EditRefused
from jacket.tools.base import Option, Tool
from jacket.tools.brush import Brush
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.mirror import partner_edge, partner_faces, partners
from jacket.tools.pick import occluder, pick


class Relax(Brush):
    """Evens quads under the brush while they stay on the source."""

    id, label, key = "relax", "Relax", "S"
    what = "Even the quads"
    legend = (
        ("drag", "even the quads; Shift: a border"),
        ("[ ]", "size of the brush"),
        ("Ctrl wheel", "size while dragging"),
    )

    def press(self, pointer: Pointer) -> None:
        mesh = self.document.open_jacket().mesh
        self._lines = sliding_lines(mesh)
        if pointer.shift:
            self._even_border(mesh, pointer)
            return
        super().press(pointer)

    def _even_border(self, mesh: PolyMesh, pointer: Pointer) -> None:
        """Shift: the points of the whole border under the brush spread evenly along it."""
        weight = self.weights(mesh, pointer) * mesh.topology.border_points
        if not weight.any():
            raise EditRefused("There is no border under the brush; with Shift it evens a whole border.")
        start, around = mesh.topology.point_edges
        p = int(np.argmax(weight))
        edge = next(int(e) for e in around[start[p] : start[p + 1]] if mesh.topology.edge_uses[e] == 1)
        path, closed = loop_points(mesh, edge_loop(mesh, edge))
        source = self.document.state.source
        points = evened_path(mesh.points, path, closed, surface_of(source.mesh) if source is not None else None)
        moved = np.zeros(mesh.n_points)
        moved[path] = 1.0
        self.document.edit_jacket("even a border", mesh.with_points(self.mirrored(mesh, points, moved)))

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        mesh = self.document.require_jacket().mesh
        weight = self.weights(mesh, pointer) * self.settings.strength * max(pointer.pressure, 0.2)
        if not weight.any():
            return
        source = self.document.state.source
        surface = surface_of(source.mesh) if source is not None else surface_of(mesh)
        ids = np.flatnonzero(weight)
        points = relaxed_part(mesh, surface, ids, weight[ids], 2, self._lines)
        self.document.edit_jacket("relax points", mesh.with_points(self.mirrored(mesh, points, weight)))


def sliding_lines(mesh: PolyMesh) -> Lines | None:
    """Borders and edges marked sharp as lines that points on them slide along; where such lines meet or turn
    sharply the point stays."""
    topology = mesh.topology
    on = (topology.edge_uses == 1) | topology.edge_flags(mesh.mark("sharp"))
    ends = topology.edge_points[on]
    if len(ends) == 0:
        return None
    count = np.bincount(ends.ravel(), minlength=mesh.n_points)
    total = np.zeros((mesh.n_points, 3))
    way = unit(mesh.points[ends[:, 1]] - mesh.points[ends[:, 0]])
    np.add.at(total, ends[:, 0], way)
    np.add.at(total, ends[:, 1], -way)
    # Two pieces that run straight on cancel; over about 50 degrees of turn they leave more than 0.85.
    fixed = (count > 0) & ((count != 2) | (np.linalg.norm(total, axis=1) > 0.85))
    return Lines(Bvh.of_segments(mesh.points[ends]), count > 0, fixed)


class Nudge(Brush):
    """Carries points along with the pointer, over the source."""

    id, label, key = "nudge", "Nudge", "G"
    what = "Carry points along"
    legend = (("drag", "carry points along"), ("[ ]", "size of the brush"), ("Ctrl wheel", "size while dragging"))

    def press(self, pointer: Pointer) -> None:
        super().press(pointer)
        mesh = self.document.require_jacket().mesh
        self._weight = self.weights(mesh, pointer) * self.settings.strength * 2
        self._start = pointer

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        if before is pointer or pointer.form is None:
            return
        base = self.document.gesture_base.jacket
        if base is None:
            return
        mesh, weight = base.mesh, np.minimum(self._weight, 1.0)
        ids = np.flatnonzero(weight > 0)
        if len(ids) == 0:
            return
        camera = pointer.form
        size = camera.pixel_size(float(np.nanmean(camera.project(mesh.points[ids])[:, 2])))
        right, up, _ = camera.rotation
        shift = right * (pointer.x - self._start.x) * size - up * (pointer.y - self._start.y) * size
        moved = mesh.points[ids] + weight[ids, None] * shift
        source = self.document.state.source
        if source is not None:
            moved = surface_of(source.mesh).project(moved, weight[ids] * float(np.linalg.norm(shift)))
        points = mesh.points.copy()
        points[ids] = moved
        self.document.edit_jacket("nudge points", mesh.with_points(self.mirrored(mesh, points, weight)))


class Unpick(Tool):
    """Takes away what the pointer sweeps over: faces, edges (the faces beside them join), loops, points."""

    id, label, stage, key = "unpick", "Unpick", "topology", "X"
    legend = (
        ("click, sweep", "take away what is there"),
        ("Shift", "edges: the loop; faces: points"),
        ("Space", "faces, edges, points"),
    )
    options = (
        Option("takes", "Takes", "choice", choices=(("faces", "faces"), ("edges", "edges"), ("points", "points"))),
    )
    actions = ("remove-loose",)

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.sweeping = False
        self.takes = "faces"

    @property
    def busy(self) -> bool:
        return self.sweeping

    def step(self) -> None:
        kinds = ("faces", "edges", "points")
        self.takes = kinds[(kinds.index(self.takes) + 1) % 3]
        self.ghost = Ghost(what=f"Takes {self.takes} now", how="click, or sweep")

    def hover(self, pointer: Pointer) -> None:
        state = self.document.state
        self.ghost = NO_GHOST
        if state.jacket is None or pointer.form is None:
            return
        mesh = state.jacket.mesh
        kind, ids = self._found(mesh, pointer)
        if kind == "faces":
            ring = mesh.points[mesh.face(int(ids[0]))]
            lines = np.stack([ring, np.roll(ring, -1, axis=0)], axis=1)
            self.ghost = Ghost(lines=lines, what="Remove the face", how="click")
        elif kind == "edges":
            what = "Take the loop out" if len(ids) > 1 else "Take the edge out, its faces join"
            self.ghost = Ghost(lines=mesh.points[mesh.topology.edge_points[ids]], what=what, how="click")
        elif kind == "points":
            self.ghost = Ghost(marks=mesh.points[ids], what="Remove the point", how="click")

    def _found(self, mesh: PolyMesh, pointer: Pointer) -> tuple[str, Ints]:
        """A kind and the elements of it that a click would take."""
        hiding = occluder(self.document.state)
        none = np.zeros(0, np.int32)
        if self.takes == "edges":
            found = pick(mesh, pointer, self.settings.reach, hiding, "edge")
            if not found.kind or mesh.topology.edge_uses[found.id] != 2:
                return "", none
            return "edges", edge_loop(mesh, found.id) if pointer.shift else np.array([found.id], np.int32)
        loose = pick(mesh, pointer, self.settings.reach, hiding, "point")
        if loose.kind and (self.takes == "points" or pointer.shift or not (mesh.corners == loose.id).any()):
            return "points", np.array([loose.id], np.int32)
        if self.takes == "points":
            return "", none
        found = pick(mesh, pointer, self.settings.reach, hiding, "face")
        return ("faces", np.array([found.id], np.int32)) if found.kind else ("", none)

    def press(self, pointer: Pointer) -> None:
        self.document.open_jacket()
        self.document.begin(f"remove {self.takes}")
        self.sweeping = True
        self.move(pointer)

    def move(self, pointer: Pointer) -> None:
        if not self.sweeping:
            return
        mesh = self.document.require_jacket().mesh
        kind, ids = self._found(mesh, pointer)
        axis = self.document.state.mirror
        if kind == "faces":
            if axis:
                ids = np.union1d(ids, partner_faces(mesh, ids, axis))
            self.document.edit_jacket("remove faces", faces_removed(mesh, ids).mesh)
        elif kind == "edges":
            if axis:
                others = [partner_edge(mesh, int(e), axis) for e in ids]
                ids = np.union1d(ids, [e for e in others if e >= 0]).astype(np.int32)
            self.document.edit_jacket("remove edges", edges_dissolved(mesh, ids).mesh)
        elif kind == "points":
            if axis:
                ids = np.union1d(ids, [p for p in partners(mesh, axis)[ids] if p >= 0])
            self.document.edit_jacket("remove points", points_removed(mesh, ids).mesh)

    def release(self, pointer: Pointer) -> None:
        self.sweeping = False
        self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.sweeping = self.sweeping, False
        super().cancel()
        return had
