"""A reduced basis of a lattice in a metric of its own."""

from __future__ import annotations

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats


def reduced(form: Floats) -> tuple[Floats, Floats]:
    """(T (K, K) whole and unimodular, Tᵀ form T): columns of T are short in the metric `form` (K, K), nearly orthogonal.

    Lenstra, Lenstra and Lovász, "Factoring polynomials with rational coefficients" (1982), with δ = 0.9, on the Gram
    matrix.
    """
    change, gram = _lll(np.ascontiguousarray(form, float).copy(), 0.9)
    order = np.argsort(np.diag(gram), kind="stable")
    return change[:, order], gram[np.ix_(order, order)]


@kernel
def _lll(form, delta):
    n = len(form)
    gram = form.copy()
    change = np.eye(n)
    mu = np.zeros((n, n))
    size = np.zeros(n)
    fresh = 0
    k = 0
    for _ in range(400 * n + 400):
        if k >= n:
            break
        # Gram–Schmidt rows up to k; those before are up to date.
        while fresh <= k:
            i = fresh
            for j in range(i + 1):
                value = gram[i, j]
                for m in range(j):
                    value -= mu[j, m] * mu[i, m] * size[m]
                if j < i:
                    mu[i, j] = value / size[j] if size[j] > 0 else 0.0
                else:
                    size[i] = max(value, 1e-12 * gram[i, i])
            fresh += 1
        for j in range(k - 1, -1, -1):
            q = np.floor(mu[k, j] + 0.5)
            if q != 0:
                for m in range(n):
                    change[m, k] -= q * change[m, j]
                for m in range(n):
                    gram[k, m] -= q * gram[j, m]
                for m in range(n):
                    gram[m, k] -= q * gram[m, j]
                for m in range(j):
                    mu[k, m] -= q * mu[j, m]
                mu[k, j] -= q
        if k == 0 or size[k] >= (delta - mu[k, k - 1] ** 2) * size[k - 1]:
            k += 1
        else:
            for m in range(n):
                change[m, k], change[m, k - 1] = change[m, k - 1], change[m, k]
            for m in range(n):
                gram[k, m], gram[k - 1, m] = gram[k - 1, m], gram[k, m]
            for m in range(n):
                gram[m, k], gram[m, k - 1] = gram[m, k - 1], gram[m, k]
            k -= 1
            fresh = k
    return change, gram
