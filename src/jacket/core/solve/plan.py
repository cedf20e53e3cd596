"""How a sparse symmetric pattern is factored by dense fronts: an order, an elimination tree, and which columns go together.

Elimination tree and column counts after Liu, "The role of elimination trees in sparse factorization" (1990); columns of nearly the
same rows are joined (Ashcraft and Grimes, "The influence of relaxed supernode partitions on the multifrontal method", 1989).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats

Long = NDArray[np.int64]

WORTH, MOST_ENDS = 2e6, 300
"""Multiplications from which on two threads share a factor, and how many fronts from the end are looked at for where to part them."""
SMALL, MORE_ZEROS = 4, 0.05
"""Columns of a front up to which it is joined with the one after it whatever zeros that brings, and up to what share of zeros
larger ones are."""


@dataclass(frozen=True, eq=False)
class Plan:
    """How a pattern is factored.

    place    (N,) where each unknown comes in the order of elimination
    first    (S + 1,) first column of each front
    rows     rows of front s, its own columns first: rows[ptr[s]:ptr[s + 1]]
    inside   for the rows of front s after its own columns their places in the front it goes into: inside[into[s]:into[s + 1]]
    kids     (S,) how many fronts go into each
    source   for front s the entries of the matrix that begin in it, source[begin[s]:begin[s + 1]], and their places `target` there
    factor   (S + 1,) where the factor of each front begins
    room     most numbers on the stack of what is left of fronts; `widest` the rows of the largest front
    halves   (x, y): fronts before x and those from x to y have nothing to do with one another
    """

    place: Long
    first: Long
    ptr: Long
    rows: Long
    into: Long
    inside: Long
    kids: Long
    begin: Long
    source: Long
    target: Long
    factor: Long
    room: int
    widest: int
    halves: tuple[int, int]


def planned(upper: Any, block: int = 1, order: Long | None = None) -> Plan:
    """The plan for a pattern (CSC, upper half with the diagonal, rows in order). `block` says that so many unknowns after one
    another always come together; `order` (N / block,) is which comes first, else it is found with little fill."""
    starts, rows = upper.indptr.astype(np.int64), upper.indices.astype(np.int64)
    n = (len(starts) - 1) // block
    columns = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
    graph = sparse.coo_array((np.ones(len(rows), np.int8), (rows // block, columns // block)), shape=(n, n)).tocsc()
    graph.sum_duplicates()
    if order is None:
        order = _little_fill(graph)
    place = np.empty(n, np.int64)
    place[order] = np.arange(n)
    parent, count = _tree(*_permuted(graph.indptr, graph.indices, place, n))
    after = _postorder(parent, count)
    place = after[place]
    ptr, near = _permuted(graph.indptr, graph.indices, place, n)
    parent, count = _tree(ptr, near)
    first, up, kids = _fronts(parent, count, block, SMALL, MORE_ZEROS)
    ptr, rows_of, into, inside = _structure(ptr, near, first, up)
    if block > 1:
        spread = np.arange(block)
        place = (block * place[:, None] + spread).ravel()
        rows_of = (block * rows_of[:, None] + spread).ravel()
        inside = (block * inside[:, None] + spread).ravel()
        first, ptr, into = block * first, block * ptr, block * into
    begin, source, target = _entries(starts, rows, place, first, ptr, rows_of)
    high, wide = np.diff(ptr), np.diff(first)
    factor = np.concatenate([[0], np.cumsum(high * wide)])
    halves = _halves(kids, np.cumsum(wide * high.astype(float) ** 2 + 1.0))
    return Plan(place, first, ptr, rows_of, into, inside, kids, begin, source, target, factor,
                int(_room(high - wide, kids)), int(high.max(initial=0)), halves)  # fmt: skip


def _halves(kids: Long, work: Floats) -> tuple[int, int]:
    """Where to part the fronts so that two threads are done soonest, (0, 0) where one is enough; `work` (S,) is summed up."""
    total = float(work[-1]) if len(work) else 0.0
    if total < WORTH:
        return 0, 0
    # The fronts under each are those just before it.
    low = np.arange(len(kids))
    open_now: list[int] = []
    for s, count in enumerate(kids.tolist()):
        for _ in range(count):
            low[s] = low[open_now.pop()]
        open_now.append(s)
    best, out = total, (0, 0)
    ends = np.flatnonzero(kids >= 2)
    for y in ends[-MOST_ENDS:].tolist():
        # Of the fronts that go into y the last one is that before it, which begins at x.
        x = int(low[y - 1])
        a, b = float(work[x - 1]), float(work[y - 1])
        time = max(a, b - a) + total - b
        if time < best:
            best, out = time, (x, y)
    return out


def _little_fill(graph: Any) -> Long:
    """(N,) an order of elimination with little fill (approximate minimum degree, by way of QDLDL)."""
    off = graph.copy().astype(float)
    off.data[:] = -1.0
    whole = off + off.T
    degree = np.asarray(-whole.sum(axis=0)).ravel()
    whole = sparse.csc_matrix(sparse.triu(whole - sparse.diags_array(whole.diagonal()) + sparse.diags_array(degree + 1.0)))
    whole.sort_indices()
    import qdldl

    return np.asarray(qdldl.Solver(whole, upper=True).factors()[2], np.int64)


@kernel
def _permuted(starts, rows, place, n):
    """The upper half of a pattern in another order: (n + 1) where columns begin, rows without the diagonal."""
    count = np.zeros(n + 1, np.int64)
    for c in range(n):
        for e in range(starts[c], starts[c + 1]):
            a, b = place[rows[e]], place[c]
            if a != b:
                count[max(a, b) + 1] += 1
    for c in range(n):
        count[c + 1] += count[c]
    fill = count.copy()
    out = np.empty(count[n], np.int64)
    for c in range(n):
        for e in range(starts[c], starts[c + 1]):
            a, b = place[rows[e]], place[c]
            if a != b:
                high = max(a, b)
                out[fill[high]] = min(a, b)
                fill[high] += 1
    return count, out


@kernel
def _tree(starts, rows):
    """(N,) the parent of each column in the elimination tree, −1 at roots, and how many rows its factor has."""
    n = len(starts) - 1
    parent, ancestor = np.full(n, -1, np.int64), np.full(n, -1, np.int64)
    for c in range(n):
        for e in range(starts[c], starts[c + 1]):
            i = rows[e]
            while i >= 0 and i < c:
                up = ancestor[i]
                ancestor[i] = c
                if up < 0:
                    parent[i] = c
                i = up
    count, seen = np.ones(n, np.int64), np.full(n, -1, np.int64)
    for c in range(n):
        seen[c] = c
        for e in range(starts[c], starts[c + 1]):
            i = rows[e]
            while seen[i] != c:
                count[i] += 1
                seen[i] = c
                i = parent[i]
    return parent, count


@kernel
def _postorder(parent, count):
    """(N,) the place of each column when children come before parents and the one with most rows comes last."""
    n = len(parent)
    head, after = np.full(n + 1, -1, np.int64), np.full(n, -1, np.int64)
    order = np.argsort(count)
    # Put in front of the list one by one: the list then begins with the most rows.
    for k in range(n):
        c = order[k]
        up = parent[c] if parent[c] >= 0 else n
        after[c] = head[up]
        head[up] = c
    place = np.empty(n, np.int64)
    stack = np.empty(n + 1, np.int64)
    number = n
    # Parents first and the fullest child next, counted down from the end.
    root = head[n]
    while root >= 0:
        stack[0], size = root, 1
        while size > 0:
            size -= 1
            c = stack[size]
            number -= 1
            place[c] = number
            # The fullest child has to come off the stack first.
            low = size
            k = head[c]
            while k >= 0:
                stack[size] = k
                size += 1
                k = after[k]
            high = size - 1
            while low < high:
                stack[low], stack[high] = stack[high], stack[low]
                low += 1
                high -= 1
        root = after[root]
    return place


@kernel
def _fronts(parent, count, block, small, more_zeros):
    """First columns of the fronts, the front each goes into and how many go into each: columns whose rows are those of the one
    after them, joined with the next front where that brings few zeros."""
    n = len(parent)
    of = np.empty(n, np.int64)
    starts = np.empty(n + 1, np.int64)
    total = 0
    for c in range(n):
        if c == 0 or parent[c - 1] != c or count[c - 1] != count[c] + 1:
            starts[total] = c
            total += 1
        of[c] = total - 1
    starts[total] = n
    up = np.full(total, -1, np.int64)
    begin, rows, zeros = starts[:total].copy(), np.empty(total, np.int64), np.zeros(total)
    gone = np.zeros(total, np.bool_)
    for s in range(total):
        last = starts[s + 1] - 1
        rows[s] = count[starts[s]]
        if parent[last] >= 0:
            up[s] = of[parent[last]]
    for s in range(1, total):
        # The front just before it, with what was joined to that.
        k = s - 1
        if up[k] != s:
            continue
        wide, own = starts[s] - begin[k], starts[s + 1] - starts[s]
        new = zeros[k] + zeros[s] + wide * (wide + rows[s] - rows[k])
        high = wide + rows[s]
        size = (wide + own) * high - 0.5 * (wide + own) * (wide + own - 1)
        if (block * min(wide, own) <= small and block * (wide + own) <= 4 * small) or new <= more_zeros * size:
            begin[s], rows[s], zeros[s], gone[k] = begin[k], high, new, True
    number = np.full(total, -1, np.int64)
    left = 0
    for s in range(total):
        if not gone[s]:
            number[s] = left
            left += 1
    first, into, kids = np.empty(left + 1, np.int64), np.full(left, -1, np.int64), np.zeros(left, np.int64)
    for s in range(total):
        if gone[s]:
            continue
        k = number[s]
        first[k] = begin[s]
        up_s = up[s]
        while up_s >= 0 and gone[up_s]:
            up_s += 1
        if up_s >= 0:
            into[k] = number[up_s]
            kids[into[k]] += 1
    first[left] = n
    return first, into, kids


@kernel
def _structure(starts, near, first, up):
    """Rows of each front, in order, and the places of those after its own columns in the front it goes into."""
    n, total = len(starts) - 1, len(first) - 1
    # Rows below the diagonal by column.
    low = np.zeros(n + 1, np.int64)
    for e in range(len(near)):
        low[near[e] + 1] += 1
    for c in range(n):
        low[c + 1] += low[c]
    fill, below = low.copy(), np.empty(len(near), np.int64)
    for c in range(n):
        for e in range(starts[c], starts[c + 1]):
            below[fill[near[e]]] = c
            fill[near[e]] += 1
    head, after = np.full(total, -1, np.int64), np.full(total, -1, np.int64)
    for s in range(total):
        if up[s] >= 0:
            after[s] = head[up[s]]
            head[up[s]] = s
    ptr = np.zeros(total + 1, np.int64)
    rows = np.empty(max(4 * n, 16), np.int64)
    seen = np.full(n, -1, np.int64)
    size = 0
    for s in range(total):
        if size + n > len(rows):
            more = np.empty(2 * len(rows) + n, np.int64)
            more[:size] = rows[:size]
            rows = more
        a, b = first[s], first[s + 1]
        for c in range(a, b):
            rows[size] = c
            size += 1
            seen[c] = s
        begin = size
        for c in range(a, b):
            for e in range(low[c], low[c + 1]):
                if seen[below[e]] != s:
                    seen[below[e]] = s
                    rows[size] = below[e]
                    size += 1
        k = head[s]
        while k >= 0:
            for e in range(ptr[k] + first[k + 1] - first[k], ptr[k + 1]):
                r = rows[e]
                if seen[r] != s:
                    seen[r] = s
                    rows[size] = r
                    size += 1
            k = after[k]
        rows[begin:size].sort()
        ptr[s + 1] = size
    into = np.zeros(total + 1, np.int64)
    for s in range(total):
        into[s + 1] = into[s] + ptr[s + 1] - ptr[s] - (first[s + 1] - first[s])
    inside = np.zeros(into[total], np.int64)
    where = np.zeros(n, np.int64)
    for s in range(total):
        for e in range(ptr[s], ptr[s + 1]):
            where[rows[e]] = e - ptr[s]
        k = head[s]
        while k >= 0:
            own = ptr[k] + first[k + 1] - first[k]
            for e in range(own, ptr[k + 1]):
                inside[into[k] + e - own] = where[rows[e]]
            k = after[k]
    return ptr, rows[:size].copy(), into, inside


@kernel
def _entries(starts, rows, place, first, ptr, rows_of):
    """Which entries of a matrix begin in each front, and their places there, columns after one another."""
    n, total = len(starts) - 1, len(first) - 1
    of = np.empty(n, np.int64)
    for s in range(total):
        for c in range(first[s], first[s + 1]):
            of[c] = s
    begin = np.zeros(total + 1, np.int64)
    for c in range(n):
        for e in range(starts[c], starts[c + 1]):
            begin[of[min(place[rows[e]], place[c])] + 1] += 1
    for s in range(total):
        begin[s + 1] += begin[s]
    fill = begin.copy()
    source, column, row = np.empty(len(rows), np.int64), np.empty(len(rows), np.int64), np.empty(len(rows), np.int64)
    for c in range(n):
        for e in range(starts[c], starts[c + 1]):
            a, b = place[rows[e]], place[c]
            k = fill[of[min(a, b)]]
            fill[of[min(a, b)]] += 1
            source[k], column[k], row[k] = e, min(a, b), max(a, b)
    target, where = np.empty(len(rows), np.int64), np.zeros(n, np.int64)
    for s in range(total):
        for e in range(ptr[s], ptr[s + 1]):
            where[rows_of[e]] = e - ptr[s]
        high = ptr[s + 1] - ptr[s]
        for k in range(begin[s], begin[s + 1]):
            target[k] = (column[k] - first[s]) * high + where[row[k]]
    return begin, source, target


@kernel
def _room(left, kids):
    """How many numbers what is left of fronts takes at most, each a square of so many rows."""
    sizes = np.empty(len(left) + 1, np.int64)
    top, now, most = 0, 0, 0
    for s in range(len(left)):
        for _ in range(kids[s]):
            top -= 1
            now -= sizes[top]
        sizes[top] = left[s] * left[s]
        now += sizes[top]
        top += 1
        most = max(most, now)
    return most
