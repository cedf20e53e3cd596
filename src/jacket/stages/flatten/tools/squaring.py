"""Square up: islands of quads laid as grids, with the stretch told before it is done."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from jacket.core.derive import islands_of, known_stretch_figures, layout_of
from jacket.core.flatten.shaping import squared
from jacket.core.flatten.squares import WAYS, Squared
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.store import STORE
from jacket.errors import EditRefused
from jacket.tools.base import Option, Tool
from jacket.tools.events import NO_GHOST, Ghost, Pointer
from jacket.tools.holding import island_under


class SquareUp(Tool):
    """Lays the island under the pointer as a grid: rows and columns straight, as wide and high as on the form."""

    id, label, stage, key = "square-up", "Square up", "flatten", "Q"
    legend = (("click", "lay the island as a grid"), ("Space", "rows only, border only"))
    options: ClassVar[tuple[Option, ...]] = (Option("way", "Makes straight", "choice", choices=WAYS),)

    def __init__(self, *arguments) -> None:
        super().__init__(*arguments)
        self.way = "whole"

    def _result(self, mesh: PolyMesh, island: int) -> tuple[Floats, Squared] | str:
        islands, way = islands_of(mesh, self.document.state.sheets), self.way

        def make() -> tuple[Floats, Squared] | str:
            try:
                return squared(mesh, islands, island, way)
            except EditRefused as error:
                return str(error)

        return STORE.get(layout_of(mesh), ("squared", island, way, self.document.state.sheets), make)

    def hover(self, pointer: Pointer) -> None:
        self.ghost = NO_GHOST
        jacket = self.document.state.jacket
        island = island_under(self, pointer) if jacket is not None and jacket.mesh.uv is not None else -1
        if jacket is None or island < 0:
            return
        mesh, result = jacket.mesh, self._result(jacket.mesh, island)
        if isinstance(result, str):
            self.ghost = Ghost("flat", np.zeros((0, 2, 2)), np.zeros((0, 2)), what=result.split(";")[0].rstrip("."), how="")
            return
        uv, done = result
        islands = islands_of(mesh, self.document.state.sheets)
        corners = islands.outline_corners(island)
        lines = np.stack([uv[corners], uv[mesh.topology.next[corners]]], axis=1)
        now = known_stretch_figures(mesh, self.document.state.sheets)
        before = f" (all islands now {now.dirichlet:.3f})" if now is not None else ""
        self.ghost = Ghost("flat", lines, np.zeros((0, 2)), what=f"{done.columns} × {done.rows} squares, stretch {done.stretch:.3f}{before}", how="click")

    def press(self, pointer: Pointer) -> None:
        mesh = self.document.open_jacket().mesh
        island = island_under(self, pointer)
        if island < 0 or mesh.uv is None:
            return
        result = self._result(mesh, island)
        if isinstance(result, str):
            raise EditRefused(result)
        self.document.edit_jacket("square up an island", mesh.with_uv(result[0]), self.document.state.held)
        self.ghost = NO_GHOST

    def step(self) -> None:
        ways = [w for w, _ in WAYS]
        self.way = ways[(ways.index(self.way) + 1) % len(ways)]
