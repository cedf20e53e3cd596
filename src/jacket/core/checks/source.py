"""Checks of the source."""

from __future__ import annotations

import numpy as np

from jacket.core.checks.model import Check
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.health import Health


def source_checks(health: Health) -> list[Check]:
    """What `examine` found, as checks."""

    def count(id_: str, label: str, n: int, level: str = "wrong") -> Check:
        return Check(id_, label, f"{n:,}", level if n else "good", number=n)  # type: ignore[arg-type]

    holes = count("holes", "Holes", health.borders, "look")
    parts = Check(
        "parts", "Loose parts", f"{health.parts:,}", "look" if health.parts > 1 else "good", number=health.parts
    )
    return [
        holes,
        count("nonmanifold", "Non-manifold edges", health.nonmanifold_edges),
        parts,
        count("duplicates", "Duplicate faces", health.duplicate_faces),
        count("degenerate", "Faces without area", health.degenerate_faces, "look"),
    ]


def offender_positions(mesh: PolyMesh, check_id: str) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    """(K, 2, 3) line segments that show the offenders of a source check in the form view."""
    from jacket.core.mesh.walks import face_parts
    from jacket.core.source.health import degenerate_faces, duplicate_faces, welded_copy

    joined = welded_copy(mesh)
    topology = joined.topology
    if check_id == "holes":
        edges = topology.border_edges
    elif check_id == "nonmanifold":
        edges = topology.nonmanifold_edges
    else:
        if check_id == "parts":
            labels = face_parts(joined)[1]
            faces = np.flatnonzero(labels != np.bincount(labels).argmax())
        elif check_id == "duplicates":
            faces = duplicate_faces(joined)
        else:
            faces = degenerate_faces(joined)
        edges = np.unique(topology.edge[np.isin(joined.face_of_corner, faces)])
    return joined.points[topology.edge_points[edges]]
