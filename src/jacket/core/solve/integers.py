"""Exact elimination of linear relations among integer unknowns."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline, kernel
from jacket.errors import SolveError

Matrix = NDArray[np.signedinteger]


def integer_kernel(rows: Matrix) -> Matrix:
    """A basis (N, K) of all integer solutions y of `rows` (R, N) @ y = 0, one a column.

    Column-style Hermite elimination by unimodular operations, so that the basis spans exactly the
    integer solutions and not a sublattice (Cohen, A Course in Computational Algebraic Number
    Theory, 1993, section 2.4). Rows with a ±1 entry and few others come first, which keeps the
    numbers small.
    """
    columns = np.array(rows.T, np.int64, order="C")
    basis = np.eye(len(columns), dtype=np.int64)
    alive = _eliminate_all(columns, basis)
    return np.ascontiguousarray(basis[alive].T)


def with_one(basis: Matrix, row: int) -> tuple[Matrix, Matrix]:
    """(given (N,), rest (N, K−1)): all solutions in the span of `basis` (N, K) whose entry `row` is 1 are given + rest @
    z. Euclid's algorithm on the columns; raises SolveError where no solution has a 1 there."""
    basis = basis.copy()
    while True:
        left = np.flatnonzero(basis[row])
        if len(left) <= 1:
            break
        least = left[np.argmin(np.abs(basis[row, left]))]
        for k in left[left != least].tolist():
            basis[:, k] -= (basis[row, k] // basis[row, least]) * basis[:, least]
    if len(left) == 0 or abs(int(basis[row, left[0]])) != 1:
        raise SolveError("No grid of quads has this border; its sides do not add up.")
    return basis[:, left[0]] * basis[row, left[0]], np.delete(basis, left[0], axis=1)


@inline
def _difficulty(columns, r, alive):
    """Number of entries of a row, plus a large number when none of them is ±1."""
    count, one = 0, False
    for j in range(len(columns)):
        if alive[j] and columns[j, r] != 0:
            count += 1
            if abs(columns[j, r]) == 1:
                one = True
    return count if one or count == 0 else count + 1_000_000


@inline
def _pivot(columns, r, alive, uses):
    """The column with the smallest entry in row r, of these the least used."""
    best, size = -1, 0
    for j in range(len(columns)):
        if not alive[j] or columns[j, r] == 0:
            continue
        s = abs(columns[j, r])
        if best < 0 or s < size or (s == size and uses[j] < uses[best]):
            best, size = j, s
    return best


@inline
def _taken(columns, j, p, times):
    """Take a column so many times from another."""
    goal, from_ = columns[j], columns[p]
    for k in range(columns.shape[1]):
        goal[k] -= times * from_[k]


@kernel
def _eliminate_all(columns, basis):
    """`columns` (N, R) and `basis` (N, N) one after another, so that work on them runs through memory in order."""
    n, n_rows = columns.shape
    alive = np.ones(n, np.bool_)
    done = np.zeros(n_rows, np.bool_)
    hard = np.empty(n_rows, np.int64)
    for r in range(n_rows):
        hard[r] = _difficulty(columns, r, alive)
    uses = np.zeros(n, np.int64)
    for r in range(n_rows):
        for j in range(n):
            if columns[j, r] != 0:
                uses[j] += 1
    changed = np.zeros(n_rows, np.bool_)
    for _ in range(n_rows):
        row = -1
        for r in range(n_rows):
            if not done[r] and (row < 0 or hard[r] < hard[row]):
                row = r
        done[row] = True
        changed[:] = False
        while True:
            p = _pivot(columns, row, alive, uses)
            if p < 0:
                break
            others = False
            for j in range(n):
                if j == p or not alive[j] or columns[j, row] == 0:
                    continue
                others = True
                f = columns[j, row] // columns[p, row]
                _taken(columns, j, p, f)
                _taken(basis, j, p, f)
            # Only rows with an entry where the pivot is have become others.
            for r in range(n_rows):
                changed[r] = changed[r] or columns[p, r] != 0
            if not others:
                alive[p] = False
                break
        for r in range(n_rows):
            if changed[r] and not done[r]:
                hard[r] = _difficulty(columns, r, alive)
    return alive
