"""Stack: an island's twins seen by hovering, laid on it by a click, taken apart by another."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_of, twins_of
from jacket.core.layout.apart import laid_beside
from jacket.core.layout.twins import Twins
from jacket.core.uv.identity import numbers_by_label
from jacket.core.uv.islands import Islands
from jacket.document.edits import uvs
from jacket.errors import EditRefused
from jacket.stages.layout.stacking import stacked_mesh
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Pointer
from jacket.tools.holding import face_ghost, island_under


class Stack(Tool):
    """Hovering lights all islands of one shape; a click lays them on the one under the pointer, point on point. A click on a
    stack takes it apart; with Shift only the island under the pointer is laid, on the largest of its twins."""

    id, label, stage, key = "stack", "Stack", "layout", "K"
    legend: ClassVar[tuple[tuple[str, str], ...]] = (
        ("click", "lay its twins on it; a stack apart"), ("Shift click", "only this one, on a twin"),
    )  # fmt: skip
    options: ClassVar[tuple[Option, ...]] = (
        Option("likeness", "May differ by", "number", 0.01, 20.0, "%"), Option("mirror_twins", "Mirror images too", "switch"),
    )  # fmt: skip
    actions = ("hold-twins", "stack-twins", "unstack", "lay-on")

    def _group(self, pointer: Pointer) -> tuple[Islands, int, Twins | None, list[int]]:
        """The islands, the one under the pointer, its twins, and the numbers of islands stacked with it."""
        jacket, island = self.document.state.jacket, island_under(self, pointer)
        assert jacket is not None
        islands = islands_of(jacket.mesh, self.document.state.sheets)
        if island < 0:
            return islands, island, None, []
        groups = twins_of(jacket.mesh, self.document.state.sheets, self.settings.likeness / 100, self.settings.mirror_twins)
        numbers = numbers_by_label(jacket.mesh, islands.labels, islands.count)
        twin = {r.id: r.twin for r in jacket.islands}
        own = int(numbers[island])
        base = twin.get(own) or own
        return islands, island, next((g for g in groups if island in g.islands), None), [n for n, t in twin.items() if t and t == base]

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        if jacket is None:
            return
        islands, island, group, stacked = self._group(pointer)
        if island < 0:
            return
        view = "flat" if pointer.flat is not None else "form"
        if stacked:
            ids, what = [island], f"Take a stack of {len(stacked) + 1} apart"
        elif group is None:
            ids, what = [island], "No island has this shape"
        else:
            ids, what = list(group.islands), f"Lay {len(group.islands) - 1} of one shape on this one"
        faces = np.flatnonzero(np.isin(islands.labels, ids)).astype(np.int32)
        self.ghost = face_ghost(jacket.mesh, faces, view, what, "click" if stacked or group is not None else "")

    def press(self, pointer: Pointer) -> None:
        mesh = self.document.open_jacket().mesh
        islands, island, group, stacked = self._group(pointer)
        if island < 0:
            return
        document = self.document
        numbers = numbers_by_label(mesh, islands.labels, islands.count)
        if stacked and not pointer.shift:
            ids = np.flatnonzero(np.isin(numbers, stacked)).tolist()
            with document.transaction("take a stack apart"):
                document.edit_jacket("take a stack apart", mesh.with_uv(laid_beside(islands, ids)))
                uvs.change_islands(document, "take a stack apart", tuple(stacked), lambda r: replace(r, twin=0))
        elif group is None:
            raise EditRefused("No other island has this shape; let them differ by more on the card, or lay it on by two points.")
        else:
            base = next(k for k in group.islands if k != island) if pointer.shift else island
            meant = {island, base} if pointer.shift else set(group.islands)
            new, twin = stacked_mesh(islands, [group], numbers, mesh, meant, base)
            with document.transaction("stack twins"):
                document.edit_jacket("stack twins", new)
                uvs.change_islands(document, "stack twins", tuple(twin), lambda r: replace(r, twin=twin[r.id]))
        self.ghost = NO_GHOST
