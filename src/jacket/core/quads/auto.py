"""The automatic result: from a source and a wanted number of quads to a trial."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.fit.tidy import levelled
from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.quads.covering import covered
from jacket.core.quads.figures import QuadFigures, measure_quads
from jacket.core.quads.settings import AutoSettings
from jacket.core.quads.steering import Guide, Paint, checked_guide, dense_guide, doubled, half_of
from jacket.core.source.weld import welded_triangles
from jacket.core.space.bvh import Bvh
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent

__all__ = ["AutoResult", "AutoSettings", "QuadFigures", "automatic_quads", "measure_quads", "quads_within_gap"]


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
        quads, singular = covered(source, surface, wanted, area, settings, guides, notes, progress)
    progress(0.95, "measuring the result")
    figures = measure_quads(quads, source, surface)
    notes += guide_notes(quads, guides, surface)
    return AutoResult(quads, figures, singular, tuple(notes))


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
    quads, singular = covered(half, surface, aim, float(face_areas(half).sum()), replace(settings, spots=spots, paint=paint), own,
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
