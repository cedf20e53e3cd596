"""Rings parted where they cross themselves: a quad that one ring crosses both ways goes, two of its corners become one.

In such a quad a ring meets itself. With the quad closed up along one diagonal the ends are joined the other way round, and of one
ring come two (what a quad does to the rings through it when it closes: Daniels, Silva, Shepherd and Cohen, "Quadrilateral
mesh simplification", 2008; the rings as a curve arrangement: Murdoch, Benzley, Blacker and Mitchell, "The spatial twist
continuum", 1997). It is done where it costs fewest irregular points: beside such points often none.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.rows.measure import rings

PRICE = 1.5
"""What an irregular point more costs, in % of all crossings by which the longest ring is shorter."""
MOST, SIX = 6, 0.75
"""Edges at most of the point that two corners become, and what so many cost more. At 6 dragons came out worse, others alike."""


@dataclass(frozen=True)
class Parting:
    """A quad that is to close up: it, the corner that stays and the one that goes onto it, irregular points more than before, and
    the longer of the two rings that come of one, in % of all crossings."""

    quad: int
    stays: int
    goes: int
    odd: int
    longest: float


def partings(mesh: PolyMesh, stay: Bools, aim: float) -> list[Parting]:
    """Quads by which the longest ring, or where that is no longer than `aim` % the one that crosses itself most, comes in two;
    the best first. Points flagged in `stay` (V,) keep their places, so no two of them become one."""
    if not mesh.is_quads or mesh.n_faces < 2:
        return []
    found, topology = rings(mesh), mesh.topology
    share = 100.0 / (2 * mesh.n_faces)
    ring = int(np.argmax(found.crossings))
    if found.crossings[ring] * share <= aim:
        ring = int(np.argmax(np.bincount(found.of_edge[topology.edge[4 * np.flatnonzero(found.own)]], minlength=1)))
    way = _walked(topology.next, topology.twin, _begin(mesh, found.of_edge, ring), mesh.n_corners)
    faces, order = way // 4, np.argsort(way // 4, kind="stable")
    twice = np.flatnonzero(faces[order][1:] == faces[order][:-1])
    p, q = order[twice], order[twice + 1]
    quads, inner = mesh.as_quads(), ~topology.border_points
    out = (way[p] % 4 + 2) % 4
    # The edges by which it leaves and comes back lie beside each other: what they do not share becomes one point.
    after = (out + 1) % 4 == way[q] % 4
    first, f = np.where(after, out, (out + 1) % 4), faces[p]
    a, b, c, d = (quads[f, (first + k) % 4] for k in range(4))
    valence = topology.valence
    joined = valence[a] + valence[c] - 2
    odd = (joined != 4).astype(int) + (valence[b] != 5) + (valence[d] != 5) - sum((valence[k] != 4).astype(int) for k in (a, b, c, d))
    good = inner[a] & inner[b] & inner[c] & inner[d] & (joined <= MOST) & (joined >= 3) & (valence[b] > 3) & (valence[d] > 3)
    good &= ~(stay[a] & stay[c])
    longest = share * np.maximum(q - p, len(way) - (q - p))
    cost = np.maximum(longest - aim, 0.0) + PRICE * odd + SIX * (joined == MOST)
    rows = np.flatnonzero(good)
    rows = rows[np.lexsort((longest[rows], cost[rows]))]
    return [Parting(int(f[k]), *((int(c[k]), int(a[k])) if stay[c[k]] else (int(a[k]), int(c[k]))), int(odd[k]), float(longest[k]))
            for k in rows]  # fmt: skip


def parted(mesh: PolyMesh, parting: Parting, stay: Bools) -> tuple[PolyMesh, Ints] | None:
    """The mesh with a quad closed up, and (V,) the number of each point in it; None where it would not be sound. The joined
    point lies between the two, or where one of them stays there."""
    quads = mesh.as_quads().copy()
    points = mesh.points
    if not stay[parting.stays]:
        points = points.copy()
        points[parting.stays] = (points[parting.stays] + points[parting.goes]) / 2
    quads[quads == parting.goes] = parting.stays
    quads = np.delete(quads, parting.quad, axis=0)
    rows = np.sort(quads, axis=1)
    if (rows[:, 1:] == rows[:, :-1]).any():
        return None
    to = np.arange(mesh.n_points) - (np.arange(mesh.n_points) > parting.goes)
    to[parting.goes] = to[parting.stays]
    new = PolyMesh.from_faces(np.delete(points, parting.goes, axis=0), to[quads].astype(np.int32))
    if len(new.topology.nonmanifold_edges) or euler_characteristic(new) != euler_characteristic(mesh):
        return None
    return new, to.astype(np.int32)


def _begin(mesh: PolyMesh, of_edge: Ints, ring: int) -> int:
    """A corner whose edge a ring enters a quad by: at the border for one that ends there."""
    topology = mesh.topology
    own = np.flatnonzero(of_edge[topology.edge] == ring)
    rim = own[topology.twin[own] < 0]
    return int(rim[0] if len(rim) else own[0])


@kernel
def _walked(following, twin, begin, most):
    """(L,) corners whose edges a ring enters the quads by, one after another."""
    out = np.empty(most, np.int64)
    n, h = 0, begin
    while n < most:
        out[n] = h
        n += 1
        h = twin[following[following[h]]]
        if h < 0 or h == begin:
            break
    return out[:n].copy()
