"""Align: the side of an island that is clicked becomes a line, and what else is held is laid along it."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_of
from jacket.core.layout.arrange import SIDES, aligned_to
from jacket.core.mesh.polymesh import Floats
from jacket.core.uv.islands import Islands
from jacket.errors import EditRefused
from jacket.stages.layout.arranging import held_ids
from jacket.tools.base import Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import island_under

INNER = 0.22
"""Share of a box from its middle within which the middle lines are meant."""


class Align(Tool):
    """Hovering an island shows the nearest of its sides and middle lines; a click lays all other held islands along it, with
    Shift the clicked one goes to the line of the held ones."""

    id, label, stage, key = "align", "Align", "layout", "A"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("click", "lay the held ones along this side"), ("Shift click", "take this one to the held ones"), ("Ctrl click", "hold one more"),
    )  # fmt: skip

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        found = self._side(pointer)
        if found is None or pointer.flat is None:
            return
        islands, island, side = found
        box, sheet = islands.boxes[island], islands.sheets[max(int(islands.sheet_of[island]), 0)]
        axis = 0 if side in ("left", "right", "up") else 1
        at = {"left": box[0], "right": box[2], "bottom": box[1], "top": box[3]}.get(side, (box[axis] + box[2 + axis]) / 2)
        line = np.array([[0.0, 0.0], [1.0, 1.0]]) + sheet.origin
        line[:, axis] = at
        others = [k for k in held_ids(self.document.state) if k != island]
        name = f"its {side} side" if side not in ("across", "up") else f"its middle line {side}"
        what = f"Lay {len(others)} island{'s' if len(others) != 1 else ''} along {name}" if others else "Hold what is to be laid along this"
        self.ghost = Ghost("flat", line[None], np.zeros((0, 2)), what=what, how="click" if others else "Ctrl click")

    def _side(self, pointer: Pointer) -> tuple[Islands, int, str] | None:
        """The island under the pointer and the nearest of its sides and middle lines."""
        jacket, island = self.document.state.jacket, island_under(self, pointer)
        if jacket is None or island < 0 or pointer.flat is None:
            return None
        islands = islands_of(jacket.mesh, self.document.state.sheets)
        box = islands.boxes[island]
        at = pointer.flat.place(pointer.x, pointer.y)
        share = (at - box[:2]) / np.maximum(box[2:] - box[:2], 1e-12)
        far = {"left": share[0], "right": 1 - share[0], "bottom": share[1], "top": 1 - share[1],
               "up": abs(share[0] - 0.5), "across": abs(share[1] - 0.5)}  # fmt: skip
        # Near the middle of the box its middle lines are meant, elsewhere the sides.
        inner = max(far["up"], far["across"]) < INNER
        return islands, island, min(("up", "across") if inner else SIDES[:4], key=lambda s: far[s])

    def press(self, pointer: Pointer) -> None:
        found = self._side(pointer)
        if found is None:
            return
        islands, island, side = found
        mesh = self.document.open_jacket().mesh
        held = held_ids(self.document.state)
        if pointer.ctrl or not held:
            chosen = set(held) ^ {island}
            self.document.hold("faces", np.flatnonzero(np.isin(islands.labels, list(chosen))))
            return
        others = [k for k in held if k != island]
        if not others:
            raise EditRefused("Only this island is held; hold the ones that are to be laid along it with Ctrl and a click.")
        uv: Floats = aligned_to(islands, [island], others[-1], side) if pointer.shift else aligned_to(islands, others, island, side)
        self.document.edit_jacket("align islands", mesh.with_uv(uv))
        self.hover(pointer)
