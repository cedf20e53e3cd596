"""Catmull–Clark surfaces: the smoothed preview of a jacket and its limit.

E. Catmull and J. Clark, "Recursively generated B-spline surfaces on arbitrary topological meshes", 1978; borders and
sharp edges after T. DeRose, M. Kass and T. Truong, "Subdivision surfaces in character animation", 1998.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh

WEIGHT = "weight:"
"""Marks of this name and a number hold the edges of that sharpness; edges marked "sharp" stay sharp for ever."""


@dataclass(frozen=True, eq=False)
class Smoothed:
    """mesh; edges (S, 2) of it that lie on edges of the mesh it was made from; sharpness (E,) left on its edges."""

    mesh: PolyMesh
    lines: Ints
    sharpness: Floats


def edge_sharpness(mesh: PolyMesh) -> Floats:
    """(E,) sharpness of each edge from its marks; infinite on borders and on edges marked sharp."""
    topology = mesh.topology
    out = np.zeros(topology.n_edges)
    for name in mesh.marks:
        if name.startswith(WEIGHT):
            found = topology.find_edges(mesh.mark(name))
            out[found[found >= 0]] = float(name[len(WEIGHT) :])
    found = topology.find_edges(mesh.mark("sharp"))
    out[found[found >= 0]] = np.inf
    out[topology.edge_uses != 2] = np.inf
    return out


def with_sharpness(mesh: PolyMesh, edges: Ints, weight: float) -> PolyMesh:
    """The mesh with edges (ids) given a sharpness; 0 takes it away, from 10 up they are marked sharp."""
    pairs = {tuple(p) for p in mesh.topology.edge_points[edges].tolist()}
    marks = dict(mesh.marks)
    for name in [n for n in marks if n.startswith(WEIGHT) or n == "sharp"]:
        rest = [p for p in marks[name].tolist() if tuple(sorted(p)) not in pairs]
        marks[name] = np.array(rest, np.int32).reshape(-1, 2)
    new = mesh.with_(marks={k: v for k, v in marks.items() if len(v) or not k.startswith(WEIGHT)})
    if weight <= 0:
        return new
    name = "sharp" if weight >= 10 else f"{WEIGHT}{weight:g}"
    return new.with_mark(name, [*new.mark(name).tolist(), *map(list, pairs)])


def smoothed(mesh: PolyMesh, rounds: int) -> Smoothed:
    """A mesh subdivided `rounds` times. Every face with k corners becomes k quads."""
    topology = mesh.topology
    state = Smoothed(mesh, topology.edge_points.astype(np.int32), edge_sharpness(mesh))
    for _ in range(rounds):
        state = _once(state)
    return state


def _once(state: Smoothed) -> Smoothed:
    mesh, sharp = state.mesh, state.sharpness
    topology, points = mesh.topology, mesh.points
    ends = topology.edge_points
    n, e = mesh.n_points, topology.n_edges
    face_points = np.zeros((mesh.n_faces, 3))
    np.add.at(face_points, mesh.face_of_corner, points[mesh.corners])
    face_points /= mesh.sizes[:, None]
    middle = points[ends].mean(axis=1)
    beside = np.zeros((e, 3))
    np.add.at(beside, topology.edge, face_points[mesh.face_of_corner])
    soft = (points[ends].sum(axis=1) + beside) / 4
    share = np.clip(sharp, 0, 1)[:, None]
    edge_points = np.where(share >= 1, middle, soft * (1 - share) + middle * share)
    new_points = np.concatenate([_vertices(mesh, face_points, middle, sharp), edge_points, face_points])
    corner = np.arange(mesh.n_corners)
    quads = np.stack([mesh.corners[corner], n + topology.edge[corner], n + e + mesh.face_of_corner,
                      n + topology.edge[topology.prev[corner]]], axis=1)  # fmt: skip
    new = PolyMesh.from_faces(new_points, quads)
    lines = state.lines
    found = topology.find_edges(lines) if len(lines) else np.zeros(0, np.int32)
    split = np.concatenate([np.stack([lines[:, 0], n + found], 1), np.stack([n + found, lines[:, 1]], 1)])
    left = np.zeros(new.topology.n_edges)
    hard = np.flatnonzero(sharp > 1)
    for k in range(2):
        children = new.topology.find_edges(np.stack([ends[hard, k], n + hard], axis=1))
        left[children] = sharp[hard] - 1
    left[new.topology.edge_uses != 2] = np.inf
    return Smoothed(new, split.astype(np.int32), left)


def _vertices(mesh: PolyMesh, face_points: Floats, middle: Floats, sharp: Floats) -> Floats:
    """(V, 3) new places of the old points: (Q + 2 R + (n − 3) S) / n inside, (a + 6 S + b) / 8 along a sharp line,
    S where three sharp lines meet or one ends at a border; in between by the mean sharpness there."""
    topology, points = mesh.topology, mesh.points
    ends = topology.edge_points
    count = np.maximum(np.bincount(mesh.corners, minlength=mesh.n_points), 1)[:, None]
    q = np.zeros_like(points)
    np.add.at(q, mesh.corners, face_points[mesh.face_of_corner])
    r = np.zeros_like(points)
    valence = np.zeros(mesh.n_points)
    along = np.zeros_like(points)
    lines = np.zeros(mesh.n_points)
    weight = np.zeros(mesh.n_points)
    for k in range(2):
        np.add.at(r, ends[:, k], middle)
        np.add.at(valence, ends[:, k], 1)
        hard = sharp > 0
        np.add.at(along, ends[hard, k], points[ends[hard, 1 - k]])
        np.add.at(lines, ends[hard, k], 1)
        np.add.at(weight, ends[hard, k], np.minimum(sharp[hard], 1))
    valence = np.maximum(valence, 1)[:, None]
    soft = (q / count + 2 * r / valence + (valence - 3) * points) / valence
    crease = (along + 6 * points) / 8
    share = np.clip(weight / np.maximum(lines, 1), 0, 1)[:, None]
    out = np.where((lines == 2)[:, None], soft * (1 - share) + crease * share, soft)
    out = np.where((lines > 2)[:, None], soft * (1 - share) + points * share, out)
    loose = (np.bincount(mesh.corners, minlength=mesh.n_points) == 0)[:, None]
    return np.where(loose, points, out)


def limit_points(mesh: PolyMesh) -> Floats:
    """(V, 3) where the inner points of a closed quad mesh end up: (n² S + 4 Σ e + Σ f) / (n (n + 5)) with the
    neighbours e along edges and f across faces after one round (M. Halstead, M. Kass and T. DeRose, "Efficient,
    fair interpolation using Catmull–Clark surfaces", 1993)."""
    once = smoothed(mesh, 1).mesh
    topology = once.topology
    ends = topology.edge_points
    n = np.zeros(once.n_points)
    total = np.zeros_like(once.points)
    for k in range(2):
        np.add.at(n, ends[:, k], 1)
        np.add.at(total, ends[:, k], 4 * once.points[ends[:, 1 - k]])
    quads = once.as_quads()
    for k in range(4):
        np.add.at(total, quads[:, k], once.points[quads[:, (k + 2) % 4]])
    n = np.maximum(n, 1)[:, None]
    return ((n**2 * once.points + total) / (n * (n + 5)))[: mesh.n_points]
