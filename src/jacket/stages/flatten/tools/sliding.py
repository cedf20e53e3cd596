"""Slide: points along their edges, edges and loops across their rows, on the sheet; the form stays as it is."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_of
from jacket.core.flatten.sliding import MOST, Rails, point_rails, rails_of
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.mesh.walks import edge_loop
from jacket.core.uv.sets import border_flags
from jacket.errors import EditRefused
from jacket.stages.flatten.tools.brushes import Mirrored, Sheet, shifted
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import edge_ghost, found_under


class Slide(Tool):
    """Drags what is under the pointer along what leads off it; with Shift the whole loop. No face turns over."""

    id, label, stage, key = "slide", "Slide", "flatten", "L"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("drag", "a point along an edge, an edge across its row"), ("Shift drag", "the whole loop"),
    )  # fmt: skip
    options: ClassVar[tuple[Option, ...]] = (Option("held_too", "With all that is held", "switch"),)

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.held_too = True
        self.start: Pointer | None = None
        self._sheet: Sheet | None = None
        self._rails: Rails | None = None
        self._mirrored: Mirrored | None = None
        self._point = -1
        self._near = 0
        self._ways: Floats = np.zeros((0, 2))
        self._stopped = False

    @property
    def busy(self) -> bool:
        return self.start is not None

    def hover(self, pointer: Pointer) -> None:
        """Show the point, the edge or the loop that would slide."""
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None or pointer.flat is None or jacket.mesh.uv is None:
            return
        mesh = jacket.mesh
        found = found_under(self, pointer, "point edge")
        if found.kind == "point" and not pointer.shift:
            at = mesh.uv[np.flatnonzero(mesh.corners == found.id)] if mesh.uv is not None else np.zeros((0, 2))
            self.ghost = Ghost("flat", np.zeros((0, 2, 2)), at[finite_rows(at)], what="Slide the point along an edge", how="drag")
        elif found.kind == "edge":
            edges = self._edges(mesh, found.id, pointer.shift)
            what = "Slide the edge" if len(edges) == 1 else f"Slide {len(edges):,} edges"
            self.ghost = edge_ghost(mesh, edges, "flat", f"{what} across", "drag" if pointer.shift else "drag; Shift: the loop")

    def _edges(self, mesh: PolyMesh, edge: int, loop: bool) -> Ints:
        """The edge, its loop up to the seams, or all held edges where it is one of them."""
        held = self.document.state.held.of("edges")
        if self.held_too and edge in held:
            return np.asarray(held, np.int32)
        if not loop:
            return np.array([edge], np.int32)
        border = border_flags(mesh)
        if not border[edge]:
            return edge_loop(mesh, edge, border)
        # Along a seam the loop is the seam, as far as it goes straight on.
        whole = edge_loop(mesh, edge)
        at = int(np.flatnonzero(whole == edge)[0])
        off = np.flatnonzero(~border[whole])
        before, after = off[off < at], off[off > at]
        return whole[(before.max() + 1 if len(before) else 0) : (after.min() if len(after) else len(whole))]

    def press(self, pointer: Pointer) -> None:
        """Take hold, on the side of a seam where the pointer is."""
        mesh = self.document.open_jacket().mesh
        if pointer.flat is None:
            return
        if mesh.uv is None:
            raise EditRefused("Nothing lies on the sheet yet; flatten the jacket first.")
        found = found_under(self, pointer, "point edge")
        if not found.kind or (found.kind == "point" and pointer.shift):
            return
        sheet = self._sheet = Sheet(mesh)
        places, at = sheet.places(mesh), pointer.flat.place(pointer.x, pointer.y)
        if found.kind == "point":
            mine = np.unique(sheet.fans[mesh.corners == found.id])
            self._point = int(mine[np.nanargmin(np.linalg.norm(places[mine] - at, axis=1))])
            self._ways, self._rails = point_rails(mesh, sheet.fans, places, self._point), None
        else:
            corners = np.flatnonzero(mesh.topology.edge == found.id)
            corner = int(corners[np.argmin(self._off(mesh, corners, pointer))])
            label = islands_of(mesh, self.document.state.sheets).corner_labels
            edges = self._edges(mesh, found.id, pointer.shift)
            own = np.flatnonzero(np.isin(mesh.topology.edge, edges) & (label == label[corner]))
            rails = rails_of(mesh, sheet.fans, places, np.unique(mesh.topology.edge[own]), corner)
            self._rails, self._near = rails, int(np.argmin(np.linalg.norm(places[rails.ids] - at, axis=1)))
        self.start, self._stopped, self._mirrored = pointer, False, Mirrored(self.document, mesh, sheet)
        self.document.begin("slide on the sheet")

    def _off(self, mesh: PolyMesh, corners: Ints, pointer: Pointer) -> Floats:
        """How far the sides of an edge lie from the pointer; where two lie together, the face it is over is nearer."""
        assert mesh.uv is not None and pointer.flat is not None
        a, b = mesh.uv[corners], mesh.uv[mesh.topology.next[corners]]
        at = pointer.flat.place(pointer.x, pointer.y)
        along = np.clip(((at - a) * (b - a)).sum(axis=1) / np.maximum(((b - a) ** 2).sum(axis=1), 1e-300), 0, 1)
        away = np.linalg.norm(a + along[:, None] * (b - a) - at, axis=1)
        d, off = b - a, at - a
        return np.where(np.isfinite(away), away - 1e-9 * (d[:, 0] * off[:, 1] > d[:, 1] * off[:, 0]), np.inf)

    def move(self, pointer: Pointer) -> None:
        """As far along as the pointer went, and as no face turns over."""
        start, sheet = self.start, self._sheet
        base = self.document.gesture_base.jacket
        if start is None or start.flat is None or pointer.flat is None or sheet is None or base is None:
            return
        way = pointer.flat.place(pointer.x, pointer.y) - start.flat.place(start.x, start.y)
        places, moves = sheet.places(base.mesh), np.zeros((len(sheet.first), 2))
        if self._rails is None:
            ids, step, share = np.array([self._point]), *self._along_an_edge(way)
        else:
            share = self._share(self._rails, way)
            ids, step = self._rails.ids, self._rails.moves(share)
        moves[ids] = step * (1 - sheet.pins[ids])[:, None]
        moves[~finite_rows(places)] = 0.0
        uv, self._stopped = shifted(base.mesh, sheet, places, moves)
        if self._mirrored is not None and base.mesh.uv is not None:
            uv = self._mirrored.follow(base.mesh, base.mesh.uv, uv, ids)
        self.document.edit_jacket("slide on the sheet", base.mesh.with_uv(uv), self.document.state.held)
        what = "A face would turn over: it stops here" if self._stopped else f"{100 * abs(share):.0f} % of the way"
        self.ghost = Ghost("flat", np.zeros((0, 2, 2)), np.zeros((0, 2)), what=what, how="let go")

    def _along_an_edge(self, way: Floats) -> tuple[Floats, float]:
        """The step along the edge that leads the way the pointer went, and its share."""
        size = np.maximum((self._ways**2).sum(axis=1), 1e-300)
        share = np.clip(self._ways @ way / size, 0, MOST)
        best = int(np.argmax(self._ways @ way / np.sqrt(size)))
        return (share[best] * self._ways[best])[None, :], float(share[best])

    def _share(self, rails: Rails, way: Floats) -> float:
        """How far the pointer went along the rail that is nearest to it, to the left or, negative, to the right."""
        shares = []
        for rail in (rails.left[self._near], rails.right[self._near]):
            size = float(rail @ rail)
            shares.append(max(float(rail @ way) / size, 0.0) if size > 0 else 0.0)
        return shares[0] if shares[0] >= shares[1] else -shares[1]

    def release(self, pointer: Pointer) -> None:
        """Let it lie."""
        if self.start is not None:
            self.start, self._sheet, self._rails = None, None, None
            self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        """Put everything back."""
        had, self.start, self._rails = self.busy, None, None
        super().cancel()
        return had
