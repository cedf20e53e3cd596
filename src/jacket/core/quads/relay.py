"""Quads round an irregular point laid anew with that point moved, or cancelled against another.

Where rows wind through a whole mesh none of them can be taken out. Then the flow of the quads that are there is read off
as a field, its singular point is moved, and the grid of the moved field is laid over as small a part as has one with the
very edges of its border.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.mesh.geometry import face_areas, face_normals, unit
from jacket.core.mesh.poles import irregular_count, irregular_points, is_pole
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import spread
from jacket.core.quads.creases import find_creases
from jacket.core.quads.cut import cut_mesh
from jacket.core.quads.field import Field, field_turns, singular_indices
from jacket.core.quads.gridmap import GridSolver
from jacket.core.quads.pairs import singular_moved
from jacket.core.quads.redo import bordered, finer, reach_of, whole_border_edges
from jacket.core.quads.welding import part_of, welded_in
from jacket.core.space.bvh import Bvh
from jacket.errors import EditRefused, SolveError
from jacket.progress import Progress, silent

RINGS = (3, 5, 8, 12, 18, 27)
"""How many faces deep the part round the points is that is laid anew, one after another until one has a grid."""
LEAST = 0.3
"""Least scaled Jacobian that a part laid anew may have."""


def pole_relaid(
    jacket: PolyMesh, pole: int, to: int, surface: Bvh, sharp: float = 38.0, progress: Progress = silent
) -> PolyMesh:
    """The jacket with an irregular point moved onto point `to`, and the quads around laid anew; where `to` is irregular
    too and undoes it, both are gone. Raises EditRefused where no part has such a grid."""
    if not is_pole(jacket, pole) or jacket.topology.border_points[to]:
        raise EditRefused("Hold an irregular point, and another point inside the mesh.")
    before = irregular_count(jacket)
    wanted = before - 2 if is_pole(jacket, to) else before
    last: Bools | None = None
    for k, rings in enumerate(RINGS):
        progress(k / len(RINGS), "laying the part around anew")
        faces = _around(jacket, [pole, to], rings)
        if last is not None and np.array_equal(faces, last):
            break
        last = faces
        new = _relaid(jacket, np.flatnonzero(faces).astype(np.int32), pole, to, surface, sharp)
        if new is not None and irregular_count(new) <= wanted and (wanted < before or _changed(jacket, new, faces)):
            return new
    raise EditRefused("No grid of quads lets this point go there; move or cancel another one.")


def _around(mesh: PolyMesh, points: list[int], rings: int) -> Bools:
    quads = mesh.as_quads()
    near = np.zeros(mesh.n_points, bool)
    near[points] = True
    return np.asarray(spread(near, quads, rings)[quads].all(axis=1))


def _changed(old: PolyMesh, new: PolyMesh, faces: Bools) -> bool:
    """Whether irregular points lie elsewhere among the rows: the steps from what stayed to each of them differ."""
    if old.n_faces != new.n_faces:
        return True
    inside = np.zeros(old.n_points, bool)
    inside[old.corners[faces[old.face_of_corner]]] = True
    inside[old.corners[~faces[old.face_of_corner]]] = False
    fixed = np.flatnonzero(~inside)
    if len(fixed) == 0:
        return True
    same = cKDTree(new.points).query(old.points[fixed])[1]
    return not np.array_equal(_steps_to_poles(old, fixed), _steps_to_poles(new, same))


def _steps_to_poles(mesh: PolyMesh, places: Ints) -> Ints:
    """(K,) edges from each of some points to the nearest irregular point."""
    topology = mesh.topology
    steps = np.full(mesh.n_points, 10_000, np.int32)
    steps[irregular_points(mesh)] = 0
    a, b = topology.edge_points.T
    for _ in range(200):
        new = steps.copy()
        np.minimum.at(new, a, steps[b] + 1)
        np.minimum.at(new, b, steps[a] + 1)
        if np.array_equal(new, steps):
            break
        steps = new
    return steps[places]


def _relaid(jacket: PolyMesh, faces: Ints, pole: int, to: int, surface: Bvh, sharp: float) -> PolyMesh | None:
    rest, region = part_of(jacket, faces)
    fine = finer(region, surface)
    points, triangles, face = whole_border_edges(fine, region.n_points)
    mesh = PolyMesh.from_faces(points, triangles)
    length = float(np.sqrt(face_areas(region).mean()))
    creases = find_creases(mesh, sharp, length)
    field = _field_of(mesh, fine, face)
    tree = cKDTree(points)
    start, end = (int(tree.query(jacket.points[p])[1]) for p in (pole, to))
    if field.index[start] == 0:
        return None
    moved = singular_moved(mesh, field, creases, start, end)
    if moved is None:
        return None
    density = np.sqrt(length**2 / np.maximum(face_areas(region)[face // 16], 1e-300))
    try:
        solver = GridSolver(mesh, moved, cut_mesh(mesh, moved), creases, density=density, unit_border=rest is not None)
    except SolveError:
        return None
    least, quads = bordered(mesh, solver, region, length, (1.0, 0.97, 1.04), surface, LEAST)
    return welded_in(rest, quads, reach_of(region)) if quads is not None and least > LEAST else None


def _field_of(mesh: PolyMesh, fine: PolyMesh, face: Ints) -> Field:
    """The field along the sides of the fine quads that each triangle (its number in `face`) comes from."""
    ring = fine.points[fine.as_quads()[face]]
    normals = face_normals(mesh)
    way = ring[:, 1] - ring[:, 0] + ring[:, 2] - ring[:, 3]
    way = unit(way - normals * np.einsum("ij,ij->i", way, normals)[:, None])
    topology = mesh.topology
    corner = topology.edge_corner[topology.border_edges]
    own = mesh.face_of_corner[corner]
    way[own] = unit(points_along(mesh, corner))
    quarter, residual = field_turns(mesh, way, normals)
    return Field(way, (quarter % 4).astype(np.int32), singular_indices(mesh, residual))


def points_along(mesh: PolyMesh, corner: Ints) -> Floats:
    """(K, 3) the vectors of half-edges."""
    return mesh.points[mesh.corners[mesh.topology.next[corner]]] - mesh.points[mesh.corners[corner]]
