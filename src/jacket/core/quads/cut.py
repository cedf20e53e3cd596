"""Cutting a base mesh to disks through its singular points, with the crosses combed within each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.geometry import face_normals
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.quads.field import Field


@dataclass(frozen=True, eq=False)
class CutMesh:
    """frames    (F, 3) the u direction of each triangle, combed so that it agrees across uncut edges
    turn      (C,) quarter turns across each half-edge after combing; 0 off the cut
    cut       (C,) flags of half-edges on the cut (borders are not among them)
    corner_class   (C,) the point of the cut mesh at each corner
    n_classes
    segments  runs of cut half-edges between nodes, each listed from one of its two sides
    """

    frames: Floats
    turn: Ints
    cut: Bools
    corner_class: Ints
    n_classes: int
    segments: list[Ints]


def cut_mesh(mesh: PolyMesh, field: Field) -> CutMesh:
    """Comb along a spanning tree of the triangles, then prune the edges it did not cross."""
    topology = mesh.topology
    rotation, crossed = _comb(topology.next, topology.twin, field.turn, mesh.n_faces)
    turn = _combed_turns(field.turn, rotation, topology.twin)
    frames = _rotated(field.direction, rotation, face_normals(mesh))
    keep = field.index != 0
    cut_edge = _pruned(topology.edge, topology.twin, crossed, topology.edge_points, keep, topology.border_points)
    cut = cut_edge[topology.edge]
    apart = np.where(cut, -1, topology.twin).astype(np.int32)
    classes, origin = corner_orbits(topology.next, topology.prev, apart, mesh.corners)
    return CutMesh(frames, turn, cut, classes, len(origin), _segments(mesh, cut, keep))


@kernel
def _comb(following, twin, turn, n_faces):
    """Breadth-first over triangles: (F,) quarter turns that comb each, (C,) half-edges crossed."""
    rotation = np.full(n_faces, -1, np.int32)
    crossed = np.zeros(len(twin), np.bool_)
    queue = np.empty(n_faces, np.int32)
    for seed in range(n_faces):
        if rotation[seed] >= 0:
            continue
        rotation[seed] = 0
        queue[0] = seed
        head, tail = 0, 1
        while head < tail:
            f = queue[head]
            head += 1
            for c in range(3 * f, 3 * f + 3):
                t = twin[c]
                if t < 0:
                    continue
                g = t // 3
                if rotation[g] < 0:
                    # Direction m of f continues as m + turn of g; keep u on u.
                    rotation[g] = (rotation[f] + turn[c]) % 4
                    crossed[c] = crossed[t] = True
                    queue[tail] = g
                    tail += 1
    return rotation, crossed


def _combed_turns(turn: Ints, rotation: Ints, twin: Ints) -> Ints:
    inner = twin >= 0
    out = np.zeros_like(turn)
    faces = np.arange(len(turn)) // 3
    out[inner] = (turn[inner] + rotation[faces[inner]] - rotation[twin[inner] // 3]) % 4
    return out


def _rotated(direction: Floats, rotation: Ints, normals: Floats) -> Floats:
    """Each direction turned by its number of quarters about its normal."""
    side = np.cross(normals, direction)
    choices = np.stack([direction, side, -direction, -side])
    return choices[rotation, np.arange(len(direction))]


@kernel
def _pruned(edge, twin, crossed, edge_points, keep, border):
    """(E,) flags of the cut: uncrossed inner edges, with loose ends removed at regular points."""
    n_edges = len(edge_points)
    cut = np.zeros(n_edges, np.bool_)
    for c in range(len(edge)):
        if twin[c] >= 0 and not crossed[c]:
            cut[edge[c]] = True
    n_points = len(keep)
    degree = np.zeros(n_points, np.int32)
    for e in range(n_edges):
        if cut[e]:
            degree[edge_points[e, 0]] += 1
            degree[edge_points[e, 1]] += 1
    start = np.zeros(n_points + 1, np.int32)
    for p in range(n_points):
        start[p + 1] = start[p] + degree[p]
    fill = start[:-1].copy()
    around = np.empty(start[-1], np.int32)
    for e in range(n_edges):
        if cut[e]:
            for k in range(2):
                around[fill[edge_points[e, k]]] = e
                fill[edge_points[e, k]] += 1
    for first in range(n_points):
        p = first
        while degree[p] == 1 and not keep[p] and not border[p]:
            e = -1
            for k in range(start[p], start[p + 1]):
                if cut[around[k]]:
                    e = around[k]
            cut[e] = False
            degree[p] = 0
            p = edge_points[e, 0] + edge_points[e, 1] - p
            degree[p] -= 1
    return cut


def _segments(mesh: PolyMesh, cut: Bools, singular: Bools) -> list[Ints]:
    topology = mesh.topology
    edges = np.unique(topology.edge[cut])
    degree = np.bincount(topology.edge_points[edges].ravel(), minlength=mesh.n_points)
    node = (degree != 2) | singular | topology.border_points
    starts = np.flatnonzero(cut & node[mesh.corners])
    seen = np.zeros(topology.n_edges, bool)
    out = [_trace(mesh, cut, node, int(c), seen) for c in starts.tolist() if not seen[topology.edge[c]]]
    # Closed cuts that meet no node at all, as on a torus without singular points.
    out += [_trace(mesh, cut, node, int(c), seen) for c in np.flatnonzero(cut).tolist() if not seen[topology.edge[c]]]
    return [segment for segment in out if len(segment)]


def _trace(mesh: PolyMesh, cut: Bools, node: NDArray[np.bool_], corner: int, seen: Bools) -> Ints:
    """Cut half-edges from `corner` on, along one side, up to the next node."""
    topology = mesh.topology
    if seen[topology.edge[corner]]:
        return np.zeros(0, np.int32)
    out = []
    c = corner
    while not seen[topology.edge[c]]:
        seen[topology.edge[c]] = True
        out.append(c)
        c = int(topology.next[c])
        if node[mesh.corners[c]]:
            break
        while not cut[c]:
            c = int(topology.next[topology.twin[c]])
    return np.array(out, np.int32)
