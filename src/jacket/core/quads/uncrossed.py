"""The last rings that are too long, parted one quad at a time on a fitted result, each time smoothed around."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.fit.relax import relaxed_part
from jacket.core.mesh.geometry import edge_lengths, scaled_jacobian
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.mesh.tables import spread
from jacket.core.rows.measure import rings
from jacket.core.rows.uncrossing import parted, partings
from jacket.core.rows.unwind import windings
from jacket.core.space.bvh import Bvh

AIM, REACHED = 9.4, 9.7
"""Longest ring and quads crossed by their own, in %, that are sought, and with which one is content."""
ODDEST = 0.034
"""Irregular points a quad up to which more may come of it."""
MORE = 0.004
"""The same, by how much more than there were."""
MOST, TRIED = 12, 8
"""Quads that close up at most, and how many are tried each time."""
AROUND, ROUNDS = 4, 30
"""Steps around such a quad in which points move, and how often."""
LEAST = 0.45
"""Least corner there may be around one."""


@dataclass(frozen=True, eq=False)
class Reached:
    """Places (P, 3) that quads are to come within `far` of, such as tips."""

    places: Floats
    far: float

    def still(self, before: PolyMesh, after: PolyMesh, around: Floats) -> bool:
        """Whether none of the places that lie about some points (K, 3) is farther than that from quads that have changed there,
        unless it was before and is no farther now."""
        about = 2 * self.far + float(np.median(edge_lengths(after)))
        here = self.places[cKDTree(around).query(self.places, distance_upper_bound=about)[0] < about]
        if len(here) == 0:
            return True
        now = Bvh.build(after.points, after.triangle_points).closest(here)[2]
        if now.max() <= self.far:
            return True
        then = Bvh.build(before.points, before.triangle_points).closest(here)[2]
        return bool((now <= np.maximum(then, self.far)).all())


def uncrossed(
    mesh: PolyMesh, surface: Bvh, stay: Bools, more: float = MORE, most: int = MOST, reached: Reached | None = None
) -> PolyMesh:
    """Quads on a surface with rings parted until none is too long, or as far as irregular points and corners allow; the mesh
    itself where nothing is gained. Points flagged in `stay` (V,) and on borders keep their places; `more` irregular points a quad
    may come of it, and `most` quads close up; what is `reached` stays so."""
    room = min(int(more * mesh.n_faces), int(ODDEST * mesh.n_faces) - irregular_count(mesh))
    for _ in range(most):
        found = _next(mesh, stay, surface, room, reached) if max(windings(mesh)) > REACHED else None
        if found is None:
            return mesh
        mesh, stay, odd = found
        room -= odd
    return mesh


def _over(mesh: PolyMesh) -> float:
    """By how much all rings that are too long are so, and the quads crossed by their own, in %."""
    found = rings(mesh)
    long = 100.0 * found.crossings / max(2 * found.n_quads, 1)
    return float(np.maximum(long - AIM, 0.0).sum()) + max(found.crossed_by_itself - AIM, 0.0)


def _least(mesh: PolyMesh, near: Bools) -> float:
    """The least corner of faces at points that are flagged (V,)."""
    return float(scaled_jacobian(mesh)[near[mesh.as_quads()].any(axis=1)].min())


def _next(mesh: PolyMesh, stay: Bools, surface: Bvh, room: int, reached: Reached | None) -> tuple[PolyMesh, Bools, int] | None:
    """The mesh with one ring parted, which of its points stay, and irregular points more; None where none can be."""
    now = _over(mesh)
    for one in [p for p in partings(mesh, stay, AIM) if p.odd <= room][:TRIED]:
        made = parted(mesh, one, stay)
        if made is None or _over(made[0]) >= now:
            continue
        new, to = made
        stays = np.zeros(new.n_points, bool)
        stays[to[stay]] = True
        near = np.zeros(new.n_points, bool)
        near[to[one.stays]] = True
        near = spread(near, new.as_quads(), AROUND)
        ids = np.flatnonzero(near & ~stays & ~new.topology.border_points)
        new = new.with_points(relaxed_part(new, surface, ids, np.ones(len(ids)), ROUNDS))
        if _least(new, near) >= min(LEAST, _least(mesh, near[to])) and (reached is None or reached.still(mesh, new, new.points[near])):
            return new, stays, one.odd
    return None
