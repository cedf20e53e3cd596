"""Ladder: a strip of quads along a dragged path, along clicked points, or out of a border edge."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.rows import loop_points
from jacket.core.mesh.walks import edge_loop
from jacket.core.strokes.ladder import Ladder as Strip
from jacket.core.strokes.ladder import ladder
from jacket.core.strokes.path import normals_at, smoothed, tangents
from jacket.errors import EditRefused
from jacket.tools.base import Option
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.pick import occluder, pick
from jacket.tools.strokes import Drawing, chalk, face_lines, segments, snapped


class Ladder(Drawing):
    """Drag: the strip follows. Click, click …: straight from point to point, Enter ends it. A strip begun on a
    border edge takes that edge as its first rung; with Shift it runs beside the border from there to where the
    drag ends. Rungs join border points they come near."""

    id, label, key = "ladder", "Ladder", "L"
    legend = (
        ("drag", "a strip; Shift beside a border"),
        ("click", "from point to point, Enter ends"),
        ("wheel", "width of the strip"),
    )

    options = (Option("width", "Width", "count", 6, 400, "px"),)

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.width = 34.0
        """In pixels."""
        self.first_edge = -1
        self.first_of: object = None
        self.clicked = False
        self.moved = False
        self.beside = False
        self.start: Pointer | None = None

    @property
    def pending(self) -> bool:
        return self.clicked and len(self.path) > 1

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        self.last = pointer
        place = self.under(pointer)
        if self.clicked and self.path:
            self._show([*self.path, place] if place is not None else self.path, "click", "Go on to here; Enter ends")
            return
        edge = self._border_edge(pointer)
        mesh = self.mesh()
        if edge >= 0:
            ends = mesh.points[mesh.topology.edge_points[edge]]
            what = "Run beside this border" if pointer.shift else "Begin with this edge"
            self.ghost = chalk(ends[None], what, "Shift drag" if pointer.shift else "drag")
        elif place is not None and pointer.form is not None:
            right = pointer.form.rotation[0] * self.width * self.pixel / 2
            self.ghost = chalk(
                np.stack([place - right, place + right])[None], f"A strip {self.width:.0f} px wide", "drag"
            )
        else:
            self.ghost = NO_GHOST

    def _border_edge(self, pointer: Pointer) -> int:
        mesh = self.mesh()
        if mesh.n_faces == 0 or pointer.ctrl:
            return -1
        found = pick(mesh, pointer, self.settings.reach, occluder(self.document.state), "edge")
        return found.id if found.kind == "edge" and mesh.topology.edge_uses[found.id] == 1 else -1

    def _show(self, path: Sequence[Floats | None], how: str, what: str) -> None:
        places = np.array([p for p in path if p is not None]).reshape(-1, 3)
        try:
            fresh, faces, known = self._built(places)
        except EditRefused:
            self.ghost = chalk(segments(places), what, how)
            return
        points = np.concatenate([self.mesh().points, fresh])
        self.ghost = chalk(face_lines(points, faces), f"{what}: {len(faces)} quads", how, points[known[known >= 0]])

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.document.require_jacket()
        self.surface()
        self.start, self.moved, self.last = pointer, False, pointer
        if not self.path:
            self.first_edge, self.first_of = self._border_edge(pointer), self.mesh().topology
            self.beside = pointer.shift and self.first_edge >= 0
        self.add_place(pointer, 0.0)

    def move(self, pointer: Pointer) -> None:
        if self.start is None:
            return
        self.last = pointer
        if not self.moved and np.hypot(pointer.x - self.start.x, pointer.y - self.start.y) < 5:
            return
        self.moved = True
        if not self.clicked:
            self.add_place(pointer)
            self._show(list(self.path), "let go", "Lay the strip")

    def release(self, pointer: Pointer) -> None:
        if self.start is None:
            return
        self.start = None
        if self.moved and not self.clicked:
            self.accept()
        elif self.path:
            self.clicked = True
            self.hover(pointer)

    def accept(self) -> None:
        path = np.array(self.path).reshape(-1, 3)
        try:
            if len(path) > 1:
                mesh = self.mesh()
                fresh, faces, _ = self._built(path)
                self.document.edit_jacket("lay a strip", self.joined(mesh, fresh, faces))
        finally:
            self.path, self.clicked, self.first_edge = [], False, -1
            self.ghost = NO_GHOST

    def wheel(self, steps: float) -> bool:
        if not self.path:
            return False
        self.width = float(np.clip(self.width * 1.1**steps, 6, 400))
        self._show(list(self.path), "let go" if not self.clicked else "Enter", "Lay the strip")
        return True

    def remove(self, pointer: Pointer) -> None:
        if self.clicked and self.path:
            self.path.pop()
            self.clicked = bool(self.path)
            self.hover(pointer)

    def cancel(self) -> bool:
        self.clicked, self.first_edge, self.start = False, -1, None
        return super().cancel()

    # ---- building -----------------------------------------------------------------------------
    def _built(self, path: Floats) -> tuple[Floats, list[list[int]], Ints]:
        """New points, faces over old and new ones, and which old point each rung end was laid onto."""
        mesh, surface = self.mesh(), self.surface()
        if self.first_of is not mesh.topology:
            # Faces came or went between two clicks, by undoing for one: the number means another edge now.
            self.first_edge, self.beside = -1, False
        width = self.width * self.pixel
        if len(path) < 2:
            raise EditRefused("The path is too short for a quad; drag farther over the source.")
        if self.beside:
            return self._beside(mesh, path[-1], width)
        first = last = None
        if self.first_edge >= 0:
            first = mesh.topology.edge_points[self.first_edge]
            width = float(np.linalg.norm(np.diff(mesh.points[first], axis=0)))
            path = np.concatenate([mesh.points[first].mean(axis=0)[None], path[1:]])
        end = self._edge_at(mesh, path[-1], width)
        if end >= 0 and end != self.first_edge:
            last = mesh.topology.edge_points[end]
            path = np.concatenate([path[:-1], mesh.points[last].mean(axis=0)[None]])
        if len(path) > 4 and not self.clicked:
            path = smoothed(path, 4, surface)
        strip = ladder(
            path, surface, width, self._turned(mesh, first, path, False), self._turned(mesh, last, path, True)
        )
        return self._laid(mesh, strip, first, last, width)

    def _beside(self, mesh: PolyMesh, place: Floats, width: float) -> tuple[Floats, list[list[int]], Ints]:
        """A strip along the border from the first edge to the border point nearest to a place."""
        border, closed = loop_points(mesh, edge_loop(mesh, self.first_edge))
        row = border_run(mesh, border, closed, self.first_edge, place)
        rungs = mesh.points[row]
        inward = inward_of(mesh, row)
        tangent = tangents(rungs)
        normal = normals_at(self.surface(), rungs)
        out = unit(np.cross(normal, tangent))
        out[(out * inward).sum(axis=1) > 0] *= -1
        far = self.surface().project(rungs + out * width)
        known = snapped(mesh, far, min(self.settings.reach * 1.4 * self.pixel, 0.45 * width), set(row.tolist()))
        fresh = np.flatnonzero(known < 0)
        ids = known.copy()
        ids[fresh] = mesh.n_points + np.arange(len(fresh))
        faces = [[int(row[k]), int(row[k + 1]), int(ids[k + 1]), int(ids[k])] for k in range(len(row) - 1)]
        return far[fresh], [f for f in faces if len(set(f)) == 4 and not _there(mesh, f)], known

    def _turned(self, mesh: PolyMesh, edge: Ints | None, path: Floats, at_end: bool) -> Floats | None:
        """An edge as left and right end of a rung of the path."""
        if edge is None:
            return None
        ends = mesh.points[edge]
        reach = min(len(path) - 1, max(1, len(path) // 6))
        along = path[-1] - path[-1 - reach] if at_end else path[reach] - path[0]
        normal = self.outward(ends)
        left = np.cross(normal, along)
        return ends if float((ends[0] - ends[1]) @ left) > 0 else ends[::-1]

    def _edge_at(self, mesh: PolyMesh, place: Floats, width: float) -> int:
        """A border edge whose middle lies within half a width of a place, −1 for none."""
        border = mesh.topology.border_edges
        if len(border) == 0 or (self.last is not None and self.last.ctrl):
            return -1
        middle = mesh.points[mesh.topology.edge_points[border]].mean(axis=1)
        far = np.linalg.norm(middle - place, axis=1)
        k = int(np.argmin(far))
        return int(border[k]) if far[k] < 0.5 * width else -1

    def _laid(
        self, mesh: PolyMesh, strip: Strip, first: Ints | None, last: Ints | None, width: float
    ) -> tuple[Floats, list[list[int]], Ints]:
        ends = np.concatenate([strip.left, strip.right])
        n = len(strip.left)
        ctrl = self.last is not None and self.last.ctrl
        reach = min(self.settings.reach * 1.4 * self.pixel, 0.45 * width)
        known = np.full(2 * n, -1, np.int32) if ctrl else snapped(mesh, ends, reach)
        for edge, rows in ((first, (0, n)), (last, (n - 1, 2 * n - 1))):
            if edge is None:
                continue
            a, b = (int(x) for x in edge)
            near_a = np.linalg.norm(mesh.points[a] - ends[rows[0]]) <= np.linalg.norm(mesh.points[b] - ends[rows[0]])
            for row, p in zip(rows, (a, b) if near_a else (b, a), strict=True):
                known[(known == p)] = -1
                known[row] = p
        fresh = np.flatnonzero(known < 0)
        ids = known.copy()
        ids[fresh] = mesh.n_points + np.arange(len(fresh))
        faces = [[int(ids[n + i]), int(ids[n + i + 1]), int(ids[i + 1]), int(ids[i])] for i in range(n - 1)]
        faces = [f for f in faces if not _there(mesh, f)]
        return ends[fresh], faces, known


def border_run(mesh: PolyMesh, border: Ints, closed: bool, edge: int, place: Floats) -> Ints:
    """The border points from an edge of it to the one nearest to a place, the shorter way round."""
    a, b = (int(p) for p in mesh.topology.edge_points[edge])
    n = len(border)
    at = {int(p): k for k, p in enumerate(border)}
    end = int(np.argmin(np.linalg.norm(mesh.points[border] - place, axis=1)))
    i, j = sorted((at[a], at[b]))
    if closed:
        if j - i > 1:
            i, j = j, i
        ahead, behind = (end - j) % n, (i - end) % n
        count = min(ahead, behind) + 1
        picked = (i + np.arange(count + 1)) % n if ahead <= behind else (j - np.arange(count + 1)) % n
    else:
        picked = np.arange(i, max(end, j) + 1) if end >= j else np.arange(j, min(end, i) - 1, -1)
    return border[picked].astype(np.int32)


def inward_of(mesh: PolyMesh, row: Ints) -> Floats:
    """(K, 3) directions from border points into the faces behind them."""
    topology = mesh.topology
    inward = np.zeros((len(row), 3))
    for k in range(len(row) - 1):
        e = topology.find_edge(int(row[k]), int(row[k + 1]))
        face = mesh.face(int(mesh.face_of_corner[topology.edge_corner[e]]))
        way = mesh.points[face].mean(axis=0) - mesh.points[row[k : k + 2]].mean(axis=0)
        inward[k] += way
        inward[k + 1] += way
    return inward


def _there(mesh: PolyMesh, face: list[int]) -> bool:
    """Whether a face over the same points exists already."""
    if max(face) >= mesh.n_points:
        return False
    e = mesh.topology.find_edge(face[0], face[1])
    if e < 0:
        return False
    c = int(mesh.topology.edge_corner[e])
    return set(mesh.face(int(mesh.face_of_corner[c])).tolist()) == set(face)
