"""Normals, areas, lengths and triangulations of polygon meshes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh


def face_area_vectors(mesh: PolyMesh) -> Floats:
    """(F, 3) half the sum of cross products round each face: normal times area."""
    return _area_vectors(mesh.points, mesh.corners, mesh.starts)


@kernel
def _area_vectors(points, corners, starts):
    out = np.zeros((len(starts) - 1, 3))
    for f in range(len(starts) - 1):
        a, b = starts[f], starts[f + 1]
        ox, oy, oz = points[corners[a], 0], points[corners[a], 1], points[corners[a], 2]
        for c in range(a + 1, b - 1):
            p, q = corners[c], corners[c + 1]
            ax, ay, az = points[p, 0] - ox, points[p, 1] - oy, points[p, 2] - oz
            bx, by, bz = points[q, 0] - ox, points[q, 1] - oy, points[q, 2] - oz
            out[f, 0] += 0.5 * (ay * bz - az * by)
            out[f, 1] += 0.5 * (az * bx - ax * bz)
            out[f, 2] += 0.5 * (ax * by - ay * bx)
    return out


def face_normals(mesh: PolyMesh) -> Floats:
    """(F, 3) unit normals; zero for faces without area."""
    return unit(face_area_vectors(mesh))


def face_areas(mesh: PolyMesh, faces: Ints | None = None) -> Floats:
    """(F,) area of each face's fan, in square units; of some faces only where they are named."""
    which = np.arange(mesh.n_faces, dtype=np.int32) if faces is None else np.asarray(faces, np.int32)
    return np.asarray(_fan_areas(mesh.points, mesh.corners, mesh.starts, which), np.float64)


@kernel
def _fan_areas(points, corners, starts, faces):
    out = np.zeros(len(faces))
    for k in range(len(faces)):
        a, b = starts[faces[k]], starts[faces[k] + 1]
        o = corners[a]
        for c in range(a + 1, b - 1):
            p, q = corners[c], corners[c + 1]
            ax, ay, az = points[p, 0] - points[o, 0], points[p, 1] - points[o, 1], points[p, 2] - points[o, 2]
            bx, by, bz = points[q, 0] - points[o, 0], points[q, 1] - points[o, 1], points[q, 2] - points[o, 2]
            x, y, z = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
            out[k] += 0.5 * np.sqrt(x * x + y * y + z * z)
    return out


def triangle_areas(points: Floats, triangles: NDArray[Any]) -> Floats:
    """(T,) areas of triangles over (V, 3) points."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)


def point_normals(mesh: PolyMesh) -> Floats:
    """(V, 3) area-weighted unit normals; zero for points without faces."""
    return unit(_sum_to_points(face_area_vectors(mesh), mesh.corners, mesh.starts, mesh.n_points))


@kernel
def _sum_to_points(vectors, corners, starts, n_points):
    out = np.zeros((n_points, 3))
    for f in range(len(starts) - 1):
        for c in range(starts[f], starts[f + 1]):
            for k in range(3):
                out[corners[c], k] += vectors[f, k]
    return out


def unit(vectors: Floats) -> Floats:
    """Rows scaled to length one; rows of length zero stay zero."""
    return np.asarray(_unit(np.asarray(vectors, np.float64)))


@kernel
def _unit(vectors):
    out = np.zeros(vectors.shape)
    for i in range(len(vectors)):
        square = 0.0
        for k in range(vectors.shape[1]):
            square += vectors[i, k] * vectors[i, k]
        length = np.sqrt(square)
        if length > 0:
            for k in range(vectors.shape[1]):
                out[i, k] = vectors[i, k] / length
    return out


def edge_lengths(mesh: PolyMesh) -> Floats:
    """(E,) lengths of the undirected edges."""
    return _lengths(mesh.points, mesh.topology.edge_points)


@kernel
def _lengths(points, ends):
    out = np.empty(len(ends))
    for e in range(len(ends)):
        a, b = ends[e, 0], ends[e, 1]
        x, y, z = points[a, 0] - points[b, 0], points[a, 1] - points[b, 1], points[a, 2] - points[b, 2]
        out[e] = np.sqrt(x * x + y * y + z * z)
    return out


def face_centres(mesh: PolyMesh) -> Floats:
    """(F, 3) mean of each face's corners."""
    return np.asarray(_centres(mesh.points, mesh.corners, mesh.starts))


@kernel
def _centres(points, corners, starts):
    out = np.zeros((len(starts) - 1, 3))
    for f in range(len(starts) - 1):
        for c in range(starts[f], starts[f + 1]):
            for k in range(3):
                out[f, k] += points[corners[c], k]
        for k in range(3):
            out[f, k] /= max(starts[f + 1] - starts[f], 1)
    return out


def dihedral_angles(mesh: PolyMesh) -> Floats:
    """(E,) turn between the two faces of each edge in degrees, 0 when flat; 0 off manifold edges."""
    topology = mesh.topology
    return np.asarray(_dihedral(face_normals(mesh), mesh.face_of_corner, topology.edge_corner, topology.twin))


@kernel
def _dihedral(normals, face_of, edge_corner, twin):
    out = np.zeros(len(edge_corner))
    for e in range(len(edge_corner)):
        c = edge_corner[e]
        t = twin[c]
        if t >= 0:
            f, g = face_of[c], face_of[t]
            cosine = normals[f, 0] * normals[g, 0] + normals[f, 1] * normals[g, 1] + normals[f, 2] * normals[g, 2]
            out[e] = np.degrees(np.arccos(min(max(cosine, -1.0), 1.0)))
    return out


def volume(mesh: PolyMesh) -> float:
    """Signed volume by the divergence theorem; meaningful for closed, outward meshes."""
    tri = mesh.triangle_points
    a, b, c = (mesh.points[tri[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6.0)


def scaled_jacobian(mesh: PolyMesh) -> Floats:
    """(F,) least sine of a quad's four corners against its mean normal, in -1..1.

    Knupp, "Algebraic mesh quality metrics for unstructured initial meshes" (2003). For faces
    that are not quads the same least sine over their corners is given.
    """
    return _scaled_jacobian(mesh.points, mesh.corners, mesh.starts, face_normals(mesh))


@inline
def least_sine(points, corners, first, last):
    """The same of one face with corners from `first` up to `last`, in a kernel; 0 where it has no area."""
    n = last - first
    nx = ny = nz = 0.0
    for k in range(n):
        a, b = corners[first + k], corners[first + (k + 1) % n]
        nx += points[a, 1] * points[b, 2] - points[a, 2] * points[b, 1]
        ny += points[a, 2] * points[b, 0] - points[a, 0] * points[b, 2]
        nz += points[a, 0] * points[b, 1] - points[a, 1] * points[b, 0]
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    least = 1.0
    for k in range(n):
        p, q, r = corners[first + k], corners[first + (k + 1) % n], corners[first + (k + n - 1) % n]
        ux, uy, uz = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
        vx, vy, vz = points[r, 0] - points[p, 0], points[r, 1] - points[p, 1], points[r, 2] - points[p, 2]
        long = size * np.sqrt((ux * ux + uy * uy + uz * uz) * (vx * vx + vy * vy + vz * vz))
        sine = (nx * (uy * vz - uz * vy) + ny * (uz * vx - ux * vz) + nz * (ux * vy - uy * vx)) / long if long > 0 else 0.0
        least = min(least, sine)
    return least


def corners_of(points: Floats, quads: Ints) -> Floats:
    """(F,) the same of quads (F, 4) over points (V, 3) alone."""
    corners, starts = np.ascontiguousarray(quads).ravel(), np.arange(0, quads.size + 1, 4)
    return np.asarray(_scaled_jacobian(points, corners, starts, unit(_area_vectors(points, corners, starts))))


@kernel
def _scaled_jacobian(points, corners, starts, normals):
    n_faces = len(starts) - 1
    out = np.empty(n_faces)
    for f in range(n_faces):
        a, n = starts[f], starts[f + 1] - starts[f]
        least = 1.0
        for k in range(n):
            p = corners[a + k]
            q = corners[a + (k + 1) % n]
            r = corners[a + (k + n - 1) % n]
            ux, uy, uz = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
            vx, vy, vz = points[r, 0] - points[p, 0], points[r, 1] - points[p, 1], points[r, 2] - points[p, 2]
            size = np.sqrt((ux * ux + uy * uy + uz * uz) * (vx * vx + vy * vy + vz * vz))
            det = (
                normals[f, 0] * (uy * vz - uz * vy)
                + normals[f, 1] * (uz * vx - ux * vz)
                + normals[f, 2] * (ux * vy - uy * vx)
            )
            value = det / size if size > 0 else 0.0
            if value < least:
                least = value
        out[f] = least
    return out
