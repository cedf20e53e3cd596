"""Factor a sparse symmetric matrix once, solve with it many times.

QDLDL does the work; where it is missing or fails, SciPy's LU in symmetric mode takes over.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.linalg import splu

from jacket.errors import SolveError

try:
    import qdldl
except ImportError:  # pragma: no cover - the wheel exists for the supported machines
    qdldl = None

Floats = NDArray[np.float64]


class Factor:
    """A factorised symmetric matrix (N, N)."""

    def __init__(self, matrix: Any, upper: bool = False) -> None:
        """Factor; raises SolveError when the matrix is singular. With `upper` only its upper half with the diagonal is given,
        rows in order."""
        self.upper = upper
        matrix = sparse.csc_matrix(matrix)
        matrix.sort_indices()
        self.size = matrix.shape[0]
        self._solver: Any = None
        self._lu: Any = None
        if self.size == 0:
            return
        if qdldl is not None:
            try:
                self._solver = qdldl.Solver(matrix if upper else sparse.triu(matrix, format="csc"), upper=True)
                return
            except Exception:
                self._solver = None
        if upper:
            matrix = whole(matrix)
        try:
            self._lu = splu(matrix, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True})
        except RuntimeError as error:
            raise SolveError("The equations of this step have no single answer; check for loose parts.") from error

    def update(self, matrix: Any) -> None:
        """Factor again with new values in the same pattern; raises SolveError as above."""
        if self._solver is not None:
            upper = sparse.csc_matrix(matrix) if self.upper else sparse.triu(sparse.csc_matrix(matrix), format="csc")
            upper.sort_indices()
            self._solver.update(upper, upper=True)
        else:
            self.__init__(matrix, self.upper)  # type: ignore[misc]

    def solve(self, right: Floats) -> Floats:
        """Solution for one right side (N,) or several (N, K)."""
        if self.size == 0:
            return np.zeros_like(right)
        if self._lu is not None:
            return np.asarray(self._lu.solve(np.asarray(right)))
        if right.ndim == 1:
            return np.asarray(self._solver.solve(np.ascontiguousarray(right)))
        return np.stack([self._solver.solve(np.ascontiguousarray(right[:, k])) for k in range(right.shape[1])], axis=1)


def whole(upper: Any) -> Any:
    """A symmetric matrix from its upper half with the diagonal."""
    return (upper + upper.T - sparse.diags_array(upper.diagonal())).tocsc()
