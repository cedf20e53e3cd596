"""Twins laid on one another: what commands and the Stack tool share."""

from __future__ import annotations

import numpy as np

from jacket.core.layout.twins import Twins, laid_on
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.uv.islands import Islands


def stacked_mesh(islands: Islands, groups: list[Twins], numbers: Ints, mesh: PolyMesh,
                 meant: set[int], lead: int | None) -> tuple[PolyMesh, dict[int, int]]:  # fmt: skip
    """The mesh with twins laid on one another, and the number of the island that each number lies on now."""
    uv, twin = islands.uv, {}
    for group in groups:
        inside = [k for k in group.islands if not meant or k in meant]
        if len(inside) < 2:
            continue
        base = lead if lead in inside else inside[0]
        laid = laid_on(islands, group, base)
        here = np.isin(islands.corner_labels, inside)
        uv = np.where(here[:, None], laid, uv)
        if numbers[base]:
            # Others lie on it now, so it lies on none.
            twin[int(numbers[base])] = 0
        for k in inside:
            if k != base and numbers[k]:
                twin[int(numbers[k])] = int(numbers[base])
    return mesh.with_uv(uv), twin
