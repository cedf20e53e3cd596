"""Curvature of a triangle mesh, one shape operator per triangle, averaged over rings."""

from __future__ import annotations

import numpy as np
from scipy import sparse

from jacket.core.jit import kernel
from jacket.core.mesh.geometry import face_areas, face_normals, point_normals
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh


def shape_tensors(mesh: PolyMesh, rounds: int, left_out: Bools | None = None) -> Floats:
    """(F, 3, 3) shape operators in space, per unit length; their eigenvectors are the principal directions and the
    normal, their eigenvalues the principal curvatures (positive where the surface is convex) and 0.

    From point normals (Rusinkiewicz, "Estimating curvatures and their derivatives on triangle meshes", 2004), then
    averaged by area over `rounds` rings; faces in `left_out` (F,) count only by their neighbours.
    """
    tensor = _shape_operators(mesh.points, mesh.triangle_points, point_normals(mesh), face_normals(mesh))
    flat = tensor.reshape(-1, 9)
    if left_out is not None and left_out.any() and not left_out.all():
        flat[left_out] = 0.0
    blur, total = ring_average(mesh)
    for _ in range(rounds):
        flat = (blur @ flat) / total[:, None]
    return np.asarray(flat.reshape(-1, 3, 3))


def form_density(mesh: PolyMesh, length: float, strength: float, left_out: Bools) -> Floats:
    """(F,) how many times as close as `length` the steps are to be so that bends are followed as well as plains: the
    chord of a step h lies κh²/8 off a curve of curvature κ, so that h goes with κ^−½ at strength 0.5; its logarithm is
    evened over some steps and has the mean 0. Faces at creases (`left_out`) have no curvature of their own."""
    largest = np.abs(np.linalg.eigvalsh(shape_tensors(mesh, 4, left_out))).max(axis=1)
    log = np.clip(strength * np.log(np.maximum(largest * length / FLAT, 1e-6)), np.log(0.65), np.log(2.3))
    areas = face_areas(mesh)
    blur, total = ring_average(mesh)
    for _ in range(int(np.clip(EVENED * length**2 / max(float(np.median(areas)), 1e-300), 1, 150))):
        log = (blur @ log) / total
    return np.asarray(np.exp(log - float((log * areas).sum() / areas.sum())))


FLAT = 0.7
"""Curvature times step length that keeps its step: a bend of 40° over one quad."""
EVENED = 3.5
"""Rounds of evening, in triangles per quad."""


def ring_average(mesh: PolyMesh) -> tuple[sparse.csr_array, Floats]:
    """A matrix that sums over each face and its neighbours by area, and (F,) its row sums."""
    blur = (face_graph(mesh) + sparse.identity(mesh.n_faces, format="csr")) @ sparse.diags_array(face_areas(mesh))
    return blur, np.maximum(np.asarray(blur.sum(axis=1)).ravel(), 1e-300)


def face_graph(mesh: PolyMesh) -> sparse.csr_array:
    """Adjacency of faces across manifold edges."""
    topology = mesh.topology
    corner = np.flatnonzero(topology.twin >= 0)
    a, b = mesh.face_of_corner[corner], mesh.face_of_corner[topology.twin[corner]]
    graph = sparse.coo_array((np.ones(len(a)), (a, b)), shape=(mesh.n_faces, mesh.n_faces))
    return graph.tocsr()


@kernel
def _shape_operators(points, tris, point_normal, normals):
    out = np.zeros((len(tris), 3, 3))
    for t in range(len(tris)):
        a, b, c = tris[t, 0], tris[t, 1], tris[t, 2]
        e = np.empty((2, 3))
        d = np.empty((2, 3))
        for k in range(3):
            e[0, k] = points[b, k] - points[a, k]
            e[1, k] = points[c, k] - points[a, k]
            d[0, k] = point_normal[b, k] - point_normal[a, k]
            d[1, k] = point_normal[c, k] - point_normal[a, k]
        length = np.sqrt(e[0, 0] ** 2 + e[0, 1] ** 2 + e[0, 2] ** 2)
        if length == 0.0:
            continue
        ux, uy, uz = e[0, 0] / length, e[0, 1] / length, e[0, 2] / length
        nx, ny, nz = normals[t, 0], normals[t, 1], normals[t, 2]
        vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
        # Two edges and two normal differences in the plane: S E = D.
        e01, e11 = e[1, 0] * ux + e[1, 1] * uy + e[1, 2] * uz, e[1, 0] * vx + e[1, 1] * vy + e[1, 2] * vz
        if abs(e11) < 1e-12 * length:
            continue
        d00, d10 = d[0, 0] * ux + d[0, 1] * uy + d[0, 2] * uz, d[0, 0] * vx + d[0, 1] * vy + d[0, 2] * vz
        d01, d11 = d[1, 0] * ux + d[1, 1] * uy + d[1, 2] * uz, d[1, 0] * vx + d[1, 1] * vy + d[1, 2] * vz
        s00, s10 = d00 / length, d10 / length
        s01, s11 = (d01 - s00 * e01) / e11, (d11 - s10 * e01) / e11
        s01 = s10 = 0.5 * (s01 + s10)
        for i in range(3):
            ui, vi = (ux, uy, uz)[i], (vx, vy, vz)[i]
            for j in range(3):
                uj, vj = (ux, uy, uz)[j], (vx, vy, vz)[j]
                out[t, i, j] = s00 * ui * uj + s01 * (ui * vj + vi * uj) + s11 * vi * vj
    return out
