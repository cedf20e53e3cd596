"""Rows: inserting several loops, sliding, evening and removing them, collapsing rows."""

from __future__ import annotations

import numpy as np

from jacket.core.fit.lifted import settled
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.rows import edges_dissolved, loop_evened, loop_slid, loops_inserted, rails, row_collapsed
from jacket.core.mesh.walks import edge_loop, edge_ring, ring_edges
from jacket.tools.base import Option
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.mirror import partner_edge
from jacket.tools.pick import occluder, pick
from jacket.tools.strokes import Drawing, chalk

MODES = ("insert", "even", "collapse")


class Rows(Drawing):
    """Click inserts loops across the edge under the pointer, as many as the wheel says; a drag slides the loop
    along its rails; Space steps to evening the loop and collapsing the row; Backspace takes the loop out."""

    id, label, key = "rows", "Rows", "R"
    takes_wheel = True
    legend = (
        ("click", "insert loops; wheel: how many"),
        ("drag", "slide the loop, Shift evenly"),
        ("Space", "even it; collapse the row"),
    )

    options = (
        Option(
            "how",
            "A click",
            "choice",
            choices=(("insert", "inserts loops"), ("even", "evens the loop"), ("collapse", "collapses the row")),
        ),
        Option("count", "Loops to insert", "count", 1, 200),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.count = 1
        self.how = "insert"
        self.edge = -1
        self.start: Pointer | None = None
        self.moved = False

    @property
    def busy(self) -> bool:
        return self.start is not None

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        self.last = pointer
        self.under(pointer)
        mesh = self.mesh()
        self.edge = -1
        self.ghost = NO_GHOST
        if mesh.n_faces == 0 or pointer.form is None:
            return
        found = pick(mesh, pointer, self.settings.reach * 1.4, occluder(self.document.state), "edge")
        if found.kind == "edge":
            if found.id != self.edge:
                self.edge = found.id
            self._show()

    def _show(self) -> None:
        mesh = self.mesh()
        if self.edge < 0 or self.edge >= mesh.topology.n_edges:
            return
        ends = mesh.topology.edge_points
        mode = self.how
        if mode == "insert":
            ring = edge_ring(mesh, self.edge)
            if len(ring) < 2:
                self.ghost = chalk(mesh.points[ends[self.edge]][None], "Slide the loop", "drag")
                return
            what = "Insert a loop" if self.count == 1 else f"Insert {self.count} loops"
            self.ghost = chalk(self._preview(mesh, ring), what, "click")
        elif mode == "even":
            loop = edge_loop(mesh, self.edge)
            self.ghost = chalk(mesh.points[ends[loop]], "Even the loop between its neighbours", "click")
        else:
            self.ghost = chalk(mesh.points[ends[ring_edges(mesh, self.edge)]], "Collapse this row", "click")

    def _preview(self, mesh: PolyMesh, ring: list[int]) -> Floats:
        p = mesh.points[mesh.corners[ring]]
        q = mesh.points[mesh.corners[mesh.topology.next[ring]]]
        lines = []
        far = mesh.topology.next[mesh.topology.next[ring[-1]]]
        closed = int(mesh.topology.edge[far]) == int(mesh.topology.edge[ring[0]])
        for k in range(1, self.count + 1):
            path = p + (q - p) * k / (self.count + 1)
            ahead = np.roll(path, -1, axis=0) if closed else path[1:]
            lines.append(np.stack([path[: len(ahead)], ahead], axis=1))
        return np.concatenate(lines)

    def step(self) -> None:
        self.how = MODES[(MODES.index(self.how) + 1) % len(MODES)]
        self._show()

    def wheel(self, steps: float) -> bool:
        if self.edge < 0 or self.how != "insert":
            return False
        self.count = int(np.clip(self.count + (1 if steps > 0 else -1), 1, 64))
        self._show()
        return True

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.document.require_jacket()
        self.hover(pointer)
        if self.edge >= 0:
            self.start, self.moved = pointer, False
            self.document.begin("slide a loop")

    def move(self, pointer: Pointer) -> None:
        if self.start is None or pointer.form is None:
            return
        if not self.moved and np.hypot(pointer.x - self.start.x, pointer.y - self.start.y) < 4:
            return
        self.moved = True
        base = self.document.gesture_base.jacket
        if base is None:
            return
        share = self._share(base.mesh, pointer)
        mesh = base.mesh
        for e in self._with_partner(mesh, self.edge):
            loop = edge_loop(mesh, e)
            sign = share if e == self.edge or not self._runs_against(base.mesh, e) else -share
            mesh = self._on_source(loop_slid(mesh, loop, sign, pointer.shift), base.mesh, loop)
        self.document.edit_jacket("slide a loop", mesh)
        lines = mesh.points[mesh.topology.edge_points[edge_loop(mesh, self.edge)]]
        self.ghost = chalk(lines, "Slide the loop" + (" evenly" if pointer.shift else ""), "let go")

    def _share(self, mesh: PolyMesh, pointer: Pointer) -> float:
        """How far along the rails of the picked edge the pointer is: left over 0, right under it."""
        assert pointer.form is not None and self.start is not None
        loop = edge_loop(mesh, self.edge)
        points, left, right = rails(mesh, loop)
        ends = mesh.topology.edge_points[self.edge]
        k = int(np.flatnonzero(np.isin(points, ends))[0])
        at = pointer.form.project(mesh.points)[:, :2]
        shift = np.array([pointer.x - self.start.x, pointer.y - self.start.y])
        best, share = -np.inf, 0.0
        for target, sign in ((left[k], 1.0), (right[k], -1.0)):
            if target < 0:
                continue
            way = at[target] - at[points[k]]
            length2 = max(float(way @ way), 1e-9)
            along = float(shift @ way) / length2
            if along > best:
                best, share = along, sign * float(np.clip(along, 0.0, 0.95))
        return share

    def _with_partner(self, mesh: PolyMesh, edge: int) -> list[int]:
        axis = self.document.state.mirror
        other = partner_edge(mesh, edge, axis) if axis else -1
        if other < 0 or other == edge or other in set(edge_loop(mesh, edge).tolist()):
            return [edge]
        return [edge, other]

    def _runs_against(self, mesh: PolyMesh, other: int) -> bool:
        """Whether left of the mirrored loop is the mirror image of right of this one."""
        from jacket.tools.mirror import partners

        table = partners(mesh, self.document.state.mirror)
        p, left, _ = rails(mesh, edge_loop(mesh, self.edge))
        q, other_left, _ = rails(mesh, edge_loop(mesh, other))
        for k in range(len(p)):
            there = np.flatnonzero(q == table[p[k]])
            if len(there) and left[k] >= 0:
                return int(other_left[there[0]]) != int(table[left[k]])
        return False

    def _on_source(self, new: PolyMesh, old: PolyMesh, loop: Ints) -> PolyMesh:
        """Slid points laid back onto the source."""
        if self.document.state.source is None:
            return new
        moved = np.flatnonzero((new.points != old.points).any(axis=1))
        return settled(new, self.surface(), moved)

    def release(self, pointer: Pointer) -> None:
        start, self.start = self.start, None
        if start is None:
            return
        try:
            if not self.moved:
                self._click()
        except Exception:
            self.document.rollback()
            raise
        self.document.commit(self._name())
        self.hover(pointer)

    def _name(self) -> str:
        if self.moved:
            return "slide a loop"
        return {"insert": "insert loops" if self.count > 1 else "insert a loop", "even": "even a loop",
                "collapse": "collapse a row"}[self.how]  # fmt: skip

    def _click(self) -> None:
        mesh, edge = self.mesh(), self.edge
        mode = self.how
        ends = [tuple(mesh.topology.edge_points[e].tolist()) for e in self._with_partner(mesh, edge)]
        if mode == "insert":
            for a, b in ends:
                e = mesh.topology.find_edge(a, b)
                if e < 0:
                    continue  # the row runs through both sides and is cut already
                new, added = loops_inserted(mesh, e, self.count)
                source = self.document.state.source
                mesh = settled(new, self.surface() if source is not None else None, added, new=True)
            self.document.edit_jacket(self._name(), mesh)
        elif mode == "even":
            for a, b in ends:
                loop = edge_loop(mesh, mesh.topology.find_edge(a, b))
                mesh = self._on_source(loop_evened(mesh, loop), mesh, loop)
            self.document.edit_jacket(self._name(), mesh)
        else:
            new = row_collapsed(mesh, edge)
            if self.document.state.source is not None:
                new = settled(new, self.surface(), np.arange(new.n_points))
            self.document.edit_jacket(self._name(), new)

    def remove(self, pointer: Pointer) -> None:
        """Take the loop under the pointer out; the quads beside it become one."""
        self.hover(pointer)
        mesh = self.mesh()
        if self.edge < 0:
            return
        loop = edge_loop(mesh, self.edge)
        self.document.edit_jacket("remove a loop", edges_dissolved(mesh, loop).mesh)
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.start = self.start is not None, None
        return super().cancel() or had
