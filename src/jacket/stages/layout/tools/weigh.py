"""Weigh: islands given more or fewer pixels than others by a drag; packing keeps it."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_of
from jacket.core.layout.arrange import density_of
from jacket.core.uv.identity import numbers_by_label
from jacket.stages.layout.arranging import held_ids
from jacket.stages.layout.weighing import weigh_islands
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import face_ghost, island_under

DOUBLE = 120.0
"""Pixels of a drag that double or halve a density."""


class Weigh(Tool):
    """A drag upwards makes the island under the pointer, or all held ones, denser about its middle; downwards coarser. What
    it weighs is kept when islands are packed or given one density anew."""

    id, label, stage, key = "weigh", "Weigh", "layout", "W"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("drag", "up denser, down coarser"), ("Ctrl", "in steps of a quarter"), ("Backspace", "as dense as the others"),
    )  # fmt: skip
    actions = ("weigh-more", "weigh-less", "weigh-plain")

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.start: Pointer | None = None
        self.ids: list[int] = []

    @property
    def busy(self) -> bool:
        return self.start is not None

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        jacket, island = self.document.state.jacket, island_under(self, pointer)
        if jacket is None or island < 0:
            return
        islands = islands_of(jacket.mesh, self.document.state.sheets)
        faces = np.flatnonzero(islands.labels == island).astype(np.int32)
        view = "flat" if pointer.flat is not None else "form"
        number = int(numbers_by_label(jacket.mesh, islands.labels, islands.count)[island])
        weigh = next((r.weigh for r in jacket.islands if r.id == number), 1.0)
        told = f"{density_of(islands, island):,.0f} pixels a unit" + (f", weighs {weigh:.2f}" if weigh != 1 else "")
        self.ghost = face_ghost(jacket.mesh, faces, view, told, "drag up or down")

    def press(self, pointer: Pointer) -> None:
        island = island_under(self, pointer)
        if island < 0:
            return
        state, mesh = self.document.state, self.document.open_jacket().mesh
        held = held_ids(state)
        if island not in held:
            self.document.hold("faces", np.flatnonzero(islands_of(mesh, state.sheets).labels == island))
            held = [island]
        self.ids, self.start = held, pointer
        self.document.begin("weigh islands")

    def move(self, pointer: Pointer) -> None:
        start, base = self.start, self.document.gesture_base.jacket
        if start is None or base is None:
            return
        factor = 2.0 ** ((start.y - pointer.y) / DOUBLE)
        if pointer.ctrl:
            factor = max(round(factor * 4) / 4, 0.25)
        weigh_islands(self.document, base, self.ids, factor)
        view = "flat" if pointer.flat is not None else "form"
        empty = np.zeros((0, 2, 2)) if view == "flat" else np.zeros((0, 2, 3))
        self.ghost = Ghost(view, empty, np.zeros((0, empty.shape[2])), what=f"{factor:.2f} times as dense", how="let go")

    def remove(self, pointer: Pointer) -> None:
        island = island_under(self, pointer)
        jacket = self.document.state.jacket
        if island < 0 or jacket is None or self.busy:
            return
        islands = islands_of(jacket.mesh, self.document.state.sheets)
        number = int(numbers_by_label(jacket.mesh, islands.labels, islands.count)[island])
        weigh = next((r.weigh for r in jacket.islands if r.id == number), 1.0)
        if weigh != 1.0:
            with self.document.transaction("weigh islands"):
                weigh_islands(self.document, jacket, [island], None)

    def release(self, pointer: Pointer) -> None:
        if self.start is not None:
            self.start = None
            self.document.commit()
        self.hover(pointer)

    def cancel(self) -> bool:
        had, self.start = self.busy, None
        super().cancel()
        return had
