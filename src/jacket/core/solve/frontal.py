"""Sparse Cholesky factors by dense fronts: any number of values in a planned pattern.

Duff and Reid, "The multifrontal solution of indefinite sparse symmetric linear equations" (1983). Columns that share a front are worked
on as one dense block, which makes this two to three times as fast as one column after another, and two threads share it.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.beside import both
from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats
from jacket.core.solve.plan import Plan

TINY = 1e-150
"""Share of the largest entry's root below which entries of a factor count as nothing: their products would be numbers that
processors take a hundred times as long for."""


class Fronts:
    """A symmetric positive definite matrix (N, N), given by its upper half (CSC, rows in order), factored."""

    def __init__(self, upper: Any, plan: Plan) -> None:
        """Raises ArithmeticError where the matrix is not positive definite."""
        self.plan = plan
        self.values = np.empty(int(self.plan.factor[-1]))
        # One set for each of two threads.
        self._left = [np.empty(self.plan.room) for _ in range(2)]
        self._front = [np.empty(self.plan.widest**2) for _ in range(2)]
        self._open = [np.empty(len(self.plan.kids) + 1, np.int64) for _ in range(2)]
        self.update(upper)

    def update(self, upper: Any) -> None:
        """Factor other values in the same pattern; raises as above."""
        p = self.plan
        data = np.ascontiguousarray(upper.data, np.float64)
        tiny = TINY * float(np.sqrt(np.abs(data).max(initial=0.0)))

        def some(begin: int, end: int, own: int, open_now: int = 0, top: int = 0) -> tuple[bool, int, int]:
            return _factored(begin, end, p.first, p.ptr, p.into, p.inside, p.kids, p.begin, p.source, p.target, p.factor, data,
                             tiny, self._left[own], self._front[own], self._open[own], open_now, top, self.values)  # fmt: skip

        x, y = p.halves
        if y:
            (sound, open_now, top), (also, more, size) = both(lambda: some(0, x, 0), lambda: some(x, y, 1))
            # What the second leaves comes onto the stack of the first.
            self._left[0][top : top + size] = self._left[1][:size]
            self._open[0][open_now : open_now + more] = self._open[1][:more]
            sound = sound and also and some(y, len(p.kids), 0, open_now + more, top + size)[0]
        else:
            sound = some(0, len(p.kids), 0)[0]
        if not sound:
            raise ArithmeticError("not positive definite")

    def solve(self, right: Floats) -> Floats:
        """Solution for one right side (N,) or several (N, K)."""
        p = self.plan
        sorted_right = np.empty((len(p.place), 1 if right.ndim == 1 else right.shape[1]))
        sorted_right[p.place] = right.reshape(len(right), -1)
        if sorted_right.shape[1] == 1:
            self._solve_one(sorted_right[:, 0])
        else:
            _solved(p.first, p.ptr, p.rows, p.factor, self.values, sorted_right)
        return np.asarray(sorted_right[p.place].reshape(right.shape))

    def _solve_one(self, x: Floats) -> None:
        """Forward and back, x (N,) becoming the solution."""
        p = self.plan
        own = p.first, p.ptr, p.rows, p.factor, self.values
        a, b = p.halves
        if not b:
            _forward(0, len(p.kids), *own, x)
            _back(0, len(p.kids), *own, x)
            return
        # Both halves take from what comes after them: the second does so in numbers of its own.
        begin, end = p.first[a], p.first[b]
        other = np.zeros(len(x))
        other[begin:end] = x[begin:end]
        both(lambda: _forward(0, a, *own, x), lambda: _forward(a, b, *own, other))
        x[begin:end] = other[begin:end]
        x[end:] += other[end:]
        _forward(b, len(p.kids), *own, x)
        _back(b, len(p.kids), *own, x)
        both(lambda: _back(0, a, *own, x), lambda: _back(a, b, *own, x))


@inline
def _columns_taken(front, high, column, first, last):
    """Take columns first to last, times their entries in the row of a column, from that column of a front."""
    # Slices begin at 0, so that loops over them need not look whether an index is negative and go several at a time.
    size = high - column
    start = column * high + column
    goal = front[start : start + size]
    t = first
    while t + 4 <= last:
        start = t * high + column
        c0, c1 = front[start : start + size], front[start + high : start + high + size]
        c2, c3 = front[start + 2 * high : start + 2 * high + size], front[start + 3 * high : start + 3 * high + size]
        f0, f1, f2, f3 = c0[0], c1[0], c2[0], c3[0]
        for r in range(size):
            goal[r] -= f0 * c0[r] + f1 * c1[r] + f2 * c2[r] + f3 * c3[r]
        t += 4
    while t < last:
        start = t * high + column
        c0 = front[start : start + size]
        f0 = c0[0]
        for r in range(size):
            goal[r] -= f0 * c0[r]
        t += 1


@kernel
def _factored(from_, to, first, ptr, into, inside, kids, begin, source, target, factor, data, tiny, left, front, open_now, count, top, out):
    """Factor fronts in order; the factor of one is its own triangle, columns after one another, then the rows below it one
    after another. `left` is a stack of what is left of the `count` fronts in `open_now`, up to `top`. Returns whether every pivot
    is positive, and both as they are then."""
    for s in range(from_, to):
        high, wide = ptr[s + 1] - ptr[s], first[s + 1] - first[s]
        rest = high - wide
        for c in range(high):
            front[c * high + c : (c + 1) * high] = 0.0
        for k in range(begin[s], begin[s + 1]):
            front[target[k]] += data[source[k]]
        for _ in range(kids[s]):
            count -= 1
            kid = open_now[count]
            size, at = into[kid + 1] - into[kid], into[kid]
            top -= size * size
            places = inside[at : at + size]
            for j in range(size):
                goal, given = front[places[j] * high : places[j] * high + high], left[top + j * size : top + (j + 1) * size]
                for i in range(j, size):
                    goal[places[i]] += given[i]
        for c in range(wide):
            _columns_taken(front, high, c, 0, c)
            pivot = front[c * high + c]
            if not pivot > 0.0:
                return False, count, top
            scale = 1.0 / np.sqrt(pivot)
            column = front[c * high + c : (c + 1) * high]
            for r in range(high - c):
                value = column[r] * scale
                column[r] = value if abs(value) > tiny else 0.0
        at = factor[s]
        for c in range(wide):
            out[at + c * wide + c : at + (c + 1) * wide] = front[c * high + c : c * high + wide]
        at += wide * wide
        below = out[at : at + rest * wide].reshape((rest, wide))
        for c in range(wide):
            column = front[c * high + wide : (c + 1) * high]
            for r in range(rest):
                below[r, c] = column[r]
        if rest == 0:
            # A root leaves nothing.
            continue
        for j in range(rest):
            _columns_taken(front, high, wide + j, 0, wide)
            start = (wide + j) * high + wide
            left[top + j * rest + j : top + (j + 1) * rest] = front[start + j : start + rest]
        top += rest * rest
        open_now[count] = s
        count += 1
    return True, count, top


@kernel
def _forward(from_, to, first, ptr, rows, factor, values, x):
    """Forward through some fronts, in x (N,)."""
    for s in range(from_, to):
        high, wide = ptr[s + 1] - ptr[s], first[s + 1] - first[s]
        at, own = factor[s], x[first[s] : first[s] + wide]
        for c in range(wide):
            column = values[at + c * wide : at + (c + 1) * wide]
            value = own[c] / column[c]
            own[c] = value
            for r in range(c + 1, wide):
                own[r] -= column[r] * value
        at += wide * wide
        below, under = values[at : at + (high - wide) * wide], rows[ptr[s] + wide : ptr[s + 1]]
        for r in range(high - wide):
            row = below[r * wide : (r + 1) * wide]
            one, two = 0.0, 0.0
            for c in range(wide // 2):
                one += row[2 * c] * own[2 * c]
                two += row[2 * c + 1] * own[2 * c + 1]
            if wide % 2:
                one += row[wide - 1] * own[wide - 1]
            x[under[r]] -= one + two


@kernel
def _back(from_, to, first, ptr, rows, factor, values, x):
    """Back through some fronts, the last of them first, in x (N,)."""
    for ahead in range(to - from_):
        s = to - 1 - ahead
        high, wide = ptr[s + 1] - ptr[s], first[s + 1] - first[s]
        at, own = factor[s], x[first[s] : first[s] + wide]
        start = at + wide * wide
        below, under = values[start : start + (high - wide) * wide], rows[ptr[s] + wide : ptr[s + 1]]
        for r in range(high - wide):
            value, row = x[under[r]], below[r * wide : (r + 1) * wide]
            for c in range(wide):
                own[c] -= row[c] * value
        for k in range(wide):
            c = wide - 1 - k
            column = values[at + c * wide : at + (c + 1) * wide]
            value = own[c]
            for r in range(c + 1, wide):
                value -= column[r] * own[r]
            own[c] = value / column[c]


@kernel
def _solved(first, ptr, rows, factor, values, x):
    """The same for several right sides (N, K) at once."""
    total, sides = len(first) - 1, x.shape[1]
    for s in range(total):
        wide, rest, at, a = first[s + 1] - first[s], ptr[s + 1] - ptr[s] - (first[s + 1] - first[s]), factor[s], first[s]
        for c in range(wide):
            scale = 1.0 / values[at + c * wide + c]
            for k in range(sides):
                x[a + c, k] *= scale
            for r in range(c + 1, wide):
                value = values[at + c * wide + r]
                for k in range(sides):
                    x[a + r, k] -= value * x[a + c, k]
        if rest == 0:
            continue
        at += wide * wide
        own = ptr[s] + wide
        pulled = np.dot(values[at : at + rest * wide].reshape((rest, wide)), x[a : a + wide])
        for r in range(rest):
            for k in range(sides):
                x[rows[own + r], k] -= pulled[r, k]
    for back in range(total):
        s = total - 1 - back
        wide, rest, at, a = first[s + 1] - first[s], ptr[s + 1] - ptr[s] - (first[s + 1] - first[s]), factor[s], first[s]
        own, below = ptr[s] + wide, at + wide * wide
        if rest > 0:
            known = np.empty((rest, sides))
            for r in range(rest):
                for k in range(sides):
                    known[r, k] = x[rows[own + r], k]
            pulled = np.dot(values[below : below + rest * wide].reshape((rest, wide)).T, known)
            for r in range(wide):
                for k in range(sides):
                    x[a + r, k] -= pulled[r, k]
        for j in range(wide):
            c = wide - 1 - j
            for r in range(c + 1, wide):
                value = values[at + c * wide + r]
                for k in range(sides):
                    x[a + c, k] -= value * x[a + r, k]
            scale = 1.0 / values[at + c * wide + c]
            for k in range(sides):
                x[a + c, k] *= scale
