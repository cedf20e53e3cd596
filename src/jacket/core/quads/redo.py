"""Making a part of a jacket anew over the source, its border kept."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.core.mesh.geometry import edge_lengths, face_areas, scaled_jacobian
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.base import Base, evened, find_creases
from jacket.core.quads.covering import PAIR_REACH, covered, crease_density, sound
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.extract import extract_quads
from jacket.core.quads.field import smooth_field
from jacket.core.quads.gridmap import GridSolver
from jacket.core.quads.pairs import without_pairs
from jacket.core.quads.settings import AutoSettings
from jacket.core.quads.steering import face_density, soft_pull
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.quads.welding import inner_part, part_of, settled_part, sewn_in, welded_in
from jacket.core.space.bvh import Bvh
from jacket.errors import EditRefused, SolveError
from jacket.progress import Progress, part, silent


def part_redone(
    jacket: PolyMesh, faces: Ints, surface: Bvh, settings: AutoSettings, progress: Progress = silent
) -> tuple[PolyMesh, tuple[str, ...]]:
    """The jacket with some faces replaced by new quads over the source, welded to the rest; and what has to be said.

    The number wanted is that of `settings`, 0 for as many as there were. First a grid is sought whose border has the very
    edges of the part; where none is found the new quads end a row inside and a ring joins them.
    """
    rest, region = part_of(jacket, faces)
    if not region.is_quads:
        raise EditRefused("The chosen part has faces that are not quads; pair or mend them first (Tidy).")
    wanted = settings.quads or region.n_faces
    settings = replace(settings, quads=wanted, mirror="", edge=0.0, skin=False)
    fixed = _with_fixed_border(region, surface, settings, part(progress, 0.0, 0.5))
    reach = 1e-6 * max(float(np.median(edge_lengths(region))), 1e-300)
    if fixed is not None:
        return welded_in(rest, fixed, reach), ()
    patch = _with_free_border(region, surface, settings, part(progress, 0.5, 0.9))
    if rest is None:
        return patch, ()
    step = float(np.sqrt(face_areas(region).sum() / max(wanted, 1)))
    room = min(0.6 * step, 0.6 * float(np.median(edge_lengths(region))))
    inside = inner_part(patch, jacket, faces, room)
    progress(0.95, "joining the new quads")
    return sewn_in(rest, region, inside, surface), (
        "No grid fits the number of edges round this part, so a ring of quads joins the new ones to it.",
    )


def taken_inside(jacket: PolyMesh, faces: Ints, trial: PolyMesh, surface: Bvh) -> PolyMesh:
    """The jacket with some faces replaced by what a trial has there, joined by a ring of quads."""
    rest, region = part_of(jacket, faces)
    if rest is None:
        return trial
    step = 0.5 * (float(np.median(edge_lengths(region))) + float(np.median(edge_lengths(trial))))
    first: EditRefused | None = None
    # The room left for the ring decides how many edges the inner border has: an odd number cannot be joined.
    for share in (0.6, 0.5, 0.7, 0.4, 0.85, 1.0):
        try:
            return sewn_in(rest, region, inner_part(trial, jacket, faces, share * step), surface)
        except EditRefused as refusal:
            first = first or refusal
    assert first is not None
    raise first


def _finer(region: PolyMesh, surface: Bvh) -> tuple[PolyMesh, Ints]:
    """Each quad as 16, inner points on the source, and (K,) the points that were there."""
    fine = split_to_quads(split_to_quads(region))
    inner = ~fine.topology.border_points
    points = fine.points.copy()
    points[inner] = surface.project(points[inner])
    return fine.with_points(points), np.arange(region.n_points, dtype=np.int32)


def _with_fixed_border(
    region: PolyMesh, surface: Bvh, settings: AutoSettings, progress: Progress
) -> PolyMesh | None:
    """Quads over a region whose border edges are those of the region, or None where no sound grid has them."""
    progress(0.0, "seeking a grid with this border")
    fine, old = _finer(region, surface)
    points, triangles = _whole_border_edges(fine, len(old))
    length = float(np.sqrt(face_areas(region).sum() / settings.quads))
    creases = find_creases(PolyMesh.from_faces(points, triangles), settings.sharp, 8.0 * length)
    mesh = evened(points, triangles, creases, surface)
    base = Base(mesh, creases, 0, 0)
    soft = soft_pull(mesh, [g for g in settings.guides if not g.hard], 2.5 * length)
    field = smooth_field(mesh, creases, settings.alignment, soft)
    field = without_pairs(mesh, field, creases, PAIR_REACH * length)
    density = crease_density(base, length, settings.form, face_density(mesh, settings.spots, settings.paint))
    try:
        solver = GridSolver(mesh, field, cut_mesh(mesh, field), creases, part(progress, 0.2, 0.5), density, True)
    except SolveError:
        return None
    euler, edges = euler_characteristic(region), len(region.topology.border_edges)
    held = np.zeros(0, bool)
    for k, times in enumerate((1.0, 0.95, 1.06, 0.9, 1.12)):
        quads = extract_quads(mesh, solver.solve(length * times, part(progress, 0.5 + 0.08 * k, 0.58 + 0.08 * k)))
        if not sound(quads, euler) or len(quads.topology.border_edges) != edges:
            continue
        held = quads.topology.border_points
        quads = settled_part(quads, held, surface)
        if float(scaled_jacobian(quads).min()) > 0.05:
            return quads
    return None


def _whole_border_edges(fine: PolyMesh, n_old: int) -> tuple[Floats, Ints]:
    """Triangles of a region split twice, whose border edges are whole again: the three points between two old ones move
    onto these."""
    topology = fine.topology
    to = np.arange(fine.n_points)
    for loop in topology.border_loops:
        ring = fine.corners[loop]
        first = int(np.flatnonzero(ring < n_old)[0])
        ring = np.roll(ring, -first)
        ends = np.append(ring[::4], ring[0])
        for k in range(1, 4):
            to[ring[k::4]] = ends[:-1] if k < 3 else ends[1:]
    quads = fine.as_quads()
    triangles = to[np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])]
    flat = (triangles == np.roll(triangles, 1, axis=1)).any(axis=1)
    used, local = np.unique(triangles[~flat], return_inverse=True)
    return fine.points[used], local.reshape(-1, 3).astype(np.int32)


def _with_free_border(region: PolyMesh, surface: Bvh, settings: AutoSettings, progress: Progress) -> PolyMesh:
    """Quads over a region whose border runs along that of the region in its own steps."""
    fine, _ = _finer(region, surface)
    mesh = PolyMesh.from_faces(fine.points, fine.triangle_points)
    area = float(face_areas(mesh).sum())
    return covered(mesh, surface, settings.quads, area, settings, list(settings.guides), [], progress)[0]
