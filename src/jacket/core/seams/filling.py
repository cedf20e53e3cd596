"""How much of a sheet the islands of a piece would use."""

from __future__ import annotations

import numpy as np

from jacket.core.layout.pack import PackSettings, pack
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.seams.laying import Laid
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet

PIXELS, MARGIN = 512, 4
"""Side of the sheet that is tried, and the margin on it."""
ROUNDS = 20
"""Rounds of the search: half a second for a dozen islands, after which most use within a twentieth of what they will."""
CROWD = 40
"""Islands from which on use is not tried: of many it hardly hangs on how each is shaped."""
USUAL_USE = 0.7
"""What those are taken to use."""


def use_of(mesh: PolyMesh, cut: Bools, parts: list[tuple[Ints, Laid]]) -> float:
    """Share of a square sheet that the flat parts of a mesh cut at edges (E,) use once they are packed for a moment."""
    if len(parts) > CROWD:
        return USUAL_USE
    uv = np.full((mesh.n_corners, 2), np.nan)
    for _, laid in parts:
        uv[laid.chart.corners] = laid.corner_uv()
    pieces = mesh.with_cuts(mesh.topology.edge_points[cut]).with_uv(uv)
    islands = Islands.of(pieces, (Sheet(width=PIXELS, height=PIXELS, margin=MARGIN),))
    return pack(islands, PackSettings(steps=ROUNDS)).use
