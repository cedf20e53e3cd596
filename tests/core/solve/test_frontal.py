"""Factors by dense fronts, against SciPy's solver and QDLDL's factors."""

from __future__ import annotations

import numpy as np
import pytest
import qdldl
from scipy import sparse
from scipy.sparse.linalg import spsolve

from jacket.core.solve import plan as planning
from jacket.core.solve.cholesky import Factor
from jacket.core.solve.frontal import Fronts
from jacket.core.solve.plan import planned


def upper_of(matrix: sparse.sparray) -> sparse.csc_matrix:
    half = sparse.csc_matrix(sparse.triu(matrix))
    half.sort_indices()
    return half


def sheet(n: int) -> sparse.sparray:
    """The Laplacian of n by n points and a little more on the diagonal."""
    line = sparse.diags_array([-np.ones(n - 1), 2 * np.ones(n), -np.ones(n - 1)], offsets=[-1, 0, 1])
    return sparse.kronsum(line, line) + 0.1 * sparse.identity(n * n)


def scattered(n: int, seed: int) -> sparse.sparray:
    """A matrix with no order in it, two loose parts among them."""
    half = sparse.random(n, n, 2.5 / n, random_state=np.random.RandomState(seed)) + sparse.identity(n)
    return sparse.block_diag([half @ half.T, sparse.identity(3), sheet(3)])


def twice(matrix: sparse.sparray) -> sparse.sparray:
    """Two unknowns for each, tied to one another."""
    return sparse.kron(matrix, np.array([[2.0, 0.7], [0.7, 1.0]]))


@pytest.mark.parametrize("matrix", [sheet(40), scattered(300, 1), scattered(60, 2), sparse.identity(5), sheet(1)], ids=range(5))
@pytest.mark.parametrize("block", [1, 2])
def test_solutions_are_those_of_scipy(matrix: sparse.sparray, block: int) -> None:
    matrix = sparse.csc_matrix(matrix if block == 1 else twice(matrix))
    right = np.random.default_rng(0).normal(size=(matrix.shape[0], 3))
    fronts = Fronts(upper_of(matrix), planned(upper_of(matrix), block))
    expected = np.stack([spsolve(matrix, right[:, k]) for k in range(3)], axis=1)
    assert np.allclose(fronts.solve(right), expected, atol=1e-9 * np.abs(expected).max())
    assert np.allclose(fronts.solve(right[:, 0]), expected[:, 0], atol=1e-9 * np.abs(expected).max())
    other = sparse.csc_matrix(matrix + sparse.diags_array(np.arange(1.0, matrix.shape[0] + 1)))
    fronts.update(upper_of(other))
    assert np.allclose(other @ fronts.solve(right), right)


def test_two_threads_give_the_same_factor_as_one(monkeypatch: pytest.MonkeyPatch) -> None:
    matrix = upper_of(twice(sheet(60)))
    shared = Fronts(matrix, planned(matrix, 2))
    x, y = shared.plan.halves
    assert 0 < x < y <= len(shared.plan.kids)
    right = np.random.default_rng(3).normal(size=matrix.shape[0])
    monkeypatch.setattr(planning, "WORTH", np.inf)
    alone = Fronts(matrix, planned(matrix, 2))
    assert alone.plan.halves == (0, 0) and np.array_equal(alone.solve(right[:, None].repeat(2, 1)), shared.solve(right[:, None].repeat(2, 1)))
    # Of one right side what both halves take from the rest is summed up in another order.
    once = shared.solve(right)
    assert np.allclose(alone.solve(right), once, rtol=0, atol=1e-13 * np.abs(once).max()) and np.array_equal(once, shared.solve(right))


def test_without_joined_fronts_the_fill_is_that_of_qdldl(monkeypatch: pytest.MonkeyPatch) -> None:
    """In one order a factor has the same entries whoever makes it; joining columns of one front may add zeros only."""
    monkeypatch.setattr(planning, "SMALL", 0)
    monkeypatch.setattr(planning, "MORE_ZEROS", 0.0)
    for matrix in (sheet(25), scattered(200, 3)):
        half = upper_of(matrix)
        lower, _, order = qdldl.Solver(half, upper=True).factors()
        plan = planned(half, 1, np.asarray(order, np.int64))
        high, wide = np.diff(plan.ptr), np.diff(plan.first)
        assert int((wide * high - wide * (wide - 1) // 2).sum()) == lower.nnz + matrix.shape[0]


def test_what_has_no_root_is_refused_and_scale_does_not_matter() -> None:
    matrix = upper_of(sheet(8))
    plan = planned(matrix)
    fronts = Fronts(matrix * 1e-200, plan)
    assert np.allclose(sheet(8) @ fronts.solve(np.full(64, 1e-200)), 1.0)
    with pytest.raises(ArithmeticError):
        fronts.update(upper_of(sheet(8) - 3 * sparse.identity(64)))


def test_large_systems_take_fronts_by_themselves_and_do_without_where_they_must() -> None:
    matrix = sparse.csc_matrix(sheet(70))
    right = np.random.default_rng(1).normal(size=(4900, 30))
    factor = Factor(matrix)
    assert np.allclose(matrix @ factor.solve(right), right) and factor._fronts is not None
    # Its eigenvalues lie between .1 and 8.1, so that this has both signs.
    shifted = sparse.csc_matrix(matrix - 4.0 * sparse.identity(4900))
    factor.update(shifted)
    assert factor._fronts is None and np.allclose(shifted @ factor.solve(right[:, 0]), right[:, 0], atol=1e-6)
    # What is given whole stays so.
    factor.update(matrix)
    assert np.allclose(matrix @ factor.solve(right[:, 0]), right[:, 0])
