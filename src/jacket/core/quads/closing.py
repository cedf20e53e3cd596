"""Rows of an automatic result that close: two ways, of which the better one is kept.

One way chooses the whole numbers of the quads that are there anew. The other lays a grid of a quarter of the quads, chooses
its numbers anew and splits every quad in four, so that each ring is half as long for its share; it is right for full forms,
the first for creased and thin ones.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from threading import Lock
from typing import TypeVar

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.beside import Begun
from jacket.core.fit.opening import THIN, opened
from jacket.core.fit.relax import Lines, relaxed, untangled
from jacket.core.mesh.geometry import edge_lengths, scaled_jacobian, unit
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.quads.base import Base
from jacket.core.quads.fitting import fitted, least_folded, lines_over, with_ends
from jacket.core.quads.steering import Guide, dense_guide
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.quads.uncrossed import Reached, uncrossed
from jacket.core.rows.unwind import Apart, taken_apart, unwound, windings
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.sample import gap, places_seen
from jacket.progress import Progress, Tick, part, ticking, untold

T = TypeVar("T")

CLOSED = 10.0
"""Longest ring in %, and quads crossed by their own ring in %, that count as closed."""
WINDING, LONG_WAY = 20.0, 1.4
"""From so much winding on, in %, gaps may come so many times as large, and corners give twice as much, where nothing else
closes the rows."""
USUAL = 0.75
"""How much rows are made to close unless told."""
ALL = 9.0
"""In place of a share: closes rows as far as the slider goes."""
LONGER = 1.25
"""How many times as large gaps over the figures may become."""
MOST_ODD = 0.08
"""Irregular points per quad of the coarse grid from which it is not tried."""
STRAY = 0.05
"""By how much more rows may stray from soft guides, in 45°."""
ROOMY = 0.973
"""Corner mean from which on rows are worth another try at what corners bear."""
GUIDED_MORE, GUIDED_MOST = 0.01, 30
"""Irregular points a quad that parting rings may cost beside guides, and how many quads it may take."""
MEAN, FIRST, GAP = 0.970, 0.80, 1.26
"""Corner mean, first percentile and largest gaps in % of the diagonal that closing may come down to; gaps a twentieth over the
1.2 of the figures, as few samples tell them here."""


@dataclass(frozen=True)
class Standing:
    """How good a result is: its rings, its corners, its gaps both ways, how far it strays from soft guides, and how much of a
    hard one no edge carries."""

    longest: float
    own: float
    mean: float
    first: float
    folded: int
    gap: float
    bare: float
    guided: float
    uncarried: float

    @property
    def winding(self) -> float:
        """The worse of the two measures of rings."""
        return max(self.longest, self.own)


@dataclass(frozen=True, eq=False)
class Ends:
    """What is known of ends: `pull` pulls quads to what they leave uncovered, `eyes` gives the tree that tells what can be seen,
    `ease` betters corners as far as ends stay reached."""

    pull: Callable[[PolyMesh], PolyMesh]
    eyes: Callable[[], RayTree]
    ease: Callable[[PolyMesh], PolyMesh] = lambda mesh: mesh


def standing(mesh: PolyMesh, surface: Bvh, base: Base, guides: Sequence[Guide] = (), ends: Ends | None = None) -> Standing:
    """The measures of a mesh over a surface, by 8,000 samples, and by the places that its base asks for where `ends` tells which of
    them can be seen."""
    corners = scaled_jacobian(mesh)
    own = Bvh.build(mesh.points, mesh.triangle_points)
    size = base.size
    out = gap(mesh.points, mesh.triangle_points, surface, size, 8000)
    back = gap(base.form.points, base.form.triangle_points, own, size, 8000)
    bare = back.largest
    if ends is not None and len(base.asked):
        # The base is evened: it may be short itself of a tip.
        off = 100 * own.closest(base.asked)[2] / size
        bare = max(bare, float(off[places_seen(base.asked, off, ends.eyes, size)].max(initial=0.0)))
    longest, crossed = windings(mesh)
    return Standing(longest, crossed, float(corners.mean()), float(np.percentile(corners, 1)), int((corners <= 0).sum()),
                    out.largest, bare, *(max((_strayed(mesh, g) for g in guides if g.hard == hard), default=0.0) for hard in (False, True)))  # fmt: skip


def _strayed(mesh: PolyMesh, guide: Guide) -> float:
    """How far rows stray from a guide, 0 to 1: of a hard one the share that no edge lies on, of a soft one the angle to the
    edges near it, in 45°."""
    step = float(np.median(edge_lengths(mesh)))
    line = dense_guide(guide, 0.25 * step)
    ends = mesh.points[mesh.topology.edge_points]
    near = cKDTree(line).query(ends.mean(axis=1))[0] < 1.5 * step
    if not near.any() or len(line) < 3:
        return 1.0
    ends = ends[near]
    _, edge, far = Bvh.of_segments(ends).closest(line[:-1])
    if guide.hard:
        return float((far > 0.05 * step).mean())
    way = unit(ends[edge, 1] - ends[edge, 0])
    angle = np.arccos(np.clip(np.abs(np.einsum("ij,ij->i", way, unit(np.diff(line, axis=0)))), 0.0, 1.0))
    return float(np.minimum(angle, 0.5 * np.pi - angle).mean() / (0.25 * np.pi))


def fits(now: Standing, before: Standing, give: float, most: float = GAP) -> bool:
    """Whether a result with closed rows is as good as has to be: within the figures, or by `give` no worse than before; gaps
    may be as large as `most`."""
    return (
        now.folded <= before.folded
        and now.mean >= min(MEAN, before.mean - 0.01 * give)
        and now.first >= min(FIRST, before.first) - 0.05 * give
        and now.guided <= before.guided + STRAY
        and now.uncarried <= before.uncarried + 0.01
        and now.gap <= max(most, LONGER * before.gap)
        # Where ends were missed before, another way may reach them: only what nothing else closes may miss as much.
        and now.bare <= max(most, before.bare if most > GAP else min(before.bare, LONG_WAY * GAP))
    )


@dataclass(frozen=True, eq=False)
class Over:
    """What quads are laid over and judged by: the base and the surface, guides, how ends are reached; and how they are laid:
    `wanted` of them, with steps as painted where `graded`, rows closing by `closeness` from 0, even steps, to 1; `tick` hears what is done meanwhile."""

    base: Base
    surface: Bvh
    guides: Sequence[Guide]
    ends: Ends
    wanted: int
    closeness: float
    graded: bool
    tick: Tick = untold

    @property
    def give(self) -> float:
        """How much corners give: up to the usual wish no more than at half of it."""
        return min(2.0 * self.closeness, 1.0) if self.closeness <= USUAL else 2.0 * self.closeness

    def standing(self, mesh: PolyMesh) -> Standing:
        """The measures of a mesh."""
        return standing(mesh, self.surface, self.base, self.guides, self.ends)

    def fitted(self, raw: PolyMesh) -> PolyMesh:
        """Quads laid anew, fitted as the first ones were."""
        return least_folded(fitted(raw, self.base, self.surface, self.graded, self.guides, True, self.tick), raw, self.surface)

    def opened(self, mesh: PolyMesh, thin: float = THIN) -> PolyMesh:
        """With thin corners opened, which are then no price of closed rows; as it is where guides hold its points."""
        return mesh if self.guides else opened(mesh, self.surface, np.zeros(mesh.n_points, bool), lines_over(mesh, self.base), thin=thin)

    def parted(self, mesh: PolyMesh) -> PolyMesh:
        """With rings parted that are too long; points at guides keep their places, and since hardly anything else closes the rows
        there, more irregular points may come of it."""
        lines = lines_over(mesh, self.base)
        stay = np.zeros(mesh.n_points, bool) if lines is None else lines.sliding | lines.fixed
        places = np.concatenate([self.base.form.points, self.base.asked.reshape(-1, 3)])
        reached = Reached(places, 0.01 * GAP * self.base.size)
        if not self.guides:
            return uncrossed(mesh, self.surface, stay, reached=reached)
        step = float(np.median(edge_lengths(mesh)))
        for guide in self.guides:
            stay |= cKDTree(dense_guide(guide, 0.25 * step)).query(mesh.points)[0] < step
        return uncrossed(mesh, self.surface, stay, GUIDED_MORE, GUIDED_MOST, reached)


Coarse = Callable[[int, Tick], PolyMesh | None]
"""Makes quads of another number over the same base."""


def closed(laid: PolyMesh, coarse: Coarse, over: Over, progress: Progress) -> PolyMesh:
    """A fitted result with its rows closed as far as corners and gaps allow, or itself where nothing better is found."""
    before = over.standing(laid)
    if before.winding <= CLOSED:
        return laid
    tries = _Tries(over, before, laid)
    # Other whole numbers lose guides; parting rings away from them does not.
    if over.guides and tries.consider(over.parted(laid)):
        return tries.best
    # A grid of a quarter of the quads has no room for as many irregular points as horns and claws make.
    crowded = irregular_count(laid) > MOST_ODD * 0.25 * over.wanted
    shares = [1.0, 0.65, 0.4, ALL]
    ways = [*([] if crowded else [(True, 1.0)]), *((False, share) for share in shares)]
    ahead = Begun[tuple[bool, float], PolyMesh | None]()
    origin, pieces = laid, _once(partial(_apart, laid, over.base))

    def begin(split: bool, share: float) -> None:
        ahead.begin((split, share), partial(_way, split, share, origin, pieces, coarse, over))

    try:
        for k, (split, share) in enumerate(ways):
            if share == ALL:
                # One ring through a fifth of all quads is worse than somewhat uneven steps.
                if min(tries.best_now.winding, tries.spare_now.winding) <= WINDING or over.closeness <= 0:
                    break
                share = 1.0 / over.closeness
            elif share < 1.0 and tries.best is not laid:
                if tries.best_now.winding <= (CLOSED if tries.best_now.mean >= ROOMY else WINDING):
                    break
                # Corners bear more than that: on from there.
                if tries.best is origin:
                    break
                share, origin = 1.0, tries.best
                pieces = _once(partial(_apart, origin, over.base))
                ahead.drop()
            begin(split, share)
            # The first way mostly does. Who needs a second mostly needs a third, which is then made beside it; and the next one while
            # it is weighed what one has brought.
            follows = [] if k + 1 == len(ways) or ways[k + 1][1] == ALL else [ways[k + 1]]
            for way in follows if k else []:
                begin(*way)
            new = ahead.result((split, share), part(progress, k / len(ways), (k + 1) / len(ways)))
            for way in follows:
                begin(*way)
            if new is not None and tries.consider(new):
                break
    finally:
        ahead.close()
    # Rows that wind through all of a form are worse than an end that is a little short.
    winds = tries.best_now.winding > WINDING and tries.spare_now.winding < tries.best_now.winding
    return tries.spare if winds else tries.best


def _way(
    split: bool, share: float, origin: PolyMesh, pieces: Callable[[], Apart | None], coarse: Coarse, over: Over, progress: Progress
) -> PolyMesh | None:
    """Quads with other rows, fitted and their rings parted; None where there are none."""
    progress, tick = ticking(progress)
    over = replace(over, tick=tick)
    if split:
        quads = coarse(round(over.wanted / 4), tick)
        new = None if quads is None else _split_way(quads, over, share, progress)
    else:
        apart = pieces()
        new = None if apart is None else _own_way(origin, over, share, apart, progress)
    # What is still too long is parted first: ends are pulled to only once.
    return None if new is None else over.parted(over.fitted(new))


def _once(make: Callable[[], T]) -> Callable[[], T]:
    """What a function returns, made at the first call; another thread that asks meanwhile waits for it."""
    lock, made = Lock(), list[T]()

    def known() -> T:
        with lock:
            if not made:
                made.append(make())
            return made[0]

    return known


class _Tries:
    """What was tried: the best result so far, and the best of those whose ends or corners are a little worse than they should be."""

    def __init__(self, over: Over, before: Standing, laid: PolyMesh) -> None:
        self.over, self.before = over, before
        self.best, self.best_now = laid, before
        self.spare, self.spare_now = laid, before

    def consider(self, mesh: PolyMesh) -> bool:
        """Take a fitted mesh where it is better than all before; whether rows are closed now."""
        new, now = self._mended(mesh)
        closes = now.winding <= CLOSED < self.best_now.winding
        if (closes or now.winding < self.best_now.winding - 1.0) and self._fits(now):
            self.best, self.best_now = new, now
        elif now.winding < self.spare_now.winding - 1.0 and self._nearly(now):
            self.spare, self.spare_now = new, now
        return self.best_now.winding <= CLOSED

    def _fits(self, now: Standing) -> bool:
        return fits(now, self.before, self.over.give)

    def _nearly(self, now: Standing) -> bool:
        return fits(now, self.before, 4.0 * self.over.closeness, LONG_WAY * GAP)

    def _mended(self, mesh: PolyMesh) -> tuple[PolyMesh, Standing]:
        """With what can be put right: thin corners, folds, ends."""
        over = self.over
        over.tick("weighing other rows")
        mesh = over.opened(mesh)
        now = over.standing(mesh)
        if now.folded > self.before.folded:
            mesh = over.opened(untangled(mesh, over.surface, None, 120), 0.5)
            now = over.standing(mesh)
        if now.bare > GAP >= now.gap:
            reach = 0.009 * GAP * over.base.size
            mesh, now = self._if_reached(with_ends(mesh, over.base, over.surface, lines_over(mesh, over.base), reach, over.tick), mesh, now)
        if now.bare > GAP and now.winding < self.best_now.winding - 1.0 and self._nearly(replace(now, bare=0.0)):
            # Nothing but ends that are short speaks against it: they are pulled to as at the very end.
            mesh, now = self._if_reached(over.ends.pull(mesh), mesh, now)
        if now.winding < self.best_now.winding - 1.0 and not self._fits(now) and self._fits(replace(now, mean=1.0, first=1.0)):
            # Nothing but corners does: they are eased as at the very end, which takes less than other rows.
            eased = over.ends.ease(mesh)
            then = over.standing(eased)
            mesh, now = (eased, then) if self._fits(then) else (mesh, now)
        return mesh, now

    def _if_reached(self, reached: PolyMesh, mesh: PolyMesh, now: Standing) -> tuple[PolyMesh, Standing]:
        then = self.over.standing(reached)
        return (reached, then) if then.bare < now.bare else (mesh, now)


def _split_way(coarse: PolyMesh, over: Over, share: float, progress: Progress) -> PolyMesh | None:
    base, surface = over.base, over.surface
    flags = line_edges(coarse, base)
    found = unwound(coarse, flags, share * over.closeness, 1, progress, wanted=round(over.wanted / 4))
    mesh, pairs = (coarse, coarse.topology.edge_points[flags]) if found is None else (found.mesh, found.lines)
    if found is None and windings(coarse)[0] > WINDING:
        return None
    mesh, lines = _onto_lines(mesh, pairs, base, surface)
    if not over.graded:
        mesh = relaxed(mesh, surface, 100, lines=lines, evenness=0.2, mending=10.0, brisk=True)
    flags = mesh.topology.edge_flags(pairs)
    fine = split_to_quads(mesh)
    points = surface.project(fine.points)
    if lines is not None:
        middles = mesh.n_points + np.flatnonzero(flags)
        on = np.concatenate([np.unique(pairs), middles])
        points[on] = lines.curve.project(fine.points[on])
    return fine.with_points(points)


def _apart(mesh: PolyMesh, base: Base) -> Apart | None:
    return taken_apart(mesh, line_edges(mesh, base))


def _own_way(laid: PolyMesh, over: Over, share: float, apart: Apart, progress: Progress) -> PolyMesh | None:
    found = unwound(laid, apart.tm.features, share * over.closeness, 4, progress, wanted=over.wanted, apart=apart)
    if found is None:
        return None
    return _onto_lines(found.mesh, found.lines, over.base, over.surface)[0]


def line_edges(quads: PolyMesh, base: Base) -> Bools:
    """(E,) edges of quads that lie on creases and borders of the base."""
    lines = lines_over(quads, base)
    if lines is None:
        return np.zeros(quads.topology.n_edges, bool)
    on = lines.sliding | lines.fixed
    ends = quads.topology.edge_points
    middle = quads.points[ends].mean(axis=1)
    near = lines.curve.closest(middle)[2] < 0.1 * np.linalg.norm(
        quads.points[ends[:, 0]] - quads.points[ends[:, 1]], axis=1
    )
    return np.asarray(on[ends].all(axis=1) & near)


def _onto_lines(mesh: PolyMesh, pairs: Ints, base: Base, surface: Bvh) -> tuple[PolyMesh, Lines | None]:
    """Points laid onto the surface, those that `pairs` join onto creases and borders."""
    points = surface.project(mesh.points)
    on = np.unique(pairs)
    first = lines_over(mesh, base)
    if first is None or len(on) == 0:
        return mesh.with_points(points), None
    points[on] = first.curve.project(mesh.points[on])
    mesh = mesh.with_points(points)
    lines = lines_over(mesh, base)
    assert lines is not None
    sliding = np.zeros(mesh.n_points, bool)
    sliding[on] = True
    return mesh, Lines(lines.curve, sliding, lines.fixed & sliding)
