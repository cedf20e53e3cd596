"""The automatic result: from a source and a wanted number of quads to a trial."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.fit.relax import lines_of, relaxed, untangled
from jacket.core.fit.tidy import levelled
from jacket.core.mesh.geometry import edge_lengths, face_areas, scaled_jacobian, unit
from jacket.core.mesh.lifted import with_lifted
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.base import Base, make_base
from jacket.core.quads.clusters import untied
from jacket.core.quads.curvature import form_density
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.extract import extract_quads
from jacket.core.quads.field import smooth_field
from jacket.core.quads.gridmap import MANY, GridSolver
from jacket.core.quads.pairs import without_pairs
from jacket.core.quads.steering import (
    Guide,
    Paint,
    Spot,
    checked_guide,
    dense_guide,
    doubled,
    face_density,
    half_of,
    soft_pull,
)
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.source.weld import welded_triangles
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import gap
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent


@dataclass(frozen=True)
class AutoSettings:
    """quads wanted; sharp: degrees above which an edge is a crease (180 for none); alignment: how strongly curvature
    leads the flow, 0..1; form: how much closer the steps are in bends, 0..1; edge: a wanted edge length in place of a number, 0 for none; mirror: "", "x", "y" or "z";
    guides and spots of density; skin: whether a torn scan is laid on a closed skin first."""

    quads: int = 2000
    sharp: float = 38.0
    alignment: float = 0.15
    form: float = 0.6
    edge: float = 0.0
    mirror: str = ""
    guides: tuple[Guide, ...] = ()
    spots: tuple[Spot, ...] = ()
    paint: Paint | None = None
    skin: bool = True


@dataclass(frozen=True)
class QuadFigures:
    """Measures of a jacket against its source, as defined in the report's documentation."""

    quads: int
    not_quads: int
    irregular_percent: float
    nonmanifold_edges: int
    open_edges: int
    euler: int
    jacobian_mean: float
    jacobian_p1: float
    jacobian_least: float
    folded: int
    gap_out_mean: float
    gap_out_largest: float
    gap_in_mean: float
    gap_in_largest: float

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a JSON report."""
        return asdict(self)


@dataclass(frozen=True, eq=False)
class AutoResult:
    """mesh; its figures; singular points of the field; what had to be changed, as sentences."""

    mesh: PolyMesh
    figures: QuadFigures
    field_singularities: int
    notes: tuple[str, ...]


def automatic_quads(
    source: PolyMesh, settings: AutoSettings, progress: Progress = silent, surface: Bvh | None = None
) -> AutoResult:
    """Cover a source with about the wanted number of quads; the same input gives the same bytes.

    Raises MeshError when the source has no area or fewer than 12 quads are asked for.
    """
    area = float(face_areas(source).sum()) if source.n_faces else 0.0
    if not area > 0:
        raise MeshError("The source has no surface to cover; open a mesh with faces.")
    wanted = settings.quads if settings.edge <= 0 else max(round(area / settings.edge**2), 12)
    if wanted < 12:
        raise MeshError(f"{wanted} quads cannot cover a form; ask for 12 or more.")
    surface = surface or Bvh.build(source.points, source.triangle_points)
    guides = [checked_guide(g, surface) for g in settings.guides]
    notes: list[str] = []
    if settings.mirror:
        quads, singular = _mirrored(source, surface, wanted, settings, guides, notes, progress)
    else:
        quads, singular = _covered(source, surface, wanted, area, settings, guides, notes, progress)
    progress(0.95, "measuring the result")
    figures = measure_quads(quads, source, surface)
    notes += guide_notes(quads, guides, surface)
    return AutoResult(quads, figures, singular, tuple(notes))


def _covered(
    source: PolyMesh, surface: Bvh, wanted: int, area: float, settings: AutoSettings, guides: list[Guide],
    notes: list[str], progress: Progress,
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over a surface, and how many singular points their field has."""
    light = int(np.clip(7.5 * wanted, 8_000, 60_000))
    base = make_base(source, surface, light, area / wanted, settings.sharp, part(progress, 0, 0.35), guides,
                     settings.skin)  # fmt: skip
    progress(0.35, "combing the flow over the surface")
    length = float(np.sqrt(area / wanted))
    soft = soft_pull(base.mesh, [g for g in guides if not g.hard], 2.5 * length)
    field = smooth_field(base.mesh, base.creases, settings.alignment, soft)
    field = without_pairs(base.mesh, field, base.creases, PAIR_REACH * length)
    painted = face_density(base.mesh, settings.spots, settings.paint)
    density = _density(base, length, settings.form, painted)
    solver = GridSolver(base.mesh, field, cut_mesh(base.mesh, field), base.creases, part(progress, 0.4, 0.6), density)
    notes += _notes_on(base)
    quads = _best_pass(base, solver, wanted, notes, part(progress, 0.6, 0.8))
    progress(0.8, "relaxing the quads on the source")
    singular = int((field.index != 0).sum())
    if base.bridge is None or len(base.bridge[1]) == 0:
        return _fitted(quads, base, surface, painted is not None), singular
    # Over holes the quads lie on the skin; laid onto the scan they would all fall to the rims.
    points, triangles = base.bridge
    both = Bvh.build(
        np.concatenate([surface.points, points]), np.concatenate([surface.triangles, triangles + len(surface.points)])
    )
    quads = _fitted(quads, base, both, painted is not None)
    off = surface.closest(quads.points)[2] > 1e-7 * float(np.linalg.norm(np.ptp(surface.points, axis=0)))
    return with_lifted(quads, np.flatnonzero(off)), singular


PAIR_REACH = 2.0
"""Steps apart up to which two singular points that undo one another are taken out: those cost no gap that shows."""


def _density(base: Base, length: float, form: float, painted: Floats | None) -> Floats | None:
    """(F,) density of the steps by form and paint together, None where both are even."""
    if form <= 0:
        return painted
    at_crease = np.zeros(base.mesh.n_points, bool)
    at_crease[base.creases.ravel()] = True
    left_out = at_crease[base.mesh.triangle_points].any(axis=1)
    density = form_density(base.mesh, length, form, left_out)
    return density if painted is None else density * painted


def _mirrored(
    source: PolyMesh, surface: Bvh, wanted: int, settings: AutoSettings, guides: list[Guide], notes: list[str],
    progress: Progress,
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over the positive side of the mirror plane and their image, welded along it: points come in exact pairs,
    and the plane is a row of edges."""
    axis = "xyz".index(settings.mirror)
    welded, triangles = welded_triangles(source)
    half = PolyMesh.from_faces(*half_of(welded, triangles, axis))
    share = float(face_areas(half).sum() / face_areas(source).sum())
    own = [Guide(np.where(np.arange(3) == axis, np.abs(g.points), g.points), g.hard, g.closed) for g in guides]
    spots = tuple(replace(s, place=tuple(abs(v) if k == axis else v for k, v in enumerate(s.place)))  # type: ignore[arg-type]
                  for s in settings.spots)  # fmt: skip
    paint = settings.paint
    if paint is not None:
        own_side = paint.places[:, axis] >= 0
        paint = Paint(paint.places[own_side], paint.values[own_side])
    aim = max(wanted // 2, 12)
    quads, singular = _covered(half, surface, aim, float(face_areas(half).sum()), replace(settings, spots=spots, paint=paint), own,
                               notes, progress)  # fmt: skip
    step = float(np.sqrt(face_areas(quads).sum() / max(quads.n_faces, 1)))
    on = _in_plane(quads, axis, 0.2 * step)
    points = quads.points.copy()
    if on.any():
        points = levelled(points, np.flatnonzero(on), axis, 0.0, surface)
    # What relaxing carried over the plane comes back to its own side.
    over = (points[:, axis] <= 0) & ~on
    points[over, axis] = 1e-3 * step
    points[over] = surface.project(points[over])
    points[over, axis] = np.maximum(points[over, axis], 1e-6 * step)
    if not on.any():
        notes.append("The source does not meet the mirror plane; its mirror image was put beside it.")
    if abs(share - 0.5) > 0.02:
        notes.append(f"The positive side holds {100 * share:.0f} % of the source; only it was covered and mirrored.")
    return doubled(quads.with_points(points), on, axis), 2 * singular


def _in_plane(quads: PolyMesh, axis: int, reach: float) -> Bools:
    """(V,) border points that lie in the mirror plane: those of border edges both of whose ends are near it."""
    topology = quads.topology
    near = np.abs(quads.points[:, axis]) < reach
    ends = topology.edge_points[topology.border_edges]
    out = np.zeros(quads.n_points, bool)
    out[ends[near[ends].all(axis=1)]] = True
    return out


def guide_notes(quads: PolyMesh, guides: Sequence[Guide], surface: Bvh) -> list[str]:
    """What became of each guide: the share of a hard one that edges carry, and irregular points beside any."""
    if not guides or quads.n_faces == 0:
        return []
    topology = quads.topology
    odd = np.flatnonzero((topology.valence > 0) & ~topology.border_points & (topology.valence != 4))
    step = float(np.median(edge_lengths(quads)))
    out = []
    for k, guide in enumerate(guides):
        line = dense_guide(guide, 0.1 * step)
        beside = int((cKDTree(line).query(quads.points[odd])[0] < 1.5 * step).sum()) if len(odd) else 0
        text = f"Guide {k + 1}: {beside} irregular points beside it"
        if guide.hard:
            text += f", {100 * carried_share(quads, line, surface, step):.0f} % carried by edges"
        out.append(text + ".")
    return out


def quads_within_gap(
    source: PolyMesh, settings: AutoSettings, most: float, progress: Progress = silent, surface: Bvh | None = None
) -> AutoResult:
    """The smallest number of quads found whose largest gap from the jacket to the source is at most `most` % of the
    diagonal: the gap falls about as the number rises, so each trial tells the next. Keeps the nearest where four trials
    do not reach it, with a note."""
    surface = surface or Bvh.build(source.points, source.triangle_points)
    best: AutoResult | None = None
    for attempt in range(4):
        result = automatic_quads(source, settings, part(progress, attempt / 4, (attempt + 1) / 4), surface)
        gap_now = result.figures.gap_out_largest
        if best is None or _gap_rank(result, most) < _gap_rank(best, most):
            best = result
        if 0.75 * most <= gap_now <= most or (gap_now < most and settings.quads <= 24):
            break
        settings = replace(
            settings, edge=0.0, quads=int(np.clip(result.figures.quads * gap_now / most * 1.08, 12, 60_000))
        )
    assert best is not None
    if best.figures.gap_out_largest > most:
        best = replace(best, notes=(*best.notes, f"A largest gap of {most:g} % was not reached; the nearest is kept."))
    return best


def _gap_rank(result: AutoResult, most: float) -> tuple[bool, float]:
    """Those within the gap first, of them the lightest; of the others the nearest."""
    inside = result.figures.gap_out_largest <= most
    return not inside, float(result.figures.quads) if inside else result.figures.gap_out_largest


def carried_share(quads: PolyMesh, line: Floats, surface: Bvh, step: float) -> float:
    """Share of places along a line (K, 3) on a surface that an edge of the mesh, laid onto the surface, passes within
    5 % of the step: an edge is a chord, and over a bump it lies off the line by more without being beside it."""
    ends = quads.points[quads.topology.edge_points]
    near = cKDTree(line).query(ends.mean(axis=1))[0] < 1.5 * step
    ends = ends[near]
    if len(ends) == 0:
        return 0.0
    share = np.linspace(0, 1, 9)[None, :, None]
    path = ends[:, :1] + share * (ends[:, 1:] - ends[:, :1])
    path = surface.project(path.reshape(-1, 3)).reshape(path.shape)
    pieces = np.stack([path[:, :-1], path[:, 1:]], axis=2).reshape(-1, 2, 3)
    far = Bvh.of_segments(pieces).closest(line)[2]
    return float((far <= 0.05 * step).mean())


def _notes_on(base: Base) -> list[str]:
    out = []
    if base.tears is not None:
        out.append(
            f"The source is torn ({base.tears.borders} holes, {base.tears.handles} handles), so the quads were laid on a "
            "closed skin over it; look at the gap to the source where holes were."
        )
    if base.dropped_parts:
        out.append(
            f"{base.dropped_parts} loose parts smaller than twelve quads were left out ({base.dropped_faces} triangles)."
        )
    return out


def _best_pass(base: Base, solver: GridSolver, wanted: int, notes: list[str], progress: Progress) -> PolyMesh:
    """Extract with a few step lengths, aiming at the wanted number; keep the soundest nearest one."""
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
        if best_score < 0.03 or (attempt >= 4 and best_score < 0.1):
            break
        ratio = mesh.n_faces / wanted
        if abs(ratio - 1) > 0.03:
            length *= float(np.clip(np.sqrt(ratio), 0.7, 1.4))
        else:
            # Near enough but not sound: a slightly other step rounds to another grid.
            length *= (0.985, 1.03, 0.955, 1.06)[attempt % 4]
    if best is None or best_score >= 1000:
        notes.append("The grid could not be laid cleanly at this number; a coarser one was split instead.")
        return _split_route(base, solver, 2.0 * float(np.sqrt(area / wanted)), wanted)
    return best


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
        sound = mesh.n_faces > 0 and _score(mesh, mesh.n_faces, euler) < 1000
        if sound and (best is None or abs(mesh.n_faces - wanted) < abs(best.n_faces - wanted)):
            best = mesh
        if best is not None and abs(best.n_faces / wanted - 1) < 0.03:
            break
        near = float(np.clip(np.sqrt(mesh.n_faces / wanted), 0.8, 1.25))
        length = length * near if sound and abs(near - 1) > 0.01 else first * (0.97, 1.03, 0.9, 1.1, 0.84)[attempt % 5]
    if best is not None:
        return best
    from jacket.core.source.simplify import simplify

    coarse = simplify(base.mesh.points, base.mesh.triangle_points, max(wanted // 3, 8))
    return split_to_quads(PolyMesh.from_faces(*coarse))


def _fitted(quads: PolyMesh, base: Base, surface: Bvh, graded: bool = False) -> PolyMesh:
    """Relax on the source with crease and border points sliding on their lines."""
    step = float(np.sqrt(face_areas(base.mesh).sum() / max(quads.n_faces, 1)))
    topology = base.mesh.topology
    pairs = np.concatenate([base.creases, topology.edge_points[topology.border_edges]])
    segments, bends = base.mesh.points[pairs], _line_corners(base.mesh, pairs)
    lines = lines_of(quads, segments, bends, 0.02 * step)
    if quads.is_quads:
        quads = untied(quads, np.zeros(quads.n_points, bool) if lines is None else lines.sliding | lines.fixed)
        lines = lines_of(quads, segments, bends, 0.02 * step)
    # Where density is painted sizes are meant to differ; evening them would wash it out.
    evenness = 0.0 if graded else 0.2
    quads = relaxed(quads, surface, 25 if graded else 60, lines=lines, evenness=evenness, mending=10.0)
    far = _face_gaps(quads, surface) / step
    sizes = np.clip(np.sqrt(MOST_OFF / np.maximum(far, 1e-9)), 0.6, 1.0)
    quads = relaxed(quads, surface, 10 if graded else 20, lines=lines, evenness=evenness, mending=10.0, sizes=sizes)
    quads = untangled(quads, surface, lines)
    # What sliding on lines cannot open is let off them; a fold is worse than a soft edge.
    quads = untangled(quads, surface, None)
    free = np.ones(quads.n_points, bool) if lines is None else ~(lines.sliding | lines.fixed)
    points = quads.points.copy()
    points[free] = surface.project(points[free])
    points[~free] = surface.project(points[~free])
    return quads.with_points(points)


MOST_OFF = 0.4
"""Steps off the surface over which a quad bridges more than it should: it is made smaller, and its neighbours larger."""


def _face_gaps(quads: PolyMesh, surface: Bvh) -> Floats:
    """(F,) how far the centre and the middles of the edges of each quad lie off the surface, the largest."""
    ring = quads.points[quads.as_quads()]
    places = np.concatenate([ring.mean(axis=1), *(0.5 * (ring[:, k] + ring[:, k - 1]) for k in range(4))])
    return np.asarray(surface.closest(places)[2].reshape(5, -1).max(axis=0))


def _line_corners(mesh: PolyMesh, pairs: Any) -> Floats:
    """(K, 3) ends, forks and bends of over 45° of a set of edges."""
    if len(pairs) == 0:
        return np.zeros((0, 3))
    degree = np.bincount(pairs.ravel(), minlength=mesh.n_points)
    both = np.concatenate([pairs, pairs[:, ::-1]])
    along = unit(mesh.points[both[:, 1]] - mesh.points[both[:, 0]])
    total = np.stack([np.bincount(both[:, 0], along[:, k], minlength=mesh.n_points) for k in range(3)], axis=1)
    # Two unit vectors that leave a straight point cancel; at 45° of bend their sum is 0.77 long.
    bent = (degree == 2) & (np.linalg.norm(total, axis=1) > 0.77)
    return mesh.points[((degree > 0) & (degree != 2)) | bent]


def measure_quads(mesh: PolyMesh, source: PolyMesh, surface: Bvh) -> QuadFigures:
    """Every figure of a jacket over a source; gaps are in % of the source's diagonal."""
    topology = mesh.topology
    inner = (topology.valence > 0) & ~topology.border_points
    odd = inner & (topology.valence != 4)
    least = scaled_jacobian(mesh)
    own = Bvh.build(mesh.points, mesh.triangle_points)
    out = gap(mesh.points, mesh.triangle_points, surface, source.diagonal)
    back = gap(source.points, source.triangle_points, own, source.diagonal)
    quads = int((mesh.sizes == 4).sum())
    return QuadFigures(
        quads=quads,
        not_quads=mesh.n_faces - quads,
        irregular_percent=100.0 * float(odd.sum()) / max(int(inner.sum()), 1),
        nonmanifold_edges=len(topology.nonmanifold_edges),
        open_edges=len(topology.border_edges),
        euler=euler_characteristic(mesh),
        jacobian_mean=float(least.mean()),
        jacobian_p1=float(np.percentile(least, 1)),
        jacobian_least=float(least.min()),
        folded=int((least <= 0).sum()),
        gap_out_mean=out.mean,
        gap_out_largest=out.largest,
        gap_in_mean=back.mean,
        gap_in_largest=back.largest,
    )
