"""Place: moving, turning and scaling islands on the sheet by hand, with handles and snapping."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_moved, islands_of
from jacket.core.layout.arrange import PIVOTS, box_of, pivot_of, transformed
from jacket.core.layout.greedy import turn_matrix
from jacket.core.layout.snapping import Snapped, snapped
from jacket.core.mesh.polymesh import Floats
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import APART, from_pixel_places
from jacket.stages.layout.arranging import held_ids, held_points
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import face_ghost, island_under

HANDLES = {"lower left": "upper right", "lower right": "upper left", "upper left": "lower right", "upper right": "lower left"}
"""Corners of the box, and the one that stays where an island grows from that corner."""
KNOB = 26.0
"""Screen pixels of the turning knob above the box."""
HIT = 9.0
SNAPS = (("free", "freely"), ("px", "to whole pixels"), ("grid", "to the grid"), ("islands", "side to side"), ("points", "point to point"))


class Place(Tool):
    """Drags the held islands or the one under the pointer; the corners of their box grow them, the knob above it turns
    them. With Shift a drag turns, with Ctrl it grows, wherever it starts."""

    id, label, stage, key = "place", "Place", "layout", "V"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("drag", "move; corners grow, knob turns"), ("Shift drag", "turn, Ctrl in steps of 15°"), ("Ctrl drag", "grow or shrink"),
    )  # fmt: skip
    options: ClassVar[tuple[Option, ...]] = (
        Option("pivot", "Turns about", "choice", choices=(
            *((name, name) for name in PIVOTS), ("sheet", "middle of the sheet"), ("origin", "corner of the sheet"), ("held", "what is held on them"),
            ("each", "each its middle"),
        )),
        Option("snap", "Moves go", "choice", choices=SNAPS),
        Option("grid", "Grid", "number", 1, 4096, "px"),
    )  # fmt: skip

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.ids: list[int] = []
        self.mode = "move"
        self.corner = ""
        self.start: Pointer | None = None

    @property
    def busy(self) -> bool:
        return self.start is not None

    # ---- looking -----------------------------------------------------------------------------------------------------
    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None:
            return
        mode, corner = self._aim(pointer)
        island = island_under(self, pointer)
        if pointer.flat is None:
            if island >= 0:
                faces = np.flatnonzero(islands_of(jacket.mesh, self.document.state.sheets).labels == island)
                self.ghost = face_ghost(jacket.mesh, faces.astype(np.int32), "form", "Hold the island", "click")
            return
        held = held_ids(self.document.state)
        if corner or (held and (island < 0 or island in held)):
            many = f"{len(held)} islands" if len(held) > 1 else "the island"
            self.ghost = self._handles(pointer, held, f"{mode.capitalize()} {many}" if corner or island >= 0 else "")
        elif island >= 0:
            faces = np.flatnonzero(islands_of(jacket.mesh, self.document.state.sheets).labels == island)
            self.ghost = face_ghost(jacket.mesh, faces.astype(np.int32), "flat", f"{mode.capitalize()} the island", "drag")

    def _aim(self, pointer: Pointer) -> tuple[str, str]:
        """What a drag from here does, and the handle that it has hold of, "" for none."""
        if pointer.flat is not None:
            for name, at in self._handle_places(pointer).items():
                if np.hypot(at[0] - pointer.x, at[1] - pointer.y) <= HIT:
                    return ("turn" if name == "knob" else "scale"), name
        return ("turn" if pointer.shift else "scale" if pointer.ctrl else "move"), ""

    def _handle_places(self, pointer: Pointer) -> dict[str, Floats]:
        """Handles of the held islands in screen pixels."""
        held = held_ids(self.document.state)
        jacket = self.document.state.jacket
        if not held or jacket is None or pointer.flat is None:
            return {}
        islands = islands_of(jacket.mesh, self.document.state.sheets)
        box = box_of(islands, held)
        sheet = np.full(1, max(int(islands.sheet_of[held[0]]), 0))
        out = {}
        for name in (*HANDLES, "top"):
            at = box[:2] + (box[2:] - box[:2]) * PIVOTS[name]
            out[name] = pointer.flat.project(from_pixel_places(at[None], sheet, islands.sheets))[0]
        out["knob"] = out.pop("top") - [0.0, KNOB]
        return out

    def _handles(self, pointer: Pointer, held: list[int], what: str) -> Ghost:
        """The box of what is held with its handles."""
        at = self._handle_places(pointer)
        order = [at[n] for n in ("lower left", "lower right", "upper right", "upper left")]
        ring = np.array([[order[k], order[(k + 1) % 4]] for k in range(4)])
        stem = np.array([[(order[2] + order[3]) / 2, at["knob"]]])
        square = np.array([[-4.0, -4], [4, -4], [4, 4], [-4, 4]])
        marks = [np.stack([p + square, p + np.roll(square, -1, axis=0)], axis=1) for n, p in at.items() if n != "knob"]
        turn = np.linspace(0, 2 * np.pi, 9)[:-1]
        knob = at["knob"] + 5 * np.stack([np.cos(turn), np.sin(turn)], axis=1)
        round_ = np.stack([knob, np.roll(knob, -1, axis=0)], axis=1)
        lines = np.concatenate([ring, stem, *marks, round_])
        return Ghost("flat", np.zeros((0, 2, 2)), np.zeros((0, 2)), screen=lines, what=what, how="drag" if what else "")

    # ---- doing -------------------------------------------------------------------------------------------------------
    def press(self, pointer: Pointer) -> None:
        state, jacket = self.document.state, self.document.require_jacket()
        self.mode, self.corner = self._aim(pointer)
        held = held_ids(state)
        island = island_under(self, pointer)
        if not self.corner:
            if island < 0:
                self.document.hold("faces", [])
                return
            if island not in held:
                self.document.hold("faces", np.flatnonzero(islands_of(jacket.mesh, state.sheets).labels == island))
                held = held_ids(self.document.state)
        self.ids = held
        if pointer.flat is not None and held:
            self.document.open_jacket()
            self.start = pointer
            self.document.begin(f"{self.mode} islands" if len(held) > 1 else f"{self.mode} an island")

    def move(self, pointer: Pointer) -> None:
        start, base = self.start, self.document.gesture_base.jacket
        if start is None or start.flat is None or base is None:
            return
        islands = islands_of(base.mesh, self.document.state.sheets)
        uv, told = self._moved(islands, start, pointer)
        mesh = base.mesh.with_uv(uv)
        # What is moved as a whole stays an island: nothing has to be looked for again.
        islands_moved(mesh, islands, uv, self.document.state.sheets)
        self.document.edit_jacket("move an island", mesh)
        self.ghost = Ghost("flat", told.lines, np.zeros((0, 2)), what=told.what, how="let go")

    def _moved(self, islands: Islands, start: Pointer, pointer: Pointer) -> tuple[Floats, Snapped]:
        """UVs (C, 2) after the drag, and what is told of it."""
        assert start.flat is not None
        sheet = islands.sheets[max(int(islands.sheet_of[self.ids[0]]), 0)]
        a, b = (sheet.pixels(start.flat.place(p.x, p.y)) for p in (start, pointer))
        box = box_of(islands, self.ids)
        if self.mode == "move":
            found = snapped(islands, self.ids, a, b - a, self.settings.snap, self.settings.grid, 8.0 * sheet.height / start.flat.scale)
            return transformed(islands, self.ids, np.eye(2), found.shift, np.zeros(2)), found
        pivot = None if self.settings.pivot == "each" else pivot_of(
            islands, self.ids, self.settings.pivot, held_points(self.document.state, islands))
        if self.mode == "scale" and self.corner:
            pivot = box[:2] + (box[2:] - box[:2]) * PIVOTS[HANDLES[self.corner]]
        middle = (box[:2] + box[2:]) / 2 if pivot is None else pivot
        arm, now = a + sheet.origin * APART - middle, b + sheet.origin * APART - middle
        if self.mode == "turn":
            if self.corner:
                angle = float(np.arctan2(now[1], now[0]) - np.arctan2(arm[1], arm[0]))
                angle = (angle + np.pi) % (2 * np.pi) - np.pi
            else:
                angle = (start.x - pointer.x) * np.radians(0.5)
            if pointer.ctrl:
                angle = round(angle / np.radians(15)) * np.radians(15)
            uv = transformed(islands, self.ids, turn_matrix(angle), np.zeros(2), pivot)
            return uv, Snapped(np.zeros(2), what=f"{np.degrees(angle):.1f}°")
        if self.corner:
            factor = max(float(now @ arm) / max(float(arm @ arm), 1e-9), 0.02)
        else:
            factor = float(np.exp((pointer.x - start.x) / 200.0))
        uv = transformed(islands, self.ids, np.eye(2) * factor, np.zeros(2), pivot)
        return uv, Snapped(np.zeros(2), what=f"{100 * factor:.1f} %")

    def release(self, pointer: Pointer) -> None:
        if self.start is not None:
            self.start = None
            self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.start = self.busy, None
        super().cancel()
        return had
