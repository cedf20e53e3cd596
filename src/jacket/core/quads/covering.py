"""Quads over a surface, part by part: base mesh, field, grid, extraction in several passes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache

import numpy as np

from jacket.core.fit.lifted import with_lifted
from jacket.core.fit.opening import opened
from jacket.core.mesh.geometry import face_areas, face_centres, face_normals
from jacket.core.mesh.pieces import put_side_by_side, split_off
from jacket.core.mesh.polymesh import Floats, PolyMesh, sorted_pairs
from jacket.core.mesh.unique import unique_rows
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.quads.base import Base, evened, make_base, without_pinholes
from jacket.core.quads.closing import Ends, Over, closed
from jacket.core.quads.crumbs import crumbs_covered
from jacket.core.quads.curvature import form_density
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.extract import extract_quads
from jacket.core.quads.field import Field, smooth_field
from jacket.core.quads.figures import eyes_on
from jacket.core.quads.fitting import fitted, fold_count, least_folded, lines_over
from jacket.core.quads.gridmap import MANY, GridSolver
from jacket.core.quads.lines import JAGS, line_ways, opened_corners
from jacket.core.quads.missed import CLOSER, LOST, closer_there, farthest
from jacket.core.quads.pairs import without_pairs
from jacket.core.quads.reaching import eased, ends_held, opened_still
from jacket.core.quads.settings import AutoSettings
from jacket.core.quads.steering import Guide, face_density, soft_pull
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.quads.torn import GIRTH
from jacket.core.source.simplify import simplify
from jacket.core.source.skin import Tears
from jacket.core.source.weld import compact
from jacket.core.source.whole import handles_cut, sheets_parted
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.sample import uncovered_share
from jacket.progress import Progress, part, ticking

SPARSER = 1.25
PAIR_REACH = 2.3
"""Steps apart up to which two singular points that undo one another are taken out: those cost no gap that shows."""


def crease_density(base: Base, length: float, form: float) -> Floats | None:
    """(F,) density of the steps by form, None where it is even."""
    if form <= 0:
        return None
    at_crease = np.zeros(base.mesh.n_points, bool)
    at_crease[base.creases.ravel()] = True
    left_out = np.asarray(at_crease[base.mesh.triangle_points].any(axis=1))
    return form_density(base.mesh, length, form, left_out)


Watch = Callable[[Floats], None]
"""Is shown short strokes (S, 2, 3) along the field."""


def unwatched(strokes: Floats) -> None:
    """Nobody looks."""


def field_strokes(mesh: PolyMesh, field: Field, half: float) -> Floats:
    """(S, 2, 3) the two strokes of the cross at faces spread evenly over a mesh, `half` long to each side and a little above it."""
    cells = np.floor(face_centres(mesh) / max(2.6 * half, 1e-300)).astype(np.int64)
    faces = unique_rows(cells)[0]
    normal = face_normals(mesh)[faces]
    centre = face_centres(mesh)[faces] + 0.05 * half * normal
    u = field.direction[faces]
    ways = np.concatenate([u, np.cross(normal, u)]) * half
    centres = np.concatenate([centre, centre])
    return np.stack([centres - ways, centres + ways], axis=1)


def covered(
    source: PolyMesh, surface: Bvh, wanted: int, area: float, settings: AutoSettings, guides: list[Guide],
    notes: list[str], progress: Progress, watch: Watch = unwatched,
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over a surface, and how many singular points their field has; `watch` is shown its strokes. Each part of the
    surface gets a grid of its own, so that one which takes none does not spoil the others."""
    light = int(np.clip(7.5 * wanted, 8_000, 60_000))
    base = make_base(source, surface, light, area / wanted, settings.sharp, part(progress, 0, 0.35), guides,
                     settings.skin, settings.shortest)  # fmt: skip
    notes += _notes_on(base)
    length = float(np.sqrt(face_areas(base.mesh).sum() / wanted))
    over = surface
    if base.bridge is not None and len(base.bridge[1]):
        # Over holes the quads lie on the skin; laid onto the scan they would all fall to the rims.
        points, triangles = base.bridge
        over = Bvh.build(
            np.concatenate([surface.points, points]),
            np.concatenate([surface.triangles, triangles + len(surface.points)]),
        )
    bases = _parts_of(base)
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
        made.append(crumbs_covered(base.crumbs, part(progress, 0.35, 0.35)))
        notes.append(f"Small parts got the fewest quads that cover them, {made[0].n_faces:,} together; for fewer keep only the "
                     "largest parts of the source.")  # fmt: skip
        wanted = max(wanted - made[0].n_faces, LEAST_QUADS)
    singular, start = 0, 0.35
    share = np.array([face_areas(b.mesh).sum() for b in bases])
    for k, (one, own) in enumerate(zip(bases, share / share.sum(), strict=True)):
        end = start + 0.6 * float(own)
        aim = max(round(wanted * float(own)), LEAST_QUADS)
        quads, count = _part_covered(one, over, aim, length, settings, guides, notes, part(progress, start, end),
                                     looking(k), eyes)  # fmt: skip
        made.append(quads)
        singular, start = singular + count, end
    quads = made[0] if len(made) == 1 else put_side_by_side(made)
    if over is surface:
        return quads, singular
    off = surface.closest(quads.points)[2] > 1e-7 * float(np.linalg.norm(np.ptp(surface.points, axis=0)))
    return with_lifted(quads, np.flatnonzero(off)), singular


CLOSER_THERE, MORE = (2.0, 4.0, 8.0), 0.1
"""How many times the quads wanted a part may get where it is thinner than a step, if that adds no more than such a share to all."""
SPARSE = 0.6
"""Share of the quads wanted of a part below which a grid counts as none."""
LEAST_QUADS = 6
"""No closed part has fewer."""


def _parts_of(base: Base) -> list[Base]:
    """The base's parts, each as a base of its own."""
    count, label = face_parts(base.mesh)
    if count == 1:
        return [base]
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
        out.append(Base(mesh, sorted_pairs(creases[(creases >= 0).all(axis=1)]), 0, 0, tears=base.tears, outside=outside, asked=base.asked[asked == k]))
    return out


def _part_covered(
    base: Base, surface: Bvh, wanted: int, length: float, settings: AutoSettings, guides: list[Guide], notes: list[str],
    progress: Progress, watch: Watch, eyes: Callable[[], RayTree],
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over one part. Where no grid carries its creases, one without them is tried before a coarse one is split."""
    progress, tick = ticking(progress)

    def painted_on(on: Base) -> Floats | None:
        painted = face_density(on.mesh, settings.spots, settings.paint)
        # Relaxing evens steps that differ, most where they are long: 0.50 would end as 0.57.
        return None if painted is None else np.where(painted < 1, painted**SPARSER, painted)

    progress(0.0, "combing the flow over the surface")
    painted = painted_on(base)
    solver = _solver(base, length, settings, guides, painted, part(progress, 0.05, 0.4), watch)
    quads = _best_pass(base, solver, wanted, part(progress, 0.4, 0.7))
    missed, had_creases = _missed(quads, base, wanted), bool(len(base.creases))
    grids = [(base, solver)]
    if len(base.creases) and missed > MISSED:
        # Along edges closer than a step to one another nothing fits.
        bare = replace(base, creases=sorted_pairs(np.zeros((0, 2))))
        smooth = _solver(bare, length, settings, guides, painted, part(progress, 0.5, 0.6), unwatched)
        grids.insert(0, (bare, smooth))
        rounded = _best_pass(bare, smooth, wanted, part(progress, 0.6, 0.65))
        less = _missed(rounded, base, wanted)
        if less < missed:
            quads, missed, grids = rounded, less, grids[:1]
            base, solver = grids[0]
    for times in CLOSER_THERE if missed > MISSED else ():
        # Thinner than a step: both sides of it would fall together.
        aim = round(times * wanted)
        if aim - wanted > MORE * settings.quads:
            break
        for on, grid in grids:
            finer = _best_pass(on, grid, aim, part(progress, 0.65, 0.7))
            if missed > MISSED >= _missed(finer, on, aim):
                missed = 0.0
                quads, wanted, base, solver, length = finer, aim, on, grid, length / float(np.sqrt(times))
                notes.append(f"The part near {_told(base.mesh)} is thinner than a step; its steps were made closer.")
        if missed <= MISSED:
            break
    if had_creases and not len(base.creases):
        notes.append(f"Sharp edges near {_told(base.mesh)} lie too close for this number of quads; they were rounded.")
    for girth in (GIRTH, 2.0 * GIRTH):
        if quads is not None:
            break
        cut_up, cut = _without_handles(base, girth * length)
        if cut == 0:
            continue
        grid = _solver(cut_up, length, settings, guides, painted_on(cut_up), part(progress, 0.6, 0.65), unwatched)
        quads = _best_pass(cut_up, grid, wanted, part(progress, 0.65, 0.7))
        if quads is not None:
            base, solver = cut_up, grid
            what = f"{_several(cut, 'handle')} near {_told(base.mesh)} {'was' if cut == 1 else 'were'} cut"
            notes.append(f"{what}, as rows of quads do not fit through; for them ask for more quads.")
    gridded = quads is not None
    if quads is None:
        notes.append(
            f"The grid could not be laid cleanly near {_told(base.mesh)}; a coarser one was split there instead."
        )
        quads = _split_route(base, solver, 2.0 * length, wanted)
    progress(0.7, "relaxing the quads on the source")

    def fit(raw: PolyMesh) -> PolyMesh:
        return least_folded(fitted(raw, base, surface, painted is not None, guides, tick=tick), raw, surface)

    laid = fit(quads)
    if gridded:
        # The first result can be looked at while ends are sought and rows closed.
        watch(laid.points[laid.topology.edge_points])
        laid, solver = _with_missed(laid, base, solver, wanted, length, fit, part(progress, 0.7, 0.75))
    laid = _whole(laid, base, surface, wanted, notes)

    def held(short: PolyMesh) -> PolyMesh:
        return ends_held(short, base, surface, eyes, tick)

    def ease(skewed: PolyMesh) -> PolyMesh:
        return skewed if guides or painted is not None else eased(skewed, base, surface, eyes, tick)

    fitted_so = laid
    if settings.rows > 0 and gridded and laid.n_faces >= FEW:
        # Painted steps are to differ as painted: the closer rows close, the more they even out.
        close = settings.rows if painted is None else min(settings.rows, PAINTED)
        over = Over(base, surface, guides, Ends(held, eyes, ease), wanted, close, painted is not None, tick)
        laid = closed(laid, lambda n, tell: _best_pass(base, solver, n, lambda _, what: tell(what)), over, part(progress, 0.75, 1.0))
    if not guides and laid is fitted_so:
        # Closed rows were opened before they were judged, and then pulled to their ends.
        laid = opened(laid, surface, np.zeros(laid.n_points, bool), lines_over(laid, base))
    if laid.is_quads:
        laid = held(laid)
        if not guides:
            laid = opened_still(laid, base, surface, eyes, tick)
        laid = ease(laid)
    return laid, int((solver.field.index != 0).sum())


def _without_handles(base: Base, girth: float) -> tuple[Base, int]:
    """A part with handles cut that a length goes round, the cuts closed, and how many those were: noise on scans, which a grid folds
    together. Its creases are rounded."""
    points, triangles, cut = handles_cut(base.mesh.points, base.mesh.triangle_points, girth)
    if cut == 0:
        return base, 0
    points, triangles = sheets_parted(*without_pinholes(points, triangles, 1.01 * girth)[:2])
    count, labels = face_parts(PolyMesh.from_faces(points, triangles))
    if count > 1:
        # What a cut takes off altogether was no more than a fold.
        points, triangles = compact(points, triangles[labels == np.bincount(labels).argmax()])
    nothing = sorted_pairs(np.zeros((0, 2)))
    # On itself, or the caps would be drawn to the walls.
    mesh = evened(points, triangles, nothing, Bvh.build(points, triangles))
    return replace(base, mesh=mesh, creases=nothing), cut


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
        quads = _best_pass(base, finer, wanted, progress)
        again = None if quads is None else fit(quads)
        if again is not None and farthest(again, base.mesh) < 0.7 * lost and fold_count(again) <= fold_count(laid):
            laid, solver = again, finer
    return laid, solver


PAINTED = 0.5
"""How much rows are made to close at most where density is painted."""
FEW = 60
"""Quads under which a part's rows are left as they are."""


MISSED = 0.02
"""Share of a part's area that quads may leave uncovered before a plain split of it is tried."""


def _missed(quads: PolyMesh | None, base: Base, wanted: int) -> float:
    """Share of a part that quads leave uncovered, all of it where there are none or far too few."""
    if quads is None or quads.n_faces < SPARSE * wanted:
        return 1.0
    return uncovered_share(base.mesh.points, base.mesh.triangle_points, [quads], 1000)


PLAIN = (3.0, 2.5, 2.0, 3.5)
"""Of how many quads a triangle of a plain split makes one, until none is folded: each is split in three."""


def _whole(laid: PolyMesh, base: Base, surface: Bvh, wanted: int, notes: list[str]) -> PolyMesh:
    """Quads over a part, or where they leave some of it uncovered or are far too few, a plain split of its triangles if
    that does better."""
    points, triangles = base.mesh.points, base.mesh.triangle_points
    missed = _missed(laid, base, wanted)
    if missed <= MISSED:
        return laid
    best: PolyMesh | None = None
    for triple in PLAIN:
        coarse = simplify(points, triangles, max(round(wanted / triple), 4))
        plain = split_to_quads(PolyMesh.from_faces(*coarse))
        plain = plain.with_points(surface.project(plain.points))
        if len(plain.topology.nonmanifold_edges) or uncovered_share(points, triangles, [plain], 1000) > max(missed, MISSED):
            continue
        plain = opened(plain, surface, np.zeros(plain.n_points, bool))
        if best is None or fold_count(plain) < fold_count(best):
            best = plain
        if fold_count(best) == 0:
            break
    if best is None:
        return laid
    notes.append(f"No grid covers the part near {_told(base.mesh)} whole; its triangles were split there instead.")
    return best


def _told(mesh: PolyMesh) -> str:
    return "({:.3g}, {:.3g}, {:.3g})".format(*mesh.points.mean(axis=0))


def _solver(
    base: Base, length: float, settings: AutoSettings, guides: list[Guide], painted: Floats | None, progress: Progress,
    watch: Watch,
) -> GridSolver:  # fmt: skip
    """A grid's solver over a base."""
    soft = soft_pull(base.mesh, [g for g in guides if not g.hard], 2.5 * length)
    ways = line_ways(base.mesh, base.creases, JAGS * length)
    field = smooth_field(base.mesh, base.creases, settings.alignment, soft, ways)
    field = without_pairs(base.mesh, field, base.creases, PAIR_REACH * length)
    field = opened_corners(base.mesh, field, base.creases, length)
    watch(field_strokes(base.mesh, field, 0.35 * length))
    density = crease_density(base, length, settings.form)
    return GridSolver(base.mesh, field, cut_mesh(base.mesh, field), base.creases, progress, density, ways=ways,
                      painted=painted)  # fmt: skip


def _counted(tears: Tears) -> str:
    rows = ((tears.borders, "hole"), (tears.handles, "handle"), (tears.flaps, "folded face"))
    return ", ".join(_several(n, what) for n, what in rows if n)


def _several(count: int, what: str) -> str:
    return f"{count:,} {what}{'' if count == 1 else 's'}"


def _notes_on(base: Base) -> list[str]:
    out = []
    if base.mended is not None and base.tears is not None:
        holes, handles = base.mended
        done = " and ".join(f"{_several(n, what)} {verb}" for n, what, verb in ((holes, "hole", "closed"), (handles, "handle", "cut")) if n)
        out.append(f"The source is torn ({_counted(base.tears)}), so the quads were laid on its outside alone{', with ' + done if done else ''}.")
    elif base.tears is not None:
        out.append(
            f"The source is torn ({_counted(base.tears)}), so the quads were laid on a closed skin over it; look at the gap to the source where holes were."
        )
    if base.pinholes:
        out.append(f"{_several(base.pinholes, 'hole')} smaller than a quad {'was' if base.pinholes == 1 else 'were'} closed; for an edge round "
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


MEANT = 0.02
"""Share by which there may be more or fewer quads than wanted."""


def _best_pass(base: Base, solver: GridSolver, wanted: int, progress: Progress) -> PolyMesh | None:
    """Extract with a few step lengths, aiming at the wanted number; the nearest one that is sound, None without."""
    area = float(face_areas(base.mesh).sum())
    euler = euler_characteristic(base.mesh)
    length = float(np.sqrt(area / wanted))
    best: PolyMesh | None = None
    best_score = np.inf
    tries = 9 if solver.n_free <= MANY else 3
    for attempt in range(tries):
        grid = solver.solve(length, part(progress, attempt / tries, (attempt + 1) / tries))
        mesh = extract_quads(base.mesh, grid)
        score = _score(mesh, wanted, euler)
        if score < best_score:
            best, best_score = mesh, score
        if best_score < MEANT or (attempt >= 4 and best_score < 0.1):
            break
        ratio = mesh.n_faces / wanted
        if abs(ratio - 1) > MEANT:
            length *= float(np.clip(np.sqrt(ratio), 0.7, 1.4))
        else:
            # Near enough but not sound: a slightly other step rounds to another grid.
            length *= (0.985, 1.03, 0.955, 1.06)[attempt % 4]
    return best if best_score < 1000 else None


def sound(mesh: PolyMesh, euler: int) -> bool:
    """Whether a mesh is of quads only, manifold, of the wanted Euler characteristic and without repeated points."""
    return mesh.n_faces > 0 and _score(mesh, mesh.n_faces, euler) < 1000


def _score(mesh: PolyMesh, wanted: int, euler: int) -> float:
    """Distance from the wanted number, plus a thousand when the mesh is not sound."""
    if mesh.n_faces == 0:
        return np.inf
    broken = (
        not mesh.is_quads
        or len(mesh.topology.nonmanifold_edges) > 0
        or euler_characteristic(mesh) != euler
        or _repeats_a_point(mesh)
    )
    return abs(mesh.n_faces / wanted - 1) + 1000.0 * broken


def _repeats_a_point(mesh: PolyMesh) -> bool:
    rows = np.sort(mesh.corners.reshape(-1, 4), axis=1)
    return bool((rows[:, 1:] == rows[:, :-1]).any())


def _split_route(base: Base, solver: GridSolver, length: float, wanted: int) -> PolyMesh:
    """The grid at twice the step, whatever odd faces it has, with every face split into quads.

    If even that is unsound, the base mesh itself is split: always quads, never pretty.
    """
    euler = euler_characteristic(base.mesh)
    best: PolyMesh | None = None
    first = length
    for attempt in range(10 if solver.n_free <= MANY else 3):
        mesh = split_to_quads(extract_quads(base.mesh, solver.solve(length)))
        whole = sound(mesh, euler)
        if whole and (best is None or abs(mesh.n_faces - wanted) < abs(best.n_faces - wanted)):
            best = mesh
        if best is not None and abs(best.n_faces / wanted - 1) < 0.03:
            break
        near = float(np.clip(np.sqrt(mesh.n_faces / wanted), 0.8, 1.25))
        length = length * near if whole and abs(near - 1) > 0.01 else first * (0.97, 1.03, 0.9, 1.1, 0.84)[attempt % 5]
    if best is not None:
        return best
    coarse = simplify(base.mesh.points, base.mesh.triangle_points, max(wanted // 3, 8))
    return split_to_quads(PolyMesh.from_faces(*coarse))
