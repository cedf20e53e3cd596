"""The automatic result: from a source and a wanted number of quads to a trial."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.fit.tidy import levelled
from jacket.core.mesh.choosing import edge_paths
from jacket.core.mesh.geometry import edge_lengths, face_areas, face_centres
from jacket.core.mesh.poles import irregular_points
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.quads.covering import covered
from jacket.core.quads.figures import QuadFigures, eyes_on, measure_quads
from jacket.core.quads.grids import Watch, unwatched
from jacket.core.quads.settings import AutoSettings
from jacket.core.quads.steering import Guide, Paint, bridged, checked_guide, dense_guide, doubled, half_of
from jacket.core.source.weld import welded_triangles
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import places_seen, sample_surface
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent

__all__ = ["AutoResult", "AutoSettings", "QuadFigures", "automatic_quads", "measure_quads", "quads_within_gap"]


MOST_QUADS = 500_000
"""No trial has more; it would take an hour and most of the memory."""


@dataclass(frozen=True, eq=False)
class AutoResult:
    """mesh; its figures; singular points of the field; what had to be changed, as sentences."""

    mesh: PolyMesh
    figures: QuadFigures
    field_singularities: int
    notes: tuple[str, ...]


def automatic_quads(
    source: PolyMesh, settings: AutoSettings, progress: Progress = silent, surface: Bvh | None = None,
    watch: Watch = unwatched, unguided: PolyMesh | None = None,
) -> AutoResult:  # fmt: skip
    """Cover a source with about the wanted number of quads; the same input gives the same bytes.

    `watch` is shown short strokes (S, 2, 3) along the field before there are quads. Where there are guides they are told
    against the result without them: `unguided` if that is at hand, else it is made too.

    Raises MeshError when the source has no area or fewer than 12 quads are asked for.
    """
    area = _area(source)
    wanted = settings.quads if settings.edge <= 0 else max(round(area / settings.edge**2), 12)
    if wanted > MOST_QUADS:
        least = float(np.sqrt(area / MOST_QUADS))
        raise MeshError(f"Edges of {settings.edge:g} would make about {wanted:.2g} quads; choose {1.05 * least:.2g} or more.")
    if wanted < 12:
        raise MeshError(f"{wanted} quads cannot cover a form; ask for 12 or more.")
    surface = surface or Bvh.build(source.points, source.triangle_points)
    guides = [checked_guide(g, surface) for g in settings.guides]
    if not guides:
        return _laid(source, settings, wanted, guides, surface, progress, watch)
    result = _laid(
        source, settings, wanted, guides, surface, part(progress, 0.0, 0.95 if unguided is not None else 0.55), watch
    )
    return _told_of_guides(result, source, settings, guides, surface, unguided, part(progress, 0.55, 1.0))


def _area(source: PolyMesh) -> float:
    area = float(face_areas(source).sum()) if source.n_faces else 0.0
    if not area > 0:
        raise MeshError("The source has no surface to cover; open a mesh with faces.")
    return area


def _told_of_guides(
    result: AutoResult, source: PolyMesh, settings: AutoSettings, guides: list[Guide], surface: Bvh,
    unguided: PolyMesh | None, progress: Progress,
) -> AutoResult:  # fmt: skip
    if unguided is None:
        unguided = automatic_quads(source, settings.unguided(), progress, surface).mesh
    return replace(result, notes=(*result.notes, *guide_notes(result.mesh, guides, surface, unguided)))


def _laid(
    source: PolyMesh,
    settings: AutoSettings,
    wanted: int,
    guides: list[Guide],
    surface: Bvh,
    progress: Progress,
    watch: Watch,
) -> AutoResult:
    notes: list[str] = []
    own = guides + (marked_curves(source) if settings.marked else [])
    if settings.mirror:
        quads, singular = _mirrored(source, surface, wanted, settings, own, notes, progress, watch)
    else:
        area = float(face_areas(source).sum())
        quads, singular = covered(source, surface, wanted, area, settings, own, notes, progress, watch)
    progress(0.95, "measuring the result")
    figures = measure_quads(quads, source, surface)
    if figures.gap_in_largest > REACHED and quads.n_faces:
        notes.append(_left_out(quads, source, figures))
    return AutoResult(quads, figures, singular, _in_brief(notes))


REACHED = 1.5
"""How far in % of the diagonal a place of the source may lie off the quads before it counts as left out."""


def _left_out(quads: PolyMesh, source: PolyMesh, figures: QuadFigures) -> str:
    """What ends are left out: how much area, where the farthest is, and about what number would reach it, gaps going with
    the square of the step."""
    samples = sample_surface(source.points, source.triangle_points, 30_000)
    far = Bvh.build(quads.points, quads.triangle_points).closest(samples)[2] / source.diagonal * 100
    far[~places_seen(samples, far, lambda: eyes_on(source), source.diagonal)] = 0.0
    place = "({:.3g}, {:.3g}, {:.3g})".format(*samples[int(np.argmax(far))])
    share = 100.0 * float((far > REACHED).mean())
    number = max(round(figures.quads * figures.gap_in_largest / REACHED, -2), 100)
    return (f"{share:.2g} % of the source lies over {REACHED:g} % of its diagonal off the quads, farthest near {place}; about "
            f"{int(number):,} quads would reach it, or closer steps there (Density).")  # fmt: skip


def _in_brief(notes: list[str]) -> tuple[str, ...]:
    """Notes of which those that say the same of several places are told once, with how many more there are."""
    kinds: dict[str, list[str]] = {}
    for note in notes:
        kinds.setdefault(re.sub(r"\([-+.,e\d ]+\)", "()", note), []).append(note)
    return tuple(rows[0] if len(rows) == 1 else f"{rows[0][:-1]}, and at {len(rows) - 1:,} places more."
                 for rows in kinds.values())  # fmt: skip


def _mirrored(
    source: PolyMesh, surface: Bvh, wanted: int, settings: AutoSettings, guides: list[Guide], notes: list[str],
    progress: Progress, watch: Watch,
) -> tuple[PolyMesh, int]:  # fmt: skip
    """Quads over the positive side of the mirror plane and their image: points come in exact pairs. The two are welded
    in the plane, which is a row of edges, or joined by a row of quads across it."""
    axis = "xyz".index(settings.mirror)
    welded, triangles = welded_triangles(source)
    half = PolyMesh.from_faces(*half_of(welded, triangles, axis))
    # A row of quads across the plane is one step wide: each side ends half a step off it.
    plane = 0.5 * float(np.sqrt(face_areas(source).sum() / wanted)) if settings.across else 0.0
    share = float(face_areas(half).sum() / face_areas(source).sum())
    own = [Guide(np.where(np.arange(3) == axis, np.abs(g.points), g.points), g.hard, g.closed) for g in guides]
    spots = tuple(replace(s, place=tuple(abs(v) if k == axis else v for k, v in enumerate(s.place)))  # type: ignore[arg-type]
                  for s in settings.spots)  # fmt: skip
    paint = settings.paint
    if paint is not None:
        own_side = paint.places[:, axis] >= 0
        paint = Paint(paint.places[own_side], paint.values[own_side])
    aim = max(wanted // 2, 12)
    if plane:
        side = half_of(welded - plane * np.eye(3)[axis], triangles, axis)
        half = PolyMesh.from_faces(side[0] + plane * np.eye(3)[axis], side[1])
        aim = max(round(aim * float(face_areas(half).sum()) / (share * float(face_areas(source).sum()))), 12)
    quads, singular = covered(half, surface, aim, float(face_areas(half).sum()), replace(settings, spots=spots, paint=paint), own,
                               notes, progress, watch)  # fmt: skip
    step = float(np.sqrt(face_areas(quads).sum() / max(quads.n_faces, 1)))
    on = _in_plane(quads, axis, plane, 0.2 * step)
    points = quads.points.copy()
    if on.any():
        points = levelled(points, np.flatnonzero(on), axis, plane, surface)
    # What relaxing carried over the plane comes back to its own side.
    over = (points[:, axis] <= 0) & ~on
    points[over, axis] = 1e-3 * step
    points[over] = surface.project(points[over])
    points[over, axis] = np.maximum(points[over, axis], 1e-6 * step)
    if not on.any():
        notes.append("The source does not meet the mirror plane; its mirror image was put beside it.")
    if abs(share - 0.5) > 0.02:
        notes.append(f"The positive side holds {100 * share:.0f} % of the source; only it was covered and mirrored.")
    quads = quads.with_points(points)
    return (bridged if plane else doubled)(quads, on, axis), 2 * singular


def _in_plane(quads: PolyMesh, axis: int, plane: float, reach: float) -> Bools:
    """(V,) border points that lie in a plane across an axis: those of border edges both of whose ends are near it."""
    topology = quads.topology
    near = np.abs(quads.points[:, axis] - plane) < reach
    ends = topology.edge_points[topology.border_edges]
    out = np.zeros(quads.n_points, bool)
    out[ends[near[ends].all(axis=1)]] = True
    for loop in topology.border_loops:
        ring = quads.corners[loop]
        # A loop that lies in the plane nearly all round does so where relaxing drew a point off it, too.
        if near[ring].mean() > 0.8:
            out[ring] = True
    return out


def guide_notes(quads: PolyMesh, guides: Sequence[Guide], surface: Bvh, without: PolyMesh) -> list[str]:
    """What became of each guide: the share of a hard one that edges carry, and irregular points and the largest gap
    beside any, now and in the result `without` guides; with a warning where it made things worse."""
    if quads.n_faces == 0:
        return []
    step = float(np.median(edge_lengths(quads)))
    size = float(np.linalg.norm(np.ptp(surface.points, axis=0)))
    out = []
    for k, guide in enumerate(guides):
        line = dense_guide(guide, 0.1 * step)
        now, before = (_beside(m, line, 2.0 * step, surface) for m in (quads, without))
        text = (f"Guide {k + 1}: {now[0]} irregular {'point' if now[0] == 1 else 'points'} beside it ({before[0]} without it), largest gap there "
                f"{100 * now[1] / size:.2f} % ({100 * before[1] / size:.2f} % without)")  # fmt: skip
        if guide.hard:
            text += f", {100 * carried_share(quads, line, surface, step):.0f} % carried by edges"
        worse = now[0] > before[0] + 2 or now[1] > 1.3 * before[1] + 1e-4 * size
        out.append(
            text + (". It makes the result worse there; move it along the form or make it soft." if worse else ".")
        )
    return out


def _beside(mesh: PolyMesh, line: Floats, reach: float, surface: Bvh) -> tuple[int, float]:
    """Irregular points within reach of a line, and how far the faces there lie off the surface."""
    tree = cKDTree(line)
    odd = mesh.points[irregular_points(mesh)]
    count = int((tree.query(odd)[0] < reach).sum()) if len(odd) else 0
    centres = face_centres(mesh)
    near = centres[tree.query(centres)[0] < reach]
    return count, float(surface.closest(near)[2].max()) if len(near) else 0.0


def marked_curves(source: PolyMesh) -> list[Guide]:
    """Edges of a source marked as sharp, as hard guides: chains from corner to corner."""
    pairs = np.concatenate([source.mark(n) for n in source.marks if n == "sharp"]
                           or [np.zeros((0, 2), np.int32)])  # fmt: skip
    edges = source.topology.find_edges(pairs) if len(pairs) else np.zeros(0, np.int32)
    edges = np.unique(edges[edges >= 0])
    if len(edges) == 0:
        return []
    return [Guide(source.points[path[:-1] if closed and path[0] == path[-1] else path], True, closed)
            for path, closed in edge_paths(source, edges.astype(np.int32)) if len(path) > 1]  # fmt: skip


def quads_within_gap(
    source: PolyMesh, settings: AutoSettings, most: float, progress: Progress = silent, surface: Bvh | None = None,
    watch: Watch = unwatched,
) -> AutoResult:  # fmt: skip
    """The smallest number of quads found whose largest gap, from the jacket to the source and back, is at most `most`
    % of the diagonal: the gap falls about as the number rises, so each trial tells the next. Keeps the nearest where four trials
    do not reach it, with a note."""
    surface = surface or Bvh.build(source.points, source.triangle_points)
    _area(source)
    settings = replace(settings, quads=max(settings.quads, 12))
    guides = [checked_guide(g, surface) for g in settings.guides]
    best: AutoResult | None = None
    for attempt in range(4):
        # Guides are compared once, when the number is found.
        step = part(progress, attempt / 5, (attempt + 1) / 5)
        result = _laid(source, replace(settings, edge=0.0), settings.quads, guides, surface, step, watch)
        gap_now = result.figures.largest_gap
        if best is None or _gap_rank(result, most) < _gap_rank(best, most):
            best = result
        if 0.75 * most <= gap_now <= most or (gap_now < most and settings.quads <= 24):
            break
        settings = replace(
            settings, edge=0.0, quads=int(np.clip(result.figures.quads * gap_now / most * 1.08, 12, 60_000))
        )
    assert best is not None
    if best.figures.largest_gap > most:
        best = replace(best, notes=(*best.notes, f"A largest gap of {most:g} % was not reached; the nearest is kept."))
    if guides:
        found = replace(settings, edge=0.0, quads=best.figures.quads)
        best = _told_of_guides(best, source, found, guides, surface, None, part(progress, 0.8, 1.0))
    return best


def _gap_rank(result: AutoResult, most: float) -> tuple[bool, float]:
    """Those within the gap first, of them the lightest; of the others the nearest."""
    inside = result.figures.largest_gap <= most
    return not inside, float(result.figures.quads) if inside else result.figures.largest_gap


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
