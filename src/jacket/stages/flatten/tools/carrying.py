"""Carry: moving, turning and scaling points, edges and faces on the sheet by hand, the rest standing or following."""

from __future__ import annotations

import math
import time
from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_moved, islands_of
from jacket.core.flatten.carrying import Carrier, Party
from jacket.core.flatten.editing import Laying
from jacket.core.mesh.choosing import as_kind
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.seams.cuts import sew_edges
from jacket.core.uv.sets import SLACK, apart_flags, cut_flags
from jacket.core.uv.sheets import pixel_places
from jacket.errors import EditRefused
from jacket.stages.flatten.tools.brushes import Mirrored, Sheet, shifted
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import edge_ghost, face_ghost, found_under

CATCH = 9.0
"""Pixels from the other side of a cut within which a point that is carried comes onto it."""
PATIENCE = 0.01
"""Seconds that letting go waits for what still follows."""
WELDING = 0.25
"""The same where a point is welded."""


class Carry(Tool):
    """Drags what is held, or what is under the pointer; with Shift it turns, with Ctrl it grows. No face turns over: it stops
    at the last sound place. A point let go over itself on the other side of a cut is welded to it: edges whose two sides then
    lie on one another are sewn."""

    id, label, stage, key = "carry", "Carry", "flatten", "M"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("drag", "move what is held, or is here"), ("drag onto", "its other side: weld the point"), ("Shift drag", "turn it"), ("Ctrl drag", "grow or shrink it"),
    )  # fmt: skip
    options: ClassVar[tuple[Option, ...]] = (
        Option("rest", "The rest", "choice", choices=(("follows", "follows with least stretch"), ("stays", "stays"))),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.rest = "follows"
        self.start: Pointer | None = None
        self._ids = np.zeros(0, np.int64)
        self._party: Party | None = None
        self._sheet: Sheet | None = None
        self._mirrored: Mirrored | None = None
        self._others: Ints = np.zeros(0, np.int64)
        self._onto: Floats | None = None
        self._other = -1

    @property
    def busy(self) -> bool:
        return self.start is not None

    @property
    def lags(self) -> bool:
        """What follows has not come to rest."""
        return self.busy and self._party is not None and self._last is not None and not self._party.still

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None or pointer.flat is None or jacket.mesh.uv is None:
            return
        mesh, uv, verb = jacket.mesh, jacket.mesh.uv, "Turn" if pointer.shift else "Scale" if pointer.ctrl else "Carry"
        if self.document.state.held.parts:
            self.ghost = Ghost("flat", np.zeros((0, 2, 2)), np.zeros((0, 2)), what=f"{verb} what is held", how="drag")
            return
        found = found_under(self, pointer, "point edge face")
        if found.kind == "point":
            at = uv[np.flatnonzero(mesh.corners == found.id)[:1]]
            self.ghost = Ghost("flat", np.zeros((0, 2, 2)), at, what=f"{verb} the point", how="drag")
        elif found.kind == "edge":
            self.ghost = edge_ghost(mesh, np.array([found.id], np.int32), "flat", f"{verb} the edge", "drag")
        elif found.kind == "face":
            self.ghost = face_ghost(mesh, np.array([found.id], np.int32), "flat", f"{verb} the face", "drag")

    def _corners(self, mesh: PolyMesh, pointer: Pointer | None) -> Ints:
        """Corners that are meant: of what is held, else of what is under the pointer on the side where it is."""
        held = self.document.state.held
        if held.parts:
            faces = held.of("faces")
            out = np.isin(mesh.face_of_corner, faces)
            points = np.zeros(mesh.n_points, bool)
            points[held.of("points")] = True
            for kind in ("edges",):
                if len(held.of(kind)):
                    points[as_kind(mesh, kind, held.of(kind), "points")] = True
            return np.flatnonzero(out | points[mesh.corners])
        found = found_under(self, pointer, "point edge face") if pointer is not None else None
        if found is None or not found.kind:
            return np.zeros(0, np.int64)
        if found.kind == "face":
            return np.arange(mesh.starts[found.id], mesh.starts[found.id + 1])
        # Of what lies on a seam the side that is under the pointer; corners of the other side are carried by themselves.
        assert mesh.uv is not None and pointer is not None and pointer.flat is not None
        topology = mesh.topology
        first = np.flatnonzero(mesh.corners == found.id if found.kind == "point" else topology.edge == found.id)
        last = first if found.kind == "point" else topology.next[first]
        middle = np.nan_to_num((mesh.uv[first] + mesh.uv[last]) / 2, nan=1e9)
        k = int(np.argmin(np.linalg.norm(pointer.flat.project(middle) - [pointer.x, pointer.y], axis=1)))
        return np.array([first[k], last[k]])

    def _begin(self, corners: Ints, step: str, pointer: Pointer | None = None) -> None:
        mesh = self.document.open_jacket().mesh
        if mesh.uv is None:
            raise EditRefused("Nothing lies on the sheet yet; flatten the jacket first.")
        self._sheet = Sheet(mesh)
        self._ids = np.unique(self._sheet.fans[corners])
        self._ids = self._ids[(self._sheet.pins[self._ids] < 1) & finite_rows(self._sheet.places(mesh)[self._ids])]
        self._mirrored = Mirrored(self.document, mesh, self._sheet)
        if self.rest == "follows":
            self._gather(mesh, self._sheet, pointer)
        else:
            self._scatter()
        self._others, self._onto, self._last = np.zeros(0, np.int64), None, None
        if len(self._ids) == 1:
            same = self._sheet.fans[mesh.corners == mesh.corners[self._sheet.first[self._ids[0]]]]
            self._others = np.setdiff1d(same, self._ids)
        self.document.begin(step)

    def _gather(self, mesh: PolyMesh, sheet: Sheet, pointer: Pointer | None) -> None:
        """What leads each island after what is carried of it, that under the pointer first; islands that are carried whole are as
        they are, after which nothing has to be led."""
        islands = islands_of(mesh, self.document.state.sheets)
        label = islands.corner_labels[sheet.first]
        count = len(islands.mapped)
        part, of = np.bincount(label[self._ids], minlength=count), np.bincount(label[label >= 0], minlength=count)
        whole = part == of
        carried = np.zeros(len(sheet.first), bool)
        carried[self._ids] = True

        def build(island: int) -> tuple[Carrier, Ints]:
            laying = Laying.of(mesh, islands, island)
            fan = np.empty(len(laying.uv), np.int64)
            fan[laying.chart.mesh.corners] = sheet.fans[laying.chart.corners]
            own = np.flatnonzero(carried[fan])
            return Carrier(laying, own, laying.pins(mesh)), fan[own]

        several = np.flatnonzero((part > 0) & ~whole)
        if pointer is not None and pointer.flat is not None and len(several) > 1:
            at = pointer.flat.project(sheet.places(mesh)[self._ids])
            near = label[self._ids[np.argsort(np.hypot(at[:, 0] - pointer.x, at[:, 1] - pointer.y), kind="stable")]]
            _, first = np.unique(near, return_index=True)
            several = np.array([island for island in near[np.sort(first)] if not whole[island]])
        self._scatter()
        along = (whole & (part > 0))[islands.corner_labels] & (islands.corner_labels >= 0)
        self._party = Party(build, several.tolist(), along)

    def _scatter(self) -> None:
        if self._party is not None:
            self._party.forget()
        self._party = None

    def press(self, pointer: Pointer) -> None:
        if pointer.flat is None:
            return
        corners = self._corners(self.document.open_jacket().mesh, pointer)
        if len(corners) == 0:
            return
        self._begin(corners, "turn on the sheet" if pointer.shift else "scale on the sheet" if pointer.ctrl else "carry on the sheet", pointer)
        self.start = pointer

    def move(self, pointer: Pointer) -> None:
        start = self.start
        if start is None or start.flat is None or pointer.flat is None:
            return
        try:
            self._carry(start, pointer)
        except EditRefused:
            # An island that cannot be carried turns up only now: nothing is.
            self.cancel()
            raise

    def _carry(self, start: Pointer, pointer: Pointer) -> None:
        assert start.flat is not None and pointer.flat is not None
        shift = pointer.flat.place(pointer.x, pointer.y) - start.flat.place(start.x, start.y)
        if start.shift:
            self._moved(np.zeros(2), (pointer.x - start.x) * 0.5, 1.0)
        elif start.ctrl:
            self._moved(np.zeros(2), 0.0, float(np.exp((pointer.x - start.x) / 200.0)))
        else:
            self._moved(self._caught(shift, pointer), 0.0, 1.0)

    def _caught(self, shift: Floats, pointer: Pointer) -> Floats:
        """A shift that brings the only point carried exactly onto its other side where it comes near that."""
        base, self._onto = self.document.gesture_base.jacket, None
        if base is None or self._sheet is None or pointer.flat is None or len(self._others) == 0:
            return shift
        places = self._sheet.places(base.mesh)
        others, here = places[self._others], places[self._ids[0]]
        far = np.hypot(*(pointer.flat.project(others) - pointer.flat.project((here + shift)[None])).T)
        if not np.nanmin(far, initial=np.inf) <= CATCH:
            return shift
        k = int(np.nanargmin(far))
        self._other, self._onto = int(self._others[k]), np.asarray(others[k])
        return self._onto - here

    def _weld(self) -> bool:
        """Sew the cut edges whose two sides the gesture brought onto one another; whether the point came to lie on its other
        side."""
        base, sheet, onto = self.document.gesture_base.jacket, self._sheet, self._onto
        if base is None or sheet is None or onto is None:
            return False
        own = self._ids[0]
        if self._party is not None and not self._party.alone and sheet.pins[self._other] < 1:
            # The other side would follow away: it is held where it lies.
            self._ids = np.unique([own, self._other])
            self._gather(base.mesh, sheet, None)
            self._until = time.perf_counter() + WELDING
            self._moved(np.zeros(2), 0.0, 0.0, exact=True, about=onto)
            self._until = math.inf
        mesh = self.document.open_jacket().mesh
        uv = mesh.uv
        assert uv is not None
        if not np.allclose(uv[sheet.first[own]], uv[sheet.first[self._other]], rtol=0, atol=SLACK):
            self.note = "It is not welded: it did not get all the way to its other side. Carry it there once more, or let the rest stay."
            return False
        # To the bit: what is nearly at one place is two in files.
        uv = uv.copy()
        uv[sheet.fans == own] = uv[sheet.first[self._other]]
        mesh = mesh.with_uv(uv)
        met = cut_flags(mesh) & apart_flags(base.mesh, base.mesh.uv) & ~apart_flags(mesh, uv)
        self.document.edit_jacket("weld on the sheet", sew_edges(mesh, np.flatnonzero(met)), self.document.state.held)
        return True

    def _moved(self, shift: Floats, degrees: float, scale: float, exact: bool = False, about: Floats | None = None) -> None:
        """Everything as it was when the gesture began, but for what is carried: by sheet units, degrees and a factor, about its own
        middle or a place of the sheet. Where the rest follows it does so by one step at a time, unless it has to be `exact`."""
        anew = self._last is None or not np.array_equal(self._last[0], shift) or self._last[1:] != (degrees, scale)
        self._last = (shift, degrees, scale)
        base, sheet = self.document.gesture_base.jacket, self._sheet
        if base is None or sheet is None or len(self._ids) == 0:
            return
        mesh = base.mesh
        assert mesh.uv is not None
        size = self.document.state.sheet.size
        at = sheet.places(mesh)[self._ids] * size
        middle = at.mean(axis=0) if about is None else about * size
        turn = scale * np.exp(-1j * np.radians(degrees))
        new = (at - middle) @ [1, 1j] * turn
        goal = (np.stack([new.real, new.imag], axis=1) + middle) / size + shift
        if self._party is None or (self._party.alone and not self._party.whole.any()):
            moves = np.zeros((len(sheet.first), 2))
            moves[self._ids] = goal - sheet.places(mesh)[self._ids]
            uv, self._stopped = shifted(mesh, sheet, sheet.places(mesh), moves)
        else:
            uv, self._stopped = self._follow(mesh, sheet, self._party, goal, exact, anew)
        if self._mirrored is not None:
            uv = self._mirrored.follow(mesh, mesh.uv, uv, self._ids)
        new, sheets = mesh.with_uv(uv), self.document.state.sheets
        if self._onto is None:
            # What hangs together still does: nothing is looked for again.
            islands_moved(new, islands_of(mesh, sheets), uv, sheets)
        self.document.edit_jacket("carry on the sheet", new, self.document.state.held)
        what = "A face would turn over: it stops here" if self._stopped else "Weld it to its other side" if self._onto is not None else "Carry it here"
        marks = np.zeros((0, 2)) if self._onto is None else self._onto[None]
        self.ghost = Ghost("flat", np.zeros((0, 2, 2)), marks, what=what, how="let go")

    _until = math.inf
    """When letting go no longer waits for what still follows; without end for typed numbers."""
    _stopped = False
    _last: tuple[Floats, float, float] | None = None

    def _follow(
        self, mesh: PolyMesh, sheet: Sheet, party: Party, goal: Floats, exact: bool, anew: bool
    ) -> tuple[Floats, bool]:
        uv = mesh.uv
        assert uv is not None
        places = np.full((len(sheet.first), 2), np.nan)
        places[self._ids] = goal

        def led(carrier: Carrier, points: Ints) -> Floats:
            laying = carrier.laying
            which = np.full(len(points), int(laying.islands.sheet_of[laying.island]))
            return np.asarray(pixel_places(places[points], which, laying.islands.sheets) / laying.scale * [laying.mirror, 1.0])

        new, stopped = party.bring(uv, led, self._until) if exact else party.lead(uv, led, anew)
        if party.whole.any():
            new = new.copy()
            new[party.whole] = places[sheet.fans[party.whole]]
        return new, stopped

    def typed(self, shift: tuple[float, float], degrees: float = 0.0, scale: float = 1.0) -> None:
        """Carry what is held by typed numbers: pixels of the sheet, degrees, a factor."""
        mesh = self.document.open_jacket().mesh
        if not self.document.state.held.parts:
            raise EditRefused("Hold points, edges or faces first; the numbers move what is held.")
        self._begin(self._corners(mesh, None), "carry on the sheet")
        self._moved(np.array(shift) / self.document.state.sheet.size, degrees, scale, exact=True)
        self.document.commit()

    def release(self, pointer: Pointer) -> None:
        if self.start is not None:
            try:
                self._let_go()
            except EditRefused:
                self.cancel()
                raise
        self._scatter()
        self._sheet = None
        self.hover(pointer)

    def _let_go(self) -> None:
        if self._party is not None and not self._party.still and self._last is not None and self._onto is None:
            self._until = time.perf_counter() + PATIENCE
            self._moved(*self._last, exact=True)
            self._until = math.inf
        welded = self._onto is not None and self._weld()
        self.start, self._last = None, None
        self.document.commit("weld on the sheet" if welded else None)

    def cancel(self) -> bool:
        had, self.start, self._last = self.busy, None, None
        self._scatter()
        super().cancel()
        return had
