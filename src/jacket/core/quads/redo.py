"""Making a part of a jacket anew over the source, its border kept."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.mesh.geometry import edge_lengths, face_areas, face_centres, scaled_jacobian, unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.base import Base, evened
from jacket.core.quads.covering import covered
from jacket.core.quads.creases import find_creases
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.extract import extract_quads
from jacket.core.quads.field import smooth_field
from jacket.core.quads.gridmap import GridSolver
from jacket.core.quads.grids import PAIR_REACH, crease_density, sound
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
    settings = replace(settings, quads=wanted, mirror="", edge=0.0, skin=False, rows=0.0)
    fixed = _with_fixed_border(region, surface, settings, part(progress, 0.0, 0.5))
    if fixed is not None:
        return welded_in(rest, fixed, reach_of(region)), ()
    patch = _with_free_border(region, surface, settings, part(progress, 0.5, 0.9))
    if rest is None:
        return patch, ()
    step = float(np.sqrt(face_areas(region).sum() / max(wanted, 1)))
    room = min(0.6 * step, 0.6 * float(np.median(edge_lengths(region))))
    inside = inner_part(patch, jacket, faces, room)
    progress(0.95, "joining the new quads")
    return sewn_in(rest, region, inside, surface), (RING_NOTE,)


def taken_inside(
    jacket: PolyMesh, faces: Ints, trial: PolyMesh, surface: Bvh, progress: Progress = silent
) -> tuple[PolyMesh, tuple[str, ...]]:
    """The jacket with some faces replaced by what a trial has there: its flow and density laid so that they end in the
    rows of the jacket; and what has to be said. Where no grid does that, or none about as dense, the trial's own quads are
    joined by a ring."""
    rest, region = part_of(jacket, faces)
    if rest is None:
        return trial, ()
    inside = _faces_over(trial, jacket, faces)
    if len(inside) == 0:
        raise EditRefused("The trial has nothing over the held faces; hold others.")
    settings = AutoSettings(quads=max(len(inside), 1), form=0.0)
    fixed = _with_fixed_border(region, surface, settings, part(progress, 0.0, 0.8), trial)
    if fixed is not None and abs(np.log(fixed.n_faces / len(inside))) < np.log(AS_DENSE):
        return welded_in(rest, fixed, reach_of(region)), ()
    try:
        sewn = _sewn(jacket, faces, trial, rest, region, surface)
    except EditRefused:
        if fixed is None:
            raise
        sewn = None
    if fixed is not None and (sewn is None or float(scaled_jacobian(sewn).min()) < RING_LEAST):
        return welded_in(rest, fixed, reach_of(region)), ()
    assert sewn is not None
    return sewn, (RING_NOTE if fixed is None else DENSE_NOTE,)


AS_DENSE, RING_LEAST = 1.2, 0.3
"""Up to how many times more or fewer quads than the trial has there a grid may have, and the least corner of a ring in its place."""


def _sewn(jacket: PolyMesh, faces: Ints, trial: PolyMesh, rest: PolyMesh, region: PolyMesh, surface: Bvh) -> PolyMesh:
    """The trial's own quads over a part, joined by a ring with the best corners. Raises EditRefused where none joins them."""
    step = 0.5 * (float(np.median(edge_lengths(region))) + float(np.median(edge_lengths(trial))))
    best: PolyMesh | None = None
    refused: EditRefused | None = None
    # The room left for the ring decides how many edges the inner border has: an odd number cannot be joined.
    for share in (0.6, 0.45, 0.8, 1.0):
        try:
            sewn = sewn_in(rest, region, inner_part(trial, jacket, faces, share * step), surface)
        except EditRefused as refusal:
            refused = refused or refusal
            continue
        if best is None or float(scaled_jacobian(sewn).min()) > float(scaled_jacobian(best).min()):
            best = sewn
    if best is None:
        assert refused is not None
        raise refused
    return best


RING_NOTE = (
    "No grid fits the edges round this part, so a ring of quads joins the new ones; look at its irregular points."
)
DENSE_NOTE = (
    "Rows that end in those around this part are not as close as the trial's, so a ring of quads joins its own; look at its irregular points."
)


def reach_of(region: PolyMesh) -> float:
    """How near border points have to be to count as the same."""
    return 1e-6 * max(float(np.median(edge_lengths(region))), 1e-300)


def _faces_over(trial: PolyMesh, jacket: PolyMesh, faces: Ints) -> Ints:
    """The faces of a trial whose centres lie over the chosen faces of a jacket."""
    chosen = np.zeros(jacket.n_faces, bool)
    chosen[faces] = True
    nearest = Bvh.build(jacket.points, jacket.triangle_points).closest(face_centres(trial))[1]
    return np.flatnonzero(chosen[jacket.triangle_faces[nearest]]).astype(np.int32)


def _like(mesh: PolyMesh, trial: PolyMesh) -> tuple[tuple[Ints, Floats, Floats], Floats]:
    """What a field needs to flow as the quads of a trial do (`smooth_field`'s soft), and the density they have."""
    nearest = Bvh.build(trial.points, trial.triangle_points).closest(face_centres(mesh))[1]
    face = trial.triangle_faces[nearest]
    ring = trial.points[trial.as_quads()[face]]
    way = unit(ring[:, 1] - ring[:, 0] + ring[:, 2] - ring[:, 3])
    areas = face_areas(trial)[face]
    density = np.sqrt(np.exp(np.log(areas).mean()) / np.maximum(areas, 1e-300))
    return (np.arange(mesh.n_faces, dtype=np.int32), way, np.full(mesh.n_faces, 2.0)), np.clip(density, 0.4, 2.5)


def finer(region: PolyMesh, surface: Bvh) -> PolyMesh:
    """Each quad as 16, inner points on the source; the points that were there come first, and quad f gives the sixteen
    from 16 f on."""
    fine = split_to_quads(split_to_quads(region))
    inner = ~fine.topology.border_points
    points = fine.points.copy()
    points[inner] = surface.project(points[inner])
    return fine.with_points(points)


def _with_fixed_border(
    region: PolyMesh, surface: Bvh, settings: AutoSettings, progress: Progress, like: PolyMesh | None = None
) -> PolyMesh | None:
    """Quads over a region whose border edges are those of the region, or None where no sound grid has them; where
    `like` is given they flow as those of that mesh."""
    progress(0.0, "seeking a grid with this border")
    points, triangles, _ = whole_border_edges(finer(region, surface), region.n_points)
    length = float(np.sqrt(face_areas(region).sum() / settings.quads))
    creases = find_creases(PolyMesh.from_faces(points, triangles), settings.sharp, length)
    mesh = evened(points, triangles, creases, surface)
    base = Base(mesh, creases, 0, 0)
    soft = soft_pull(mesh, [g for g in settings.guides if not g.hard], 2.5 * length)
    density = crease_density(base, length, settings.form)
    painted = face_density(mesh, settings.spots, settings.paint)
    if painted is not None:
        density = painted if density is None else density * painted
    if like is not None:
        soft, density = _like(mesh, like)
    field = smooth_field(mesh, creases, settings.alignment, soft)
    field = without_pairs(mesh, field, creases, PAIR_REACH * length)
    try:
        solver = GridSolver(mesh, field, cut_mesh(mesh, field), creases, part(progress, 0.2, 0.5), density, True)
    except SolveError:
        return None
    least, quads = bordered(mesh, solver, region, length, (1.0, 0.95, 1.06, 0.9, 1.12, 0.84, 1.2, 0.78, 1.3, 0.7), surface, 0.5,
                            part(progress, 0.5, 1.0))  # fmt: skip
    return quads if least > 0.05 else None


def bordered(
    mesh: PolyMesh, solver: GridSolver, region: PolyMesh, length: float, times: tuple[float, ...], surface: Bvh, enough: float,
    progress: Progress = silent,
) -> tuple[float, PolyMesh | None]:  # fmt: skip
    """The best quads of a grid whose border is that of a region, and their least scaled Jacobian: step lengths are tried in
    turn until one has `enough`; −1 and None where none is sound or ends in the very points of the border."""
    topology = region.topology
    euler, edges = euler_characteristic(region), len(topology.border_edges)
    own = cKDTree(region.points[np.unique(topology.edge_points[topology.border_edges])]) if edges else None
    best: tuple[float, PolyMesh | None] = (-1.0, None)
    for k, share in enumerate(times):
        step = part(progress, k / len(times), (k + 1) / len(times))
        quads = extract_quads(mesh, solver.solve(length * share, step))
        if not sound(quads, euler) or len(quads.topology.border_edges) != edges:
            continue
        border = quads.topology.border_points
        if own is not None and own.query(quads.points[border])[0].max() > reach_of(region):
            continue
        quads = settled_part(quads, border, surface)
        least = float(scaled_jacobian(quads).min())
        if least > best[0]:
            best = least, quads
        if least > enough:
            break
    return best


def whole_border_edges(fine: PolyMesh, n_old: int) -> tuple[Floats, Ints, Ints]:
    """(points, triangles, the fine quad of each) of a region split twice, its border edges whole again: the three points
    between two old ones move onto these."""
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
    face = np.tile(np.arange(len(quads), dtype=np.int32), 2)[~flat]
    return fine.points[used], local.reshape(-1, 3).astype(np.int32), face


def _with_free_border(region: PolyMesh, surface: Bvh, settings: AutoSettings, progress: Progress) -> PolyMesh:
    """Quads over a region whose border runs along that of the region in its own steps."""
    fine = finer(region, surface)
    mesh = PolyMesh.from_faces(fine.points, fine.triangle_points)
    area = float(face_areas(mesh).sum())
    return covered(mesh, surface, settings.quads, area, settings, list(settings.guides), [], progress)[0]
