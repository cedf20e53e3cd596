"""What quads are laid on in the place of a torn scan: a clean skin over its outside, and what of the scan they are to reach."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.source.simplify import navigation_copy
from jacket.core.source.skin import bridging, closed_skin, solid_skin
from jacket.core.source.weld import compact
from jacket.core.source.whole import handles_cut, holes_patched
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.progress import Progress, part, silent

GIRTH = 2.0
"""Steps round a handle of a torn scan up to which it is cut: no row of quads goes through."""
FINE, FINEST = 4.5, 320
"""Cells of a skin to a step, and at most along the longest side of a scan."""
OUTSIDE = 250_000
"""About how many triangles stand for a torn scan where its ends are looked for."""
DEEP = 0.15
"""Steps under the skin from which on it is asked whether a place can be seen."""


@dataclass(frozen=True, eq=False)
class Shut:
    """A skin over a torn scan: points (V, 3) and triangles (T, 3), of these (K, 3) that span what the scan leaves open, the skin as a
    surface, what of the scan can be seen from outside, and how many holes were closed and handles cut; None where the skin is
    one by distance."""

    points: Floats
    triangles: Ints
    spans: Ints
    surface: Bvh
    outside: PolyMesh
    mended: tuple[int, int] | None


def shut(points: Floats, triangles: Ints, surface: Bvh, step: float, progress: Progress = silent) -> Shut | None:
    """A skin over a manifold but torn scan, whose outside is told from its inside once it is mended, in cells that follow the step
    of the quads; one by distance where it cannot be mended, None where nothing encloses a space."""
    made = _skin(points, triangles, surface, step, progress)
    if made is None:
        return None
    skin, tri, mended = made
    over = Bvh.build(skin, tri)
    outside = _seen(*navigation_copy(points, triangles, OUTSIDE), over, DEEP * step)
    return Shut(skin, tri, bridging(skin, tri, surface), over, outside, mended)


def _skin(
    points: Floats, triangles: Ints, surface: Bvh, step: float, progress: Progress
) -> tuple[Floats, Ints, tuple[int, int] | None] | None:  # fmt: skip
    closed, every, holes = holes_patched(points, triangles, part(progress, 0.0, 0.3))
    if len(PolyMesh.from_faces(closed, every).topology.border_edges) == 0:
        skin = solid_skin(closed, every, max(step / FINE, float(np.ptp(closed, axis=0).max()) / FINEST), part(progress, 0.3, 0.8))
        if skin is not None:
            opened, tri, cut = handles_cut(*skin, GIRTH * step, part(progress, 0.8, 1.0))
            return *holes_patched(opened, tri)[:2], (holes, cut)
    by_distance = closed_skin(surface, progress=progress)
    return None if by_distance is None else (*by_distance, None)


def _seen(points: Floats, triangles: Ints, skin: Bvh, deep: float) -> PolyMesh:
    """The triangles of a scan that can be seen from outside: of points that lie deeper than a length under its skin rays tell."""
    on, which, far = skin.closest(points)
    corner = skin.points[skin.triangles[which]]
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    under = (far > deep) & (np.einsum("ij,ij->i", points - on, normal) < 0)
    ids = np.flatnonzero(under)
    under[ids] = RayTree.build(points, triangles).hidden(points[ids], float(np.linalg.norm(np.ptp(points, axis=0))))
    return PolyMesh.from_faces(*compact(points, triangles[~under[triangles].any(axis=1)]))
