"""Closing holes with a fair surface.

Liepa, "Filling holes in meshes" (2003): the border is triangulated with the least bend and area (a dynamic
programme after Barequet and Sharir 1995), the patch refined to the density of what surrounds it, and its
points placed so that the bending energy is least and the patch leaves the border in the surface's own direction
(cotangent weights, Pinkall and Polthier 1993).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array, diags_array

from jacket.core.jit import inline, kernel
from jacket.core.mesh.geometry import edge_lengths, face_normals
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.solve.cholesky import Factor
from jacket.core.source.health import winding_edges
from jacket.core.source.mend import Mend, points_joined
from jacket.core.source.rebuild import put_together
from jacket.errors import MeshError, SolveError
from jacket.progress import Progress, silent

_MOST = 260
"""Border points triangulated by the dynamic programme, whose time grows with the third power; longer borders
are shortened to this many by corners cut off evenly first."""


@dataclass(frozen=True, eq=False)
class Hole:
    """A closed border: its points in the order in which a patch runs, the normals (n, 3) of the faces beyond
    each of its sides, its length."""

    points: Ints
    beyond: Floats
    perimeter: float


def find_holes(mesh: PolyMesh) -> list[Hole]:
    """The closed borders of a mesh, the shortest first. Borders that touch themselves at a point are taken as
    the several rounds they are."""
    topology = mesh.topology
    normals = face_normals(mesh)
    lengths = edge_lengths(mesh)
    out = []
    for loop in topology.border_loops:
        head = mesh.corners[topology.next[loop]]
        if head[-1] != mesh.corners[loop[0]]:
            continue
        for rounds in _simple(mesh.corners[loop].tolist()):
            half = loop[rounds]
            if len(half) < 3:
                continue
            back = half[::-1]
            # Seen from the hole the border runs the other way: side i goes from point i to point i + 1.
            points = mesh.corners[topology.next[back]]
            out.append(Hole(points, normals[mesh.face_of_corner[back]], float(lengths[topology.edge[half]].sum())))
    return sorted(out, key=lambda h: h.perimeter)


def _simple(ring: list[int]) -> list[list[int]]:
    """Places of a ring that passes some points twice, as rounds that do not."""
    out: list[list[int]] = []
    stack: list[int] = []
    at: dict[int, int] = {}
    for place, p in enumerate(ring):
        if p in at:
            first = at[p]
            out.append(stack[first:])
            for q in stack[first:]:
                del at[ring[q]]
            del stack[first:]
        at[p] = len(stack)
        stack.append(place)
    out.append(stack)
    return out


def holes_closed(mesh: PolyMesh, longest: float, progress: Progress = silent) -> Mend:
    """Close every hole whose border is no longer than `longest`, in the mesh's units."""
    if not longest > 0:
        raise MeshError("A perimeter has to be more than nought; type the longest border to close.")
    joined = points_joined(mesh)
    holes = find_holes(joined)
    chosen = [h for h in holes if h.perimeter <= longest]
    if not chosen:
        if not holes:
            uneven = len(winding_edges(joined)) > 0 and len(joined.topology.border_edges) > 0
            tail = ", only borders whose faces run against each other: turn faces outward first" if uneven else ""
            return Mend(mesh, f"There are no holes{tail}")
        return Mend(mesh, f"No hole is that small: the shortest border is {holes[0].perimeter:.4g} long")
    every, patch = patches_over(joined, chosen, progress)
    origin = np.concatenate([np.arange(joined.n_points), np.full(len(every) - joined.n_points, -1)])
    result = put_together(joined, points=every, point_from=origin, added=patch)
    result = _coloured(result, joined, every, patch)
    borders = [np.stack([joined.points[h.points], joined.points[np.roll(h.points, -1)]], axis=1) for h in chosen]
    left = len(holes) - len(chosen)
    said = f"{len(chosen):,} hole{'' if len(chosen) == 1 else 's'} closed with {len(patch):,} triangles"
    said += f"; {left:,} larger stay open" if left else ""
    if len(winding_edges(joined)):
        said += "; where neighbours run against each other borders stay open: turn faces outward first"
    return Mend(result, said, comes=every[patch],
                lines=np.concatenate(borders))  # fmt: skip


def patches_over(mesh: PolyMesh, holes: Sequence[Hole], progress: Progress = silent) -> tuple[Floats, Ints]:
    """The points of a mesh and after them those of fair patches over some of its holes, and the triangles (K, 3) of these."""
    spacing = _spacing(mesh)
    points, triangles, count = [mesh.points], [], mesh.n_points
    reach: list[Floats] = []
    for k, hole in enumerate(holes):
        progress(0.8 * k / len(holes), f"closing hole {k + 1} of {len(holes)}")
        new, patch = _patched(mesh, hole, spacing)
        reach.append(np.full(len(new), 0.35 * hole.perimeter / (2 * np.pi)))
        patch = np.where(patch < len(hole.points), hole.points[np.minimum(patch, len(hole.points) - 1)],
                         patch - len(hole.points) + count)  # fmt: skip
        points.append(new)
        triangles.append(patch)
        count += len(new)
    every, patch = np.concatenate(points), np.concatenate(triangles).astype(np.int32)
    progress(0.82, "making the patches fair")
    return _faired(mesh, every, patch, np.concatenate(reach), part_progress(progress)), patch


def part_progress(progress: Progress) -> Progress:
    """The last part of closing holes."""
    return lambda fraction, what: progress(0.82 + 0.18 * fraction, what)


def _coloured(result: PolyMesh, joined: PolyMesh, every: Floats, patch: Ints) -> PolyMesh:
    """New points take the mean colour of the border around them, roughly: that of the nearest old point."""
    colour = result.point_data.get("colour")
    if colour is None or result.n_points == joined.n_points:
        return result
    from scipy.spatial import cKDTree

    border = np.unique(patch[patch < joined.n_points])
    fresh = result.points[-(len(every) - joined.n_points) :]
    near = cKDTree(joined.points[border]).query(fresh, k=min(6, len(border)))[1].reshape(len(fresh), -1)
    values = colour.copy()
    values[-len(fresh) :] = joined.point_data["colour"][border[near]].mean(axis=1).round()
    return result.with_(point_data={**result.point_data, "colour": values})


def _spacing(mesh: PolyMesh) -> Floats:
    """(V,) mean length of the edges at each point."""
    topology = mesh.topology
    lengths = edge_lengths(mesh)
    sums = np.bincount(topology.edge_points[:, 0], lengths, mesh.n_points)
    sums += np.bincount(topology.edge_points[:, 1], lengths, mesh.n_points)
    return sums / np.maximum(topology.valence, 1)


def _patched(mesh: PolyMesh, hole: Hole, spacing: Floats) -> tuple[Floats, Ints]:
    """New points and triangles of a patch; indices below the border's length mean its points."""
    ring = mesh.points[hole.points]
    n = len(ring)
    if n <= _MOST:
        triangles = _triangulated(ring, hole.beyond, _joined_already(mesh, hole.points))
    else:
        taken = _joined_already(mesh, hole.points)
        keep = np.unique(np.round(np.linspace(0, n, _MOST, endpoint=False)).astype(int))
        # A tip of the surface whose neighbours are joined already cannot be cut off once more.
        keep = np.union1d(keep, np.flatnonzero(taken[np.arange(n) - 1, (np.arange(n) + 1) % n]))
        ears = [[a, m, m + 1] for a, b in zip(keep, np.append(keep[1:], n), strict=True) for m in range(a + 1, b)]
        inner = _triangulated(ring[keep], hole.beyond[keep], taken[np.ix_(keep, keep)])
        triangles = np.concatenate([keep[inner], np.array(ears) % n])
    room = 40 * n + 4000
    points = np.concatenate([ring, np.zeros((room, 3))])
    sizes = np.concatenate([spacing[hole.points], np.zeros(room)])
    count, patch = _refined(points, sizes, n, triangles.astype(np.int32), room)
    return points[n:count].copy(), patch


def _joined_already(mesh: PolyMesh, points: Ints) -> NDArray[np.bool_]:
    """(n, n) whether two points of a border that are no neighbours have an edge of the mesh between them."""
    n = len(points)
    place = {int(p): k for k, p in enumerate(points)}
    out = np.zeros((n, n), bool)
    start, around = mesh.topology.point_edges
    ends = mesh.topology.edge_points
    for k, p in enumerate(points.tolist()):
        for q in ends[around[start[p] : start[p + 1]]].ravel().tolist():
            if q != p and q in place and abs(place[q] - k) not in (1, n - 1):
                out[k, place[q]] = True
    return out


@inline
def _normal(points, a, b, c):
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@inline
def _bend(ax, ay, az, bx, by, bz):
    """1 − cosine of the angle between two directions; 2 where one of them is nothing."""
    size = np.sqrt((ax * ax + ay * ay + az * az) * (bx * bx + by * by + bz * bz))
    return 1.0 - (ax * bx + ay * by + az * bz) / size if size > 0 else 2.0


@kernel
def _triangulated(ring, beyond, taken):
    """(n − 2, 3) triangles over a closed border with the least largest bend, then the least area."""
    n = len(ring)
    bend = np.full((n, n), np.inf)
    area = np.full((n, n), np.inf)
    middle = np.full((n, n), -1, np.int32)
    for i in range(n - 1):
        bend[i, i + 1] = 0.0
        area[i, i + 1] = 0.0
    for span in range(2, n):
        for i in range(n - span):
            k = i + span
            if taken[i, k] and span < n - 1:
                continue
            for m in range(i + 1, k):
                nx, ny, nz = _normal(ring, i, m, k)
                worst = max(bend[i, m], bend[m, k])
                if worst > bend[i, k]:
                    continue
                if m == i + 1:
                    worst = max(worst, _bend(nx, ny, nz, beyond[i, 0], beyond[i, 1], beyond[i, 2]))
                else:
                    ox, oy, oz = _normal(ring, i, middle[i, m], m)
                    worst = max(worst, _bend(nx, ny, nz, ox, oy, oz))
                if k == m + 1:
                    worst = max(worst, _bend(nx, ny, nz, beyond[m, 0], beyond[m, 1], beyond[m, 2]))
                else:
                    ox, oy, oz = _normal(ring, m, middle[m, k], k)
                    worst = max(worst, _bend(nx, ny, nz, ox, oy, oz))
                if span == n - 1:
                    worst = max(worst, _bend(nx, ny, nz, beyond[k, 0], beyond[k, 1], beyond[k, 2]))
                total = area[i, m] + area[m, k] + 0.5 * np.sqrt(nx * nx + ny * ny + nz * nz)
                if worst < bend[i, k] - 1e-12 or (worst < bend[i, k] + 1e-12 and total < area[i, k]):
                    bend[i, k], area[i, k], middle[i, k] = worst, total, m
    out = np.empty((n - 2, 3), np.int32)
    stack = np.empty((n, 2), np.int32)
    stack[0, 0], stack[0, 1] = 0, n - 1
    top, count = 1, 0
    while top > 0:
        top -= 1
        i, k = stack[top, 0], stack[top, 1]
        m = middle[i, k]
        if m < 0:
            m = i + 1  # no way round was found: the border doubles back on itself
        out[count, 0], out[count, 1], out[count, 2] = i, m, k
        count += 1
        if m > i + 1:
            stack[top, 0], stack[top, 1] = i, m
            top += 1
        if k > m + 1:
            stack[top, 0], stack[top, 1] = m, k
            top += 1
    return out


@inline
def _far(points, a, b):
    return np.sqrt(
        (points[a, 0] - points[b, 0]) ** 2 + (points[a, 1] - points[b, 1]) ** 2 + (points[a, 2] - points[b, 2]) ** 2
    )


@inline
def _angle(points, a, b, c):
    """Angle at `a`."""
    nx, ny, nz = _normal(points, a, b, c)
    dot = (
        (points[b, 0] - points[a, 0]) * (points[c, 0] - points[a, 0])
        + (points[b, 1] - points[a, 1]) * (points[c, 1] - points[a, 1])
        + (points[b, 2] - points[a, 2]) * (points[c, 2] - points[a, 2])
    )
    return np.arctan2(np.sqrt(nx * nx + ny * ny + nz * nz), dot)


@inline
def _neighbours(tri, count, n_points, adj):
    """adj (T, 3): the triangle across the side from corner k to k + 1, −1 on the border."""
    for t in range(count):
        for k in range(3):
            adj[t, k] = -1
    first = np.full(n_points, -1, np.int32)
    following = np.empty(3 * count, np.int32)
    for t in range(count):
        for k in range(3):
            following[3 * t + k] = first[tri[t, k]]
            first[tri[t, k]] = 3 * t + k
    for t in range(count):
        for k in range(3):
            a, b = tri[t, k], tri[t, (k + 1) % 3]
            c = first[b]
            while c >= 0:
                if tri[c // 3, (c % 3 + 1) % 3] == a:
                    adj[t, k] = c // 3
                c = following[c]
    return first, following


@inline
def _flip_all(points, tri, adj, count, n_points):
    """Turn inner edges whose opposite angles add up to more than half a turn, until none is left."""
    for _ in range(60):
        changed = False
        first, following = _neighbours(tri, count, n_points, adj)
        touched = np.zeros(count, np.bool_)
        for t in range(count):
            for k in range(3):
                s = adj[t, k]
                if s < 0 or touched[t] or touched[s]:
                    continue
                a, b, c = tri[t, k], tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
                j = 0
                while j < 3 and not (tri[s, j] == b and tri[s, (j + 1) % 3] == a):
                    j += 1
                if j == 3:
                    continue
                d = tri[s, (j + 2) % 3]
                if c == d or _angle(points, c, a, b) + _angle(points, d, b, a) <= np.pi + 1e-6:
                    continue
                # The other diagonal must not be an edge already.
                known = False
                place = first[c]
                while place >= 0 and not known:
                    r = place // 3
                    known = tri[r, 0] == d or tri[r, 1] == d or tri[r, 2] == d
                    place = following[place]
                if known:
                    continue
                tri[t, 0], tri[t, 1], tri[t, 2] = c, a, d
                tri[s, 0], tri[s, 1], tri[s, 2] = d, b, c
                touched[t] = True
                touched[s] = True
                changed = True
        if not changed:
            break


@kernel
def _refined(points, sizes, count, triangles, room):
    """Put points into triangles that are large beside the spacing around them, turning edges in between;
    returns the number of points and the triangles."""
    most = len(triangles) + 2 * room
    tri = np.empty((most, 3), np.int32)
    n = len(triangles)
    tri[:n] = triangles
    adj = np.empty((most, 3), np.int32)
    limit = len(points)
    _flip_all(points, tri, adj, n, count)
    for _ in range(24):
        before = n
        for t in range(before):
            a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
            if count >= limit:
                break
            size = (sizes[a] + sizes[b] + sizes[c]) / 3.0
            for k in range(3):
                points[count, k] = (points[a, k] + points[b, k] + points[c, k]) / 3.0
            good = True
            for p in (a, b, c):
                far = 1.2 * _far(points, count, p)
                good = good and far > size and far > sizes[p]
            if not good:
                continue
            sizes[count] = size
            tri[t, 0], tri[t, 1], tri[t, 2] = a, b, count
            tri[n, 0], tri[n, 1], tri[n, 2] = b, c, count
            tri[n + 1, 0], tri[n + 1, 1], tri[n + 1, 2] = c, a, count
            n += 2
            count += 1
        if n == before:
            break
        _flip_all(points, tri, adj, n, count)
    return count, tri[:n].copy()


# ---- fairness ----------------------------------------------------------------------------------------


def _faired(mesh: PolyMesh, points: Floats, patch: Ints, reach: Floats, progress: Progress) -> Floats:
    """Positions of the new points, the old ones held: first with the least bending energy, then so that the
    mean curvature runs evenly from border to border (Schneider and Kobbelt, "Geometric fairing of irregular
    meshes", 2001), which gives back a sphere exactly. A patch that would billow, moving by more than `reach`
    (one for each new point), stays as the first step left it."""
    first = mesh.n_points
    if len(points) == first:
        return points
    border = np.unique(patch[patch < first])
    ring = _faces_at(mesh, border)
    outer = _faces_at(mesh, np.unique(mesh.triangle_points[ring]))
    triangles = np.concatenate([mesh.triangle_points[outer], patch])
    used, local = np.unique(triangles, return_inverse=True)
    local = local.reshape(-1, 3)
    inner = np.zeros(len(used), bool)
    inner[np.searchsorted(used, np.unique(mesh.triangle_points[ring]))] = True
    on_border = np.zeros(len(used), bool)
    on_border[np.searchsorted(used, border)] = True
    free = used >= first
    rim = inner & ~on_border & ~free
    place = calm = points[used].copy()
    for step in range(9):
        progress(step / 9, "making the patches fair")
        # The first round has no good shapes to weigh by; even weights spread the points.
        stiff, mass = _laplacian(place, local, even=step == 0)
        wanted = np.zeros((len(used), 3))
        if step >= 2:
            wanted = _curved(stiff, place, local, rim, on_border | free)
        solved = _bent_least(stiff, mass, on_border | free, free, place, wanted)
        if solved is None:
            break
        place = solved
        if step == 1:
            calm = place
    out = points.copy()
    moved = np.linalg.norm(place[free] - calm[free], axis=1)
    wild = np.isin(reach, np.unique(reach[moved > reach]))
    out[used[free]] = np.where(wild[:, None], calm[free], place[free])
    return out


def _faces_at(mesh: PolyMesh, points: NDArray[np.signedinteger]) -> NDArray[np.signedinteger]:
    """Triangles that use some points."""
    flags = np.zeros(mesh.n_points, bool)
    flags[points] = True
    return np.flatnonzero(flags[mesh.triangle_points].any(axis=1))


def _curved(stiff: csr_array, place: Floats, local: Ints, rim: NDArray[np.bool_], wanted: NDArray[np.bool_]) -> Floats:
    """(V, 3) Laplacian times area that points should have: mean curvature carried over harmonically from the
    rim along the present normals."""
    cross = np.cross(place[local[:, 1]] - place[local[:, 0]], place[local[:, 2]] - place[local[:, 0]])
    normals, mass = np.zeros((len(place), 3)), np.zeros(len(place))
    for k in range(3):
        np.add.at(normals, local[:, k], cross)
        np.add.at(mass, local[:, k], np.linalg.norm(cross, axis=1) / 6)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
    bend = ((stiff @ place) * normals).sum(axis=1) / np.maximum(mass, 1e-300)
    free, fixed = np.flatnonzero(wanted), np.flatnonzero(rim)
    if len(fixed) == 0:
        return np.zeros_like(place)
    matrix = csr_array(stiff)[free]
    # Rows of the Laplacian over the patch alone: beyond the rim nothing pulls.
    weights = csr_array(matrix[:, np.concatenate([free, fixed])])
    inside = weights[:, : len(free)]
    degree = np.asarray(weights.sum(axis=1)).ravel() - inside.diagonal()
    inside = inside - diags_array(inside.diagonal() + degree - 1e-9 * np.abs(degree).mean())
    try:
        value = Factor(csr_array(-inside)).solve(np.asarray(weights[:, len(free) :] @ bend[fixed]))
    except SolveError:
        return np.zeros_like(place)
    out = np.zeros_like(place)
    out[free] = (value * mass[free])[:, None] * normals[free]
    return out


def _bent_least(
    stiff: csr_array, mass: Floats, rows: NDArray[np.bool_], free: NDArray[np.bool_], place: Floats, wanted: Floats
) -> Floats | None:
    """Free points placed so that the Laplacian over `rows` is nearest to `wanted`; None where it cannot be had."""
    picked = csr_array(stiff)[np.flatnonzero(rows)]
    weight = diags_array(1.0 / mass[rows])
    ids, held = np.flatnonzero(free), np.flatnonzero(~free)
    mine, other = csr_array(picked[:, ids]), picked[:, held]
    try:
        right = mine.T @ (weight @ (wanted[rows] - other @ place[held]))
        solved = Factor(csr_array(mine.T @ (weight @ mine))).solve(right)
    except SolveError:
        return None
    if not np.isfinite(solved).all():
        return None
    out = place.copy()
    out[ids] = solved
    return out


def _laplacian(points: Floats, triangles: Ints, even: bool) -> tuple[csr_array, NDArray[np.float64]]:
    """Cotangent (or even) weights as a symmetric matrix whose rows add up to nothing, and (V,) point areas."""
    n = len(points)
    rows, cols, values = [], [], []
    p = points[triangles]
    doubled = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    for k in range(3):
        a, b = triangles[:, (k + 1) % 3], triangles[:, (k + 2) % 3]
        u, v = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        cot = (u * v).sum(axis=1) / np.maximum(doubled, 1e-12 * doubled.max())
        w = np.ones(len(a)) if even else np.clip(cot, 0.02, 20.0)
        w = 0.5 * w
        rows += [a, b, a, b]
        cols += [b, a, a, b]
        values += [w, w, -w, -w]
    matrix = coo_array((np.concatenate(values), (np.concatenate(rows), np.concatenate(cols))), shape=(n, n)).tocsr()
    mass = np.bincount(triangles.ravel(), np.repeat(doubled / 6, 3), n)
    return matrix, np.maximum(mass, 1e-12 * mass.max()) if not even else np.full(n, mass.mean())
