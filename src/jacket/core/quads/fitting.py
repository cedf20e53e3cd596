"""Raw quads of a grid fitted to their source: relaxed on it, lines kept, knots and folds taken out."""

from __future__ import annotations

from collections.abc import Sequence
from weakref import WeakKeyDictionary

import numpy as np

from jacket.core.fit.relax import Lines, lines_of, relaxed, untangled
from jacket.core.mesh.edits import faces_removed
from jacket.core.mesh.geometry import face_areas, scaled_jacobian
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.mesh.tables import spread
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.base import Base
from jacket.core.quads.clusters import untied
from jacket.core.quads.ends import ends_reached
from jacket.core.quads.lines import JAGS, line_flags, line_ways
from jacket.core.quads.steering import Guide, dense_guide
from jacket.core.rows.unwind import windings
from jacket.core.space.bvh import Bvh
from jacket.progress import Tick, untold

RELAXING = "relaxing the quads on the source"


def fitted(
    quads: PolyMesh, base: Base, surface: Bvh, graded: bool = False, guides: Sequence[Guide] = (), rows_stay: bool = False,
    tick: Tick = untold,
) -> PolyMesh:
    """Relax on the source with crease and border points sliding on their lines; where `rows_stay`, no knot of irregular points is
    untied at the price of rows that wind."""
    step, segments, bends = _lines(quads, base)
    lines = lines_of(quads, segments, bends, 0.02 * step)
    if quads.is_quads and irregular_count(quads) < 0.15 * quads.n_points:
        on_crease = np.zeros(quads.n_points, bool)
        if lines is not None:
            on_crease = lines.sliding & ~quads.topology.border_points | lines.fixed
        loose = untied(quads, on_crease)
        if not (rows_stay and max(windings(loose)) > max(windings(quads)) + 0.5):
            quads = loose
        lines = lines_of(quads, segments, bends, 0.02 * step)
    # Where density is painted sizes are meant to differ; evening them would wash it out.
    evenness = 0.0 if graded else 0.2
    quads = relaxed(quads, surface, 25 if graded else 60, lines=lines, evenness=evenness, mending=10.0, brisk=True)
    sizes = np.ones(quads.n_faces)
    for k in range(6):
        tick(RELAXING)
        far = face_gaps(quads, surface) / step
        if k >= 2 and float(far.max(initial=0.0)) < 1.7 * MOST_OFF:
            break
        sizes = np.clip(sizes * np.clip(np.sqrt(MOST_OFF / np.maximum(far, 1e-9)), 0.7, 1.0), 0.35, 1.0)
        quads = relaxed(quads, surface, 6 if graded else 15, lines=lines, evenness=evenness, mending=10.0, sizes=sizes, brisk=True)
    tick(RELAXING)
    quads = untangled(quads, surface, lines)
    # What sliding on lines cannot open is let off them; a fold is worse than a soft edge.
    quads = untangled(quads, surface, None)
    for _ in range(3):
        trimmed = _without_flat_ears(quads)
        if trimmed is None or lines is None:
            break
        along = lines_of(trimmed, segments, bends, 0.02 * step)
        assert along is not None
        along = Lines(along.curve, along.sliding | trimmed.topology.border_points, along.fixed)
        trimmed = relaxed(trimmed, surface, 15, lines=along, evenness=evenness, mending=10.0)
        trimmed = untangled(trimmed, surface, along)
        if fold_count(trimmed, 0.05) >= fold_count(quads, 0.05):
            break
        quads, lines = trimmed, along
    free = np.ones(quads.n_points, bool) if lines is None else ~(lines.sliding | lines.fixed)
    quads = with_ends(quads, base, surface, lines, tick=tick)
    points = quads.points.copy()
    points[free] = surface.project(points[free])
    points[~free] = surface.project(points[~free])
    return quads.with_points(_onto_guides(points, ~free, guides, 0.15 * step))


def with_ends(quads: PolyMesh, base: Base, surface: Bvh, lines: Lines | None, reach: float = 0.0, tick: Tick = untold) -> PolyMesh:
    """Quads pulled out to ends they do not reach, as they were wherever that folds some; `reach` is how far off an end may lie, 0
    for what the step says."""
    step = float(np.sqrt(face_areas(base.mesh).sum() / max(quads.n_faces, 1)))
    pulled = untangled(ends_reached(quads, base.form, surface, step, lines, reach=reach, tick=tick), surface, lines)
    if fold_count(pulled) > fold_count(quads):
        pulled = untangled(pulled, surface, lines, 120)
    # An end that is a little short is better than a fold.
    return _without_new_folds(quads, pulled)


def _lines(quads: PolyMesh, base: Base) -> tuple[float, Floats, Floats]:
    """The step of quads; segments (S, 2, 3) of the creases and borders of their base; where those bend (K, 3)."""
    known = _LINES.setdefault(base, {})
    row = known.get(quads.n_faces)
    if row is None:
        step = float(np.sqrt(face_areas(base.mesh).sum() / max(quads.n_faces, 1)))
        flags = line_flags(base.mesh, base.creases)
        segments = base.mesh.points[base.mesh.topology.edge_points[flags]]
        row = step, segments, _line_corners(base.mesh, flags, line_ways(base.mesh, base.creases, JAGS * step))
        known[quads.n_faces] = row
    return row


_LINES: WeakKeyDictionary[Base, dict[int, tuple[float, Floats, Floats]]] = WeakKeyDictionary()
"""By base and number of quads: both hardly change while quads are fitted."""


def lines_over(quads: PolyMesh, base: Base) -> Lines | None:
    """Which points of quads lie on creases and borders of their base, None where it has none."""
    step, segments, bends = _lines(quads, base)
    return lines_of(quads, segments, bends, 0.02 * step)


def fold_count(quads: PolyMesh, below: float = 0.0) -> int:
    """Number of faces whose scaled Jacobian is not over a value."""
    return int((scaled_jacobian(quads) <= below).sum())


def _without_new_folds(before: PolyMesh, after: PolyMesh) -> PolyMesh:
    """Quads after a move, as they were before it wherever it folded some."""
    folded = scaled_jacobian(before) <= 0
    corners = before.as_quads()
    mesh, back = after, np.zeros(before.n_points, bool)
    for rings in (2, 3, 4, 6, 8):
        new = (scaled_jacobian(mesh) <= 0) & ~folded
        if not new.any():
            return mesh
        near = np.zeros(before.n_points, bool)
        near[corners[new]] = True
        back |= spread(near, corners, rings)
        mesh = after.with_points(np.where(back[:, None], before.points, after.points))
    return mesh if not ((scaled_jacobian(mesh) <= 0) & ~folded).any() else before


def least_folded(laid: PolyMesh, raw: PolyMesh, surface: Bvh) -> PolyMesh:
    """Fitted quads, or where they are folded and the raw ones are not when hardly relaxed or only laid down, those: where
    a part is thinner than a quad, relaxing pulls its sides through one another."""
    if fold_count(laid) == 0:
        return laid
    others = (relaxed(raw, surface, 5, mending=10.0), raw.with_points(surface.project(raw.points)))
    best = min(others, key=fold_count)
    return best if fold_count(best) <= fold_count(laid) // 2 else laid


def _without_flat_ears(quads: PolyMesh) -> PolyMesh | None:
    """The mesh without quads that a border bends flat at a corner where it runs straight on, None where there are none:
    the point inside comes to lie on the border in place of that corner."""
    if not quads.is_quads:
        return None
    topology = quads.topology
    ear = topology.border_points & (topology.valence == 2)
    flat = ear[quads.as_quads()].any(axis=1) & (scaled_jacobian(quads) < 0.05)
    if not flat.any():
        return None
    new = faces_removed(quads, np.flatnonzero(flat)).mesh
    same = euler_characteristic(new) == euler_characteristic(quads)
    loops = len(new.topology.border_loops) == len(topology.border_loops)
    return new if same and loops and new.n_faces else None


def _onto_guides(points: Floats, on: Bools, guides: Sequence[Guide], reach: float) -> Floats:
    """Points on lines (V,) that lie within reach of a hard guide laid onto the guide itself: until then they lie on edges
    of the base mesh, which are chords of it."""
    points = points.copy()
    for guide in guides:
        if guide.hard:
            line = dense_guide(guide, reach)
            ahead = np.roll(line, -1, axis=0) if guide.closed else line[1:]
            place, _, far = Bvh.of_segments(np.stack([line[: len(ahead)], ahead], axis=1)).closest(points)
            near = on & (far < reach)
            points[near] = place[near]
    return points


MOST_OFF = 0.4
"""Steps off the surface over which a quad bridges more than it should: it is made smaller, and its neighbours larger."""


def face_gaps(quads: PolyMesh, surface: Bvh) -> Floats:
    """(F,) how far the centre and the middles of the edges of each quad lie off the surface, the largest."""
    ring = quads.points[quads.as_quads()]
    places = np.concatenate([ring.mean(axis=1), *(0.5 * (ring[:, k] + ring[:, k - 1]) for k in range(4))])
    return np.asarray(surface.closest(places)[2].reshape(5, -1).max(axis=0))


def _line_corners(mesh: PolyMesh, flags: Bools, ways: Floats) -> Floats:
    """(K, 3) ends, forks and bends of over 45° of a set of edges (E,) that run by `ways` (E, 3)."""
    edges = np.flatnonzero(flags)
    if len(edges) == 0:
        return np.zeros((0, 3))
    ends = mesh.topology.edge_points[edges]
    degree = np.bincount(ends.ravel(), minlength=mesh.n_points)
    # The two edges at a point of two: first seen from the front, then from the back.
    first, last = np.full(mesh.n_points, -1), np.full(mesh.n_points, -1)
    first[ends[::-1].ravel()] = np.repeat(edges[::-1], 2)
    last[ends.ravel()] = np.repeat(edges, 2)
    two = np.flatnonzero(degree == 2)
    cosine = np.abs(np.einsum("ij,ij->i", ways[first[two]], ways[last[two]]))
    bent = np.zeros(mesh.n_points, bool)
    bent[two[cosine < np.cos(np.radians(45.0))]] = True
    return mesh.points[((degree > 0) & (degree != 2)) | bent]
