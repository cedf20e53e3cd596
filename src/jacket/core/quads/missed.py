"""Steps closer where a first result left something out: a horn or a tail that is thinner than the steps it was laid with.

Where a limb is round in fewer than about four steps, rounding the grid may leave it no width, and the quads end before it does.
With closer steps there, within the same number of quads, the grid has a width to keep.
"""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import face_areas, face_centres
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.quads.curvature import face_graph, ring_average
from jacket.core.quads.ends import off_quads

LOST = 1.2
"""Steps off the quads from which on a place counts as left out."""
OFF, AROUND, CLOSER = 0.6, 4.0, (2.2, 4.0)
"""Steps off from which on faces get closer steps, how many steps around them do too, and how many times as close they are tried."""


def farthest(quads: PolyMesh, base: PolyMesh) -> float:
    """How far a place of the base lies off the quads at most, in units."""
    return float(off_quads(quads, face_centres(base))[0].max(initial=0.0))


def closer_there(quads: PolyMesh, base: PolyMesh, density: Floats | None, length: float, times: float) -> Floats:
    """(F,) density of steps of `length` over a base (F faces), so many times as close around what the quads leave out; its logarithm has the
    mean 0, so that their number stays."""
    graph, areas = face_graph(base), face_areas(base)
    near = off_quads(quads, face_centres(base))[0] > OFF * length
    # Faces are about as long as the root of twice their area.
    size = np.sqrt(2.0 * max(float(np.median(areas)), 1e-300))
    for _ in range(int(np.clip(AROUND * length / size, 1, 60))):
        near |= (graph @ near.astype(float)) > 0
    log = np.where(near, np.log(times), 0.0)
    blur, total = ring_average(base)
    for _ in range(int(np.clip(length / size, 1, 30))):
        log = (blur @ log) / total
    log = log + (0.0 if density is None else np.log(density))
    return np.asarray(np.exp(log - float((log * areas).sum() / areas.sum())))
