"""Creases and borders as lines of the grid: which way they run, and corners too sharp for a quarter turn.

Jagged borders of scans and crumbled creases run by their chords, or every jag would be a corner of the grid. At a corner of
under 45° both lines would take one coordinate and what lies between them would collapse: there the field is made to turn
by a quarter, which puts an irregular point of three edges inside.
"""

from __future__ import annotations

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from jacket.core.mesh.choosing import edge_paths
from jacket.core.mesh.geometry import edge_lengths, face_normals, unit
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.quads.field import Field, corner_angles, field_turns
from jacket.core.quads.pairs import resolved, way_jumps

JAGS = 0.2
"""Steps by which creases and borders may leave their chords before they bend there."""
JAG = np.cos(np.radians(35.0))
"""An edge that leaves the chord of its line by more than this is a jag."""


def line_flags(mesh: PolyMesh, creases: Ints) -> Bools:
    """(E,) edges on creases and borders."""
    flags = mesh.topology.edge_flags(creases)
    flags[mesh.topology.border_edges] = True
    return flags


def line_ways(mesh: PolyMesh, creases: Ints, tolerance: float) -> Floats:
    """(E, 3) unit directions of creases and borders, nought elsewhere: that of the edge itself, or where it is a jag that
    of the chord of its line (Douglas and Peucker 1973) with this tolerance."""
    return ways_and_chords(mesh, creases, tolerance)[0]


def ways_and_chords(mesh: PolyMesh, creases: Ints, tolerance: float) -> tuple[Floats, Floats]:
    """`line_ways`, and (E,) the length of the chord that each edge of a line belongs to."""
    topology = mesh.topology
    ends = topology.edge_points
    flags = line_flags(mesh, creases)
    out, reach = np.zeros((topology.n_edges, 3)), np.zeros(topology.n_edges)
    out[flags] = unit(mesh.points[ends[flags, 1]] - mesh.points[ends[flags, 0]])
    for path, closed in edge_paths(mesh, np.flatnonzero(flags)):
        ring = np.append(path, path[0]) if closed else path
        places = mesh.points[ring]
        keep = chords(places, tolerance)
        piece = np.repeat(np.arange(len(keep) - 1), np.diff(keep))
        chord = unit(np.diff(places[keep], axis=0))[piece]
        edges = topology.find_edges(np.stack([ring[:-1], ring[1:]], axis=1))
        jag = np.abs(np.einsum("ij,ij->i", out[edges], chord)) < JAG
        out[edges[jag]] = chord[jag]
        reach[edges] = np.linalg.norm(np.diff(places[keep], axis=0), axis=1)[piece]
    return out, reach


def chords(places: Floats, tolerance: float) -> Ints:
    """Indices of the places (K, 3) at which a polyline has to bend to stay within a tolerance, both ends among them."""
    keep = np.zeros(len(places), bool)
    keep[[0, -1]] = True
    stack = [(0, len(places) - 1)]
    if np.allclose(places[0], places[-1]) and len(places) > 3:
        far = int(np.argmax(np.linalg.norm(places - places[0], axis=1)))
        keep[far] = True
        stack = [(0, far), (far, len(places) - 1)]
    while stack:
        a, b = stack.pop()
        if b - a < 2:
            continue
        along = places[b] - places[a]
        away = places[a + 1 : b] - places[a]
        share = np.clip(away @ along / max(float(along @ along), 1e-300), 0, 1)
        off = np.linalg.norm(away - share[:, None] * along, axis=1)
        far = int(np.argmax(off))
        if off[far] > tolerance:
            middle = a + 1 + far
            keep[middle] = True
            stack += [(a, middle), (middle, b)]
    return np.flatnonzero(keep).astype(np.int32)


def opened_corners(mesh: PolyMesh, field: Field, creases: Ints, length: float) -> Field:
    """The field with a quarter turn at every sharp corner of lines: where there was none a pole of three is put inside the
    corner, and one that sits right in it is moved there, about one and a half steps from the lines. Only lines that run
    straight for some steps make corners; crumbled ones do not."""
    flags = line_flags(mesh, creases)
    straight = flags & (ways_and_chords(mesh, creases, JAGS * length)[1] > LONG * length)
    sectors = _sharp_sectors(mesh, field, flags, straight)
    if not sectors:
        return field
    topology = mesh.topology
    on_line = np.zeros(mesh.n_points, bool)
    on_line[topology.edge_points[flags]] = True
    far = dijkstra(_graph(mesh, np.ones(topology.n_edges, bool)), indices=np.flatnonzero(on_line), directed=False,
                   min_only=True)  # fmt: skip
    inside = _graph(mesh, np.asarray(~on_line[topology.edge_points].any(axis=1)))
    jump = np.zeros(mesh.n_corners, np.int64)
    taken = field.index != 0
    for spokes, turns in sectors:
        free = [p for p in (int(mesh.corners[topology.next[c]]) for c in spokes) if not on_line[p]]
        if not free:
            continue
        first = [int(mesh.corners[spokes[0]])]
        if turns > 0:
            steps = dijkstra(inside, directed=False, indices=free, min_only=True)
            close = np.flatnonzero((field.index == 1) & (steps < 1.2 * length) & (far < 0.8 * length))
            if len(close) == 0:
                continue
            free, first = [int(close[np.argmin(steps[close])])], []
        steps, before, _ = dijkstra(inside, directed=False, indices=free, return_predecessors=True, min_only=True)
        reached = np.isfinite(steps) & ~taken
        if not reached.any():
            continue
        wanted = min(1.5 * length, 0.999 * float(far[reached].max()))
        goal = int(np.argmin(np.where(reached & (far >= wanted), steps, np.inf)))
        taken[goal] = True
        way = [goal]
        while before[way[-1]] >= 0:
            way.append(int(before[way[-1]]))
        jump += way_jumps(mesh, first + way[::-1])
    return resolved(mesh, field, creases, jump)


def _graph(mesh: PolyMesh, edges: Bools) -> sparse.csr_array:
    a, b = mesh.topology.edge_points[edges].T
    n = mesh.n_points
    return sparse.coo_array((edge_lengths(mesh)[edges], (a, b)), shape=(n, n)).tocsr()


LONG = 2.5
"""Steps that both lines of a corner have to run straight for it to be one."""


def _sharp_sectors(mesh: PolyMesh, field: Field, flags: Bools, straight: Bools) -> list[tuple[list[int], int]]:
    """Corners of under 60° between two lines, and those over which the field makes no quarter turn: the half-edges that
    leave the point inside each, and how many quarter turns there are."""
    topology = mesh.topology
    angle = corner_angles(mesh)
    residual = field_turns(mesh, field.direction, face_normals(mesh))[1]
    out = []
    for first in np.flatnonzero(straight[topology.edge]).tolist():
        total, turned, inner = 0.0, 0.0, []
        c = first
        while True:
            total += float(angle[c])
            p = int(topology.prev[c])
            if topology.twin[p] < 0 or flags[topology.edge[p]]:
                break
            c = int(topology.twin[p])
            if c == first:
                break
            inner.append(c)
            turned += float(residual[c])
        turns = round((total - turned) / (0.5 * np.pi))
        if inner and straight[topology.edge[topology.prev[c]]] and (turns <= 0 or total < np.radians(60.0)):
            out.append((inner, turns))
    return out
