"""What is in a source and what is wrong with it."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.source.weld import weld_map


@dataclass(frozen=True)
class Health:
    """Counts and sizes of a mesh; the index arrays point at the offenders in `welded`."""

    points: int
    faces: int
    triangles: int
    size: tuple[float, float, float]
    diagonal: float
    area: float
    borders: int
    border_perimeters: tuple[float, ...]
    nonmanifold_edges: int
    parts: int
    part_faces: tuple[int, ...]
    duplicate_faces: int
    degenerate_faces: int
    euler: int
    sound: bool

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a JSON report."""
        return asdict(self)


def welded_copy(mesh: PolyMesh) -> PolyMesh:
    """The faces over points joined where their positions are equal; face count is kept."""
    kept, new = weld_map(mesh.points)
    if len(kept) == mesh.n_points:
        return mesh
    return PolyMesh(mesh.points[kept], new[mesh.corners], mesh.starts)


def duplicate_faces(mesh: PolyMesh) -> Ints:
    """Faces that repeat the points of an earlier one, in any order; triangles and quads."""
    out: list[NDArray[np.signedinteger]] = []
    for size in (3, 4):
        ids = np.flatnonzero(mesh.sizes == size)
        if len(ids) == 0:
            continue
        rows = np.sort(mesh.corners[mesh.starts[ids][:, None] + np.arange(size)], axis=1)
        order = np.lexsort(rows.T[::-1])
        same = (rows[order[1:]] == rows[order[:-1]]).all(axis=1)
        out.append(ids[order[1:][same]])
    return np.sort(np.concatenate(out)).astype(np.int32) if out else np.zeros(0, np.int32)


def degenerate_faces(mesh: PolyMesh) -> Ints:
    """Faces whose area is nothing beside their own longest edge squared (under 1e-12 of it)."""
    lengths = edge_lengths(mesh)[mesh.topology.edge]
    longest = np.zeros(mesh.n_faces)
    np.maximum.at(longest, mesh.face_of_corner, lengths)
    return np.flatnonzero(face_areas(mesh) <= 1e-12 * longest**2).astype(np.int32)


def examine(mesh: PolyMesh) -> Health:
    """Count everything `Health` holds. Points at one position count as one (STL has no others)."""
    joined = welded_copy(mesh)
    topology = joined.topology
    lengths = edge_lengths(joined)
    loops = topology.border_loops
    perimeters = sorted((float(lengths[topology.edge[loop]].sum()) for loop in loops), reverse=True)
    count, labels = face_parts(joined)
    part_faces = np.sort(np.bincount(labels, minlength=count))[::-1]
    low, high = joined.points.min(axis=0), joined.points.max(axis=0)
    duplicates, degenerate = duplicate_faces(joined), degenerate_faces(joined)
    bad = len(topology.nonmanifold_edges)
    return Health(
        points=mesh.n_points,
        faces=mesh.n_faces,
        triangles=len(mesh.triangles),
        size=tuple((high - low).tolist()),
        diagonal=joined.diagonal,
        area=float(face_areas(joined).sum()),
        borders=len(loops),
        border_perimeters=tuple(perimeters[:50]),
        nonmanifold_edges=bad,
        parts=count,
        part_faces=tuple(part_faces[:50].tolist()),
        duplicate_faces=len(duplicates),
        degenerate_faces=len(degenerate),
        euler=euler_characteristic(joined),
        sound=not (bad or loops or len(duplicates) or len(degenerate) or count != 1),
    )
