"""Cut and Sew: seams along edges, loops, paths and under a sweep, in either view. What a click would do is shown before."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

import numpy as np

from jacket.core.beside import ahead
from jacket.core.derive import islands_of, sky_of, turning_of, ways_from
from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.polymesh import Aspect, Bools, Ints, PolyMesh
from jacket.core.mesh.walks import ring_edges
from jacket.core.seams.cuts import cut_edges, sew_edges
from jacket.core.seams.stitch import stitched
from jacket.core.seams.turning import cheapest_path, path_from
from jacket.core.seams.ways import WAYS, loop_between, next_loop, way_costs
from jacket.core.uv.sets import cut_flags
from jacket.tools.base import Asked, Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import edge_ghost, found_under
from jacket.tools.mirror import partner_edge
from jacket.tools.pick import edges_near

SHARP = 40.0
NONE = np.zeros(0, np.int32)
STILL = 5.0
"""Pixels within which a press and a release are a click."""

Offer = tuple[str, Callable[[], Ints]]
"""What could happen here: words for it, and the edges it takes."""


class Cut(Tool):
    """Cuts what is under the pointer: an edge, with Shift the loop, from a clicked point the way to the next. A drag sweeps
    over edges and cuts them, or sews them where the first was cut; over the last path it bends it. Space steps through what
    else could be meant."""

    id, label, stage, key = "cut", "Cut", "seams", "C"
    verb = "Cut"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("click edge", "cut it; Shift: the loop"),
        ("click points", "cut the path between"),
        ("drag", "sweep over edges; bend the path"),
        ("Space", "what else is near"),
        ("Ctrl wheel", "the edge behind"),
    )
    options: ClassVar[tuple[Option, ...]] = (
        Option("stop_seams", "Loops stop at seams", "switch"),
        Option("stop_poles", "Loops stop at poles", "switch"),
        Option("stop_sharp", "Loops stop at sharp", "switch"),
        Option("prefers", "Paths prefer", "choice", choices=WAYS),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.stop_seams, self.stop_poles, self.stop_sharp, self.prefers = True, True, False, "straight"
        self.moves = "smaller"
        self.anchor = -1
        self._anchored: tuple[int, Aspect] | None = None
        self._turn, self._count, self._nth = 0, 0, 0
        self._where: tuple[object, ...] = ()
        self._pressed: Pointer | None = None
        self._swept: list[int] = []
        self._sews = False
        self._path: tuple[int, int, Ints] | None = None
        """The last path that was cut: its ends and edges."""
        self._bends = False

    @property
    def busy(self) -> bool:
        return self._pressed is not None

    def _mesh(self) -> PolyMesh | None:
        jacket = self.document.state.jacket
        return jacket.mesh if jacket is not None else None

    # ---- what could happen ------------------------------------------------------------------------------------
    def _offers(self, mesh: PolyMesh, pointer: Pointer) -> tuple[list[Offer], int, int]:
        """What a click could do, the point a path would start from next, and the edge under the pointer."""
        if self.anchor >= 0 and self._here(mesh) != self._anchored:
            # Numbers of points mean something else on another layer, or once the faces are others.
            self.anchor, self._path = -1, None
        found = found_under(self, pointer, "point edge" if not pointer.shift else "edge")
        where = (found.kind, found.id, pointer.shift, self.anchor, self.prefers)
        if where != self._where:
            self._turn, self._nth, self._where = 0, 0, where
        if found.kind == "point" and not self._nth:
            if self.anchor < 0 or self.anchor == found.id:
                return [], found.id, -1
            return self._paths(mesh, self.anchor, found.id), found.id, -1
        edge = found.id if found.kind == "edge" else -1
        if self._nth:
            # The wheel went on from the nearest edge to others under the pointer, hidden ones too.
            near = edges_near(mesh, pointer, self.settings.reach)
            edge = int(near[self._nth % len(near)]) if len(near) else edge
        if edge < 0:
            return [], -1, -1
        verb = "Sew" if cut_flags(mesh)[edge] or self.verb == "Sew" else "Cut"
        single: Offer = (f"{verb} the edge", lambda: np.array([edge], np.int32))
        loops = self._loops(mesh, edge, verb)
        return ([*loops, single] if pointer.shift else [single, *loops]), -1, edge

    def _paths(self, mesh: PolyMesh, start: int, end: int) -> list[Offer]:
        """Ways between two points, first as preferred; those that are no other are left out."""
        kinds = [self.prefers, *(k for k, _ in WAYS if k != self.prefers)]
        words = dict(WAYS)

        def way(kind: str) -> Ints:
            return path_from(turning_of(mesh), *ways_from(mesh, start, kind), end)

        return [(f"{self.verb} the path by {words[k]}", lambda k=k: way(k)) for k in kinds]  # type: ignore[misc]

    def _loops(self, mesh: PolyMesh, edge: int, verb: str) -> list[Offer]:
        def loop(e: int) -> Callable[[], Ints]:
            return lambda: self.loop(mesh, e)

        rows = [(f"{verb} the loop", loop(edge))]
        beside = [next_loop(mesh, edge, side) for side in (0, 1)]
        rows += [(f"{verb} the loop one row further", loop(e)) for e in beside if e >= 0]
        rows.append((f"{verb} the row of rungs", lambda: ring_edges(mesh, edge)))
        return rows

    def loop(self, mesh: PolyMesh, edge: int) -> Ints:
        """The loop through an edge, as far as the options let it run."""
        flags = cut_flags(mesh)
        flags[edge] = False
        stop: Bools = flags.copy() if self.stop_seams else np.zeros_like(flags)
        if self.stop_sharp:
            stop |= dihedral_angles(mesh) > SHARP
        stop[edge] = False
        if self.verb == "Sew" or cut_flags(mesh)[edge]:
            # Along a seam: what hangs on it does not end it.
            stop = np.zeros_like(flags)
        return loop_between(mesh, turning_of(mesh), edge, stop, self.stop_poles)

    def _aim(self, pointer: Pointer) -> tuple[Ints, int, str, int]:
        """Edges a click would take, the point it would start from, what to call it, and the edge under the pointer."""
        self._count = 0
        mesh = self._mesh()
        if mesh is None:
            return NONE, -1, "", -1
        offers, point, edge = self._offers(mesh, pointer)
        if not offers:
            return NONE, point, f"{self.verb} from here" if point >= 0 else "", -1
        self._count = len(offers)
        words, make = offers[self._turn % len(offers)]
        return make(), point, words, edge

    # ---- looking ----------------------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        mesh = self._mesh()
        edges, point, what, _ = self._aim(pointer)
        self.ghost, self.asks = NO_GHOST, None
        if mesh is None or not what:
            return
        view = "flat" if pointer.flat is not None else "form"
        if len(edges):
            how = "Shift click" if pointer.shift else "click"
            self.ghost = edge_ghost(mesh, edges, view, what, how)
            self.asks = Asked(mesh, self._mirrored(mesh, edges), self._turn % self._count, self._count)
        elif view == "form":
            self.ghost = Ghost(marks=mesh.points[[point]], what=what, how="click")

    def step(self) -> None:
        self._turn += 1

    def ctrl_wheel(self, steps: float, pointer: Pointer) -> bool:
        mesh = self._mesh()
        if mesh is None or pointer.form is None or len(edges_near(mesh, pointer, self.settings.reach)) < 2:
            return False
        self._offers(mesh, pointer)
        self._nth += 1 if steps > 0 else -1
        self.hover(pointer)
        return True

    def leave(self) -> None:
        super().leave()
        self.asks = None

    # ---- doing ------------------------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        mesh = self._mesh()
        edges, point, what, edge = self._aim(pointer)
        if mesh is None or not what:
            self.anchor = -1
            return
        self._swept = []
        if edge >= 0 and len(edges) == 1 and not pointer.shift:
            # A click is for this edge; a drag sweeps on, or bends the path that it belongs to.
            self.document.open_jacket()
            self._bends = self._path is not None and edge in self._path[2] and self._here(mesh) == self._anchored
            self._sews = bool(cut_flags(mesh)[edge]) or self.verb == "Sew"
            self._pressed, self._swept = pointer, [edge]
            self.document.begin(what.lower())
            if not self._bends:
                self._take(np.array([edge], np.int32))
            return
        if len(edges):
            self._finish(mesh, edges, what.lower())
            self._path = (self.anchor, point, edges) if point >= 0 and self.anchor >= 0 else None
        self.anchor = point
        now = self._mesh()
        self._anchored = self._here(now) if now is not None else None
        if now is not None and point >= 0:
            # The ways from here are found while the pointer goes on.
            kind = self.prefers
            ahead(lambda: ways_from(now, point, kind))
        self.hover(pointer)

    def move(self, pointer: Pointer) -> None:
        mesh = self._mesh()
        if self._pressed is None or mesh is None:
            return
        if self._bends:
            if np.hypot(pointer.x - self._pressed.x, pointer.y - self._pressed.y) > STILL:
                self._bend(pointer)
            return
        found = found_under(self, pointer, "edge")
        if found.kind == "edge" and found.id not in self._swept:
            self._swept.append(found.id)
            self._take(np.array([found.id], np.int32))
            self.ghost = edge_ghost(mesh, np.array(self._swept, np.int32), "flat" if pointer.flat is not None else "form",
                                    f"{'Sew' if self._sews else 'Cut'} {len(self._swept):,} edges", "let go")  # fmt: skip

    def release(self, pointer: Pointer) -> None:
        if self._pressed is None:
            return
        pressed, self._pressed = self._pressed, None
        moved = np.hypot(pointer.x - pressed.x, pointer.y - pressed.y) > STILL
        mesh = self._mesh()
        if self._bends and moved:
            self.document.commit("bend the path")
        else:
            if self._bends and mesh is not None:
                self._take(np.array(self._swept, np.int32))
            word = "sew" if self._sews else "cut"
            self.document.commit(f"{word} the edge" if len(self._swept) < 2 else f"{word} {len(self._swept):,} edges")
            self._path = None
        self._bends = False
        self.anchor = -1
        self.hover(pointer)

    def _take(self, edges: Ints) -> None:
        mesh = self.document.open_jacket().mesh
        edges = self._mirrored(mesh, edges)
        new = self.sewn(mesh, edges) if self._sews else cut_edges(mesh, edges)
        self.document.edit_jacket(self.document.last_step, new, self.document.state.held)

    def _bend(self, pointer: Pointer) -> None:
        """The last path led over the point under the pointer instead."""
        assert self._path is not None
        start, end, old = self._path
        base = self.document.gesture_base.jacket
        found = found_under(self, pointer, "point")
        if base is None or found.kind != "point" or found.id in (start, end):
            return
        mesh, turning = base.mesh, turning_of(base.mesh)
        first = path_from(turning, *ways_from(mesh, start, self.prefers), found.id)
        # The other half keeps off the first: a way out and back again would be a spike, not a bend.
        shut, goals = np.zeros(mesh.n_points, bool), np.zeros(mesh.n_points, bool)
        shut[mesh.topology.edge_points[first]] = True
        goals[found.id] = True
        cost, turn = way_costs(mesh, self.prefers, sky_of(mesh) if self.prefers == "hidden" else None)
        cost[first] = np.inf
        second, _ = cheapest_path(turning, cost, np.array([end]), goals, shut, turn)
        if len(first) == 0 or len(second) == 0:
            return
        path = np.concatenate([first, second[::-1]]).astype(np.int32)
        plain = sew_edges(mesh, self._mirrored(mesh, old))
        self.document.edit_jacket("bend the path", cut_edges(plain, self._mirrored(mesh, path)), self.document.state.held)
        self._path = (start, end, path)
        self._swept = [int(path[0])]
        self.ghost = edge_ghost(mesh, path, "flat" if pointer.flat is not None else "form", "Lead the path here", "let go")

    def _finish(self, mesh: PolyMesh, edges: Ints, step: str) -> None:
        edges = self._mirrored(mesh, edges)
        sews = self.verb == "Sew" or step.startswith("sew")
        self.document.edit_jacket(step, self.sewn(mesh, edges) if sews else cut_edges(mesh, edges), self.document.state.held)

    def sewn(self, mesh: PolyMesh, edges: Ints) -> PolyMesh:
        """The mesh with edges sewn; on the sheet one island comes to the other where that turns no face."""
        return stitched(mesh, edges, islands_of(mesh, self.document.state.sheets), self.moves == "larger")[0]

    def _here(self, mesh: PolyMesh) -> tuple[int, Aspect]:
        return self.document.state.active, mesh.aspect("faces")

    def _mirrored(self, mesh: PolyMesh, edges: Ints) -> Ints:
        axis = self.document.state.mirror
        if not axis:
            return edges
        others = [partner_edge(mesh, int(e), axis) for e in edges]
        return np.union1d(edges, [e for e in others if e >= 0]).astype(np.int32)

    def cancel(self) -> bool:
        had = self.anchor >= 0 or self.busy
        self.anchor, self._pressed, self._bends = -1, None, False
        super().cancel()
        return had


class Sew(Cut):
    """Sews seams back: the edge under the pointer, its loop, a path, or all that a drag sweeps over."""

    id, label, key = "sew", "Sew", "W"
    verb = "Sew"
    options: ClassVar[tuple[Option, ...]] = (
        Option("moves", "On the sheet comes", "choice", choices=(("smaller", "the smaller"), ("larger", "the larger"))),
        Option("stop_poles", "Loops stop at poles", "switch"),
    )
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("click edge", "sew it; Shift: the loop"),
        ("click points", "sew the path between"),
        ("drag", "sweep over seams"),
        ("Space", "what else is near"),
    )
