"""Which way faces run round: making neighbours agree."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.geometry import face_area_vectors
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh


def uneven_faces(mesh: PolyMesh) -> NDArray[np.bool_]:
    """(F,) faces to turn over so that neighbours across edges of two faces run the same way; within each patch the
    way of the larger area wins."""
    topology = mesh.topology
    return _consistent(topology.edge, topology.edge_uses, topology.edge_corner, mesh.corners, mesh.starts,
                       mesh.face_of_corner, _face_sizes(mesh))  # fmt: skip


def _face_sizes(mesh: PolyMesh) -> Floats:
    return np.linalg.norm(face_area_vectors(mesh), axis=1)


@kernel
def _consistent(edge, uses, edge_corner, corners, starts, face_of, areas):
    n = len(starts) - 1
    second = np.full(len(edge_corner), -1, np.int32)
    for c in range(len(edge)):
        if uses[edge[c]] == 2 and edge_corner[edge[c]] != c:
            second[edge[c]] = c
    flip = np.zeros(n, np.bool_)
    seen = np.zeros(n, np.bool_)
    stack = np.empty(n, np.int32)
    for first in range(n):
        if seen[first]:
            continue
        seen[first] = True
        stack[0] = first
        top, done = 1, 0
        kept, turned = 0.0, 0.0
        # A queue in the same array: what was taken stays behind `done` and names the patch.
        while done < top:
            f = stack[done]
            done += 1
            if flip[f]:
                turned += areas[f]
            else:
                kept += areas[f]
            for c in range(starts[f], starts[f + 1]):
                e = edge[c]
                if second[e] < 0:
                    continue
                d = second[e] if edge_corner[e] == c else edge_corner[e]
                g = face_of[d]
                if seen[g]:
                    continue
                same = corners[d] == corners[c]
                flip[g] = flip[f] != same
                seen[g] = True
                stack[top] = g
                top += 1
        if turned > kept:
            for k in range(top):
                flip[stack[k]] = not flip[stack[k]]
    return flip


def paired_twins(mesh: PolyMesh) -> Ints:
    """(C,) the half-edge across each, −1 for none, also where an edge has several faces: there each is joined with the one across
    the solid between them, told by the way they run, so that bodies which touch come apart closed (A. Guéziec et al., "Cutting
    and stitching: converting sets of polygons to manifold surfaces", 2001); what finds no partner is a border."""
    topology = mesh.topology
    twin = topology.twin.copy()
    bad = np.flatnonzero(twin == -2)
    if len(bad):
        order = np.argsort(topology.edge[bad], kind="stable")
        _pair(mesh.points, mesh.corners, topology.prev, topology.edge, topology.edge_points, bad[order], twin)
        twin[twin == -2] = -1
    return twin


@kernel
def _pair(points, corners, preceding, edge, edge_points, bad, twin):
    """Join half-edges (N,), sorted by their edge, in pairs across the solid between their faces."""
    begin = 0
    while begin < len(bad):
        end = begin
        while end < len(bad) and edge[bad[end]] == edge[bad[begin]]:
            end += 1
        n = end - begin
        a, b = edge_points[edge[bad[begin]], 0], edge_points[edge[bad[begin]], 1]
        t = points[b] - points[a]
        t = t / max(np.sqrt((t**2).sum()), 1e-300)
        angle, forward = np.empty(n), np.empty(n, np.bool_)
        u, v = np.zeros(3), np.zeros(3)
        for k in range(n):
            c = bad[begin + k]
            r = points[corners[preceding[c]]] - points[a]
            r = r - (r * t).sum() * t
            if k == 0:
                u = r / max(np.sqrt((r**2).sum()), 1e-300)
                v[0], v[1], v[2] = t[1] * u[2] - t[2] * u[1], t[2] * u[0] - t[0] * u[2], t[0] * u[1] - t[1] * u[0]
            angle[k] = np.arctan2((r * v).sum(), (r * u).sum()) % (2 * np.pi)
            forward[k] = corners[c] == a
        order = np.argsort(angle)
        # A face that runs backward along the edge has the solid ahead of it, one that runs forward behind it. They are matched
        # like brackets; going round twice closes those that were opened before the first face.
        waiting, count = np.empty(n, np.int64), 0
        done = np.zeros(n, np.bool_)
        for turn in range(2):
            for k in order:
                if done[k]:
                    continue
                if not forward[k]:
                    if turn == 0:
                        waiting[count] = k
                        count += 1
                elif count > 0:
                    count -= 1
                    other = waiting[count]
                    twin[bad[begin + k]], twin[bad[begin + other]] = bad[begin + other], bad[begin + k]
                    done[k] = done[other] = True
        begin = end
