"""Checks of the source."""

from __future__ import annotations

import numpy as np

from jacket.core.checks.model import Check
from jacket.core.mesh.edits import faces_turned
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.source.health import (
    Health,
    degenerate_faces,
    duplicate_faces,
    inside_out,
    nonmanifold_points,
    spikes,
    stray_flags,
    welded_copy,
    whole_faces,
    winding_edges,
)
from jacket.core.source.winding import uneven_faces

SPREAD = 12.0
"""Edges whose 95th percentile is over so many times their 5th are called uneven."""


def source_checks(health: Health, crossings: Ints | None = None) -> list[Check]:
    """What `examine` found, as checks; self-intersections only where they were counted."""

    def count(id_: str, label: str, n: int, level: str = "wrong") -> Check:
        return Check(id_, label, f"{n:,}", level if n else "good", number=n)  # type: ignore[arg-type]

    several = "look" if health.parts > 1 else "good"
    spread = health.density_spread
    rows = [
        count("holes", "Holes", health.borders, "look"),
        count("nonmanifold", "Non-manifold edges", health.nonmanifold_edges),
        count("ties", "Non-manifold points", health.nonmanifold_points),
        Check("parts", "Loose parts", f"{health.parts:,}", several, number=health.parts),  # type: ignore[arg-type]
        count("winding", "Uneven winding", health.winding_edges),
        count("inside-out", "Inside out", health.inside_out_parts),
        count("duplicates", "Duplicate faces", health.duplicate_faces),
        count("degenerate", "Faces without area", health.degenerate_faces, "look"),
        count("spikes", "Spikes", health.spikes, "look"),
        count("strays", "Stray points", health.strays, "look"),
        Check("density", "Density spread", f"{spread:.1f} ×", "look" if spread > SPREAD else "good", number=spread),
    ]
    if crossings is not None:
        rows.append(count("crossings", "Self-intersections", len(crossings), "look"))
    return rows


def offenders(mesh: PolyMesh, check_id: str, crossings: Ints | None = None, most: int = 400) -> list[Floats]:
    """What a source check found, one entry an offender: (S, 2, 3) line segments to be lit in the form view. At
    most `most` entries; the last holds all that are left."""
    joined, _ = whole_faces(welded_copy(mesh))
    topology = joined.topology
    ends = joined.points[topology.edge_points]
    if check_id == "holes":
        if len(winding_edges(joined)):
            joined = faces_turned(joined, uneven_faces(joined))
            topology = joined.topology
        loops = sorted(topology.border_loops, key=lambda x: -len(x))
        return _shortened([ends[topology.edge[loop]] for loop in loops], most)
    if check_id in ("nonmanifold", "winding"):
        uneven = winding_edges(joined)
        edges = uneven if check_id == "winding" else np.setdiff1d(topology.nonmanifold_edges, uneven)
        return _shortened([ends[e : e + 1] for e in edges], most)
    if check_id in ("ties", "spikes", "strays"):
        points = {"ties": nonmanifold_points, "spikes": spikes, "strays": lambda m: np.flatnonzero(stray_flags(m.points))}[check_id](joined)
        start, around = topology.point_edges
        return _shortened([ends[around[start[p] : start[p + 1]]] for p in points], most)
    if check_id in ("parts", "inside-out"):
        count, labels = face_parts(joined)
        if check_id == "parts":
            order = np.argsort(-np.bincount(labels, minlength=count), kind="stable")[1:]
        else:
            order = np.flatnonzero(inside_out(joined, count, labels))
        return _shortened([_outline(joined, np.flatnonzero(labels == p)) for p in order[: most - 1]]
                          + ([_outline(joined, np.flatnonzero(np.isin(labels, order[most - 1 :])))]
                             if len(order) >= most else []), most)  # fmt: skip
    if check_id == "density":
        lengths = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
        coarse = np.argsort(-lengths, kind="stable")[: max(1, min(len(lengths) // 20, 20_000))]
        return [ends[coarse]]
    if check_id == "crossings":
        corner = mesh.points[mesh.triangle_points]
        rows = crossings if crossings is not None else np.zeros((0, 2), np.int32)
        return _shortened([_triangle_edges(corner[row]) for row in rows[: 4 * most]], most)
    faces = duplicate_faces(joined) if check_id == "duplicates" else degenerate_faces(joined)
    return _shortened([_outline(joined, faces[k : k + 1]) for k in range(len(faces))], most)


def places_uncovered(mesh: PolyMesh, far: Floats, reach: float, most: int = 100) -> list[Floats]:
    """Where no jacket is near: of every part of a mesh whose points all lie further than `reach` away, by distances (V,), the
    outline as line segments (S, 2, 3), the largest parts first; crumbs under a 5,000th of the area are left out."""
    bare = np.minimum.reduceat((far > reach)[mesh.corners], mesh.starts[:-1]) if mesh.n_faces else np.zeros(0, bool)
    faces = np.flatnonzero(bare)
    if len(faces) == 0:
        return []
    inside = np.zeros(mesh.n_faces, bool)
    inside[faces] = True
    topology = mesh.topology
    leads_out = (topology.twin < 0) | ~inside[mesh.face_of_corner[np.maximum(topology.twin, 0)]]
    rim = np.zeros(topology.n_edges, bool)
    rim[topology.edge[leads_out | ~inside[mesh.face_of_corner]]] = True
    count, labels = face_parts(mesh, rim)
    area = np.bincount(labels, np.where(inside, face_areas(mesh), 0.0), minlength=count)
    order = [int(k) for k in np.argsort(-area, kind="stable")[:most] if area[k] > 2e-4 * max(float(face_areas(mesh).sum()), 1e-300)]
    rims = np.flatnonzero(leads_out & inside[mesh.face_of_corner])
    part, ends = labels[mesh.face_of_corner[rims]], mesh.points[topology.edge_points[topology.edge[rims]]]
    return [ends[part == k] if (part == k).any() else _outline(mesh, np.flatnonzero((labels == k) & inside)) for k in order]


def _triangle_edges(corner: Floats) -> Floats:
    return np.concatenate([corner[:, [0, 1]], corner[:, [1, 2]], corner[:, [2, 0]]])


def _outline(mesh: PolyMesh, faces: Ints) -> Floats:
    """All edges of some faces, thinned out where there are very many."""
    flags = np.zeros(mesh.n_faces, bool)
    flags[faces] = True
    edges = np.unique(mesh.topology.edge[flags[mesh.face_of_corner]])
    edges = edges[:: max(1, len(edges) // 30_000)]
    return mesh.points[mesh.topology.edge_points[edges]]


def _shortened(rows: list[Floats], most: int) -> list[Floats]:
    if len(rows) <= most:
        return rows
    return [*rows[: most - 1], np.concatenate(rows[most - 1 :])]
