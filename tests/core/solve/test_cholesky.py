"""The factor that systems are solved with, against NumPy."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.solve.cholesky import Factor
from jacket.errors import SolveError


def test_factors_agree_with_numpy_and_can_be_updated() -> None:
    from scipy import sparse

    rng = np.random.default_rng(6)
    half = sparse.random(40, 40, 0.1, random_state=np.random.RandomState(1)) + sparse.identity(40)
    matrix = (half @ half.T).tocsc()
    right = rng.normal(size=(40, 3))
    factor = Factor(matrix)
    assert np.allclose(factor.solve(right), np.linalg.solve(matrix.toarray(), right))
    factor.update(matrix * 2.0)
    assert np.allclose(factor.solve(right[:, 0]), np.linalg.solve(matrix.toarray() * 2, right[:, 0]))
    assert Factor(sparse.csc_matrix((0, 0))).solve(np.zeros(0)).shape == (0,)
    for singular in (np.zeros((3, 3)), np.ones((2, 2))):
        with pytest.raises(SolveError, match="no single answer"):
            Factor(sparse.csc_matrix(singular))
