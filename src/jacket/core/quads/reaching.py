"""The end of a part: quads pulled to what they leave uncovered, then relaxed and opened as far as that loses nothing."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np

from jacket.core.fit.opening import opened
from jacket.core.fit.relax import Lines, relaxed
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import spread
from jacket.core.quads.base import Base
from jacket.core.quads.ends import farthest_pulled, off_quads
from jacket.core.quads.fitting import face_gaps, fold_count, lines_over
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.sample import places_seen
from jacket.progress import Tick, untold

OPENING = "opening thin corners"

SHORT = 1.1
"""Largest gap in % of the diagonal that an end may be short by before it is pulled to once more."""
SHORT_TORN = 1.3
"""The same at the very end over a torn scan, of whose thin rims an end may be part."""
STILL, STILL_TORN = 1.2, 1.3
"""Gap from which on an end is pulled to again once corners were eased, which leaves more room for that; over a torn scan."""
BRIDGED, BRIDGED_TORN = 1.2, 1.5
"""Largest gap in % of the diagonal from quads to a clean surface, and to a torn scan, that easing may come to."""
ROUNDS, EVENNESS, MENDINGS = 15, 0.2, (10.0, 20.0, 20.0)
"""How often quads are relaxed once more at the very end, and how: each time again as far as corners are not good enough yet."""
LEAST = 0.25
"""Least corner that there may be then, unless it was less before."""
TRIES = 12
"""How often that is tried with more points drawn back."""
SHARES = np.array([1.0, 0.6, 0.3, 0.0])
"""Of its way a point goes so much where ends would be lost otherwise."""
WELL, WELL_FIRST = 0.975, 0.84
"""Corner mean and 1st percentile that need none of that."""
ENOUGH = 0.97
"""Corner mean that is enough once it was done; 1st percentiles are from `FAIR` on."""
PRICE, FAIR = 0.01, 0.8
"""By how much the 1st percentile of corners may fall for pulls, or to what."""


def ends_held(
    laid: PolyMesh, base: Base, surface: Bvh, eyes: Callable[[], RayTree], tick: Tick = untold, from_: float = SHORT
) -> PolyMesh:
    """Quads pulled to the places that they leave uncovered by more than `SHORT`, where that costs no fold and hardly a corner; as they
    are where none is left by more than `from_`, in % of the diagonal."""
    own, size = base.asked if len(base.asked) else base.form.points, base.size
    off = 100 * off_quads(laid, own)[0] / size
    if not (off > from_).any():
        return laid
    # Walls of pockets that nothing sees cost corners for nothing.
    own = own[places_seen(own, off, eyes, size)]
    lines = lines_over(laid, base)
    first = min(float(np.percentile(scaled_jacobian(laid), 1)) - PRICE, FAIR)
    pulled = farthest_pulled(laid, own, surface, lines, 0.01 * SHORT * size, first=first, tick=tick)
    return pulled if fold_count(pulled) <= fold_count(laid) else laid


def eased(laid: PolyMesh, base: Base, surface: Bvh, eyes: Callable[[], RayTree], tick: Tick = untold) -> PolyMesh:
    """Quads whose corners are not as good as they should be relaxed all together once more, and thin corners opened, as far as that
    draws none off an end that they reach: pulls move what is near alone, and leave it more skewed than it has to be. As they
    were where corners are no better for it."""
    lines, corners, size = lines_over(laid, base), scaled_jacobian(laid), base.size
    well, well_first = WELL, WELL_FIRST
    bridged, refused = 0.0, 0.0
    for mending in MENDINGS:
        mean, first = float(corners.mean()), float(np.percentile(corners, 1))
        if (mean >= well and first >= well_first) or mending == refused:
            break
        # Nor may quads come to bridge more than they did or may.
        bridged = bridged or max(float(face_gaps(laid, surface).max(initial=0.0)), 0.01 * (BRIDGED if base.tears is None else BRIDGED_TORN) * size)
        relax = partial(relaxed, surface=surface, rounds=ROUNDS, lines=lines, evenness=EVENNESS, mending=mending)
        new = _ends_still(laid, base, surface, lines, eyes, lambda mesh, stay, relax=relax: relax(mesh, held=stay), tick)  # type: ignore[misc]
        new = _ends_still(new, base, surface, lines, eyes, lambda mesh, stay: opened(mesh, surface, stay, lines), tick)
        after = scaled_jacobian(new)
        # Better on the whole, and for the worst no worse, or still fair.
        better = after.mean() > mean and np.percentile(after, 1) >= min(FAIR, first) and after.min() >= min(LEAST, corners.min())
        if better and face_gaps(new, surface).max(initial=0.0) <= bridged:
            laid, corners, well, well_first, refused = new, after, ENOUGH, FAIR, 0.0
        else:
            refused = mending
    return laid


def opened_still(laid: PolyMesh, base: Base, surface: Bvh, eyes: Callable[[], RayTree], tick: Tick = untold) -> PolyMesh:
    """Quads with their thin corners opened once more, as far as that draws none off an end that they reach."""
    lines = lines_over(laid, base)
    return _ends_still(laid, base, surface, lines, eyes, lambda mesh, stay: opened(mesh, surface, stay, lines), tick)


def _ends_still(
    laid: PolyMesh, base: Base, surface: Bvh, lines: Lines | None, eyes: Callable[[], RayTree],
    move: Callable[[PolyMesh, Bools], PolyMesh], tick: Tick,
) -> PolyMesh:  # fmt: skip
    """Quads as `move` leaves them, given which of their points stay: those at ends that they would be drawn off. They go part of
    their way at first, then none of it: one corner at each such place, then its quad, then those around."""
    size, quads = base.size, laid.as_quads()
    places = np.concatenate([base.form.points, base.asked.reshape(-1, 3)])
    off, face = off_quads(laid, places)
    seen = places_seen(places, 100 * off / size, eyes, size)
    places, off, face = places[seen], off[seen], face[seen]
    # No end farther off than the farthest now, nor than ends may be.
    most = 0.01 * size * (SHORT if base.tears is None else SHORT_TORN)
    least = np.maximum(off, min(most, float(off.max(initial=0.0))))
    mesh, back = laid, np.zeros(laid.n_points, np.int64)
    for _ in range(TRIES):
        tick(OPENING)
        new = move(mesh, back > 0)
        # No quad draws farther off a place than one of its corners moves.
        moved = np.linalg.norm(new.points - laid.points, axis=1)[quads].max(axis=1)
        may = np.flatnonzero(off + moved[face] > least)
        lost = may[off_quads(new, places[may])[0] > least[may]] if len(may) else may
        if len(lost) == 0:
            return new
        before, back = back, _drawn_back(back, laid, quads[face[lost]], places[lost])
        # Of what is left of the way; who does not move any more has none.
        share = SHARES[back] / np.maximum(SHARES[before], SHARES[-2])
        points = new.points.copy()
        drawn = share < 1.0
        points[drawn] = laid.points[drawn] + share[drawn, None] * (new.points - laid.points)[drawn]
        # Who goes part of a way over a bend is laid back onto it, or onto its line.
        part = drawn & (share > 0.0)
        points[part] = surface.project(points[part])
        if lines is not None:
            slides = part & lines.sliding
            points[slides] = lines.curve.project(points[slides])
        mesh = new.with_points(points)
    return laid


def _drawn_back(back: Ints, laid: PolyMesh, corners: Ints, places: Floats) -> Ints:
    """(V,) by how many of `SHARES` points are drawn back once quads with corners (K, 4) were drawn off places (K, 3)."""
    out, last = back.copy(), len(SHARES) - 1
    nearest = np.linalg.norm(laid.points[corners] - places[:, None], axis=2).argmin(axis=1)
    nearest = np.unique(corners[np.arange(len(corners)), nearest])
    # Where that corner does not move any more its quad is drawn back, then those around.
    quad = corners[(back[corners] == last).any(axis=1)]
    drawn = np.union1d(nearest, quad)
    out[drawn] = np.minimum(back[drawn] + 1, last)
    around = quad[(back[quad] == last).all(axis=1)]
    if len(around):
        near = np.zeros(laid.n_points, bool)
        near[around] = True
        out[spread(near, laid.as_quads())] = last
    return out
