"""Brushes over the sheet: Nudge, Relax, Pinch, Refine and Pin. None turns a face over: a dab ends at the last sound place."""

from __future__ import annotations

import time
from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_moved, islands_of, layout_of
from jacket.core.fit.shift import FALLOFFS, falloff
from jacket.core.flatten.brushing import relaxing, room
from jacket.core.flatten.editing import refined_in_turns
from jacket.core.flatten.mirroring import Images, followed, images_of
from jacket.core.mesh.polymesh import PIN, Floats, Ints, PolyMesh
from jacket.core.store import STORE
from jacket.core.uv.sets import border_flags, flat_points
from jacket.document.document import Document
from jacket.errors import EditRefused
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.mirror import AXES, partners

DAB = 0.012
"""Seconds after which a dab begins no other island and no second step: the next dab goes on, and the pointer is followed."""


class Sheet:
    """The flat points of a mesh, looked up once a stroke: corners that lie together are one point.

    fans (C,) point of each corner;  first (P,) a corner of each;  triangles (T, 3) both diagonals of quads
    """

    def __init__(self, mesh: PolyMesh) -> None:
        self.fans, self.first = flat_points(mesh)
        self.triangles = _triangles(mesh, self.fans)
        pins = mesh.corner_data.get(PIN + mesh.active_uv)
        self.pins = np.zeros(len(self.first))
        if pins is not None:
            np.maximum.at(self.pins, self.fans, np.asarray(pins, np.float64))
        # Each side of an edge where an island ends is an edge of its own on the sheet; elsewhere both are one.
        topology = mesh.topology
        lone = (border_flags(mesh) | (topology.edge_uses != 2))[topology.edge]
        self.border = np.zeros(len(self.first), bool)
        self.border[self.fans[lone]] = self.border[self.fans[topology.next[lone]]] = True
        own = np.flatnonzero(lone | (topology.edge_corner[topology.edge] == np.arange(mesh.n_corners)))
        self.ends = np.stack([self.fans[own], self.fans[topology.next[own]]], axis=1)

    def places(self, mesh: PolyMesh) -> Floats:
        """(P, 2) where the points lie, NaN where unmapped."""
        assert mesh.uv is not None
        return mesh.uv[self.first]


class Mirrored:
    """What follows on the other side of the mirror while a gesture goes on; nothing where there is no mirror."""

    def __init__(self, document: Document, mesh: PolyMesh, sheet: Sheet) -> None:
        axis, self.sheet = document.state.mirror, sheet
        self.axis = axis
        self.images: Images | None = None
        if axis:
            sheets = document.state.sheets
            self.images = STORE.get(layout_of(mesh), ("images", axis, sheets), lambda: images_of(mesh, islands_of(mesh, sheets), partners(mesh, axis)))

    def follow(self, mesh: PolyMesh, before: Floats, after: Floats, ids: Ints | None = None) -> Floats:
        """Coordinates (C, 2) after a step, with what follows. The side of the mirror leads on which flat points `ids` lie mostly."""
        if self.images is None:
            return after
        side = None
        if ids is not None and len(ids):
            off = mesh.points[:, AXES[self.axis]]
            which = float(off[mesh.corners[self.sheet.first[ids]]].sum())
            side = (off * which)[mesh.corners] > 0 if abs(which) > 1e-6 * mesh.diagonal else None
        return followed(mesh, self.images, self.sheet.fans, before, after, self.sheet.pins >= 1, side)


def _triangles(mesh: PolyMesh, fans: Ints) -> Ints:
    corners, faces = mesh.starts[:-1][mesh.sizes == 4], mesh.triangles[mesh.sizes[mesh.triangle_faces] != 4]
    quads = fans[corners[:, None] + np.arange(4)]
    rows = [quads[:, [k, (k + 1) % 4, (k + 2) % 4]] for k in range(4)]
    return np.ascontiguousarray(np.concatenate([*rows, fans[faces]]), np.int32)


class SheetBrush(Tool):
    """A round brush over the flat view, its size in pixels on the screen."""

    stage = "flatten"
    brush = True
    what = ""
    step_name = ""
    options: ClassVar[tuple[Option, ...]] = (
        Option("falloff", "Falls off", "choice", choices=tuple((f, f) for f in FALLOFFS)),
        Option("which", "Moves", "choice", choices=(("all", "all points"), ("inside", "inner points"), ("border", "border points"))),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.last: Pointer | None = None
        self._sheet: Sheet | None = None
        self._after: PolyMesh | None = None
        self._mirrored: Mirrored | None = None
        self.grabbed: Floats | None = None
        self.stopped = False

    @property
    def busy(self) -> bool:
        return self.last is not None

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST if pointer.flat is None else Ghost("flat", np.zeros((0, 2, 2)), np.zeros((0, 2)),
                                                                 circle=self.settings.brush, what=self.what, how="drag")  # fmt: skip
        jacket = self.document.state.jacket
        if pointer.flat is not None and jacket is not None and jacket.mesh.uv is not None and not self.document.in_gesture:
            # A stroke begins at once where this is known.
            self._ready(jacket.mesh)

    def _ready(self, mesh: PolyMesh) -> Sheet:
        """The flat points of a mesh, those of the last stroke where it ended with this one."""
        if self._sheet is None or mesh is not self._after:
            self._sheet, self._after = Sheet(mesh), mesh
        return self._sheet

    def press(self, pointer: Pointer) -> None:
        mesh = self.document.open_jacket().mesh
        if pointer.flat is None:
            return
        if mesh.uv is None or not np.isfinite(mesh.uv).any():
            raise EditRefused("Nothing lies on the sheet yet; flatten the jacket first.")
        self._mirrored = Mirrored(self.document, mesh, self._ready(mesh))
        self.last, self.stopped = pointer, False
        self.grabbed = None
        self.document.begin(self.step_name)
        self.dab(pointer, pointer)

    def move(self, pointer: Pointer) -> None:
        if self.last is None:
            return
        self.dab(self.last, pointer)
        self.last = pointer
        what = "A face would turn over: it stops here" if self.stopped else self.what
        self.ghost = Ghost("flat", np.zeros((0, 2, 2)), np.zeros((0, 2)), circle=self.settings.brush, what=what, how="let go")

    def release(self, pointer: Pointer) -> None:
        if self.last is not None:
            self.last = None
            self.document.commit()
            # What hangs together on the sheet still does: the next stroke need not look for it again.
            self._after = self.document.require_jacket().mesh
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.last, self._sheet, self._after = self.busy, None, None, None
        super().cancel()
        return had

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        """One touch of the brush."""

    def sheet(self) -> tuple[PolyMesh, Sheet]:
        """The mesh and its flat points."""
        mesh = self.document.require_jacket().mesh
        assert self._sheet is not None, "a stroke begins with them"
        return mesh, self._sheet

    def weights(self, places: Floats, sheet: Sheet, pointer: Pointer) -> Floats:
        """(P,) 0 to 1 by distance from the pointer on the screen; fully pinned points, and by choice border or inner ones, have
        none, partly pinned ones less."""
        assert pointer.flat is not None
        at = pointer.flat.project(places)
        radius = self.settings.brush * max(pointer.pressure, 0.2)
        far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
        near = far < radius
        weight = np.zeros(len(places))
        weight[near] = falloff(far[near] / radius, self.settings.falloff) * (1 - sheet.pins[near])
        if self.settings.which == "inside":
            weight[sheet.border] = 0.0
        elif self.settings.which == "border":
            weight[~sheet.border] = 0.0
        return weight

    def shift(self, mesh: PolyMesh, sheet: Sheet, places: Floats, moves: Floats) -> None:
        """Move flat points as far as no face turns over."""
        if np.abs(moves).max(initial=0.0) > 0:
            uv, self.stopped = shifted(mesh, sheet, places, moves)
            self.put(mesh, uv)

    def put(self, mesh: PolyMesh, uv: Floats) -> None:
        """Take other coordinates (C, 2): what hangs together on the sheet still does, so nothing is looked for again."""
        sheets = self.document.state.sheets
        if self._mirrored is not None and mesh.uv is not None:
            uv = self._mirrored.follow(mesh, mesh.uv, uv)
        new = mesh.with_uv(uv)
        islands_moved(new, islands_of(mesh, sheets), uv, sheets)
        self.document.edit_jacket(self.step_name, new, self.document.state.held)


def shifted(mesh: PolyMesh, sheet: Sheet, places: Floats, moves: Floats) -> tuple[Floats, bool]:
    """The coordinates (C, 2) with flat points at `places` (P, 2) moved by `moves` (P, 2) as far as no face turns over, and
    whether that stopped them."""
    share = min(1.0, 0.9 * room(places, moves, sheet.triangles))
    moved = (moves[:, 0] != 0) | (moves[:, 1] != 0)
    new = places + share * moves
    uv = mesh.uv.copy() if mesh.uv is not None else new[sheet.fans]
    changed = np.flatnonzero(moved[sheet.fans])
    uv[changed] = new[sheet.fans[changed]]
    return uv, share < 1.0


class FlatNudge(SheetBrush):
    """Carries what lies under the brush along."""

    id, label, key = "flat-nudge", "Nudge", "G"
    what, step_name, strong = "Nudge the island's points", "nudge on the sheet", False
    legend = (("drag", "carry points along"), ("[ ]", "size of the brush"))

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        mesh, sheet = self.sheet()
        places = sheet.places(mesh)
        if self.grabbed is None:
            # What was grabbed first is carried, not what is passed over.
            self.grabbed = self.weights(places, sheet, pointer)
        assert pointer.flat is not None and before.flat is not None
        way = pointer.flat.place(pointer.x, pointer.y) - before.flat.place(before.x, before.y)
        self.shift(mesh, sheet, places, self.grabbed[:, None] * way)


class FlatRelax(SheetBrush):
    """Draws points to the middle of their neighbours."""

    id, label, key = "flat-relax", "Relax", "S"
    what, step_name = "Even the points on the sheet", "relax on the sheet"
    legend = (("drag", "even the points"), ("[ ]", "size of the brush"))

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        mesh, sheet = self.sheet()
        places = sheet.places(mesh)
        weight = self.weights(places, sheet, pointer) * self.settings.strength
        self.shift(mesh, sheet, places, relaxing(places, sheet.ends, sheet.border, weight))


class Pinch(SheetBrush):
    """Draws points together under the brush; with Ctrl apart."""

    id, label, key = "pinch", "Pinch", "I"
    what, step_name = "Draw the points together", "pinch on the sheet"
    legend = (("drag", "together; Ctrl: apart"), ("[ ]", "size of the brush"))

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        mesh, sheet = self.sheet()
        places = sheet.places(mesh)
        assert pointer.flat is not None
        to = pointer.flat.place(pointer.x, pointer.y)
        weight = 0.12 * self.weights(places, sheet, pointer) * self.settings.strength
        moves = weight[:, None] * (to - np.nan_to_num(places)) * (-1.0 if pointer.ctrl else 1.0)
        self.shift(mesh, sheet, places, moves)


class Refine(SheetBrush):
    """Lowers stretch in the faces under the brush; all else stays."""

    id, label, key = "refine", "Refine", "R"
    what, step_name, strong = "Less stretch here", "refine on the sheet", False
    options: ClassVar[tuple[Option, ...]] = ()
    legend = (("drag", "less stretch under the brush"), ("[ ]", "size of the brush"))

    @property
    def lags(self) -> bool:
        """Islands under the brush had no turn yet."""
        return self.busy and bool(self._left)

    def press(self, pointer: Pointer) -> None:
        """A stroke keeps the scale that the islands had when it began."""
        self._scales: dict[int, float] = {}
        self._left: list[int] = []
        super().press(pointer)

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        mesh, sheet = self.sheet()
        places = sheet.places(mesh)
        inside = self.weights(places, sheet, pointer) > 0
        count = np.bincount(mesh.face_of_corner, inside[sheet.fans], mesh.n_faces)
        faces = count >= mesh.sizes
        if not faces.any():
            return
        islands = islands_of(mesh, self.document.state.sheets)
        # Those that the last dab had no time for have their turn before the others have another one.
        here = np.unique(islands.labels[faces]).tolist()
        order = [k for k in self._left if k in here] or here
        uv, self._left = refined_in_turns(mesh, islands, faces, order, 2, scales=self._scales, until=time.perf_counter() + DAB)
        self.put(mesh, uv)


class Pin(SheetBrush):
    """Pins points so that they stay: what is painted holds by the strength; Ctrl takes pins away."""

    id, label, key = "pin", "Pin", "P"
    what, step_name = "Pin the points", "pin points"
    options: ClassVar[tuple[Option, ...]] = ()
    actions = ("pin-held", "pin-border", "invert-pins", "clear-pins")
    legend = (("drag", "pin; Ctrl: take pins away"), ("[ ]", "size of the brush"))

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        mesh, sheet = self.sheet()
        places = sheet.places(mesh)
        assert pointer.flat is not None
        at = pointer.flat.project(places)
        radius = self.settings.brush * max(pointer.pressure, 0.2)
        far = np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y)
        near = np.flatnonzero(far < radius)
        strength = self.settings.strength * falloff(far[near] / radius, self.settings.falloff)
        # At full strength the middle of the brush pins fully.
        strength = np.where(self.settings.strength > 0.99, 1.0, strength)
        pins = sheet.pins
        pins[near] = np.minimum(pins[near], 1 - strength) if pointer.ctrl else np.maximum(pins[near], strength)
        self.document.edit_jacket(self.step_name, with_pins(mesh, pins[sheet.fans]), self.document.state.held)


def with_pins(mesh: PolyMesh, strength: Floats) -> PolyMesh:
    """The mesh with its corners (C,) pinned by strengths from 0 to 1; without pins where all are 0."""
    data = {k: v for k, v in mesh.corner_data.items() if k != PIN + mesh.active_uv}
    if (strength > 0).any():
        data[PIN + mesh.active_uv] = np.clip(strength, 0, 1).astype(np.float32)
    return mesh.with_(corner_data=data)
