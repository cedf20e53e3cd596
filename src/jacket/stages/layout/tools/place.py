"""Place: moving, turning and scaling an island on the sheet by hand."""

from __future__ import annotations

import numpy as np

from jacket.core.derive import islands_moved, islands_of
from jacket.core.uv.islands import Islands
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.holding import face_ghost, island_under


class Place(Tool):
    """Drags the island under the pointer; with Shift it turns, with Ctrl it grows and shrinks."""

    id, label, stage, key = "place", "Place", "layout", "V"
    legend = (("drag", "move an island"), ("Shift drag", "turn it"), ("Ctrl drag", "grow or shrink it"))

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.island = -1
        self.start: Pointer | None = None

    @property
    def busy(self) -> bool:
        return self.start is not None

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None:
            return
        island = island_under(self, pointer)
        if island >= 0:
            faces = np.flatnonzero(islands_of(jacket.mesh, self.document.state.sheets).labels == island)
            what = "Turn the island" if pointer.shift else "Scale the island" if pointer.ctrl else "Move the island"
            view = "flat" if pointer.flat is not None else "form"
            self.ghost = face_ghost(
                jacket.mesh, faces.astype(np.int32), view, what, "drag" if view == "flat" else "click"
            )

    def press(self, pointer: Pointer) -> None:
        jacket = self.document.require_jacket()
        self.island = island_under(self, pointer)
        if self.island < 0:
            self.document.hold("faces", [])
            return
        self.document.hold("faces", np.flatnonzero(islands_of(jacket.mesh, self.document.state.sheets).labels == self.island))
        if pointer.flat is not None:
            self.start = pointer
            names = "turn an island" if pointer.shift else "scale an island" if pointer.ctrl else "move an island"
            self.document.begin(names)

    def move(self, pointer: Pointer) -> None:
        start, base = self.start, self.document.gesture_base.jacket
        if start is None or start.flat is None or base is None:
            return
        islands = islands_of(base.mesh, self.document.state.sheets)
        uv = moved_island(islands, self.island, start, pointer)
        mesh = base.mesh.with_uv(uv)
        # What is moved as a whole stays an island: nothing has to be looked for again.
        islands_moved(mesh, islands, uv, self.document.state.sheets)
        self.document.edit_jacket("move an island", mesh)

    def release(self, pointer: Pointer) -> None:
        if self.start is not None:
            self.start = None
            self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.start = self.busy, None
        super().cancel()
        return had


def moved_island(islands: Islands, island: int, start: Pointer, pointer: Pointer):
    """UVs (C, 2) with an island carried, turned (Shift) or scaled (Ctrl) by a drag in the flat view."""
    assert start.flat is not None
    a, b = start.flat.place(start.x, start.y), start.flat.place(pointer.x, pointer.y)
    box = islands.boxes[island]
    middle = (box[:2] + box[2:]) / 2
    if start.shift:
        angle = (pointer.x - start.x) * np.radians(0.5)
        angle = round(angle / np.radians(15)) * np.radians(15) if pointer.ctrl else angle
        c, s = np.cos(-angle), np.sin(-angle)
        matrix = np.array([[c, -s], [s, c]])
    elif start.ctrl:
        matrix = np.eye(2) * float(np.exp((pointer.x - start.x) / 200.0))
    else:
        return islands.moved(island, np.eye(2), b - a)
    # Turned in pixels: on a sheet that is not square a turn in sheet units would shear.
    sheet = islands.sheets[max(int(islands.sheet_of[island]), 0)]
    matrix = np.diag(1 / sheet.size) @ matrix @ np.diag(sheet.size)
    return islands.moved(island, matrix, middle - matrix @ middle)
