"""Long tables of few columns, looked at column by column: NumPy's own reductions along them take ten times as long."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import kernel


def finite_rows(table: NDArray[Any]) -> NDArray[np.bool_]:
    """(N,) whether every number of a row of (N, K) is one."""
    good = np.isfinite(table[:, 0])
    for k in range(1, table.shape[1]):
        good &= np.isfinite(table[:, k])
    return good


def spread(flags: NDArray[np.bool_], groups: NDArray[np.signedinteger], times: int = 1) -> NDArray[np.bool_]:
    """(V,) flagged points and those that share a group (G, K) with one, a face or an edge, and theirs, so many `times`."""
    out = flags.copy()
    for _ in range(times):
        out[groups[out[groups].any(axis=1)]] = True
    return out


def bounds(table: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(K,) least and (K,) greatest of each column of (N, K); NaN where a column has one. Raises ValueError for no rows."""
    if len(table) == 0:
        raise ValueError("no rows have no bounds")
    low, high = _bounds(np.ascontiguousarray(table, np.float64))
    return low, high


@kernel
def _bounds(table):
    low, high = table[0].copy(), table[0].copy()
    for i in range(1, len(table)):
        for k in range(table.shape[1]):
            x = table[i, k]
            # Comparisons with NaN are false, so it is asked for by name, and stays.
            if x < low[k] or x != x:
                low[k] = x
            if x > high[k] or x != x:
                high[k] = x
    return low, high
