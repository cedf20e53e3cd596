"""Carry: moving, turning and scaling points, edges and faces on the sheet by hand, the rest standing or following."""

from __future__ import annotations

import math
import time
from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_of
from jacket.core.flatten.editing import Carrier, Laying
from jacket.core.mesh.choosing import as_kind
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.uv.sheets import pixel_places
from jacket.errors import EditRefused
from jacket.stages.flatten.tools.brushes import Mirrored, Sheet, shifted
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import edge_ghost, face_ghost, found_under

ROUNDS = 12
"""Times that what is carried is led on towards its place when it is let go."""
PATIENCE = 0.06
"""Seconds that letting go waits for what still follows."""


class Carry(Tool):
    """Drags what is held, or what is under the pointer; with Shift it turns, with Ctrl it grows. No face turns over: it stops
    at the last sound place."""

    id, label, stage, key = "carry", "Carry", "flatten", "M"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("drag", "move what is held, or is here"), ("Shift drag", "turn it"), ("Ctrl drag", "grow or shrink it"),
    )  # fmt: skip
    options: ClassVar[tuple[Option, ...]] = (
        Option("rest", "The rest", "choice", choices=(("follows", "follows with least stretch"), ("stays", "stays"))),
    )

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.rest = "follows"
        self.start: Pointer | None = None
        self._ids = np.zeros(0, np.int64)
        self._carriers: list[tuple[Carrier, Ints]] = []
        self._sheet: Sheet | None = None
        self._mirrored: Mirrored | None = None

    @property
    def busy(self) -> bool:
        return self.start is not None

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
        ids = [found.id] if found.kind == "point" else mesh.topology.edge_points[found.id]
        corners = np.flatnonzero(np.isin(mesh.corners, ids))
        # Of a point on a seam the side that is under the pointer.
        assert mesh.uv is not None and pointer is not None and pointer.flat is not None
        far = np.linalg.norm(pointer.flat.project(np.nan_to_num(mesh.uv[corners], nan=1e9)) - [pointer.x, pointer.y], axis=1)
        near = corners[np.argmin(far)]
        label = islands_of(mesh, self.document.state.sheets).corner_labels
        return corners[label[corners] == label[near]]

    def _begin(self, corners: Ints, step: str) -> None:
        mesh = self.document.open_jacket().mesh
        if mesh.uv is None:
            raise EditRefused("Nothing lies on the sheet yet; flatten the jacket first.")
        self._sheet = Sheet(mesh)
        self._ids = np.unique(self._sheet.fans[corners])
        self._ids = self._ids[(self._sheet.pins[self._ids] < 1) & finite_rows(self._sheet.places(mesh)[self._ids])]
        self._carriers, self._mirrored = [], Mirrored(self.document, mesh, self._sheet)
        islands = islands_of(mesh, self.document.state.sheets)
        labels = np.unique(islands.corner_labels[self._sheet.first[self._ids]])
        if self.rest == "follows":
            for island in labels.tolist():
                laying = Laying.of(mesh, islands, island)
                fan = np.empty(len(laying.uv), np.int64)
                fan[laying.chart.mesh.corners] = self._sheet.fans[laying.chart.corners]
                own = np.flatnonzero(np.isin(fan, self._ids))
                self._carriers.append((Carrier(laying, own, laying.pins(mesh)), fan[own]))
        self.document.begin(step)

    def press(self, pointer: Pointer) -> None:
        if pointer.flat is None:
            return
        corners = self._corners(self.document.open_jacket().mesh, pointer)
        if len(corners) == 0:
            return
        self._begin(corners, "turn on the sheet" if pointer.shift else "scale on the sheet" if pointer.ctrl else "carry on the sheet")
        self.start = pointer

    def move(self, pointer: Pointer) -> None:
        start = self.start
        if start is None or start.flat is None or pointer.flat is None:
            return
        shift = pointer.flat.place(pointer.x, pointer.y) - start.flat.place(start.x, start.y)
        if start.shift:
            self._moved(np.zeros(2), (pointer.x - start.x) * 0.5, 1.0)
        elif start.ctrl:
            self._moved(np.zeros(2), 0.0, float(np.exp((pointer.x - start.x) / 200.0)))
        else:
            self._moved(shift, 0.0, 1.0)

    def _moved(self, shift: Floats, degrees: float, scale: float, exact: bool = False) -> None:
        """Everything as it was when the gesture began, but for what is carried: by sheet units, degrees, a factor. Where the
        rest follows it does so by one step at a time, unless it has to be `exact`."""
        self._last = (shift, degrees, scale)
        base, sheet = self.document.gesture_base.jacket, self._sheet
        if base is None or sheet is None or len(self._ids) == 0:
            return
        mesh = base.mesh
        assert mesh.uv is not None
        size = self.document.state.sheet.size
        at = sheet.places(mesh)[self._ids] * size
        middle = at.mean(axis=0)
        turn = scale * np.exp(-1j * np.radians(degrees))
        new = (at - middle) @ [1, 1j] * turn
        goal = (np.stack([new.real, new.imag], axis=1) + middle) / size + shift
        if not self._carriers:
            moves = np.zeros((len(sheet.first), 2))
            moves[self._ids] = goal - sheet.places(mesh)[self._ids]
            uv, self._stopped = shifted(mesh, sheet, sheet.places(mesh), moves)
        else:
            uv, self._stopped = self._follow(mesh, goal, exact)
        if self._mirrored is not None:
            uv = self._mirrored.follow(mesh, mesh.uv, uv, self._ids)
        self.document.edit_jacket("carry on the sheet", mesh.with_uv(uv), self.document.state.held)
        what = "A face would turn over: it stops here" if self._stopped else "Carry it here"
        self.ghost = Ghost("flat", np.zeros((0, 2, 2)), np.zeros((0, 2)), what=what, how="let go")

    _until = math.inf
    """When letting go no longer waits for what still follows; without end for typed numbers."""
    _stopped = False
    _last: tuple[Floats, float, float] | None = None

    def _follow(self, mesh: PolyMesh, goal: Floats, exact: bool) -> tuple[Floats, bool]:
        uv, stopped = mesh.uv, False
        assert uv is not None
        places = np.full((int(self._ids.max()) + 1, 2), np.nan)
        places[self._ids] = goal
        for carrier, points in self._carriers:
            laying = carrier.laying
            which = np.full(len(points), int(laying.islands.sheet_of[laying.island]))
            target = pixel_places(places[points], which, laying.islands.sheets) / laying.scale * [laying.mirror, 1.0]
            for _ in range(ROUNDS if exact else 1):
                if time.perf_counter() > self._until:
                    break
                share = carrier.lead(target, 6 if exact else 1, not exact, self._until)
                if share == 1.0 or share < 1e-4:
                    break
            new = carrier.descent.uv
            uv = laying.put(uv, new, np.abs(new - laying.uv).max(axis=1) > 0)
            stopped |= share < 0.999
        return uv, stopped

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
            if self._carriers and self._last is not None:
                self._until = time.perf_counter() + PATIENCE
                self._moved(*self._last, exact=True)
                self._until = math.inf
            self.start, self._last = None, None
            self.document.commit()
        self._carriers, self._sheet = [], None
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.start, self._carriers = self.busy, None, []
        super().cancel()
        return had
