"""The heap of the compiled kernels."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from jacket.core.heap import heap_pop, heap_push


@given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=60))
@settings(max_examples=40, deadline=None, derandomize=True)
def test_the_heap_sorts(values: list[float]) -> None:
    cost, item, size = np.empty(64), np.empty((64, 4), np.int32), 0
    for k, v in enumerate(values):
        size = heap_push(cost, item, size, v, k, 0, 0, 0)
    out = []
    while size:
        out.append((cost[0], int(item[0, 0])))
        size = heap_pop(cost, item, size)
    assert [c for c, _ in out] == sorted(values) and all(values[k] == c for c, k in out)
