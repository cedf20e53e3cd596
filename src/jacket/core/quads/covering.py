"""Quads over a surface, part by part: base mesh, field, grid, extraction in several passes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from jacket.core.fit.lifted import with_lifted
from jacket.core.fit.opening import opened
from jacket.core.mesh.geometry import face_areas, face_centres
from jacket.core.mesh.pieces import put_side_by_side, split_off
from jacket.core.mesh.polymesh import Floats, PolyMesh, sorted_pairs
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.base import Base, make_base
from jacket.core.quads.closing import Ends, Over, closed
from jacket.core.quads.crumbs import crumbs_covered
from jacket.core.quads.figures import eyes_on
from jacket.core.quads.fitting import fitted, fold_count, least_folded, lines_over
from jacket.core.quads.gridmap import GridSolver
from jacket.core.quads.grids import (
    MISSED,
    Watch,
    best_pass,
    grid_for,
    missed_by,
    painted_on,
    several,
    split_route,
    told,
    unwatched,
)
from jacket.core.quads.missed import CLOSER, LOST, closer_there, farthest
from jacket.core.quads.reaching import SHORT, STILL, STILL_TORN, eased, ends_held, opened_still
from jacket.core.quads.settings import AutoSettings
from jacket.core.quads.steering import Guide
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.source.simplify import simplify
from jacket.core.source.skin import Tears
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.sample import uncovered_share
from jacket.errors import SolveError
from jacket.progress import Progress, Tick, part, ticking


def covered(
    source: PolyMesh, surface: Bvh, wanted: int, area: float, settings: AutoSettings, guides: list[Guide],
    notes: list[str], progress: Progress, watch: Watch = unwatched,
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over a surface, and how many singular points their field has; `watch` is shown its strokes. Each part of the
    surface gets a grid of its own, so that one which takes none does not spoil the others. Where none fits most of it, as where bodies
    that only touch make one part of many handles, its outside is covered instead."""
    light = int(np.clip(7.5 * wanted, 8_000, 60_000))

    def base_of(anyway: bool, progress: Progress) -> Base:
        return make_base(source, surface, light, area / wanted, settings.sharp, progress, guides, settings.skin, settings.shortest, anyway)

    def laid(base: Base, refuse: bool, progress: Progress) -> tuple[PolyMesh, int, list[str]]:
        told = _notes_on(base)
        return *_laid_over(base, source, surface, wanted, settings, guides, told, progress, watch, refuse), told

    base = base_of(False, part(progress, 0.0, 0.35))
    refuse = settings.skin and base.tears is None and not settings.mirror
    try:
        quads, singular, told = laid(base, refuse, part(progress, 0.35, 0.95))
    except _NoGrid:
        outside = base_of(True, part(progress, 0.5, 0.6))
        quads, singular, told = laid(base if outside.tears is None else outside, False, part(progress, 0.6, 0.95))
        if outside.tears is not None and uncovered_share(base.mesh.points, base.mesh.triangle_points, [quads], 1000) > INSIDE:
            # Much of it cannot be seen from outside.
            quads, singular, told = laid(base, False, part(progress, 0.6, 0.95))
    notes.extend(told)
    return quads, singular


INSIDE = 0.05
"""Share of a surface that its outside may leave uncovered where that is covered instead."""


class _NoGrid(Exception):
    """No grid fits most of a surface."""


def _laid_over(
    base: Base, source: PolyMesh, surface: Bvh, wanted: int, settings: AutoSettings, guides: list[Guide], notes: list[str],
    progress: Progress, watch: Watch, refuse: bool,
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over the parts of a base; where `refuse`, _NoGrid is raised if none fits a part that is more than half of it."""
    length = float(np.sqrt(face_areas(base.mesh).sum() / wanted))
    over = surface
    if base.bridge is not None and len(base.bridge[1]):
        # Over holes the quads lie on the skin; laid onto the scan they would all fall to the rims.
        points, triangles = base.bridge
        over = Bvh.build(
            np.concatenate([surface.points, points]),
            np.concatenate([surface.triangles, triangles + len(surface.points)]),
        )
    bases = _parts_of(base, length)
    # What can be seen is told by the source, of which a base is a part, and rounder.
    eyes = cache(lambda: eyes_on(source))
    strokes: dict[int, Floats] = {}

    def looking(k: int) -> Watch:
        def look(seen: Floats) -> None:
            strokes[k] = seen
            watch(np.concatenate(list(strokes.values())))

        return look

    made: list[PolyMesh] = []
    if base.crumbs is not None:
        made.append(crumbs_covered(base.crumbs, part(progress, 0.0, 0.0)))
        notes.append(f"Small parts got the fewest quads that cover them, {made[0].n_faces:,} together; for fewer keep only the "
                     "largest parts of the source.")  # fmt: skip
        wanted = max(wanted - made[0].n_faces, LEAST_QUADS)
    singular, start, laid = 0, 0.0, dict[int, PolyMesh]()
    share = np.array([face_areas(b.mesh).sum() for b in bases])
    # Small parts first: what thin ones get more than their share, large ones get less.
    for k in np.argsort(share, kind="stable").tolist():
        due = wanted * share[k] / share.sum()
        left = (wanted - sum(q.n_faces for q in laid.values())) * share[k] / sum(share[j] for j in range(len(bases)) if j not in laid)
        aim = max(round(due if due < FORMED else max(left, SPARED * due)), LEAST_QUADS)
        end = start + float(share[k] / share.sum())
        laid[k], count = _part_covered(bases[k], over, aim, length, settings, guides, notes, part(progress, start, end),
                                       looking(k), eyes, refuse and share[k] > MOST * share.sum())  # fmt: skip
        singular, start = singular + count, end
    made += [laid[k] for k in range(len(bases))]
    quads = made[0] if len(made) == 1 else put_side_by_side(made)
    if over is surface:
        return quads, singular
    off = surface.closest(quads.points)[2] > 1e-7 * float(np.linalg.norm(np.ptp(surface.points, axis=0)))
    return with_lifted(quads, np.flatnonzero(off)), singular


SPARED, FORMED = 0.5, 200
"""Share of the quads due to it that a part gets at least, however many others take, and how many have to be due to one that gives any: of
fewer its form is lost."""
MOST = 0.5
"""Share of a surface from which on a part is most of it."""
LEAST_QUADS = 6
"""No closed part has fewer."""


PART_STEPS = 45.0
"""Of how many steps a gap is told in % where a part is smaller: half a step is 1.1 of them. In % of itself what the few quads of a small
part, or of a whole jacket, can reach would never do: ends would be pulled at for long, and rows not be closed."""


def _parts_of(base: Base, length: float) -> list[Base]:
    """The base's parts, each as a base of its own, where quads are a length wide."""
    count, label = face_parts(base.mesh)
    if count == 1:
        return [replace(base, among=PART_STEPS * length)]
    seen = base.outside
    own = Bvh.build(base.mesh.points, base.mesh.triangle_points)
    nearest = np.zeros(0, np.int32) if seen is None else label[own.closest(face_centres(seen))[1]]
    asked = label[own.closest(base.asked)[1]] if len(base.asked) else np.zeros(0, np.int32)
    out = []
    for k in range(count):
        used, local = np.unique(base.mesh.triangle_points[label == k], return_inverse=True)
        to = np.full(base.mesh.n_points, -1, np.int32)
        to[used] = np.arange(len(used))
        creases = to[base.creases] if len(base.creases) else np.zeros((0, 2), np.int32)
        mesh = PolyMesh.from_faces(base.mesh.points[used], local.reshape(-1, 3).astype(np.int32))
        outside = None if seen is None or not (nearest == k).any() else split_off(seen, np.flatnonzero(nearest == k))[1]
        out.append(Base(mesh, sorted_pairs(creases[(creases >= 0).all(axis=1)]), 0, 0, tears=base.tears, outside=outside, asked=base.asked[asked == k],
                        among=PART_STEPS * length))  # fmt: skip
    return out


def _part_covered(
    base: Base, surface: Bvh, wanted: int, length: float, settings: AutoSettings, guides: list[Guide], notes: list[str],
    progress: Progress, watch: Watch, eyes: Callable[[], RayTree], refuse: bool = False,
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over one part. Where no grid carries its creases, one without them is tried before a coarse one is split, or where `refuse`
    _NoGrid is raised."""
    progress, tick = ticking(progress)

    try:
        found = grid_for(base, wanted, length, settings, guides, notes, progress, watch)
    except SolveError:
        if refuse:
            raise _NoGrid from None
        broken = _plainly_split(base, surface, wanted, 1.0)
        if broken is None:
            raise
        notes.append(f"The surface near {told(base.mesh)} is too broken for a grid; its triangles were split there instead.")
        return broken, 0
    base, solver, quads, wanted, length = found.base, found.solver, found.quads, found.wanted, found.length
    painted = painted_on(base, settings)
    gridded = quads is not None
    if quads is None and refuse:
        raise _NoGrid
    if quads is None:
        notes.append(
            f"The grid could not be laid cleanly near {told(base.mesh)}; a coarser one was split there instead."
        )
        quads = split_route(base, solver, 2.0 * length, wanted)
    progress(0.7, "relaxing the quads on the source")

    finish = _Finish(base, surface, guides, painted is not None, eyes, tick)
    laid = quads if found.drawn_out else finish.fitted(quads)
    if gridded:
        # The first result can be looked at while ends are sought and rows closed.
        watch(laid.points[laid.topology.edge_points])
    if gridded and not found.drawn_out:
        laid, solver = _with_missed(laid, base, solver, wanted, length, finish.fitted, part(progress, 0.7, 0.75))
    of_grid = laid
    laid = _whole(laid, base, surface, wanted, notes)
    # Ends of large plain splits are pulled to for a minute and hardly ever reached.
    pulls = (gridded and laid is of_grid) or laid.n_faces <= PULLED
    fitted_so = laid
    if settings.rows > 0 and gridded and laid.n_faces >= FEW and not found.drawn_out:
        # Painted steps are to differ as painted: the closer rows close, the more they even out.
        close = settings.rows if painted is None else min(settings.rows, PAINTED)
        over = Over(base, surface, guides, Ends(finish.held, eyes, finish.eased), wanted, close, finish.graded, tick)
        laid = closed(laid, lambda n, tell: best_pass(base, solver, n, lambda _, what: tell(what)), over, part(progress, 0.75, 1.0))
    if laid is fitted_so:
        # Closed rows were opened before they were judged, and then pulled to their ends.
        laid = finish.opened(laid)
    return finish.ended(laid) if laid.is_quads and pulls else laid, int((solver.field.index != 0).sum())


@dataclass(frozen=True, eq=False)
class _Finish:
    """What is done with the quads of a part once they are there: fitted to it, with steps as painted where `graded`, opened, pulled to its
    ends and eased."""

    base: Base
    surface: Bvh
    guides: list[Guide]
    graded: bool
    eyes: Callable[[], RayTree]
    tick: Tick

    def fitted(self, raw: PolyMesh) -> PolyMesh:
        """Quads as they come out of a grid, fitted, or as they were where that folds fewer."""
        return least_folded(fitted(raw, self.base, self.surface, self.graded, self.guides, tick=self.tick), raw, self.surface)

    def opened(self, laid: PolyMesh) -> PolyMesh:
        """With thin corners opened; as they are where guides hold points."""
        return laid if self.guides else opened(laid, self.surface, np.zeros(laid.n_points, bool), lines_over(laid, self.base))

    def held(self, short: PolyMesh, from_: float = SHORT) -> PolyMesh:
        """Pulled to what they leave uncovered by more than `from_`."""
        return ends_held(short, self.base, self.surface, self.eyes, self.tick, from_)

    def eased(self, skewed: PolyMesh) -> PolyMesh:
        """With better corners, as far as guides and painted steps leave that free."""
        return skewed if self.guides or self.graded else eased(skewed, self.base, self.surface, self.eyes, self.tick)

    def ended(self, laid: PolyMesh) -> PolyMesh:
        """The very end: pulled to ends, opened and eased."""
        laid = self.held(laid)
        if not self.guides:
            laid = opened_still(laid, self.base, self.surface, self.eyes, self.tick)
        laid = self.eased(laid)
        # Eased corners bear pulls that skewed ones did not.
        return self.held(laid, STILL if self.base.tears is None else STILL_TORN)


def _with_missed(
    laid: PolyMesh, base: Base, solver: GridSolver, wanted: int, length: float, fit: Callable[[PolyMesh], PolyMesh], progress: Progress
) -> tuple[PolyMesh, GridSolver]:  # fmt: skip
    """Quads over what the first ones left out, a horn or a tail, by closer steps there, and the solver of their grid; the first
    ones where that does no better."""
    for times in CLOSER:
        lost = farthest(laid, base.mesh)
        if lost <= LOST * length:
            break
        finer = solver.with_density(closer_there(laid, base.mesh, solver.density, length, times))
        quads = best_pass(base, finer, wanted, progress)
        again = None if quads is None else fit(quads)
        if again is not None and farthest(again, base.mesh) < 0.7 * lost and fold_count(again) <= fold_count(laid):
            laid, solver = again, finer
    return laid, solver


PAINTED = 0.5
"""How much rows are made to close at most where density is painted."""
FEW, PULLED = 60, 1000
"""Quads under which a part's rows are left as they are, and up to which a part without a grid is pulled to its ends."""


PLAIN, CLOSER_PLAIN = (3.0, 2.5, 2.0, 3.5), (1.6, 1.4, 1.2)
"""Of how many quads a triangle of a plain split makes one, until none is folded: each is split in three. Of parts of few quads closer
ones are tried, and taken where none is folded then."""

TOO_MANY = 8
"""Triangles for each quad wanted that a part which cannot be reduced further may have to be split plainly."""


def _whole(laid: PolyMesh, base: Base, surface: Bvh, wanted: int, notes: list[str]) -> PolyMesh:
    """Quads over a part, or where they leave some of it uncovered or are far too few, a plain split of its triangles if
    that does better."""
    missed = missed_by(laid, base, wanted)
    best = _plainly_split(base, surface, wanted, max(missed, MISSED)) if missed > MISSED else None
    if best is None:
        return laid
    notes.append(f"No grid covers the part near {told(base.mesh)} whole; its triangles were split there instead.")
    return best


def _plainly_split(base: Base, surface: Bvh, wanted: int, missed: float) -> PolyMesh | None:
    """A part's triangles reduced, each split in three and opened: of several densities the one with the fewest folds that leaves out no
    more than a share; None where none is sound."""
    points, triangles = base.mesh.points, base.mesh.triangle_points
    best: PolyMesh | None = None
    tried = set[int]()
    for triple in (*PLAIN, *(CLOSER_PLAIN if wanted < FORMED else ())):
        coarse = simplify(points, triangles, max(round(wanted / triple), 4))
        if len(coarse[1]) > TOO_MANY * wanted:
            break
        if len(coarse[1]) in tried:
            continue  # it could not be reduced as far
        tried.add(len(coarse[1]))
        plain = split_to_quads(PolyMesh.from_faces(*coarse))
        plain = plain.with_points(surface.project(plain.points))
        if len(plain.topology.nonmanifold_edges) or uncovered_share(points, triangles, [plain], 1000) > missed:
            continue
        plain = opened(plain, surface, np.zeros(plain.n_points, bool))
        folds = fold_count(plain)
        if best is None or (folds < fold_count(best) if triple in PLAIN else folds == 0):
            best = plain
        if folds == 0:
            break
    return best


def _counted(tears: Tears) -> str:
    rows = ((tears.borders, "hole"), (tears.handles, "handle"), (tears.flaps, "folded face"))
    return ", ".join(several(n, what) for n, what in rows if n)


def _why_shut(tears: Tears) -> str:
    return f"The source is torn ({_counted(tears)})" if tears.torn else "No grid of quads fits the source as it is"


def _notes_on(base: Base) -> list[str]:
    out = []
    if base.mended is not None and base.tears is not None:
        holes, handles = base.mended
        done = " and ".join(f"{several(n, what)} {verb}" for n, what, verb in ((holes, "hole", "closed"), (handles, "handle", "cut")) if n)
        out.append(f"{_why_shut(base.tears)}, so the quads were laid on its outside alone{', with ' + done if done else ''}.")
    elif base.tears is not None:
        out.append(f"{_why_shut(base.tears)}, so the quads were laid on a closed skin over it; look at the gap to the source where holes were.")
    if base.pinholes:
        out.append(f"{several(base.pinholes, 'hole')} smaller than a quad {'was' if base.pinholes == 1 else 'were'} closed; for an edge round "
                   "them ask for more quads.")  # fmt: skip
    if base.slivers:
        out.append(f"{base.slivers:,} faces without area were passed over.")
    if base.turned:
        out.append(f"{base.turned:,} faces ran the wrong way round and were turned for the quads; turn them in the source too.")
    if base.dropped_parts:
        out.append(
            f"{base.dropped_parts} loose parts smaller than twelve quads were left out ({base.dropped_faces} triangles)."
        )
    return out
