"""Smoothing noise while keeping sharp edges.

Face normals are averaged with those of neighbours that point nearly the same way (bilateral weights: Zheng, Fu,
Au and Tai, "Bilateral normal filtering for mesh denoising", 2011, local scheme), then points are moved so that
faces take these normals (Sun, Rosin, Martin and Langbein, "Fast and effective feature-preserving mesh
denoising", 2007). Borders stay where they are.
"""

from __future__ import annotations

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.mend import Mend, points_joined
from jacket.errors import MeshError
from jacket.progress import Progress, silent


def noise_smoothed(mesh: PolyMesh, rounds: int, sharp: float, progress: Progress = silent) -> Mend:
    """Smooth over `rounds` rings of faces; edges that turn by more than `sharp` degrees are kept."""
    if not 1 <= rounds <= 100:
        raise MeshError(f"{rounds} rounds of smoothing make no sense; ask for 1 to 100.")
    if not 0 < sharp < 180:
        raise MeshError(f"A sharp angle of {sharp:g}° makes no sense; type 1 to 179.")
    joined = points_joined(mesh)
    topology = joined.topology
    # Normals that differ by the sharp angle count a tenth.
    chord = 2 * np.sin(np.radians(sharp) / 2)
    soft = chord * chord / np.log(10)
    points = joined.points.copy()
    normals, areas, centres = _faces(points, joined.corners, joined.starts)
    for k in range(rounds):
        progress(0.7 * k / rounds, "evening the normals")
        normals = _evened(normals, areas, centres, joined.corners, joined.starts, topology.ring_start,
                          topology.ring, joined.face_of_corner, soft)  # fmt: skip
    still = topology.border_points.copy()
    still[topology.edge_points[topology.nonmanifold_edges].ravel()] = True
    for k in range(2 * rounds + 6):
        progress(0.7 + 0.3 * k / (2 * rounds + 6), "moving the points")
        points = _fitted(points, normals, joined.corners, joined.starts, topology.ring_start, topology.ring,
                         joined.face_of_corner, still)  # fmt: skip
    far = np.linalg.norm(points - joined.points, axis=1)
    most = np.argsort(-far)[:4000]
    shown = most[far[most] > max(0.1 * float(far.max(initial=0.0)), 1e-12 * joined.diagonal)]
    lines = np.stack([joined.points[shown], points[shown]], axis=1)
    said = f"{int((far > 1e-9 * joined.diagonal).sum()):,} points move by {far.mean():.3g} on average, {far.max():.3g} at most"
    return Mend(joined.with_points(points), said, lines=lines)


@kernel
def _faces(points, corners, starts):
    """Unit normals, areas and centres of faces."""
    n = len(starts) - 1
    normals, areas, centres = np.zeros((n, 3)), np.zeros(n), np.zeros((n, 3))
    for f in range(n):
        a, b = starts[f], starts[f + 1]
        o = corners[a]
        for c in range(a, b):
            for k in range(3):
                centres[f, k] += points[corners[c], k] / (b - a)
            if a < c < b - 1:
                p, q = corners[c], corners[c + 1]
                ux, uy, uz = points[p, 0] - points[o, 0], points[p, 1] - points[o, 1], points[p, 2] - points[o, 2]
                vx, vy, vz = points[q, 0] - points[o, 0], points[q, 1] - points[o, 1], points[q, 2] - points[o, 2]
                normals[f, 0] += 0.5 * (uy * vz - uz * vy)
                normals[f, 1] += 0.5 * (uz * vx - ux * vz)
                normals[f, 2] += 0.5 * (ux * vy - uy * vx)
        size = np.sqrt(normals[f, 0] ** 2 + normals[f, 1] ** 2 + normals[f, 2] ** 2)
        areas[f] = size
        if size > 0:
            for k in range(3):
                normals[f, k] /= size
    return normals, areas, centres


@kernel
def _evened(normals, areas, centres, corners, starts, ring_start, ring, face_of, soft):
    """Bilateral mean over the faces that share a point."""
    out = np.empty_like(normals)
    for f in range(len(starts) - 1):
        reach = 0.0
        count = 0
        for c in range(starts[f], starts[f + 1]):
            for j in range(ring_start[corners[c]], ring_start[corners[c] + 1]):
                g = face_of[ring[j]]
                for k in range(3):
                    reach += (centres[f, k] - centres[g, k]) ** 2
                count += 1
        reach = 2.0 * reach / max(count, 1) + 1e-300
        x, y, z = areas[f] * normals[f, 0], areas[f] * normals[f, 1], areas[f] * normals[f, 2]
        for c in range(starts[f], starts[f + 1]):
            for j in range(ring_start[corners[c]], ring_start[corners[c] + 1]):
                g = face_of[ring[j]]
                if g == f:
                    continue
                far, turn = 0.0, 0.0
                for k in range(3):
                    far += (centres[f, k] - centres[g, k]) ** 2
                    turn += (normals[f, k] - normals[g, k]) ** 2
                w = areas[g] * np.exp(-far / reach - turn / soft)
                x += w * normals[g, 0]
                y += w * normals[g, 1]
                z += w * normals[g, 2]
        size = np.sqrt(x * x + y * y + z * z)
        if size > 0:
            out[f, 0], out[f, 1], out[f, 2] = x / size, y / size, z / size
        else:
            out[f] = normals[f]
    return out


@kernel
def _fitted(points, normals, corners, starts, ring_start, ring, face_of, still):
    """Points moved along the wanted normals of their faces, towards the planes through the faces' centres."""
    out = points.copy()
    for p in range(len(ring_start) - 1):
        n = ring_start[p + 1] - ring_start[p]
        if still[p] or n == 0:
            continue
        dx, dy, dz = 0.0, 0.0, 0.0
        for j in range(ring_start[p], ring_start[p + 1]):
            f = face_of[ring[j]]
            a, b = starts[f], starts[f + 1]
            away = 0.0
            for c in range(a, b):
                q = corners[c]
                for k in range(3):
                    away += normals[f, k] * (points[q, k] - points[p, k]) / (b - a)
            dx += away * normals[f, 0]
            dy += away * normals[f, 1]
            dz += away * normals[f, 2]
        out[p, 0] += dx / n
        out[p, 1] += dy / n
        out[p, 2] += dz / n
    return out
