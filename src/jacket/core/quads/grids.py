"""The grid over a part: even steps along a field, and what is tried where none fits or one leaves much out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from jacket.core.mesh.geometry import face_areas, face_centres, face_normals
from jacket.core.mesh.polymesh import Floats, PolyMesh, sorted_pairs
from jacket.core.mesh.unique import unique_rows
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.quads.base import Base, evened, without_pinholes
from jacket.core.quads.curvature import form_density
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.extract import extract_quads
from jacket.core.quads.field import Field, smooth_field
from jacket.core.quads.fitting import fitted
from jacket.core.quads.gridmap import MANY, GridSolver
from jacket.core.quads.lines import JAGS, line_ways, opened_corners
from jacket.core.quads.pairs import without_pairs
from jacket.core.quads.settings import AutoSettings
from jacket.core.quads.slender import carried, stout
from jacket.core.quads.steering import Guide, face_density, soft_pull
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.quads.torn import GIRTH
from jacket.core.source.simplify import simplify
from jacket.core.source.weld import compact
from jacket.core.source.whole import handles_cut, sheets_parted
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import uncovered_share
from jacket.errors import SolveError
from jacket.progress import Progress, part

SPARSER = 1.25
PAIR_REACH = 2.3
"""Steps apart up to which two singular points that undo one another are taken out: those cost no gap that shows."""


CLOSER_THERE, MORE = (2.0, 4.0, 8.0), 0.1
"""How many times the quads wanted a part may get where it is thinner than a step, if that adds no more than such a share to all."""
SPARSE = 0.6
"""Share of the quads wanted of a part below which a grid counts as none."""
MISSED = 0.02
"""Share of a part's area that quads may leave uncovered before a plain split of it is tried."""


def missed_by(quads: PolyMesh | None, base: Base, wanted: int) -> float:
    """Share of a part that quads leave uncovered, all of it where there are none or far too few."""
    if quads is None or quads.n_faces < SPARSE * wanted:
        return 1.0
    return uncovered_share(base.mesh.points, base.mesh.triangle_points, [quads], 1000)


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


@dataclass(frozen=True, eq=False)
class Grid:
    """Quads of a grid over a part, None where there is no sound one, with the base it lies on, its solver, how many were wanted in the
    end and their step, what share of the part they leave out, and whether they were drawn out, and are fitted already."""

    base: Base
    solver: GridSolver
    quads: PolyMesh | None
    wanted: int
    length: float
    missed: float
    drawn_out: bool = False


def painted_on(base: Base, settings: AutoSettings) -> Floats | None:
    """(F,) painted density of the steps, None where none is painted."""
    painted = face_density(base.mesh, settings.spots, settings.paint)
    # Relaxing evens steps that differ, most where they are long: 0.50 would end as 0.57.
    return None if painted is None else np.where(painted < 1, painted**SPARSER, painted)


def grid_for(
    base: Base, wanted: int, length: float, settings: AutoSettings, guides: list[Guide], notes: list[str], progress: Progress, watch: Watch
) -> Grid:
    """The grid over a part. Where it leaves much out, sharp edges are rounded, quads of thin limbs drawn out, or its steps made closer;
    where there is none, handles are cut that no row fits through."""

    def laid(on: Base, begin: float, look: Watch) -> Grid:
        step = 0.35 if on is base else 0.05
        solver = _solver(on, length, settings, guides, part(progress, begin, begin + step), look)
        quads = best_pass(on, solver, wanted, part(progress, begin + step, 0.7 if on is base else begin + 2 * step))
        return Grid(on, solver, quads, wanted, length, missed_by(quads, on, wanted))

    progress(0.0, "combing the flow over the surface")
    grid = laid(base, 0.05, watch)
    tried = [grid]
    if len(base.creases) and grid.missed > MISSED:
        # Along edges closer than a step to one another nothing fits.
        rounded = laid(replace(base, creases=sorted_pairs(np.zeros((0, 2)))), 0.5, unwatched)
        tried = [rounded] if rounded.missed < grid.missed else [rounded, grid]
        grid = min(grid, rounded, key=lambda one: one.missed)
    if grid.missed > MISSED:
        long = _drawn_out(tried[0].base, wanted, length, settings, guides, part(progress, 0.55, 0.6))
        if long is not None and long.missed <= MISSED:
            notes.append(f"The part near {told(base.mesh)} is thinner than a step; its quads were drawn out.")
            grid = long
    grid = _closer(grid, tried, settings, notes, part(progress, 0.6, 0.65))
    for girth in (GIRTH, 2.0 * GIRTH) if grid.quads is None else ():
        cut_up, cut = _without_handles(grid.base, girth * length)
        opened_up = laid(cut_up, 0.6, unwatched) if cut else grid
        if opened_up.quads is not None:
            what = f"{several(cut, 'handle')} near {told(base.mesh)} {'was' if cut == 1 else 'were'} cut"
            notes.append(f"{what}, as rows of quads do not fit through; for them ask for more quads.")
            grid = opened_up
            break
    # Cutting handles rounds them too.
    if len(base.creases) and not len(grid.base.creases):
        notes.append(f"Sharp edges near {told(base.mesh)} lie too close for this number of quads; they were rounded.")
    return grid


def _drawn_out(
    base: Base, wanted: int, length: float, settings: AutoSettings, guides: list[Guide], progress: Progress
) -> Grid | None:  # fmt: skip
    """The grid over a thicker form of a part, fitted there, and back on the part; None where the part is hardly thinner than a step."""
    found = stout(base.mesh, wanted)
    if found is None:
        return None
    form, step = found
    thick = replace(base, mesh=form, outside=None, asked=form.points)
    try:
        solver = _solver(thick, step, settings, guides, part(progress, 0.0, 0.5), unwatched)
    except SolveError:
        # The grid over the part itself may still do.
        return None
    quads = best_pass(thick, solver, wanted, part(progress, 0.5, 1.0))
    if quads is not None:
        # Where it is thin relaxing draws long quads back from the ends of a limb.
        quads = carried(fitted(quads, thick, Bvh.build(form.points, form.triangle_points), painted_on(base, settings) is not None), form, base.mesh)
    return Grid(base, solver, quads, wanted, length, missed_by(quads, base, wanted), drawn_out=True)


def _closer(grid: Grid, tried: list[Grid], settings: AutoSettings, notes: list[str], progress: Progress) -> Grid:
    """A grid with closer steps where one leaves much of a part out that is thinner than a step: both sides of it would fall together."""
    for times in CLOSER_THERE if grid.missed > MISSED else ():
        aim = round(times * grid.wanted)
        if aim - grid.wanted > MORE * settings.quads:
            break
        for one in tried:
            finer = best_pass(one.base, one.solver, aim, progress)
            missed = missed_by(finer, one.base, aim)
            if missed <= MISSED:
                notes.append(f"The part near {told(one.base.mesh)} is thinner than a step; its steps were made closer.")
                return Grid(one.base, one.solver, finer, aim, grid.length / float(np.sqrt(times)), missed)
    return grid


def _without_handles(base: Base, girth: float) -> tuple[Base, int]:
    """A part with handles cut that a length goes round, the cuts closed, and how many those were: noise on scans, which a grid folds
    together. Its creases are rounded."""
    points, triangles, cut = handles_cut(base.mesh.points, base.mesh.triangle_points, girth)
    if cut == 0:
        return base, 0
    points, triangles = sheets_parted(*without_pinholes(points, triangles, 1.01 * girth)[:2])
    count, labels = face_parts(PolyMesh.from_faces(points, triangles))
    if count > 1:
        # What a cut takes off altogether may be no more than a fold.
        largest = labels == np.bincount(labels).argmax()
        if largest.mean() < 1.0 - MISSED:
            return base, 0
        points, triangles = compact(points, triangles[largest])
    nothing = sorted_pairs(np.zeros((0, 2)))
    # On itself, or the caps would be drawn to the walls.
    mesh = evened(points, triangles, nothing, Bvh.build(points, triangles))
    return replace(base, mesh=mesh, creases=nothing), cut


def told(mesh: PolyMesh) -> str:
    """Where a part lies."""
    return "({:.3g}, {:.3g}, {:.3g})".format(*mesh.points.mean(axis=0))


def several(count: int, what: str) -> str:
    """So many of something."""
    return f"{count:,} {what}{'' if count == 1 else 's'}"


def _solver(
    base: Base, length: float, settings: AutoSettings, guides: list[Guide], progress: Progress, watch: Watch
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
                      painted=painted_on(base, settings))  # fmt: skip


MEANT = 0.02
"""Share by which there may be more or fewer quads than wanted."""


def best_pass(base: Base, solver: GridSolver, wanted: int, progress: Progress) -> PolyMesh | None:
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


def split_route(base: Base, solver: GridSolver, length: float, wanted: int) -> PolyMesh:
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
