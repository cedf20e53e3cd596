"""Walls of boxy forms: what faces one of a few main directions, whatever rims, posts and recesses lie between.

Each face is given to one of these directions so that it faces it, with as little border between as may be (a Potts model; swaps of
two labels by minimum cuts, Boykov, Veksler and Zabih 2001).
"""

from __future__ import annotations

from itertools import combinations

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import breadth_first_order, maximum_flow

from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas, face_normals, unit
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh

FLAT, AROUND = float(np.cos(np.deg2rad(12.0))), float(np.cos(np.deg2rad(30.0)))
"""Cosines of how far from a wall's direction it faces, and of how far from that the next one is at least."""
LEAST, MOST = 0.04, 20
"""Share of a form that faces a main direction at least, and how many of these there may be."""
TRIED, SOME = 1_500, 8_000
"""Faces whose directions are tried, and faces that tell how much faces so, of more."""
BOXY = 0.66
"""Share of a form that its walls are at least, flat as they are."""
BORDER, BENT, FULLY = 0.08, 0.7, 45.0
"""What border between walls costs, in √area: what is narrower than two of that is no wall; how much less along an edge that bends fully,
and by how many degrees that is."""
ROUNDS = 4
"""How often every two labels that touch share their faces anew at most."""
SCALE = 10_000
"""Whole numbers to which costs are counted, in the area of the form over its number of faces."""


def wall_edges(mesh: PolyMesh) -> Bools:
    """(E,) edges between the walls of a boxy form; none where it is not boxy."""
    out = np.zeros(mesh.topology.n_edges, bool)
    ways = main_directions(mesh)
    if len(ways) >= 3:
        inner, sides = _between(mesh)
        one, other = _given(mesh, ways)[sides].T
        out[inner] = one != other
    return out


def _between(mesh: PolyMesh) -> tuple[Ints, Ints]:
    """(edges with two faces (K,), those faces (K, 2))."""
    topology = mesh.topology
    inner = np.flatnonzero(topology.twin[topology.edge_corner] >= 0)
    corner = topology.edge_corner[inner]
    return inner, mesh.face_of_corner[np.stack([corner, topology.twin[corner]], axis=1)]


def main_directions(mesh: PolyMesh) -> Floats:
    """(K, 3) unit directions that much of a form faces; none where under `BOXY` of it does."""
    normals, area = face_normals(mesh), face_areas(mesh)
    free, walls, whole = np.ones(mesh.n_faces, bool), 0.0, float(area.sum())
    out: list[Floats] = []
    if whole <= 0:
        return np.zeros((0, 3))
    # Most faces of a large form have a neighbour that faces as they do: some tell where the others are.
    tried, some = (np.arange(0, mesh.n_faces, max(mesh.n_faces // most, 1)) for most in (TRIED, SOME))
    near = (normals[tried] @ normals[some].T > FLAT).astype(np.float32)
    weight = (area[some] * whole / area[some].sum()).astype(np.float32)
    while len(out) < MOST:
        faced = near @ (weight * free[some])
        best = int(np.argmax(faced))
        if faced[best] < LEAST * whole:
            break
        about = free & (normals @ normals[tried[best]] > FLAT)
        way = unit((normals * (area * about)[:, None]).sum(axis=0)[None])[0]
        along = normals @ way
        walls += float(area[free & (along > FLAT)].sum())
        free &= along <= AROUND
        out.append(way)
    return np.array(out) if walls >= BOXY * whole else np.zeros((0, 3))


def _given(mesh: PolyMesh, ways: Floats) -> Ints:
    """(F,) which direction each face is given to."""
    area = face_areas(mesh)
    whole = float(area.sum())
    off = area[:, None] * (1 - face_normals(mesh) @ ways.T)
    inner, sides = _between(mesh)
    bent = np.minimum(dihedral_angles(mesh)[inner] / FULLY, 1)
    border = BORDER * np.sqrt(whole) * edge_lengths(mesh)[inner] * (1 - BENT * bent)
    unit_cost = whole / mesh.n_faces / SCALE
    costs, between = np.rint(off / unit_cost).astype(np.int64), np.rint(border / unit_cost).astype(np.int64) + 1
    labels = costs.argmin(axis=1)
    for _ in range(ROUNDS):
        changed = False
        for a, b in combinations(range(len(ways)), 2):
            beside = np.sort(labels[sides], axis=1)
            if ((beside[:, 0] == a) & (beside[:, 1] == b)).any():
                changed |= _swapped(labels, costs, sides, between, a, b)
        if not changed:
            break
    return labels


def _swapped(labels: Ints, costs: Ints, sides: Ints, between: Ints, a: int, b: int) -> bool:
    """Share the faces of two labels out between them anew as costs least, writing into `labels`; whether any changed."""
    here = np.flatnonzero((labels == a) | (labels == b))
    at = np.full(len(labels), -1)
    at[here] = np.arange(len(here))
    own = (at[sides] >= 0).all(axis=1)
    one, other = at[sides[own]].T
    n, middle = len(here), np.arange(len(here))
    source, sink = np.full(n, n), np.full(n, n + 1)
    # What is cut off from the source is given to b, which then costs what leads to it.
    rows, columns = np.concatenate([one, other, source, middle]), np.concatenate([other, one, middle, sink])
    given = np.concatenate([between[own], between[own], costs[here, b], costs[here, a]])
    graph = coo_array((np.minimum(given, 2**30).astype(np.int32), (rows, columns)), shape=(n + 2, n + 2)).tocsr()
    left = graph - maximum_flow(graph, n, n + 1).flow
    reached = breadth_first_order(left, n, return_predecessors=False)
    new = np.full(n + 2, b)
    new[reached] = a
    changed = bool((new[:n] != labels[here]).any())
    labels[here] = new[:n]
    return changed
