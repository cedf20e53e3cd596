"""Factor a sparse symmetric matrix once, solve with it many times.

QDLDL does the work for small systems and single solves, dense fronts (`frontal`) for large ones that are factored again or
solved for many right sides; where QDLDL is missing or fails, SciPy's LU in symmetric mode takes over.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.linalg import splu

from jacket.core.solve.frontal import Fronts
from jacket.core.solve.plan import Plan, planned
from jacket.errors import SolveError

try:
    import qdldl
except ImportError:  # pragma: no cover - the wheel exists for the supported machines
    qdldl = None

Floats = NDArray[np.float64]

LARGE, MANY = 4_000, 24
"""Unknowns and right sides from which on dense fronts are worth their plan."""


class Factor:
    """A factorised symmetric matrix (N, N)."""

    def __init__(self, matrix: Any, upper: bool = False, plan: Plan | None = None) -> None:
        """Factor; raises SolveError when the matrix is singular. With `upper` only its upper half with the diagonal is given,
        rows in order; `plan` is a plan of its pattern where there is one."""
        self.upper = upper
        matrix = sparse.csc_matrix(matrix)
        matrix.sort_indices()
        self.size = matrix.shape[0]
        self._fronts: Fronts | None = None
        self._solver: Any = None
        self._lu: Any = None
        self._refused = False
        # What was factored last, for fronts that are only wanted later.
        self._matrix = matrix if upper else sparse.triu(matrix, format="csc")
        if self.size == 0:
            return
        if plan is not None and self._in_fronts(plan):
            return
        if qdldl is not None:
            try:
                self._solver = qdldl.Solver(self._matrix, upper=True)
                return
            except Exception:
                self._solver = None
        if upper:
            matrix = whole(matrix)
        try:
            self._lu = splu(matrix, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True})
        except RuntimeError as error:
            raise SolveError("The equations of this step have no single answer; check for loose parts.") from error

    def _in_fronts(self, plan: Plan | None = None) -> bool:
        """Whether the matrix is large and positive definite, and now factored by dense fronts."""
        if plan is None:
            if self._solver is None or self._refused or self.size < LARGE:
                return False
            plan = planned(self._matrix, 1, np.asarray(self._solver.factors()[2], np.int64))
        try:
            self._fronts = Fronts(self._matrix, plan)
        except ArithmeticError:
            # Not asked again: a plan is not free.
            self._refused = True
            return False
        return True

    def update(self, matrix: Any) -> None:
        """Factor again with new values in the same pattern; raises SolveError as above."""
        if self._solver is None and self._fronts is None:
            self.__init__(matrix, self.upper)  # type: ignore[misc]
            return
        upper = sparse.csc_matrix(matrix) if self.upper else sparse.triu(sparse.csc_matrix(matrix), format="csc")
        upper.sort_indices()
        self._matrix = upper
        if self._fronts is not None:
            try:
                self._fronts.update(upper)
            except ArithmeticError:
                given_as = self.upper
                self.__init__(upper, True)  # type: ignore[misc]
                self.upper, self._refused = given_as, True
        elif not self._in_fronts():
            self._solver.update(upper, upper=True)

    def solve(self, right: Floats) -> Floats:
        """Solution for one right side (N,) or several (N, K)."""
        if self.size == 0:
            return np.zeros_like(right)
        if self._lu is not None:
            return np.asarray(self._lu.solve(np.asarray(right)))
        if self._fronts is not None or (right.ndim == 2 and right.shape[1] >= MANY and self._in_fronts()):
            assert self._fronts is not None
            return self._fronts.solve(np.asarray(right, float))
        if right.ndim == 1:
            return np.asarray(self._solver.solve(np.ascontiguousarray(right)))
        return np.stack([self._solver.solve(np.ascontiguousarray(right[:, k])) for k in range(right.shape[1])], axis=1)


def whole(upper: Any) -> Any:
    """A symmetric matrix from its upper half with the diagonal."""
    return (upper + upper.T - sparse.diags_array(upper.diagonal())).tocsc()
