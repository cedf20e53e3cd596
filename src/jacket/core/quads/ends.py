"""Thin ends that quads have to reach: horns, claws, tips of ears.

Relaxing draws the last ring of a horn back from its tip, and a quad bridges what is left. Such places are found from the
surface: what lies farther from the quads than part of a step. A point of the nearest quad is pulled onto the tip and the
quads around are relaxed after it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jacket.core.fit.opening import opened
from jacket.core.fit.relax import Lines, Neighbourhood, relaxed
from jacket.core.jit import kernel
from jacket.core.mesh.geometry import corners_of, edge_lengths, scaled_jacobian
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import spread
from jacket.core.space.bvh import Bvh
from jacket.progress import Tick, untold

BARE, BARE_HARD, HARD = 0.4, 0.5, 0.05
"""Steps off the quads from which a place of the surface is not reached; of forms with creases, whose corners
bear less; and the share of points on creases from which on a form is one of those."""
RINGS = 5
"""Rings of points round a pulled one that follow it."""
LEAST = 0.25
"""Least scaled Jacobian round a pulled point, unless it was less before."""

ON_LINE = 0.05
"""How far off a line a tip of it lies at most, as a share of the way to the nearest corner."""

WHOLE = (1.0, 0.75, 0.5)
"""Shares of the way to a tip that are gone: less than all of it where that makes thin corners."""
LESS = ((0.6,), (0.35,))
"""And where that draws the quads off another place, or costs too much."""
PATIENT = ((10, 1.0), (10, 0.75), (30, 1.0), (30, 0.75))
"""Rounds between steps, and shares of the way, of pulls that open the worst corners as they go."""
MUCH = 1.07
"""How many times as far off as is allowed a place has to be for that: corners pay for it."""
MOST_REFUSED = 6
"""Places that may be passed over: trying to reach them takes long."""
MENDING = 5.0
"""How much more skewed quads count then."""

PULLING = "pulling quads to thin ends"


def off_quads(quads: PolyMesh, places: Floats) -> tuple[Floats, Ints]:
    """(how far places (K, 3) lie off the quads, the quad nearest to each)."""
    _, triangle, far = Bvh.build(quads.points, quads.triangle_points).closest(places)
    return far, quads.triangle_faces[triangle]


def bare_places(quads: PolyMesh, form: PolyMesh, looked_at: Ints | None = None) -> tuple[Floats, Ints]:
    """(how far each point of a form (V,) lies off the quads, the quad nearest to it (V,)); of points that are not looked at 0."""
    ids = np.arange(form.n_points) if looked_at is None else looked_at
    far, face = np.zeros(form.n_points), np.zeros(form.n_points, np.int32)
    far[ids], face[ids] = off_quads(quads, form.points[ids])
    return far, face


def ends_reached(
    quads: PolyMesh, form: PolyMesh, surface: Bvh, step: float, lines: Lines | None, rounds: int = 5, reach: float = 0.0, tick: Tick = untold
) -> PolyMesh:
    """Quads pulled out to the ends of a form (a triangle mesh near the surface) that they do not reach; points on `lines`
    stay on them. What would fold stays as it is. `reach` is how far off an end may lie, 0 for what the step says."""
    refused: set[int] = set()
    pulled = np.zeros(quads.n_points, bool)
    hard = lines is not None and float((lines.sliding | lines.fixed).mean()) > HARD
    reach = reach or (BARE_HARD if hard else BARE) * step
    looked_at: Ints | None = None
    for _ in range(rounds):
        tick(PULLING)
        far, face = bare_places(quads, form, looked_at)
        if looked_at is None:
            # What is covered well now does not come to lie far off while others are pulled.
            looked_at = np.flatnonzero(far > 0.5 * reach)
        tips = [t for t in _tips(form, far, reach) if t not in refused]
        count = int(pulled.sum())
        for tip in tips:
            new = _pulled(quads, form.points[tip], int(face[tip]), surface, lines, pulled)
            if new is None:
                refused.add(tip)
            else:
                quads = new
        if int(pulled.sum()) == count:
            break
        # All together once more, or the quads round the tips bear all of it.
        quads = relaxed(quads, surface, 15, held=pulled, lines=lines, evenness=0.2, mending=10.0)
    return quads


def farthest_pulled(
    quads: PolyMesh, places: Floats, surface: Bvh, lines: Lines | None, reach: float, rounds: int = 24, first: float = -1.0,
    tick: Tick = untold,
) -> PolyMesh:  # fmt: skip
    """Quads pulled to that of some places (K, 3) which is farthest off, one after another, while one is farther than `reach`. A pull
    has to bring its place nearer, none to where it is farther than all were, and the 1st percentile of corners to no less than
    `first`; what cannot be pulled to is passed over."""
    pulled, refused = np.zeros(quads.n_points, bool), np.zeros(len(places), bool)
    far, face = off_quads(quads, places)
    given_up = 0
    for _ in range(rounds):
        tick(PULLING)
        k = int(np.argmax(np.where(refused, 0.0, far)))
        if refused[k] or far[k] <= reach or given_up == MOST_REFUSED:
            break
        for wholes in (WHOLE, *LESS):
            taken = pulled.copy()
            new = _pulled(quads, places[k], int(face[k]), surface, lines, taken, wholes)
            if new is None and wholes == WHOLE and far[k] > MUCH * reach:
                new = _patiently_pulled(quads, places[k], int(face[k]), surface, lines, taken)
            if new is None:
                continue
            # What a pull does to corners near it opening mends, for the most part; else those elsewhere may make up for it.
            near = spread((new.points != quads.points).any(axis=1), quads.as_quads(), 2)
            for stays in (taken | ~near, taken):
                if np.percentile(scaled_jacobian(new), 1) < first:
                    new = opened(new, surface, stays, lines)
            after, there = _off_after(new, quads, places, far, face, reach)
            if after[k] < far[k] and after.max() <= far.max() and np.percentile(scaled_jacobian(new), 1) >= first:
                quads, far, face, pulled = new, after, there, taken
                break
        else:
            given_up += 1
            refused |= np.linalg.norm(places - places[k], axis=1) < 2 * far[k]
    return quads


def _off_after(new: PolyMesh, quads: PolyMesh, places: Floats, far: Floats, face: Ints, reach: float) -> tuple[Floats, Ints]:
    """As `off_quads` of quads of which only some have moved, from what it said before: exact where that matters, at places that
    are not reached and where a quad that moved was the nearest; elsewhere as before, than which none is farther."""
    moved = (new.points != quads.points).any(axis=1)[new.as_quads()].any(axis=1)
    again = np.flatnonzero(moved[face] | (far > 0.5 * reach))
    after, there = far.copy(), face.copy()
    after[again], there[again] = off_quads(new, places[again])
    return after, there


def _tips(form: PolyMesh, far: Floats, reach: float) -> list[int]:
    """The farthest point of each connected place that lies farther off than `reach`, the farthest first."""
    ends = form.topology.edge_points
    bare = far > reach
    both = ends[bare[ends].all(axis=1)]
    graph = coo_array((np.ones(len(both), np.int8), (both[:, 0], both[:, 1])), shape=(form.n_points, form.n_points))
    label = connected_components(graph, directed=False)[1]
    order = np.flatnonzero(bare)[np.argsort(-far[bare], kind="stable")]
    first = np.unique(label[order], return_index=True)[1]
    return order[np.sort(first)].tolist()


def _pulled(
    quads: PolyMesh, tip: Floats, face: int, surface: Bvh, lines: Lines | None, taken: Bools, wholes: Sequence[float] = WHOLE
) -> PolyMesh | None:
    """The quads with a corner of a face on a tip, the nearest that lets them; None where none does. Adds it to `taken`."""
    bound = _bound(quads, lines) | taken
    free = _free_corners(quads, tip, face, bound)
    if lines is not None and lines.curve.closest(tip[None])[2][0] < ON_LINE * np.linalg.norm(quads.points[free or [0]] - tip, axis=1).min():
        # A tip of a line is reached by who slides along it.
        slides = ~(taken | lines.fixed) & lines.sliding
        free = _free_corners(quads, tip, face, ~slides) + free
    hold = cache(lambda point: _Hold.of(quads, point, bound))
    # Part of the way is better than none.
    for whole in wholes:
        for point in free[:3]:
            mesh = hold(point).pulled(quads, tip, surface, whole)
            if mesh is not None:
                taken[point] = True
                return mesh
    return None


def _patiently_pulled(quads: PolyMesh, tip: Floats, face: int, surface: Bvh, lines: Lines | None, taken: Bools) -> PolyMesh | None:
    """The quads with one of the two nearest free corners of a face on a tip, or most of the way there, by a slower way on which the worst
    corners are opened: at thin rims quads of both sides fold on the plain one. None where they still do."""
    for point in _free_corners(quads, tip, face, _bound(quads, lines) | taken)[:2]:
        # Only what is near is looked at.
        near = _rings(quads, point, RINGS + 2)
        faces = np.flatnonzero(near[quads.corners.reshape(-1, 4)].max(axis=1) <= RINGS + 2)
        used, corners = np.unique(quads.corners.reshape(-1, 4)[faces], return_inverse=True)
        part = PolyMesh.from_faces(quads.points[used], corners.reshape(-1, 4))
        own = None if lines is None else Lines(lines.curve, lines.sliding[used], lines.fixed[used])
        at = near[used][part.corners.reshape(-1, 4)].min(axis=1) < RINGS
        held = (near[used] == 0) | (near[used] >= RINGS) | taken[used]
        pin, start = int(np.searchsorted(used, point)), quads.points[point]
        least = min(LEAST, float(scaled_jacobian(part)[at].min()))
        for rounds, whole in PATIENT:
            mesh = part
            for share in (0.25, 0.5, 0.75, 1.0):
                points = mesh.points.copy()
                points[pin] = surface.project((start + whole * share * (tip - start))[None, :])[0]
                mesh = relaxed(mesh.with_points(points), surface, rounds, held=held, lines=own, evenness=0.2, mending=MENDING)
            if float(scaled_jacobian(mesh)[at].min()) >= least:
                taken[point] = True
                all_points = quads.points.copy()
                all_points[used] = mesh.points
                return quads.with_points(all_points)
    return None


def _bound(quads: PolyMesh, lines: Lines | None) -> Bools:
    """(V,) points that no pull takes along: on borders and on lines."""
    border = quads.topology.border_points
    return border if lines is None else border | lines.sliding | lines.fixed


def _free_corners(quads: PolyMesh, tip: Floats, face: int, bound: Bools) -> list[int]:
    """Corners of a face that are not bound, those nearest to a tip first."""
    corners = quads.corners[quads.starts[face] : quads.starts[face + 1]].tolist()
    return sorted((c for c in corners if not bound[c]), key=lambda c: float(np.linalg.norm(quads.points[c] - tip)))


def _rings(quads: PolyMesh, point: int, most: int) -> Ints:
    """(V,) how many edges each point is away from one, `most` + 1 where it is farther than so many."""
    return np.asarray(_steps_from(*quads.topology.point_edges, quads.topology.edge_points, point, most))


@kernel
def _steps_from(start, around, ends, point, most):
    n = len(start) - 1
    near, queue = np.full(n, most + 1, np.int64), np.empty(n, np.int64)
    near[point], queue[0] = 0, point
    head, tail = 0, 1
    while head < tail:
        p = queue[head]
        head += 1
        if near[p] == most:
            break
        for k in range(start[p], start[p + 1]):
            q = ends[around[k], 0] + ends[around[k], 1] - p
            if near[q] > most:
                near[q] = near[p] + 1
                queue[tail] = q
                tail += 1
    return near


@dataclass(frozen=True, eq=False)
class _Hold:
    """A point of quads and those around that follow it: where it and they are numbered in `around`, and corners (K, 4) of the
    quads that are looked at."""

    point: int
    around: Neighbourhood
    pin: int
    looked_at: Ints

    @staticmethod
    def of(quads: PolyMesh, point: int, bound: Bools) -> _Hold:
        near = _rings(quads, point, RINGS)
        ids = np.flatnonzero((near > 0) & (near <= RINGS) & ~bound).astype(np.int32)
        around = Neighbourhood.of(quads, np.append(ids, point))
        corners = quads.corners.reshape(-1, 4)
        looked_at = corners[near[corners].min(axis=1) <= RINGS]
        moving = replace(around, own=around.own[:-1])
        return _Hold(point, moving, int(around.own[-1]), looked_at)

    def pulled(self, quads: PolyMesh, tip: Floats, surface: Bvh, whole: float) -> PolyMesh | None:
        """The quads with the point on a tip, or so much of the way there; None where that makes thin corners."""
        around = self.around
        places, start = quads.points[around.used], quads.points[self.point]
        # In steps, the others following each, so that nothing folds on the way.
        for share in (0.5, 1.0):
            goal = start + whole * share * (tip - start)
            places[self.pin] = tip if whole * share == 1.0 else surface.project(goal[None, :])[0]
            places = around.relaxed(places, surface, np.ones(len(around.own)), 6, 0.2)
        points = quads.points.copy()
        points[around.used] = places
        worst, before = (float(corners_of(p, self.looked_at).min()) for p in (points, quads.points))
        # A horn that is missing altogether is worse than a slanted quad at its tip.
        mesh = quads.with_points(points)
        least = LEAST if np.linalg.norm(tip - start) < 1.5 * float(edge_lengths(mesh).mean()) else 0.5 * LEAST
        return mesh if worst >= least or worst >= before else None
