"""Hold: choosing points, edges, faces and islands in either view."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_of
from jacket.core.mesh.choosing import linked
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import edge_loop, ring_edges, shortest_path
from jacket.core.seams.sewing import partner_threads
from jacket.core.space.segments import inside_outline
from jacket.core.uv.sets import border_flags, island_labels
from jacket.document.state import Held
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.pick import NOTHING, Pick, occluder, pick, pick_flat
from jacket.tools.regions import (
    box_outline,
    element_places,
    elements_on_screen,
    near_place,
    seen,
)


def found_under(tool: Tool, pointer: Pointer, kinds: str) -> Pick:
    """The element of the active jacket under the pointer, in whichever view that is."""
    jacket = tool.document.state.jacket
    if jacket is None:
        return NOTHING
    if pointer.flat is not None:
        return pick_flat(jacket.mesh, pointer, tool.settings.reach, kinds)
    return pick(jacket.mesh, pointer, tool.settings.reach, occluder(tool.document.state), kinds)


def island_under(tool: Tool, pointer: Pointer) -> int:
    """The island of the active jacket that the face under the pointer lies on, by its number among them; −1 for none."""
    jacket, found = tool.document.state.jacket, found_under(tool, pointer, "face")
    if jacket is None or found.kind != "face":
        return -1
    return int(islands_of(jacket.mesh, tool.document.state.sheets).labels[found.id])


def edge_ghost(mesh: PolyMesh, edges: Ints, view: str, what: str, how: str) -> Ghost:
    """Edges lit in the view the pointer is in; in the flat view both sides of each."""
    topology = mesh.topology
    if view == "form":
        return Ghost(lines=mesh.points[topology.edge_points[edges]], what=what, how=how)
    uv = mesh.uv
    if uv is None:
        return Ghost("flat", what=what, how=how)
    corners = np.flatnonzero(np.isin(topology.edge, edges))
    lines = np.stack([uv[corners], uv[topology.next[corners]]], axis=1)
    only = np.zeros(topology.n_edges, bool)
    only[edges] = True
    threads = partner_threads(mesh, uv, border_flags(mesh), only) if len(edges) < 2000 else np.zeros((0, 2, 2))
    return Ghost("flat", lines[np.isfinite(lines).all(axis=(1, 2))], np.zeros((0, 2)), threads=threads, what=what, how=how)


def face_ghost(mesh: PolyMesh, faces: Ints, view: str, what: str, how: str) -> Ghost:
    """The outline of faces in the view the pointer is in."""
    inside = np.zeros(mesh.n_faces, bool)
    inside[faces] = True
    topology = mesh.topology
    across = topology.twin
    corners = np.flatnonzero(
        inside[mesh.face_of_corner] & ~((across >= 0) & inside[mesh.face_of_corner[np.maximum(across, 0)]])
    )
    if view == "form":
        return Ghost(lines=mesh.points[topology.edge_points[topology.edge[corners]]], what=what, how=how)
    uv = mesh.uv
    if uv is None:
        return Ghost("flat", what=what, how=how)
    cut = border_flags(mesh)
    corners = np.flatnonzero(
        inside[mesh.face_of_corner]
        & ((across < 0) | cut[topology.edge] | ~inside[mesh.face_of_corner[np.maximum(across, 0)]])
    )
    lines = np.stack([uv[corners], uv[topology.next[corners]]], axis=1)
    return Ghost("flat", lines[np.isfinite(lines).all(axis=(1, 2))], np.zeros((0, 2)), what=what, how=how)


class Hold(Tool):
    """Holds what is clicked, or what a box, a lasso or a sweep takes in. Shift widens a click to the loop, ring,
    path or island that Space chooses, and adds what a drag takes in; Ctrl adds or lets go."""

    id, label, stage, key = "hold", "Hold", "any", "H"
    legend = (
        ("click, drag", "hold it; all in the box"),
        ("Shift", "loop, island, path; add"),
        ("Ctrl", "one more, or let go; Space"),
    )
    options: ClassVar[tuple[Option, ...]] = (
        Option(
            "kinds",
            "Takes",
            "choice",
            choices=(("mixed", "what is there"), ("points", "points"), ("edges", "edges"), ("faces", "faces")),
        ),
        Option(
            "shape", "A drag draws", "choice", choices=(("box", "a box"), ("lasso", "a lasso"), ("sweep", "a sweep"))
        ),
        Option("through", "Also what is hidden", "switch"),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.kinds, self.shape, self.through = "mixed", "box", False
        self.wide = 0
        self.start: Pointer | None = None
        self.before = Held()
        self.trail: list[tuple[float, float]] = []
        self.swept: set[int] = set()
        self.dragging = False

    @property
    def busy(self) -> bool:
        return self.dragging

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        kind, ids, what = self.aim(pointer)
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None or not kind:
            return
        view = "flat" if pointer.flat is not None else "form"
        how = "Shift click" if pointer.shift else "Ctrl click" if pointer.ctrl else "click"
        if kind == "points":
            if view == "form":
                self.ghost = Ghost(marks=jacket.mesh.points[ids], what=what, how=how)
            return
        show = edge_ghost if kind == "edges" else face_ghost
        self.ghost = show(jacket.mesh, ids, view, what, how)

    def aim(self, pointer: Pointer) -> tuple[str, Ints, str]:
        """What a click would hold: a kind, ids, and what to call it."""
        jacket = self.document.state.jacket
        none = np.zeros(0, np.int32)
        if jacket is None:
            return "", none, ""
        kinds = {"mixed": "point edge face", "points": "point", "edges": "edge", "faces": "face"}[self.kinds]
        if self.kinds == "mixed" and pointer.flat is not None:
            kinds = "edge face"  # on the sheet faces are small, and points would always be in reach
        found = found_under(self, pointer, kinds)
        if not found.kind:
            return "", none, ""
        kind, one = f"{found.kind}s", np.array([found.id], np.int32)
        if pointer.shift:
            return kind, *self._widened(jacket.mesh, kind, found.id)
        verb = "Let go of" if pointer.ctrl and found.id in self.document.state.held.of(kind) else "Hold"
        return kind, one, f"{verb} the {found.kind}"

    def _widened(self, mesh: PolyMesh, kind: str, element: int) -> tuple[Ints, str]:
        ways = WAYS[kind]
        way = ways[self.wide % len(ways)]
        held = self.document.state.held
        one = np.array([element], np.int32)
        if way == "path":
            start = held.last if held.kind == kind and held.last >= 0 else -1
            return (path_between(mesh, kind, start, element) if start >= 0 else one), "Hold the path from the last"
        if way == "loop":
            return edge_loop(mesh, element), "Hold the loop"
        if way == "ring":
            return ring_edges(mesh, element), "Hold the ring"
        if way == "island":
            labels = island_labels(mesh)[1]
            return np.flatnonzero(labels == labels[element]).astype(np.int32), "Hold the island"
        return linked(mesh, kind, one), "Hold all that hangs together"

    def step(self) -> None:
        """Space: what Shift widens to."""
        self.wide += 1

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.start, self.dragging = pointer, False
        self.before = self.document.state.held
        self.trail, self.swept = [(pointer.x, pointer.y)], set()

    def move(self, pointer: Pointer) -> None:
        start = self.start
        if start is None or self.document.state.jacket is None:
            return
        if not self.dragging and np.hypot(pointer.x - start.x, pointer.y - start.y) < 5:
            return
        self.dragging = True
        self.trail.append((pointer.x, pointer.y))
        if self.shape == "sweep":
            self.swept.update(self._under_brush(pointer).tolist())
            self._take(pointer, np.array(sorted(self.swept), np.int32))
            self.ghost = Ghost(self._view(pointer), circle=self.settings.brush, what="Hold what is swept", how="let go")
            return
        outline = self._outline(pointer)
        what = "Add these" if pointer.shift else "Let go of these" if pointer.ctrl else "Hold these"
        lines = np.stack([outline, np.roll(outline, -1, axis=0)], axis=1)
        self.ghost = Ghost(self._view(pointer), screen=lines, what=what, how="let go")

    def release(self, pointer: Pointer) -> None:
        start, self.start = self.start, None
        dragged, self.dragging = self.dragging, False
        if start is None:
            return
        if not dragged:
            self._click(pointer)
        elif self.shape != "sweep" and self.document.state.jacket is not None:
            mesh, kind = self.document.require_jacket().mesh, self._drag_kind()
            at, ids = elements_on_screen(mesh, pointer, kind)
            inside = np.unique(ids[inside_outline(self._outline(pointer), at)]).astype(np.int32)
            self._take(pointer, self._seen(mesh, pointer, kind, inside))
        self.hover(pointer)

    def _click(self, pointer: Pointer) -> None:
        kind, ids, what = self.aim(pointer)
        held = self.document.state.held
        if not kind:
            if not pointer.ctrl and not pointer.shift:
                self.document.hold_all(Held())
            return
        parts = {h.kind: h.ids for h in held.parts} if pointer.ctrl or "path" in what else {}
        own = parts.get(kind, np.zeros(0, np.int32))
        gone = pointer.ctrl and bool(np.isin(ids, own).all())
        parts[kind] = np.setdiff1d(own, ids) if gone else np.union1d(own, ids)
        self.document.hold_all(Held.together(parts, kind, -1 if gone else int(ids[-1])))

    def _view(self, pointer: Pointer) -> str:
        return "flat" if pointer.flat is not None else "form"

    def _drag_kind(self) -> str:
        return "faces" if self.kinds == "mixed" else self.kinds

    def _outline(self, pointer: Pointer) -> Floats:
        if self.shape == "lasso":
            return np.array(self.trail, float)
        return box_outline(self.trail[0], (pointer.x, pointer.y))

    def _seen(self, mesh: PolyMesh, pointer: Pointer, kind: str, ids: Ints) -> Ints:
        return ids if self.through else seen(mesh, pointer, kind, ids, occluder(self.document.state))

    def _under_brush(self, pointer: Pointer) -> Ints:
        mesh, kind = self.document.require_jacket().mesh, self._drag_kind()
        at, ids = elements_on_screen(mesh, pointer, kind)
        near = np.unique(ids[near_place(pointer.x, pointer.y, self.settings.brush, at)]).astype(np.int32)
        return self._seen(mesh, pointer, kind, near)

    def _take(self, pointer: Pointer, ids: Ints) -> None:
        """Hold what a drag took in, beside or out of what was held before."""
        kind = self._drag_kind()
        parts = {h.kind: h.ids for h in self.before.parts} if pointer.shift or pointer.ctrl else {}
        own = parts.get(kind, np.zeros(0, np.int32))
        parts[kind] = np.setdiff1d(own, ids) if pointer.ctrl else np.union1d(own, ids)
        self.document.hold_all(Held.together(parts, kind))

    def cancel(self) -> bool:
        had, self.start, self.dragging = self.dragging, None, False
        if had:
            self.document.hold_all(self.before)
        super().cancel()
        return had


WAYS = {"points": ("path", "linked"), "edges": ("loop", "ring", "path"), "faces": ("island", "linked", "path")}
"""What Shift widens a click to, by kind; Space steps through them."""


def path_between(mesh: PolyMesh, kind: str, start: int, end: int) -> Ints:
    """Elements along the shortest way from one to another, in order: points along edges, edges along that way,
    faces across edges."""
    if start == end:
        return np.array([end], np.int32)
    if kind == "points":
        return shortest_path(mesh, start, end)
    if kind == "edges":
        ends = mesh.topology.edge_points
        paths = [shortest_path(mesh, int(a), int(b)) for a in ends[start] for b in ends[end]]
        best = min((p for p in paths if len(p)), key=len, default=np.zeros(0, np.int32))
        along = mesh.topology.find_edges(np.stack([best[:-1], best[1:]], axis=1)) if len(best) > 1 else best[:0]
        return np.array([start, *along[(along != start) & (along != end)], end], np.int32)
    return face_path(mesh, start, end)


def face_path(mesh: PolyMesh, start: int, end: int) -> Ints:
    """Faces along the shortest way across edges, by the distance of their middles."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import dijkstra

    twin = mesh.topology.twin
    corner = np.flatnonzero(twin >= 0)
    a, b = mesh.face_of_corner[corner], mesh.face_of_corner[twin[corner]]
    middle, _ = element_places(mesh, "faces")
    cost = np.linalg.norm(middle[a] - middle[b], axis=1)
    graph = coo_array((cost, (a, b)), shape=(mesh.n_faces, mesh.n_faces)).tocsr()
    _, came = dijkstra(graph, indices=start, return_predecessors=True)
    row = [end]
    while row[-1] != start and came[row[-1]] >= 0:
        row.append(int(came[row[-1]]))
    return np.array(row[::-1] if row[-1] == start else [end], np.int32)
