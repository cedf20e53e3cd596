"""Grid cells linked edge to edge, before they become a mesh.

Linking by half-edge rather than by point lets cells meet twice, be removed and be zipped together
without ever ceasing to be a manifold.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.connectivity import corner_orbits
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh


@dataclass(frozen=True, eq=False)
class Cells:
    """Triangles and quads under construction, as linked half-edges; four slots a cell.

    size (N,) 3 or 4, 0 when removed; mate (4N,) half-edge across, -1 border; point (4N,) key of the
    snapped place; sign (N,) +1 or −1 when the cell is turned over.
    """

    size: Ints
    mate: Ints
    point: Ints
    sign: Ints


def paired(cells: Cells) -> Cells:
    """Half squares joined into quads, folded layers cancelled."""
    return Cells(*_pair_and_cancel(cells.size.copy(), cells.mate.copy(), cells.point.copy(), cells.sign))


def tidied(cells: Cells) -> Cells:
    """Quads that close on themselves collapsed, pairs of quads round a point with only two edges merged into one, half
    squares that cap one another taken out."""
    return Cells(*_tidy(cells.size.copy(), cells.mate.copy(), cells.point.copy(), cells.sign))


@inline
def _link(mate, x, y):
    if x >= 0:
        mate[x] = y
    if y >= 0:
        mate[y] = x


@inline
def _zip(mate, x, y):
    """Take out half-edges x and y, whose cell vanishes, and join what lay across them."""
    if mate[x] != y:
        _link(mate, mate[x], mate[y])


@inline
def _merge_round(size, mate, point, c):
    """Merge the two quads round corner c when only two edges leave it; whether that was so."""
    a = c // 4
    i = c % 4
    p = 4 * a + (i + 3) % 4
    out, back = mate[c], mate[p]
    if out < 0 or back < 0 or out // 4 != back // 4 or out // 4 == a:
        return False
    b = out // 4
    # At b the shared point is the head of `out` and the tail of `back`.
    if size[b] != 4 or size[a] != 4 or (out % 4 + 1) % 4 != back % 4:
        return False
    x, y = 4 * b + (back % 4 + 1) % 4, 4 * b + (back % 4 + 2) % 4
    mx, my = mate[x], mate[y]
    if (mx >= 0 and mx // 4 == b) or (my >= 0 and my // 4 == b):
        return False
    if (mx >= 0 and mx // 4 == a) or (my >= 0 and my // 4 == a):
        return False
    # a keeps its two other edges and takes over the two of b; the point becomes b's far corner.
    point[c] = point[y]
    size[b] = 0
    _link(mate, p, mx)
    _link(mate, c, my)
    return True


@inline
def _uncap(size, mate, a):
    """Take out a half square whose two sides are one slit, and the half square whose diagonal it caps: what lay across
    the other's sides meets. Whether that was so."""
    for k in range(3):
        if mate[4 * a + k] != 4 * a + (k + 1) % 3:
            continue
        m = mate[4 * a + (k + 2) % 3]
        if m < 0:
            return False
        b, i = m // 4, m % 4
        if b == a or size[b] != 3:
            return False
        _zip(mate, 4 * b + (i + 1) % 3, 4 * b + (i + 2) % 3)
        size[a] = size[b] = 0
        return True
    return False


@kernel
def _tidy(size, mate, point, sign):
    n = len(size)
    changed = True
    while changed:
        changed = False
        for a in range(n):
            if size[a] == 3 and _uncap(size, mate, a):
                changed = True
            if size[a] != 4:
                continue
            for i in range(4):
                c, p = 4 * a + i, 4 * a + (i + 3) % 4
                if mate[p] == c:
                    # Only one edge leaves this corner: the quad is a slit; close it.
                    _zip(mate, 4 * a + (i + 1) % 4, 4 * a + (i + 2) % 4)
                    size[a] = 0
                    changed = True
                    break
                if _merge_round(size, mate, point, c):
                    changed = True
                    break
    return size, mate, point, sign


@inline
def _join(size, mate, point, a, b):
    """Two half squares with their diagonals (edge 2) together become one quad in slot a.

    a = (p0, p1, p2) with the diagonal p2 → p0; b likewise: the quad is p0 p1 p2 q1.
    """
    ends = np.empty(4, np.int32)
    ends[0], ends[1] = mate[4 * a], mate[4 * a + 1]
    ends[2], ends[3] = mate[4 * b], mate[4 * b + 1]
    old = np.array([4 * a, 4 * a + 1, 4 * b, 4 * b + 1], np.int32)
    new = np.array([4 * a, 4 * a + 1, 4 * a + 2, 4 * a + 3], np.int32)
    point[4 * a + 3] = point[4 * b + 1]
    size[a], size[b] = 4, 0
    for k in range(4):
        m = ends[k]
        for j in range(4):
            if m == old[j]:
                m = new[j]
                break
        mate[new[k]] = m
        if m >= 0:
            mate[m] = new[k]


@inline
def _cancel(size, mate, point, a, i, b, j):
    """Remove two cells folded onto each other along edge i of a and j of b; zip what they touched."""
    n = size[a]
    for k in range(1, n):
        # Going on in a from the fold is going back in b.
        x, y = 4 * a + (i + k) % n, 4 * b + (j + n - k) % n
        if mate[x] == y:
            continue
        p, q = mate[x], mate[y]
        if p >= 0 and (p // 4 == a or p // 4 == b):
            return False
        if q >= 0 and (q // 4 == a or q // 4 == b):
            return False
    for k in range(1, n):
        x, y = 4 * a + (i + k) % n, 4 * b + (j + n - k) % n
        if mate[x] == y:
            continue
        p, q = mate[x], mate[y]
        if p >= 0:
            mate[p] = q
        if q >= 0:
            mate[q] = p
    size[a] = size[b] = 0
    return True


@kernel
def _pair_and_cancel(size, mate, point, sign):
    """Join half squares into quads, then cancel layers folded onto each other."""
    n = len(size)
    changed = True
    while changed:
        changed = False
        for a in range(n):
            if size[a] != 3:
                continue
            m = mate[4 * a + 2]
            if m < 0:
                continue
            b = m // 4
            if b == a or size[b] != 3 or m % 4 != 2:
                continue
            if sign[a] == sign[b]:
                _join(size, mate, point, a, b)
                changed = True
            elif _cancel(size, mate, point, a, 2, b, 2):
                changed = True
        for a in range(n):
            if size[a] == 0 or sign[a] > 0:
                continue
            for i in range(size[a]):
                m = mate[4 * a + i]
                if m < 0:
                    continue
                b = m // 4
                if b != a and sign[b] > 0 and size[b] == size[a] and _cancel(size, mate, point, a, i, b, m % 4):
                    changed = True
                    break
    return size, mate, point, sign


def assembled(cells: Cells, where: Floats) -> PolyMesh:
    """Faces from linked cells; points are the fans of corners that the links join."""
    size, mate, point = cells.size, cells.mate, cells.point
    kept = np.flatnonzero(size > 0)
    if len(kept) == 0:
        return PolyMesh.empty()
    starts = np.concatenate([[0], np.cumsum(size[kept])]).astype(np.int32)
    slot = np.full(len(mate) + 1, -1, np.int32)
    flat = np.concatenate([4 * f + np.arange(size[f]) for f in kept])
    slot[flat] = np.arange(len(flat))
    following, preceding = _ring_links(starts, len(flat))
    new, origin = corner_orbits(following, preceding, slot[mate[flat]], point[flat])
    return PolyMesh(where[origin].copy(), new, starts)


def _ring_links(starts: Ints, n: int) -> tuple[Ints, Ints]:
    following = np.arange(1, n + 1, dtype=np.int32)
    following[starts[1:] - 1] = starts[:-1]
    preceding = np.arange(-1, n - 1, dtype=np.int32)
    preceding[starts[:-1]] = starts[1:] - 1
    return following, preceding
