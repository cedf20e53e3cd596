"""What is in a source and what is wrong with it."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.edits import faces_turned
from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.source.placing import standing_axis
from jacket.core.source.weld import weld_map
from jacket.core.source.winding import uneven_faces

SPIKE = 1.2
"""Angles round an inner point of a spike add up to less than this, in radians (a cube's corner has 4.7)."""


@dataclass(frozen=True)
class Health:
    """Counts and sizes of a mesh. Points at one position count as one.

    size and diagonal in the mesh's units, area in their square; `volume` is signed and only given where
    the mesh is closed; `density_spread` is the 95th by the 5th percentile of the edges' lengths;
    `up` is the axis it seems to stand on, or nothing.
    """

    points: int
    faces: int
    triangles: int
    size: tuple[float, float, float]
    diagonal: float
    area: float
    volume: float | None
    up: str
    borders: int
    border_perimeters: tuple[float, ...]
    nonmanifold_edges: int
    nonmanifold_points: int
    parts: int
    part_faces: tuple[int, ...]
    duplicate_faces: int
    degenerate_faces: int
    winding_edges: int
    inside_out_parts: int
    spikes: int
    strays: int
    density_spread: float
    euler: int
    groups: int
    materials: int
    has_uvs: bool
    has_colours: bool
    left_out: tuple[str, ...]
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


def whole_faces(mesh: PolyMesh) -> tuple[PolyMesh, int]:
    """The mesh without faces that name a point twice, and how many those were: they have no area and would tie
    edges to themselves."""
    starts, corners = mesh.starts, mesh.corners
    bad = _names_twice(corners, starts)
    if not bad.any():
        return mesh, 0
    keep = ~bad
    sizes = np.diff(starts)
    kept = np.zeros(int(keep.sum()) + 1, np.int32)
    np.cumsum(sizes[keep], out=kept[1:])
    return PolyMesh(mesh.points, corners[np.repeat(keep, sizes)], kept), int(bad.sum())


@kernel
def _names_twice(corners, starts):
    out = np.zeros(len(starts) - 1, np.bool_)
    for f in range(len(starts) - 1):
        for c in range(starts[f], starts[f + 1]):
            for d in range(c + 1, starts[f + 1]):
                out[f] = out[f] or corners[c] == corners[d]
    return out


def border_perimeters(mesh: PolyMesh) -> list[float]:
    """Lengths of all borders, the longest first. Where neighbours run against each other they are evened first,
    so that a border is one however the faces along it run."""
    if len(winding_edges(mesh)):
        mesh = faces_turned(mesh, uneven_faces(mesh))
    lengths, topology = edge_lengths(mesh), mesh.topology
    return sorted((float(lengths[topology.edge[loop]].sum()) for loop in topology.border_loops), reverse=True)


def duplicate_faces(mesh: PolyMesh) -> Ints:
    """Faces that repeat the points of an earlier one, in any order; triangles and quads."""
    topology = mesh.topology
    return np.flatnonzero(_repeats(mesh.corners, mesh.starts, topology.ring_start, topology.ring,
                                   mesh.face_of_corner)).astype(np.int32)  # fmt: skip


@kernel
def _repeats(corners, starts, ring_start, ring, face_of):
    """Compare each face with the earlier ones around its rarest point, as sets of points."""
    out = np.zeros(len(starts) - 1, np.bool_)
    for f in range(len(starts) - 1):
        a, b = starts[f], starts[f + 1]
        if b - a > 4:
            continue
        best = corners[a]
        for c in range(a + 1, b):
            p = corners[c]
            if ring_start[p + 1] - ring_start[p] < ring_start[best + 1] - ring_start[best]:
                best = p
        for j in range(ring_start[best], ring_start[best + 1]):
            g = face_of[ring[j]]
            if g >= f or starts[g + 1] - starts[g] != b - a:
                continue
            same = True
            for c in range(a, b):
                found = False
                for d in range(starts[g], starts[g + 1]):
                    found = found or corners[d] == corners[c]
                same = same and found
            if same:
                out[f] = True
                break
    return out


def degenerate_faces(mesh: PolyMesh) -> Ints:
    """Faces whose area is nothing beside their own longest edge squared (under 1e-12 of it)."""
    return np.flatnonzero(_flat_faces(mesh.points, mesh.corners, mesh.starts)).astype(np.int32)


@kernel
def _flat_faces(points, corners, starts):
    out = np.zeros(len(starts) - 1, np.bool_)
    for f in range(len(starts) - 1):
        a, b = starts[f], starts[f + 1]
        longest, area = 0.0, 0.0
        for c in range(a, b):
            p, q = corners[c], corners[c + 1 if c + 1 < b else a]
            d = (
                (points[p, 0] - points[q, 0]) ** 2
                + (points[p, 1] - points[q, 1]) ** 2
                + (points[p, 2] - points[q, 2]) ** 2
            )
            longest = max(longest, d)
            if a < c < b - 1:
                o, q = corners[a], corners[c + 1]
                ux, uy, uz = points[p, 0] - points[o, 0], points[p, 1] - points[o, 1], points[p, 2] - points[o, 2]
                vx, vy, vz = points[q, 0] - points[o, 0], points[q, 1] - points[o, 1], points[q, 2] - points[o, 2]
                nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
                area += 0.5 * np.sqrt(nx * nx + ny * ny + nz * nz)
        out[f] = area <= 1e-12 * longest
    return out


def nonmanifold_points(mesh: PolyMesh) -> Ints:
    """Points where faces meet in more than one fan, joined by nothing but the point."""
    topology = mesh.topology
    fans, origin = corner_orbits(topology.next, topology.prev, np.maximum(topology.twin, -1), mesh.corners)
    del fans
    count = np.bincount(origin, minlength=mesh.n_points)
    # At non-manifold edges fans end as at a border; those points are not counted twice.
    count[topology.edge_points[topology.nonmanifold_edges].ravel()] = 1
    return np.flatnonzero(count > 1).astype(np.int32)


def winding_edges(mesh: PolyMesh) -> Ints:
    """Edges of exactly two faces that run the same way: one of the two is turned over."""
    topology = mesh.topology
    twice = topology.edge_uses == 2
    return np.flatnonzero(twice & (topology.twin[topology.edge_corner] == -2)).astype(np.int32)


def part_volumes(mesh: PolyMesh, count: int, labels: Ints) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """(P,) signed volume of each part and whether it is closed with even winding."""
    topology = mesh.topology
    middle = mesh.points.mean(axis=0) if mesh.n_points else np.zeros(3)
    volumes = _volumes(mesh.points, middle, mesh.corners, mesh.starts, labels, count)
    closed = np.ones(count, bool)
    closed[labels[mesh.face_of_corner[np.flatnonzero(topology.twin < 0)]]] = False
    return volumes, closed


def inside_out(mesh: PolyMesh, count: int, labels: Ints) -> NDArray[np.bool_]:
    """(P,) parts that are closed, or as good as closed, face inwards and are not the hollow of another: those lie in the box of a larger
    part that faces outwards, and have to face into their hollow."""
    volumes, closed = _shut(mesh, count, labels, *part_volumes(mesh, count, labels))
    out = np.asarray(closed & (volumes < 0))
    if not out.any() or not (closed & (volumes > 0)).any():
        return out
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    part = labels[mesh.face_of_corner]
    np.minimum.at(low, part, mesh.points[mesh.corners])
    np.maximum.at(high, part, mesh.points[mesh.corners])
    outer = np.flatnonzero(closed & (volumes > 0))
    for k in np.flatnonzero(out).tolist():
        around = (low[outer] <= low[k]).all(axis=1) & (high[outer] >= high[k]).all(axis=1)
        out[k] = not (around & (volumes[outer] > -volumes[k])).any()
    return out


OPENING = 0.25
"""Share of its area that the openings of a part make up at most which still has an inside: a bust cut off flat has, a bowl has not."""


def _shut(
    mesh: PolyMesh, count: int, labels: Ints, volumes: NDArray[np.float64], closed: NDArray[np.bool_]
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """(P,) volumes of parts whose openings are spanned from their middles, and whether each is closed but for small ones."""
    loops = mesh.topology.border_loops
    if not loops:
        return volumes, closed
    corner, loop = np.concatenate(loops), np.repeat(np.arange(len(loops)), [len(ring) for ring in loops])
    part = labels[mesh.face_of_corner[corner]]
    at = mesh.points - mesh.points.mean(axis=0)
    begin, end = at[mesh.corners[corner]], at[mesh.corners[mesh.topology.next[corner]]]
    middle = (np.stack([np.bincount(loop, begin[:, k]) for k in range(3)], axis=1) / np.bincount(loop)[:, None])[loop]
    spanned = np.bincount(part, np.einsum("ij,ij->i", middle, np.cross(end, begin)) / 6.0, minlength=count)
    area = np.bincount(part, 0.5 * np.linalg.norm(np.cross(begin - middle, end - middle), axis=1), minlength=count)
    own = np.bincount(labels, face_areas(mesh), minlength=count)
    uneven = np.zeros(count, bool)
    uneven[labels[mesh.face_of_corner[np.flatnonzero(mesh.topology.twin < -1)]]] = True
    return volumes + spanned, closed | ~uneven & (area <= OPENING * own)


@kernel
def _volumes(points, middle, corners, starts, labels, count):
    out = np.zeros(count)
    for f in range(len(starts) - 1):
        a = corners[starts[f]]
        ax, ay, az = points[a, 0] - middle[0], points[a, 1] - middle[1], points[a, 2] - middle[2]
        for c in range(starts[f] + 1, starts[f + 1] - 1):
            p, q = corners[c], corners[c + 1]
            px, py, pz = points[p, 0] - middle[0], points[p, 1] - middle[1], points[p, 2] - middle[2]
            qx, qy, qz = points[q, 0] - middle[0], points[q, 1] - middle[1], points[q, 2] - middle[2]
            out[labels[f]] += (ax * (py * qz - pz * qy) + ay * (pz * qx - px * qz) + az * (px * qy - py * qx)) / 6.0
    return out


STRAY = 10.0
"""So many times as far from the middle as nearly all others (the 99th percentile) a point is a stray."""


def stray_flags(points: Floats) -> Bools:
    """(V,) the few points that lie far from the mass of all others, and make it a speck in any box round everything."""
    if len(points) < 50:
        return np.zeros(len(points), bool)
    far = np.linalg.norm(points - np.median(points, axis=0), axis=1)
    return np.asarray(far > STRAY * max(float(np.percentile(far, 99)), 1e-300))


def spikes(mesh: PolyMesh) -> Ints:
    """Inner points whose angles add up to less than `SPIKE`: a needle that noise or a stray edit left."""
    total = _angle_sums(mesh.points, mesh.corners, mesh.starts, mesh.topology.next, mesh.topology.prev)
    inner = ~mesh.topology.border_points & (np.diff(mesh.topology.ring_start) > 0)
    return np.flatnonzero(inner & (total < SPIKE)).astype(np.int32)


@kernel
def _angle_sums(points, corners, starts, nxt, prv):
    out = np.zeros(len(points))
    for c in range(len(corners)):
        p, q, r = corners[c], corners[nxt[c]], corners[prv[c]]
        ux, uy, uz = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
        vx, vy, vz = points[r, 0] - points[p, 0], points[r, 1] - points[p, 1], points[r, 2] - points[p, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        out[p] += np.arctan2(np.sqrt(nx * nx + ny * ny + nz * nz), ux * vx + uy * vy + uz * vz)
    return out


@kernel
def _area(points, corners, starts):
    total = 0.0
    for f in range(len(starts) - 1):
        x, y, z = 0.0, 0.0, 0.0
        o = corners[starts[f]]
        for c in range(starts[f] + 1, starts[f + 1] - 1):
            p, q = corners[c], corners[c + 1]
            ux, uy, uz = points[p, 0] - points[o, 0], points[p, 1] - points[o, 1], points[p, 2] - points[o, 2]
            vx, vy, vz = points[q, 0] - points[o, 0], points[q, 1] - points[o, 1], points[q, 2] - points[o, 2]
            x += uy * vz - uz * vy
            y += uz * vx - ux * vz
            z += ux * vy - uy * vx
        total += 0.5 * np.sqrt(x * x + y * y + z * z)
    return total


def examine(mesh: PolyMesh) -> Health:
    """Count everything `Health` holds. Points at one position count as one (STL has no others)."""
    joined, collapsed = whole_faces(welded_copy(mesh))
    topology = joined.topology
    lengths = edge_lengths(joined)
    perimeters = border_perimeters(joined)
    count, labels = face_parts(joined)
    volumes, closed = part_volumes(joined, count, labels)
    part_faces = np.sort(np.bincount(labels, minlength=count))[::-1]
    low, high = joined.box
    duplicates, degenerate = len(duplicate_faces(joined)), len(degenerate_faces(joined)) + collapsed
    winding = len(winding_edges(joined))
    edges, points = len(topology.nonmanifold_edges) - winding, len(nonmanifold_points(joined))
    turned = int(inside_out(joined, count, labels).sum())
    lengths_seen = lengths[:: max(1, len(lengths) // 500_000)]
    fine, coarse = np.percentile(lengths_seen, [5, 95]) if len(lengths_seen) else (0.0, 0.0)
    used = np.diff(topology.ring_start) > 0
    faults = edges or points or perimeters or duplicates or degenerate or winding or turned
    return Health(
        points=mesh.n_points, faces=mesh.n_faces, triangles=int((mesh.sizes - 2).sum()),
        size=tuple((high - low).tolist()), diagonal=joined.diagonal,
        area=_area(joined.points, joined.corners, joined.starts),
        volume=float(volumes.sum()) if closed.all() else None, up=standing_axis(joined.points),
        borders=len(perimeters), border_perimeters=tuple(perimeters[:200]), nonmanifold_edges=edges,
        nonmanifold_points=points, parts=count, part_faces=tuple(part_faces[:200].tolist()),
        duplicate_faces=duplicates, degenerate_faces=degenerate, winding_edges=winding,
        inside_out_parts=turned, spikes=len(spikes(joined)), strays=int(stray_flags(joined.points).sum()),
        density_spread=float(coarse / fine) if fine > 0 else float("inf"),
        euler=int(used.sum()) - topology.n_edges + joined.n_faces, groups=len(mesh.groups),
        materials=len(mesh.materials), has_uvs=mesh.uv is not None, has_colours="colour" in mesh.point_data,
        left_out=tuple(m.left_out for m in mesh.materials if m.left_out),
        sound=not faults and count == 1,
    )  # fmt: skip
