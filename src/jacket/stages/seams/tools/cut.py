"""Cut and Sew: seams along edges, loops and shortest paths, in either view."""

from __future__ import annotations

import numpy as np

from jacket.core.derive import ways_from
from jacket.core.mesh.polymesh import Aspect, Ints, PolyMesh
from jacket.core.seams.cuts import cut_edges, seam_loop, seam_path, sew_edges
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import edge_ghost, found_under
from jacket.tools.mirror import partner_edge


class Cut(Tool):
    """Cuts the edge under the pointer; from a clicked point, the shortest path to the next."""

    id, label, stage, key = "cut", "Cut", "seams", "C"
    verb = "Cut"
    legend = (
        ("click edge", "cut it"),
        ("Shift click", "the loop up to seams"),
        ("click points", "cut the path between"),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.anchor = -1
        self._anchored: tuple[int, Aspect] | None = None

    def _mesh(self) -> PolyMesh | None:
        jacket = self.document.state.jacket
        return jacket.mesh if jacket is not None else None

    def _aim(self, pointer: Pointer) -> tuple[Ints, int, str]:
        """Edges a click would take, the point it would start from, and what to call it."""
        mesh = self._mesh()
        none = np.zeros(0, np.int32)
        if mesh is None:
            return none, -1, ""
        if self.anchor >= 0 and self._here(mesh) != self._anchored:
            # Numbers of points mean something else on another layer, or once the faces are others.
            self.anchor = -1
        found = found_under(self, pointer, "point edge" if not pointer.shift else "edge")
        if found.kind == "point":
            if self.anchor >= 0 and self.anchor != found.id:
                return seam_path(mesh, self.anchor, found.id, ways_from(mesh, self.anchor)), found.id, f"{self.verb} the path"
            return none, found.id, f"{self.verb} from here"
        if found.kind == "edge":
            if pointer.shift:
                return seam_loop(mesh, found.id), -1, f"{self.verb} the loop"
            return np.array([found.id], np.int32), -1, f"{self.verb} the edge"
        return none, -1, ""

    def hover(self, pointer: Pointer) -> None:
        mesh = self._mesh()
        edges, point, what = self._aim(pointer)
        self.ghost = NO_GHOST
        if mesh is None or not what:
            return
        view = "flat" if pointer.flat is not None else "form"
        if len(edges):
            self.ghost = edge_ghost(mesh, edges, view, what, "Shift click" if pointer.shift else "click")
        elif view == "form":
            self.ghost = Ghost(marks=mesh.points[[point]], what=what, how="click")

    def press(self, pointer: Pointer) -> None:
        mesh = self._mesh()
        edges, point, what = self._aim(pointer)
        if mesh is None or not what:
            self.anchor = -1
            return
        if len(edges):
            self.document.edit_jacket(what.lower(), self.change(mesh, self._mirrored(mesh, edges)))
        self.anchor = point
        now = self._mesh()
        self._anchored = self._here(now) if now is not None else None
        self.hover(pointer)

    def _here(self, mesh: PolyMesh) -> tuple[int, Aspect]:
        return self.document.state.active, mesh.aspect("faces")

    def _mirrored(self, mesh: PolyMesh, edges: Ints) -> Ints:
        axis = self.document.state.mirror
        if not axis:
            return edges
        others = [partner_edge(mesh, int(e), axis) for e in edges]
        return np.union1d(edges, [e for e in others if e >= 0]).astype(np.int32)

    def change(self, mesh: PolyMesh, edges: Ints) -> PolyMesh:
        """The mesh with these edges cut."""
        return cut_edges(mesh, edges)

    def cancel(self) -> bool:
        had, self.anchor = self.anchor >= 0, -1
        super().cancel()
        return had


class Sew(Cut):
    """Sews seams back: the edge under the pointer, its loop, or a path."""

    id, label, key = "sew", "Sew", "W"
    verb = "Sew"
    legend = (
        ("click edge", "sew it"),
        ("Shift click", "the loop up to seams"),
        ("click points", "sew the path between"),
    )

    def change(self, mesh: PolyMesh, edges: Ints) -> PolyMesh:
        """The mesh with these edges no longer cut."""
        return sew_edges(mesh, edges)
