"""Sewing what need not be cut: chains of seams closed again where both sides lie flat as one."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts

CORNER = 40.0
"""Degrees of a turn at which a chain of seams ends: a carton's walls meet there."""


def chains(mesh: PolyMesh, cut: Bools, corner: float = CORNER) -> list[Ints]:
    """The seams of a mesh as chains of edges in order. They end where other than two seam edges meet, on the border, and where
    they turn off by more than an angle."""
    topology = mesh.topology
    flags = cut & (topology.edge_uses > 1)
    ends = topology.edge_points
    count = np.bincount(ends[flags].ravel(), minlength=mesh.n_points)
    stop = (count != 2) | topology.border_points
    start, around = topology.point_edges
    # The two seam edges at each point where there are just two.
    edges = np.flatnonzero(flags)
    both = np.concatenate([edges, edges])
    at = np.concatenate([ends[edges, 0], ends[edges, 1]])
    order = np.argsort(at, kind="stable")
    both, where = both[order], at[order]
    pair = np.flatnonzero((count[where] == 2) & (np.concatenate([[-1], where[:-1]]) != where))
    stop[where[pair]] |= _bends(mesh.points, ends, where[pair], both[pair], both[pair + 1]) > np.radians(corner)
    left = flags.copy()
    out: list[Ints] = []
    for first in [*np.flatnonzero(flags & stop[ends].any(axis=1)).tolist(), *np.flatnonzero(flags).tolist()]:
        if not left[first]:
            continue
        a, b = ends[first].tolist()
        begin = a if stop[a] or not stop[b] else b
        row, point, edge = [first], int(ends[first].sum() - begin), first
        left[first] = False
        while not stop[point] and point != begin:
            here = around[start[point] : start[point + 1]]
            edge = next((int(e) for e in here if left[e]), -1)
            if edge < 0:
                break
            left[edge] = False
            row.append(edge)
            point = int(ends[edge, 0]) + int(ends[edge, 1]) - point
        out.append(np.array(row, np.int32))
    return out


def _bends(points: Floats, ends: Ints, at: Ints, one: Ints, other: Ints) -> Floats:
    """(K,) radians by which ways through points from one edge to another leave the straight, in space."""
    a, b = (points[ends[e].sum(axis=1) - at] - points[at] for e in (one, other))
    cosine = -np.einsum("ij,ij->i", a, b) / np.maximum(np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1), 1e-300)
    return np.asarray(np.arccos(np.clip(cosine, -1, 1)))


def sides_of(mesh: PolyMesh, sides: Ints, cut: Bools, chain: Ints) -> tuple[int, int] | None:
    """The two parts along a chain by their numbers in `face_parts`, alike where it is cut into one part; None where it has
    more than two along it."""
    _, labels = face_parts(mesh, cut)
    pairs = np.sort(labels[sides[chain]], axis=1)
    return (int(pairs[0, 0]), int(pairs[0, 1])) if (pairs == pairs[0]).all() else None


def hinge_share(mesh: PolyMesh, sides: Ints, cut: Bools, chain: Ints, length: Floats) -> float:
    """How much of its way round the part with the shorter one shares with the other along a chain, edges having a `length` (E,); 1
    where both sides are one part."""
    _, labels = face_parts(mesh, cut)
    parts = np.unique(labels[sides[chain]])
    if len(parts) < 2:
        return 1.0
    topology = mesh.topology
    rim = np.flatnonzero(cut[topology.edge] | (topology.twin < 0))
    around = np.bincount(labels[mesh.face_of_corner[rim]], length[topology.edge[rim]], labels.max() + 1)
    return float(length[chain].sum() / max(float(around[parts].min()), 1e-300))


def partner_threads(mesh: PolyMesh, uv: Floats, cut: Bools, only: Bools | None = None) -> Floats:
    """(T, 2, 2) for every chain of seams the middles of its two sides on the sheet, where they lie apart; `only` flags (E,)
    edges of the chains that are meant."""
    topology = mesh.topology
    out = []
    for chain in chains(mesh, cut if only is None else cut & only, 180.0):
        corner = topology.edge_corner[chain[len(chain) // 2]]
        twin = topology.twin[corner]
        if twin < 0:
            continue
        ends = np.array([(uv[c] + uv[topology.next[c]]) / 2 for c in (corner, twin)])
        if np.isfinite(ends).all() and np.abs(ends[0] - ends[1]).max() > 1e-4:
            out.append(ends)
    return np.array(out).reshape(-1, 2, 2)
