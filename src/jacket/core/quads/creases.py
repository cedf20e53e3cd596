"""Creases of a form: the edges that quads have to run along.

An edge that turns much is a crease where the surface beside it turns little. On coarse animals whole ears and hooves are made of
edges that turn by more than any threshold; lines there only make irregular points and draw the quads off thin ends.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from jacket.core.mesh.choosing import edge_paths
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_area_vectors, unit
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh, sorted_pairs
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.lines import JAGS, chords

CORE, AROUND = 0.4, 1.5
"""Steps from a crease up to which what turns is its own, and up to which it is looked whether anything else turns."""
BREAKS, SHORT = 4.5, 8.0
"""How often in ten steps creases end, meet or swerve from which on they are crumbled, as on a form that was meshed anew without
regard for its edges: each jag would be a corner of the grid. Of runs that may be shorter than so many quads more often."""
HARD, CLEAR = 0.75, 0.85
"""Share of what turns around the creases of a part that they have to make up themselves; else only those creases are kept that
make up so much around them."""


def find_creases(mesh: PolyMesh, sharp: float, step: float, shortest: float = 8.0) -> Ints:
    """(K, 2) edges that turn by more than `sharp` degrees, in runs of at least `shortest` times a quad's `step`, beside which
    the surface turns little.

    The turn is taken between the normals of the two sides, each evened over its own side: a true
    crease stays sharp under that, the bumps of a scan do not. Short runs are left out too; fixing
    the field there only makes irregular points.
    """
    topology = mesh.topology
    candidates = dihedral_angles(mesh) > sharp
    if not candidates.any():
        return sorted_pairs(np.zeros((0, 2)))
    normals = _evened_normals(mesh, candidates, 8)
    edges = np.flatnonzero(candidates)
    c = topology.edge_corner[edges]
    a, b = mesh.face_of_corner[c], mesh.face_of_corner[topology.twin[c]]
    turn = np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", normals[a], normals[b]), -1, 1)))
    edges = edges[turn > sharp]
    if len(edges) == 0:
        return sorted_pairs(np.zeros((0, 2)))
    runs = _runs(topology.edge_points[edges], mesh.n_points)
    total = np.bincount(runs, edge_lengths(mesh)[edges])
    long = total[runs] >= shortest * step
    edges, runs = edges[long], np.unique(runs[long], return_inverse=True)[1].astype(np.int32)
    if len(edges) == 0:
        return sorted_pairs(np.zeros((0, 2)))
    edges = edges[_stand_out(mesh, edges, runs, step)]
    if len(edges):
        edges = edges[_run_smoothly(mesh, edges, step, BREAKS * max(SHORT / max(shortest, 1.0), 1.0))]
    return sorted_pairs(topology.edge_points[edges])


def _stand_out(mesh: PolyMesh, edges: Ints, runs: Ints, step: float) -> Bools:
    """(K,) whether the surface turns mostly on the run that each of the edges belongs to and little beside it: on all runs of a
    part together, or on that run alone. A crease may be rounded over a few edges."""
    topology = mesh.topology
    turning = edge_lengths(mesh) * np.abs(dihedral_angles(mesh))
    middle, ends = mesh.points[topology.edge_points].mean(axis=1), topology.edge_points

    def off(some: Ints) -> Floats:
        on = np.concatenate([middle[some], mesh.points[np.unique(ends[some])]])
        return np.asarray(cKDTree(on).query(middle, distance_upper_bound=AROUND * step)[0])

    beside = off(edges) >= CORE * step
    count = int(runs.max()) + 1
    own, other = np.zeros(count), np.zeros(count)
    for k in range(count):
        far = off(edges[runs == k])
        own[k] = turning[far < CORE * step].sum()
        other[k] = turning[beside & (far < AROUND * step)].sum()
    share = own / np.maximum(own + other, 1e-300)
    length = np.bincount(runs, edge_lengths(mesh)[edges])
    part_of_run = np.zeros(count, np.int64)
    part_of_run[runs] = face_parts(mesh)[1][mesh.face_of_corner[topology.edge_corner[edges]]]
    whole = np.bincount(part_of_run, length * share) / np.maximum(np.bincount(part_of_run, length), 1e-300)
    return np.asarray(((whole[part_of_run] >= HARD) | (share >= CLEAR))[runs])


def _run_smoothly(mesh: PolyMesh, edges: Ints, step: float, most: float) -> Bools:
    """(K,) whether the run that each of the edges belongs to breaks less often than `most` times in ten steps."""
    runs = _runs(mesh.topology.edge_points[edges], mesh.n_points)
    run_of = np.full(mesh.topology.n_edges, -1, np.int64)
    run_of[edges] = runs
    breaks = np.zeros(int(runs.max()) + 1)
    for path, closed in edge_paths(mesh, edges):
        places = mesh.points[np.append(path, path[0]) if closed else path]
        breaks[run_of[mesh.topology.find_edges(path[None, :2])[0]]] += 1 + _swerves(places, JAGS * step)
    length = np.bincount(runs, edge_lengths(mesh)[edges]) / step
    return np.asarray((breaks < 0.1 * most * length)[runs])


def _swerves(places: Floats, tolerance: float) -> int:
    """How often the chords of a polyline (K, 3) bend the other way than at the bend before: never on a circle."""
    way = np.diff(places[chords(places, tolerance)], axis=0)
    bend = np.cross(way[:-1], way[1:])
    return int((np.einsum("ij,ij->i", bend[:-1], bend[1:]) < 0).sum())


NARROW = 0.3
"""Steps between two creases under which no row of quads fits between them."""


def without_twins(mesh: PolyMesh, creases: Ints, width: float) -> Ints:
    """Creases without those that run beside another nearer than `width` nearly all along, as the two edges of a thin lip:
    the shorter goes, or no row would fit between them and the lip would close up."""
    edges = mesh.topology.find_edges(creases) if len(creases) else np.zeros(0, np.int32)
    paths = sorted(edge_paths(mesh, edges), key=lambda p: len(p[0]))
    gone: set[int] = set()
    for k, (path, _) in enumerate(paths):
        others = [q for j, (q, _) in enumerate(paths) if j != k and j not in gone]
        if len(path) < 4 or not others:
            continue
        far = cKDTree(mesh.points[np.concatenate(others)]).query(mesh.points[path[1:-1]])[0]
        # Points of the other stand as far apart as triangles are wide: half of that more is still beside it.
        slack = 0.5 * float(np.median(np.linalg.norm(np.diff(mesh.points[path], axis=0), axis=1)))
        if float((far < np.hypot(width, slack)).mean()) > 0.8:
            gone.add(k)
    rows = [np.stack([r[:-1], r[1:]], axis=1) for k, (p, closed) in enumerate(paths) if k not in gone
            for r in [np.append(p, p[0]) if closed else p]]  # fmt: skip
    return sorted_pairs(np.concatenate(rows)) if rows else sorted_pairs(np.zeros((0, 2)))


def _evened_normals(mesh: PolyMesh, barriers: Bools, rounds: int) -> Floats:
    """(F, 3) face normals averaged with their neighbours across edges that are no barriers."""
    topology = mesh.topology
    c = np.flatnonzero((topology.twin >= 0) & ~barriers[topology.edge])
    a, b = mesh.face_of_corner[c], mesh.face_of_corner[topology.twin[c]]
    areas = face_area_vectors(mesh)
    normals = areas.copy()
    for _ in range(rounds):
        total = normals.copy()
        for k in range(3):
            total[:, k] += np.bincount(a, normals[b, k], minlength=mesh.n_faces)
        normals = total
    return unit(normals)


def _runs(pairs: Ints, n_points: int) -> NDArray[np.signedinteger]:
    """Number the connected pieces of a set of edges: (K,) piece of each edge."""
    graph = coo_array((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(n_points, n_points))
    labels = connected_components(graph, directed=False)[1]
    return np.unique(labels[pairs[:, 0]], return_inverse=True)[1].astype(np.int32)
