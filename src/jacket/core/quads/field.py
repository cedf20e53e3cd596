"""A four-fold orientation field on triangles, smooth and along curvature and creases.

Multiresolution extrinsic Gauss–Seidel smoothing: Jakob, Tarini, Panozzo and Sorkine-Hornung,
"Instant field-aligned meshes" (2015), on the graph of triangles.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import sparse

from jacket.core.jit import inline, kernel
from jacket.core.mesh.geometry import face_areas, face_normals, unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.quads.curvature import face_graph, shape_tensors


@dataclass(frozen=True, eq=False)
class Field:
    """direction   (F, 3) unit vector in each triangle; the cross has it and its quarter turns
    turn        (C,) for each half-edge, k such that direction m of its face continues as m + k of
                the face across; 0 on borders
    index       (V,) quarter turns gained round each inner point: 0 regular, 1 a pole of three, −1 of five
    """

    direction: Floats
    turn: Ints
    index: Ints


def smooth_field(
    mesh: PolyMesh, creases: Ints, alignment: float = 0.5, soft: tuple[Ints, Floats, Floats] | None = None,
    ways: Floats | None = None,
) -> Field:  # fmt: skip
    """The field of a manifold triangle mesh; `alignment` weighs curvature against smoothness, `soft` is what soft
    guides ask for: faces, a direction (K, 3) and a strength (K,) each. `ways` (E, 3) are directions of creases and borders
    (`line_ways`), those of the edges themselves without.

    Two starts are tried, from coarse to fine and from the curvature itself; the one with fewer singular points stays.
    """
    normals = face_normals(mesh)
    pull, weight = _curvature_pull(mesh, normals)
    fixed = _fixed_directions(mesh, creases, pull, weight, ways)
    strength = np.where(fixed > 0, weight, weight * alignment)
    if soft is not None and len(soft[0]):
        faces, way, wanted = soft
        take = (wanted > strength[faces]) & (fixed[faces] == 0)
        pull[faces[take]] = way[take]
        strength[faces[take]] = wanted[take]
    fields = [_field(mesh, d, normals) for d in _solved(mesh, normals, pull, strength, fixed)]
    return min(fields, key=lambda f: int(np.abs(f.index).sum()))


def _field(mesh: PolyMesh, direction: Floats, normals: Floats) -> Field:
    quarter, residual = field_turns(mesh, direction, normals)
    return Field(direction, (quarter % 4).astype(np.int32), singular_indices(mesh, residual))


# ---- what the field should follow -------------------------------------------------------------


def _curvature_pull(mesh: PolyMesh, normals: Floats) -> tuple[Floats, Floats]:
    """(F, 3) direction of larger curvature and (F,) how clearly it stands out, 0..1.

    Curvature is averaged over several rings, so that the noise of scans does not lead the flow.
    """
    values, vectors = np.linalg.eigh(shape_tensors(mesh, 8))
    order = np.argsort(np.abs(values), axis=1)
    rows = np.arange(mesh.n_faces)
    large, small = values[rows, order[:, 2]], values[rows, order[:, 1]]
    pull = vectors[rows, :, order[:, 2]]
    pull = unit(pull - normals * np.einsum("ij,ij->i", pull, normals)[:, None])
    size = np.sqrt(face_areas(mesh).sum())
    # Anisotropy by how far the curvatures differ, faded out where the surface is nearly flat.
    clear = np.abs(np.abs(large) - np.abs(small)) / (np.abs(large) + np.abs(small) + 1.0 / size)
    return pull, clear * (np.linalg.norm(pull, axis=1) > 0.5)


def _fixed_directions(mesh: PolyMesh, creases: Ints, pull: Floats, weight: Floats, ways: Floats | None) -> Ints:
    """(F,) flags of triangles at creases and borders, whose `pull` is set along the edge."""
    topology = mesh.topology
    fixed = np.zeros(mesh.n_faces, np.int32)
    flags = topology.edge_flags(creases)
    flags[topology.border_edges] = True
    corner = np.flatnonzero(flags[topology.edge])
    if ways is None:
        along = unit(mesh.points[mesh.corners[topology.next[corner]]] - mesh.points[mesh.corners[corner]])
    else:
        normal = face_normals(mesh)[mesh.face_of_corner[corner]]
        along = ways[topology.edge[corner]]
        along = unit(along - normal * np.einsum("ij,ij->i", along, normal)[:, None])
    faces = mesh.face_of_corner[corner]
    pull[faces] = along
    weight[faces] = 1.0
    fixed[faces] = 1
    return fixed


# ---- smoothing --------------------------------------------------------------------------------


def _solved(mesh: PolyMesh, normals: Floats, pull: Floats, weight: Floats, fixed: Ints) -> list[Floats]:
    """Directions (F, 3) from two starts: from the coarsest level down, and from the curvature as it is."""
    areas = face_areas(mesh)
    levels = [(face_graph(mesh), normals, pull, weight, fixed, areas)]
    parents = []
    while levels[-1][0].shape[0] > 40 and len(levels) < 24:
        graph, normal, aim, strength, held, area = levels[-1]
        parent, count = _pair(graph.indptr, graph.indices, graph.data, normal, area)
        if count > 0.95 * len(parent):
            break
        parents.append(parent)
        levels.append(_coarser(graph, normal, aim, strength, held, area, parent, count))
    direction = _start(levels[-1][1])
    for level in range(len(levels) - 1, -1, -1):
        graph, normal, aim, strength, held, _ = levels[level]
        if level < len(levels) - 1:
            direction = direction[parents[level]]
        direction = _gauss_seidel(
            graph.indptr, graph.indices, graph.data, normal, aim, strength, held, direction.copy(),
            20 if level else 40,
        )  # fmt: skip
    graph = levels[0][0]
    curved = np.where((weight > 0)[:, None], pull, _start(normals))
    curved = _gauss_seidel(graph.indptr, graph.indices, graph.data, normals, pull, weight, fixed, curved, 60)
    return [direction, curved]


def _start(normals: Floats) -> Floats:
    """A repeatable first guess: a fixed oblique vector laid into each plane."""
    oblique = np.array([0.61, 0.47, 0.64])
    return unit(np.cross(np.tile(oblique, (len(normals), 1)), normals) + 1e-9)


def _coarser(graph, normal, aim, strength, held, area, parent, count):
    n = len(parent)
    gather = sparse.csr_array((np.ones(n), (parent, np.arange(n))), shape=(count, n))
    coarse = (gather @ graph @ gather.T).tocsr()
    coarse.setdiag(0)
    coarse.eliminate_zeros()
    coarse.sort_indices()
    total = gather @ area
    merged = unit(gather @ (normal * area[:, None]))
    wanted, weight, flags = _merge_aims(parent, count, aim, strength, held, area, merged)
    return coarse, merged, wanted, weight / np.maximum(total, 1e-300), flags, total


@kernel
def _pair(indptr, indices, data, normals, areas):
    """Greedy matching of each node with the neighbour most like it."""
    n = len(indptr) - 1
    parent = np.full(n, -1, np.int32)
    count = 0
    for i in range(n):
        if parent[i] >= 0:
            continue
        best, mate = -1.0, -1
        for k in range(indptr[i], indptr[i + 1]):
            j = indices[k]
            if parent[j] >= 0 or j == i:
                continue
            dot = normals[i, 0] * normals[j, 0] + normals[i, 1] * normals[j, 1] + normals[i, 2] * normals[j, 2]
            low, high = min(areas[i], areas[j]), max(areas[i], areas[j]) + 1e-300
            score = (dot + 1.01) * data[k] * (low / high)
            if score > best:
                best, mate = score, j
        parent[i] = count
        if mate >= 0:
            parent[mate] = count
        count += 1
    return parent, count


@inline
def _nearest(nx, ny, nz, ax, ay, az, mx, my, mz, bx, by, bz):
    """The quarter turn of cross b about m that lies nearest to a, also turning a by a quarter
    about n: returns which to use of a (0 or 1) and the vector of b's cross that suits it."""
    cx, cy, cz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
    ex, ey, ez = my * bz - mz * by, mz * bx - mx * bz, mx * by - my * bx
    best, turned = -1.0, 0
    rx, ry, rz = bx, by, bz
    for i in range(2):
        px, py, pz = (ax, ay, az) if i == 0 else (cx, cy, cz)
        for j in range(2):
            qx, qy, qz = (bx, by, bz) if j == 0 else (ex, ey, ez)
            dot = px * qx + py * qy + pz * qz
            if abs(dot) > best:
                best, turned = abs(dot), i
                s = 1.0 if dot >= 0 else -1.0
                rx, ry, rz = s * qx, s * qy, s * qz
    if turned == 1:
        # Turn back so that it can be added to a itself.
        tx, ty, tz = rx, ry, rz
        rx, ry, rz = ty * nz - tz * ny, tz * nx - tx * nz, tx * ny - ty * nx
    return rx, ry, rz


@kernel
def _merge_aims(parent, count, aim, strength, held, area, normal):
    out = np.zeros((count, 3))
    weight = np.zeros(count)
    flags = np.zeros(count, np.int32)
    for i in range(len(parent)):
        p = parent[i]
        if held[i] > flags[p]:
            flags[p] = held[i]
            weight[p] = 0.0
            out[p, 0] = out[p, 1] = out[p, 2] = 0.0
        if flags[p] > held[i] or strength[i] <= 0.0:
            continue
        w = strength[i] * area[i]
        nx, ny, nz = normal[p, 0], normal[p, 1], normal[p, 2]
        dot = aim[i, 0] * nx + aim[i, 1] * ny + aim[i, 2] * nz
        x, y, z = aim[i, 0] - dot * nx, aim[i, 1] - dot * ny, aim[i, 2] - dot * nz
        if weight[p] > 0.0:
            x, y, z = _nearest(nx, ny, nz, out[p, 0], out[p, 1], out[p, 2], nx, ny, nz, x, y, z)
        out[p, 0] += w * x
        out[p, 1] += w * y
        out[p, 2] += w * z
        weight[p] += w
    for p in range(count):
        size = np.sqrt(out[p, 0] ** 2 + out[p, 1] ** 2 + out[p, 2] ** 2)
        if size > 0.0:
            for k in range(3):
                out[p, k] /= size
    return out, weight, flags


@kernel
def _gauss_seidel(indptr, indices, data, normals, aim, strength, held, direction, sweeps):
    n = len(indptr) - 1
    for _ in range(sweeps):
        for i in range(n):
            nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
            if held[i] > 0 and strength[i] > 0.0:
                x, y, z = aim[i, 0], aim[i, 1], aim[i, 2]
            else:
                x, y, z = 0.0, 0.0, 0.0
                total = 0.0
                for k in range(indptr[i], indptr[i + 1]):
                    j = indices[k]
                    w = data[k]
                    if total == 0.0:
                        ax, ay, az = direction[i, 0], direction[i, 1], direction[i, 2]
                    else:
                        ax, ay, az = x, y, z
                    rx, ry, rz = _nearest(
                        nx, ny, nz, ax, ay, az,
                        normals[j, 0], normals[j, 1], normals[j, 2],
                        direction[j, 0], direction[j, 1], direction[j, 2],
                    )  # fmt: skip
                    x, y, z = x + w * rx, y + w * ry, z + w * rz
                    total += w
                if strength[i] > 0.0:
                    rx, ry, rz = _nearest(nx, ny, nz, x, y, z, nx, ny, nz, aim[i, 0], aim[i, 1], aim[i, 2])
                    w = strength[i] * max(total, 1.0)
                    x, y, z = x + w * rx, y + w * ry, z + w * rz
            dot = x * nx + y * ny + z * nz
            x, y, z = x - dot * nx, y - dot * ny, z - dot * nz
            size = np.sqrt(x * x + y * y + z * z)
            if size > 1e-12:
                direction[i, 0], direction[i, 1], direction[i, 2] = x / size, y / size, z / size
            else:
                dot = direction[i, 0] * nx + direction[i, 1] * ny + direction[i, 2] * nz
                x = direction[i, 0] - dot * nx
                y = direction[i, 1] - dot * ny
                z = direction[i, 2] - dot * nz
                size = np.sqrt(x * x + y * y + z * z) + 1e-300
                direction[i, 0], direction[i, 1], direction[i, 2] = x / size, y / size, z / size
    return direction


# ---- matching and singular points -------------------------------------------------------------


def _angles_to_edges(mesh: PolyMesh, direction: Floats, normals: Floats) -> Floats:
    """(C,) angle from each half-edge to the direction of its face, about the normal."""
    topology = mesh.topology
    along = unit(mesh.points[mesh.corners[topology.next]] - mesh.points[mesh.corners])
    n = normals[mesh.face_of_corner]
    d = direction[mesh.face_of_corner]
    side = np.cross(n, along)
    return np.arctan2(np.einsum("ij,ij->i", d, side), np.einsum("ij,ij->i", d, along))


def field_turns(mesh: PolyMesh, direction: Floats, normals: Floats) -> tuple[Ints, Floats]:
    """Per half-edge the quarter turns to the face across, and the angle left over in radians."""
    topology = mesh.topology
    angle = _angles_to_edges(mesh, direction, normals)
    inner = topology.twin >= 0
    # The twin runs the other way, so its angle is measured from the reversed edge.
    gap = np.zeros(mesh.n_corners)
    gap[inner] = angle[inner] - (angle[topology.twin[inner]] + np.pi)
    quarter = np.rint(gap / (np.pi / 2))
    residual = gap - quarter * (np.pi / 2)
    return quarter.astype(np.int32), residual


def corner_angles(mesh: PolyMesh) -> Floats:
    """(C,) inner angle at each corner in radians."""
    topology = mesh.topology
    here = mesh.points[mesh.corners]
    a = unit(mesh.points[mesh.corners[topology.next]] - here)
    b = unit(mesh.points[mesh.corners[topology.prev]] - here)
    return np.arccos(np.clip(np.einsum("ij,ij->i", a, b), -1, 1))


def singular_indices(mesh: PolyMesh, residual: Floats) -> Ints:
    """Quarter turns round inner points: (angle defect − turning of the field) / 90°.

    Their sum over a closed surface is four times its Euler characteristic (Poincaré–Hopf).
    """
    topology = mesh.topology
    angles = np.bincount(mesh.corners, corner_angles(mesh), minlength=mesh.n_points)
    # The half-edges that leave a point, crossed one after another, go once round it.
    turning = np.bincount(mesh.corners, residual, minlength=mesh.n_points)
    index = np.rint((2 * np.pi - angles + turning) / (np.pi / 2)).astype(np.int32)
    index[topology.border_points] = 0
    index[np.bincount(mesh.corners, minlength=mesh.n_points) == 0] = 0
    return index
