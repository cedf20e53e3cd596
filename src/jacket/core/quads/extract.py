"""Quads out of an integer-grid map, by snapping rather than by tracing lines.

The triangles are split until no edge spans a whole step; then every corner is rounded. Each
triangle is now nothing, a sliver with one edge, or exactly half a grid square; half squares are
paired across their diagonals, walking through the slivers between them, and folded layers cancel.
Corners are numbered by walking round them through the pairing, so that the result is a manifold
by construction. (The map and its transitions: Bommes et al. 2009; robust extraction in general:
Ebke, Bommes, Campen and Kobbelt, "QEx", 2013.)
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.quads.cells import Cells, assembled, paired, tidied
from jacket.core.quads.gridmap import GridMap


def extract_quads(mesh: PolyMesh, grid: GridMap) -> PolyMesh:
    """The faces of the grid over a base mesh; all quads where the map is sound, some triangles
    or turned cells' remains elsewhere. Points lie on the base mesh. A map that is torn so far that
    splitting it would take more memory than it is worth gives none."""
    if _pieces(grid) > MOST_PIECES * mesh.n_faces:
        return PolyMesh.empty()
    points, tris, uv, turn, shift = _split_long(mesh, grid)
    fine = PolyMesh.from_faces(points, tris)
    topology = fine.topology
    snapped = _snap(uv, turn, shift, topology.next, topology.prev, topology.twin, fine.corners, fine.n_points)
    place = _places(fine, snapped)
    cells = _half_squares(fine, snapped, place)
    cells = tidied(paired(cells))
    where = _positions(fine, uv, snapped, place, int(place.max()) + 1 if len(place) else 0)
    return assembled(cells, where)


MOST_PIECES = 80
"""Triangles that each of a map may be split into on average; half a million quads on the finest base need about 70."""


def _pieces(grid: GridMap) -> float:
    """About how many triangles a map is split into: by the length of each in steps, and by its area."""
    uv = grid.uv.reshape(-1, 3, 2)
    side = uv[:, [1, 2, 0]] - uv
    span = np.abs(side).max(axis=(1, 2))
    area = 0.5 * np.abs(side[:, 0, 0] * side[:, 1, 1] - side[:, 0, 1] * side[:, 1, 0])
    return float(np.maximum(span, 1.0).sum() + 4.0 * area.sum())


def _split_long(mesh: PolyMesh, grid: GridMap) -> tuple[Floats, Ints, Floats, Ints, Ints]:
    """Bisect edges until each spans less than one step in both coordinates."""
    points, tris = mesh.points, mesh.triangle_points
    uv = grid.uv.reshape(-1, 3, 2)
    turn, shift = grid.turn.reshape(-1, 3), grid.shift.reshape(-1, 3, 2)
    for _ in range(12):
        fine = PolyMesh.from_faces(points, tris)
        span = np.abs(uv[:, [1, 2, 0]] - uv).max(axis=2)
        marks = np.zeros(fine.topology.n_edges, bool)
        marks[fine.topology.edge[(span >= 0.99).ravel()]] = True
        if not marks.any():
            break
        points, tris, uv, turn, shift = _bisect(fine, marks, uv, turn, shift)
    return points, tris, uv, turn, shift


def _bisect(fine: PolyMesh, marks: NDArray[np.bool_], uv: Floats, turn: Ints, shift: Ints):
    """Split marked edges at their middles; triangles into two, three or four."""
    topology = fine.topology
    number = np.cumsum(marks) - 1 + fine.n_points
    middle = fine.points[topology.edge_points[marks]].mean(axis=1)
    edge = topology.edge.reshape(-1, 3)
    out = _bisect_kernel(fine.triangle_points, uv, turn, shift, marks[edge], number[edge].astype(np.int32))
    return np.concatenate([fine.points, middle]), *out


@kernel
def _bisect_kernel(tris, uv, turn, shift, marked, number):
    total = 0
    for t in range(len(tris)):
        total += 1 + marked[t, 0] + marked[t, 1] + marked[t, 2]
    new_tris = np.empty((total, 3), np.int32)
    new_uv = np.empty((total, 3, 2))
    new_turn = np.zeros((total, 3), np.int32)
    new_shift = np.zeros((total, 3, 2), np.int32)
    # Six slots per triangle: its corners, then the middles of its edges.
    ids = np.empty(6, np.int32)
    at = np.empty((6, 2))
    n = 0
    pieces = np.empty((4, 3), np.int32)
    for t in range(len(tris)):
        for k in range(3):
            ids[k] = tris[t, k]
            ids[3 + k] = number[t, k]
            for j in range(2):
                at[k, j] = uv[t, k, j]
                at[3 + k, j] = 0.5 * (uv[t, k, j] + uv[t, (k + 1) % 3, j])
        count = marked[t, 0] * 1 + marked[t, 1] * 1 + marked[t, 2] * 1
        if count == 0:
            pieces[0] = np.array([0, 1, 2], np.int32)
        elif count == 3:
            pieces[0] = np.array([0, 3, 5], np.int32)
            pieces[1] = np.array([3, 1, 4], np.int32)
            pieces[2] = np.array([5, 4, 2], np.int32)
            pieces[3] = np.array([3, 4, 5], np.int32)
        elif count == 1:
            k = 0
            while not marked[t, k]:
                k += 1
            a, b, c = k, (k + 1) % 3, (k + 2) % 3
            pieces[0] = np.array([a, 3 + k, c], np.int32)
            pieces[1] = np.array([3 + k, b, c], np.int32)
        else:
            k = 0
            while marked[t, k]:
                k += 1
            # Edge k (a-b) is whole; b-c and c-a are split.
            a, b, c = k, (k + 1) % 3, (k + 2) % 3
            m, l = 3 + b, 3 + c
            pieces[0] = np.array([l, m, c], np.int32)
            pieces[1] = np.array([a, b, l], np.int32)
            pieces[2] = np.array([b, m, l], np.int32)
        for p in range(count + 1):
            for k in range(3):
                i, j = pieces[p, k], pieces[p, (k + 1) % 3]
                new_tris[n, k] = ids[i]
                new_uv[n, k, 0] = at[i, 0]
                new_uv[n, k, 1] = at[i, 1]
                e = -1
                if i < 3 and j < 3:
                    if j == (i + 1) % 3 and not marked[t, i]:
                        e = i
                elif i < 3 and j == 3 + i:
                    e = i
                elif j < 3 and i >= 3 and (i - 3 + 1) % 3 == j:
                    e = i - 3
                if e >= 0:
                    new_turn[n, k] = turn[t, e]
                    new_shift[n, k, 0] = shift[t, e, 0]
                    new_shift[n, k, 1] = shift[t, e, 1]
            n += 1
    return new_tris, new_uv, new_turn, new_shift


@kernel
def _snap(uv, turn, shift, following, preceding, twin, corners, n_points):
    """Round one corner of each point and carry the whole numbers round it through the transitions."""
    n = len(corners)
    out = np.empty((n // 3, 3, 2), np.int64)
    done = np.zeros(n, np.bool_)
    for first in range(n):
        if done[first]:
            continue
        c = first
        # On a border begin where the fan begins, so that one walk covers it.
        while twin[c] >= 0:
            c = following[twin[c]]
            if c == first:
                break
        u = np.int64(np.floor(uv[c // 3, c % 3, 0] + 0.5))
        v = np.int64(np.floor(uv[c // 3, c % 3, 1] + 0.5))
        while not done[c]:
            done[c] = True
            out[c // 3, c % 3, 0] = u
            out[c // 3, c % 3, 1] = v
            p = preceding[c]
            if twin[p] < 0:
                break
            t, i = p // 3, p % 3
            k = turn[t, i]
            x, y = u, v
            if k == 1:
                x, y = -v, u
            elif k == 2:
                x, y = -u, -v
            elif k == 3:
                x, y = v, -u
            u, v = x + shift[t, i, 0], y + shift[t, i, 1]
            c = twin[p]
    return out


def _places(fine: PolyMesh, snapped: NDArray[np.signedinteger]) -> Ints:
    """(V,) points numbered so that those joined by edges of no length share a number."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    same = (snapped == snapped[:, [1, 2, 0]]).all(axis=2)
    a = fine.triangle_points[same]
    b = fine.triangle_points[:, [1, 2, 0]][same]
    graph = coo_array((np.ones(len(a), np.int8), (a, b)), shape=(fine.n_points, fine.n_points))
    return connected_components(graph, directed=False)[1].astype(np.int32)


def _half_squares(fine: PolyMesh, snapped: NDArray[np.signedinteger], place: Ints) -> Cells:
    side = snapped[:, [1, 2, 0]] - snapped
    short = (side == 0).all(axis=2)
    count = short.sum(axis=1)
    area = side[:, 0, 0] * side[:, 1, 1] - side[:, 0, 1] * side[:, 1, 0]
    real = count == 0
    cell = np.full(len(snapped), -1, np.int64)
    cell[real] = np.arange(int(real.sum()))
    mate = _walk_slivers(cell, short, count, fine.topology.twin)
    n = int(real.sum())
    point = np.full((n, 4), -1, np.int32)
    point[:, :3] = place[fine.triangle_points[real]]
    # The diagonal is kept as edge 2, so that pairing knows where to look.
    diagonal = np.argmax(np.abs(side[real]).sum(axis=2), axis=1)
    roll = (diagonal[:, None] + 1 + np.arange(3)) % 3
    rows = np.arange(n)[:, None]
    point[:, :3] = point[rows, roll]
    where = np.full(3 * len(snapped) + 1, -1, np.int64)
    where[(3 * np.flatnonzero(real)[:, None] + roll).ravel()] = (4 * rows + np.arange(3)).ravel()
    linked = np.full((n, 4), -1, np.int32)
    linked[:, :3] = where[mate.reshape(-1, 3)[real][rows, roll]]
    sign = np.sign(area[real]).astype(np.int32)
    return Cells(np.full(n, 3, np.int32), linked.ravel(), point.ravel(), sign)


@kernel
def _walk_slivers(cell, short, count, twin):
    """For each half-edge of a half square, the half-edge it meets beyond slivers; -1 at a border."""
    n = len(twin)
    out = np.full(n, -1, np.int64)
    for c in range(n):
        if cell[c // 3] < 0:
            continue
        d = twin[c]
        for _ in range(n):
            if d < 0 or cell[d // 3] >= 0:
                break
            t = d // 3
            if count[t] != 1:
                d = -1
                break
            # Leave by the other edge that has a length.
            for k in range(3):
                e = 3 * t + k
                if e != d and not short[t, k]:
                    d = e
                    break
            d = twin[d]
        out[c] = d
    return out


def _positions(fine: PolyMesh, uv: Floats, snapped: NDArray[np.signedinteger], place: Ints, n_places: int) -> Floats:
    """(P, 3) where each snapped place lies: at its exact grid point where a triangle holds it, else
    at the corner nearest to it."""
    out = np.zeros((n_places, 3))
    best = np.full(n_places, np.inf)
    _exact_places(fine.points, fine.triangle_points, uv, snapped, place, out, best)
    return out


@kernel
def _exact_places(points, tris, uv, snapped, place, out, best):
    for t in range(len(tris)):
        ax, ay = uv[t, 0, 0], uv[t, 0, 1]
        bx, by = uv[t, 1, 0] - ax, uv[t, 1, 1] - ay
        cx, cy = uv[t, 2, 0] - ax, uv[t, 2, 1] - ay
        det = bx * cy - by * cx
        for k in range(3):
            p = place[tris[t, k]]
            gx, gy = float(snapped[t, k, 0]), float(snapped[t, k, 1])
            off = 1.0 + (uv[t, k, 0] - gx) ** 2 + (uv[t, k, 1] - gy) ** 2
            s, r = 0.0, 0.0
            if k == 1:
                s = 1.0
            elif k == 2:
                r = 1.0
            if det > 1e-14:
                x, y = gx - ax, gy - ay
                i, j = (x * cy - y * cx) / det, (bx * y - by * x) / det
                if i >= -1e-9 and j >= -1e-9 and i + j <= 1 + 1e-9:
                    s, r, off = i, j, 0.0
            if off < best[p]:
                best[p] = off
                for d in range(3):
                    out[p, d] = (
                        (1 - s - r) * points[tris[t, 0], d] + s * points[tris[t, 1], d] + r * points[tris[t, 2], d]
                    )
