"""Darn: fills a border with quads, or bridges two."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.fill.darn import Patch, best_corners, grid_corners, grid_patch, odd_sentence, spoke_patch
from jacket.core.fit.relax import relaxed
from jacket.core.mesh.geometry import scaled_jacobian, unit
from jacket.core.mesh.joining import faces_joined, grid_faces
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.rows import loops_inserted
from jacket.core.mesh.walks import edge_ring
from jacket.errors import EditRefused
from jacket.stages.topology.tools.ladder import inward_of
from jacket.stages.topology.tools.rings import best_turn, closed_border
from jacket.tools.base import Option
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.pick import occluder, pick
from jacket.tools.strokes import Drawing, chalk, face_lines, segments

KINDS = ("best", "grid", "3", "5", "6")


class Darn(Drawing):
    """Point at a border: the ghost shows the quads that would fill it; the wheel moves the corners, Space takes
    another number of sides, a click fills. Drag from one border to another to bridge them."""

    id, label, key = "darn", "Darn", "A"
    takes_wheel = True
    legend = (
        ("click", "fill the border"),
        ("drag", "to another border: bridge"),
        ("wheel, Space", "corners; number of sides"),
    )

    options = (
        Option(
            "sides",
            "Fill as",
            "choice",
            choices=tuple(zip(KINDS, ("the best", "a grid", "3 sides", "5 sides", "6 sides"), strict=True)),
        ),
        Option("rows", "Bridge rows (0: squares)", "count", 0, 128),
        Option("bulge", "Bridge bulges by", "number", -200, 200, "%"),
        Option("stay", "Bridge along the source", "switch"),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.turn = 0
        self.stay = True
        self.sides = KINDS[0]
        self.rows = 0
        self.bulge = 0.0
        self.border: Ints | None = None
        self.other: Ints | None = None
        self.start: Pointer | None = None
        self._made: tuple[object, Patch | str] | None = None

    @property
    def busy(self) -> bool:
        return self.start is not None

    # ---- looking ------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        self.last = pointer
        self.under(pointer)
        border = self._border(pointer)
        if border is None:
            self.border, self.ghost = None, NO_GHOST
            return
        if self.border is None or set(border.tolist()) != set(self.border.tolist()):
            self.turn = 0
            self._made = None
        self.border = border
        self._show()

    def _border(self, pointer: Pointer) -> Ints | None:
        mesh = self.mesh()
        if mesh.n_faces == 0 or pointer.form is None:
            return None
        found = pick(mesh, pointer, self.settings.reach * 1.5, occluder(self.document.state), "edge")
        if found.kind != "edge" or mesh.topology.edge_uses[found.id] != 1:
            return None
        return closed_border(mesh, found.id)

    def _show(self) -> None:
        if self.border is None:
            return
        mesh = self.mesh()
        outline = segments(mesh.points[self.border], True)
        made = self._patch()
        if isinstance(made, str):
            edge = self._edge_to_split()
            offer = mesh.points[mesh.topology.edge_points[edge]].mean(axis=0)[None] if edge >= 0 else None
            self.ghost = chalk(outline, made, "click inserts the row at the ring" if edge >= 0 else "", offer)
            return
        points = np.concatenate([mesh.points[self.border], made.inner])
        self.ghost = chalk(face_lines(points, made.faces), f"Fill with {len(made.faces)} quads", "click")

    def _patch(self) -> Patch | str:
        """What would fill the border, or why nothing can."""
        assert self.border is not None
        mesh = self.mesh()
        key = (id(mesh), self.border.tobytes(), self.turn, self.sides)
        if self._made is not None and self._made[0] == key:
            return self._made[1]
        ring = mesh.points[self.border]
        made: Patch | str
        try:
            if len(ring) % 2 or len(ring) < 4:
                raise EditRefused(odd_sentence(len(ring)))
            made = self._best(ring) if self.sides == "best" else self._settled(ring, self._tiled(ring, self.sides))
        except EditRefused as reason:
            made = str(reason)
        self._made = (key, made)
        return made

    def _tiled(self, ring: Floats, kind: str) -> Patch:
        """The quads of one way of filling, flat between the border."""
        if kind == "grid":
            return grid_patch(ring, *grid_corners(ring, self.turn))
        return spoke_patch(ring, best_corners(ring, int(kind)))

    def _best(self, ring: Floats) -> Patch:
        """Of the grid and the fills of 3, 5 and 6 sides the one with the best shaped quads; the wheel goes on to the
        next best."""
        found: list[tuple[float, int, Patch]] = []
        for k, kind in enumerate(KINDS[1:]):
            try:
                patch = self._settled(ring, self._tiled(ring, kind))
            except EditRefused:
                continue
            small = PolyMesh.from_faces(np.concatenate([ring, patch.inner]), patch.faces)
            shape = scaled_jacobian(small)
            # An irregular point costs as much as a tenth of a corner.
            found.append((float(shape.min() + shape.mean()) - (0.1 if kind != "grid" else 0.0), -k, patch))
        if not found:
            raise EditRefused(odd_sentence(len(ring)))
        found.sort(key=lambda item: item[:2], reverse=True)
        return found[self.turn % len(found)][2]

    def _settled(self, ring: Floats, patch: Patch) -> Patch:
        """Inner points laid onto the source and evened."""
        if len(patch.inner) == 0 or self.document.state.source is None:
            return patch
        surface = self.surface()
        inner = surface.project(patch.inner)
        small = PolyMesh.from_faces(np.concatenate([ring, inner]), patch.faces)
        held = np.zeros(small.n_points, bool)
        held[: len(ring)] = True
        return Patch(relaxed(small, surface, 12, held=held).points[len(ring) :], patch.faces)

    def _edge_to_split(self) -> int:
        """For an odd border: its longest edge whose row ends elsewhere than on this border once more."""
        mesh, border = self.mesh(), self.border
        if border is None or len(border) % 2 == 0:
            return -1
        pairs = np.stack([border, np.roll(border, -1)], axis=1)
        edges = mesh.topology.find_edges(pairs)
        lengths = np.linalg.norm(mesh.points[pairs[:, 0]] - mesh.points[pairs[:, 1]], axis=1)
        own = set(edges.tolist())
        for k in np.argsort(-lengths, kind="stable").tolist():
            row = mesh.topology.edge[np.array(edge_ring(mesh, int(edges[k])), np.int32)]
            if len(row) > 1 and sum(int(e) in own for e in row) == 1:
                return int(edges[k])
        return -1

    def step(self) -> None:
        self.sides = KINDS[(KINDS.index(self.sides) + 1) % len(KINDS)]
        self._show()

    def wheel(self, steps: float) -> bool:
        if self.start is not None and self.other is not None:
            self.rows = max(0, self.rows + (1 if steps > 0 else -1))
            self._show_bridge()
            return True
        if self.border is None:
            return False
        self.turn = max(0, self.turn + (1 if steps > 0 else -1))
        self._show()
        return True

    # ---- doing --------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        self.document.require_jacket()
        self.hover(pointer)
        self.start, self.other = pointer, None

    def move(self, pointer: Pointer) -> None:
        if self.start is None or self.border is None:
            return
        border = self._border(pointer)
        self.other = None
        if border is not None and not set(border.tolist()) & set(self.border.tolist()):
            self.other = border
            self._show_bridge()
        else:
            place = self.under(pointer)
            mesh = self.mesh()
            first = mesh.points[self.border].mean(axis=0)
            lines = segments(mesh.points[self.border], True)
            if place is not None:
                lines = np.concatenate([lines, np.stack([first, place])[None]])
            self.ghost = chalk(lines, "Bridge to another border", "let go over it")

    def release(self, pointer: Pointer) -> None:
        start, self.start = self.start, None
        if start is None or self.border is None:
            return
        try:
            if self.other is not None:
                fresh, faces = self._bridge()
                up = np.full(len(fresh), not self.stay)
                self.document.edit_jacket("bridge two borders", self.joined(self.mesh(), fresh, faces, up))
            elif np.hypot(pointer.x - start.x, pointer.y - start.y) < 6:
                self._fill()
        finally:
            self.border = self.other = self._made = None
            self.hover(pointer)

    def _fill(self) -> None:
        made = self._patch()
        mesh, border = self.mesh(), self.border
        assert border is not None
        if isinstance(made, str):
            edge = self._edge_to_split()
            if edge < 0:
                raise EditRefused(made)
            new, added = loops_inserted(mesh, edge, 1)
            points = new.points.copy()
            points[added] = self.surface().project(points[added])
            self.document.edit_jacket("insert a row to darn", new.with_points(points))
            return
        faces = [
            [int(border[p]) if p < len(border) else mesh.n_points + p - len(border) for p in f] for f in made.faces
        ]
        self.document.edit_jacket("darn a border", self.joined(mesh, made.inner, faces))

    # ---- bridging -----------------------------------------------------------------------------
    def _show_bridge(self) -> None:
        mesh = self.mesh()
        try:
            fresh, faces = self._bridge()
        except EditRefused as reason:
            self.ghost = chalk(np.zeros((0, 2, 3)), str(reason), "")
            return
        points = np.concatenate([mesh.points, fresh])
        self.ghost = chalk(face_lines(points, faces), f"Bridge with {len(faces)} quads", "let go; wheel sets rows")

    def _bridge(self) -> tuple[Floats, list[list[int]]]:
        """New points and quads between the two borders: plain rows for equal numbers; else the band is cut open and
        filled as a grid whose corners take up the difference."""
        mesh = self.mesh()
        assert self.border is not None and self.other is not None
        a, b = self.border, self.other
        pa, pb = mesh.points[a], mesh.points[b]
        if (len(a) + len(b)) % 2:
            raise EditRefused(
                f"Borders of {len(a)} and {len(b)} edges add up to an odd number; insert a row through one of them first."
            )
        side = float(np.linalg.norm(np.roll(pa, -1, axis=0) - pa, axis=1).mean())
        gap = float(np.linalg.norm(pa.mean(axis=0) - pb.mean(axis=0)))
        rows = self.rows or max(1, round(gap / max(side, 1e-300)))
        if len(a) == len(b):
            order = best_turn(pb, pa)
            b, pb = b[order], pb[order]
            fresh, table = [], [a.tolist()]
            bend = 0.01 * self.bulge * gap
            out_a, out_b = -_inward(mesh, a) * bend, -_inward(mesh, b) * bend
            for k in range(1, rows):
                # A cubic Hermite curve that leaves either border the way its faces run.
                t = k / rows
                places = pa + (pb - pa) * t + (t - 2 * t**2 + t**3) * out_a + (t**2 - t**3) * out_b
                fresh.append(places)
                first = mesh.n_points + (k - 1) * len(a)
                table.append(list(range(first, first + len(a))))
            table.append(b.tolist())
            ids = np.array(table)
            places = np.concatenate(fresh) if fresh else np.zeros((0, 3))
            return places, grid_faces(np.concatenate([ids, ids[:, :1]], axis=1))
        return self._unequal(mesh, a, b, rows)

    def _unequal(self, mesh: PolyMesh, a: Ints, b: Ints, rows: int) -> tuple[Floats, list[list[int]]]:
        """Bands between borders of different numbers."""
        pa, pb = mesh.points[a], mesh.points[b]
        # Run the second against the first, both from where they are nearest.
        way = pb - pb.mean(axis=0)
        k, j = np.unravel_index(int(np.argmin(np.linalg.norm(pa[:, None] - pb[None], axis=2))), (len(a), len(b)))
        a, b = np.roll(a, -int(k)), np.roll(b, -int(j))
        ahead = np.cross(pa - pa.mean(axis=0), np.roll(pa, -1, axis=0) - pa.mean(axis=0)).sum(axis=0)
        if float(np.cross(way, np.roll(pb, -1, axis=0) - pb.mean(axis=0)).sum(axis=0) @ ahead) < 0:
            b = np.concatenate([b[:1], b[:0:-1]])
        slit = mesh.points[a[0]] + (mesh.points[b[0]] - mesh.points[a[0]]) * (np.arange(1, rows) / rows)[:, None]
        ids = [*a.tolist(), int(a[0]), *range(mesh.n_points, mesh.n_points + len(slit)), int(b[0]), *b[::-1].tolist(),
               *range(mesh.n_points + len(slit) - 1, mesh.n_points - 1, -1)]  # fmt: skip
        known = np.concatenate([mesh.points, slit])
        ring = known[ids]
        first = mesh.n_points + len(slit)
        for turn in range(60):
            patch = grid_patch(ring, *grid_corners(ring, turn))
            faces = [[ids[p] if p < len(ids) else first + p - len(ids) for p in f] for f in patch.faces]
            if all(len(set(f)) == 4 for f in faces):
                fresh = np.concatenate([slit, patch.inner])
                try:
                    faces_joined(mesh, fresh, faces)
                except EditRefused:
                    continue
                return fresh, faces
        raise EditRefused(
            "These two borders cannot be bridged with quads only; make their numbers of edges more alike."
        )

    def set_option(self, name: str, value: Any) -> None:
        super().set_option(name, value)
        self._made = None

    def cancel(self) -> bool:
        had = self.start is not None
        self.start = self.border = self.other = None
        return super().cancel() or had


def _inward(mesh: PolyMesh, border: Ints) -> Floats:
    """(K, 3) unit directions from the points of a closed border into the faces behind them."""
    inward = inward_of(mesh, np.append(border, border[0]))
    inward[0] += inward[-1]
    return unit(inward[:-1])
