"""Exact elimination of linear relations among integer unknowns."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.int64]


def integer_kernel(rows: Matrix) -> Matrix:
    """A basis (N, K) of all integer solutions y of `rows` (R, N) @ y = 0, one a column.

    Column-style Hermite elimination by unimodular operations, so that the basis spans exactly the
    integer solutions and not a sublattice (Cohen, A Course in Computational Algebraic Number
    Theory, 1993, section 2.4). ±1 pivots come first, which keeps the numbers small.
    """
    rows = rows.astype(np.int64).copy()
    n = rows.shape[1]
    basis = np.eye(n, dtype=np.int64)
    alive = np.ones(n, bool)
    todo = list(range(len(rows)))
    while todo:
        row = min(todo, key=lambda r: _difficulty(rows[r] * alive))
        todo.remove(row)
        pivot = _eliminate(rows, basis, row, alive)
        if pivot >= 0:
            alive[pivot] = False
    return basis[:, alive]


def _difficulty(row: Matrix) -> tuple[bool, int]:
    """Rows with a ±1 entry and few others are eliminated first."""
    size = np.abs(row[row != 0])
    return (bool(len(size)) and not bool((size == 1).any()), len(size))


def _eliminate(rows: Matrix, basis: Matrix, row: int, alive: NDArray[np.bool_]) -> int:
    """Column operations until one entry is left in `row`; that column then has to be zero."""
    while True:
        used = np.flatnonzero((rows[row] != 0) & alive)
        if len(used) == 0:
            return -1
        size = np.abs(rows[row, used])
        weight = np.count_nonzero(rows[:, used], axis=0)
        pivot = int(used[np.lexsort((weight, size))[0]])
        others = used[used != pivot]
        if len(others) == 0:
            return pivot
        factor = rows[row, others] // rows[row, pivot]
        rows[:, others] -= rows[:, [pivot]] * factor
        basis[:, others] -= basis[:, [pivot]] * factor
