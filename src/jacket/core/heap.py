"""A binary heap in plain arrays for kernels: `cost` (N,) float64 beside `item` (N, 4) int32."""

from __future__ import annotations

from jacket.core.jit import inline


@inline
def heap_push(cost, item, size, c, i0, i1, i2, i3):
    """Add an entry; returns the new size. The arrays must have room."""
    k = size
    while k > 0:
        up = (k - 1) >> 1
        if cost[up] <= c:
            break
        cost[k] = cost[up]
        for j in range(4):
            item[k, j] = item[up, j]
        k = up
    cost[k] = c
    item[k, 0], item[k, 1], item[k, 2], item[k, 3] = i0, i1, i2, i3
    return size + 1


@inline
def heap_pop(cost, item, size):
    """Remove the entry at the front, which the caller has read; returns the new size."""
    size -= 1
    c = cost[size]
    i0, i1, i2, i3 = item[size, 0], item[size, 1], item[size, 2], item[size, 3]
    k = 0
    while True:
        child = 2 * k + 1
        if child >= size:
            break
        if child + 1 < size and cost[child + 1] < cost[child]:
            child += 1
        if cost[child] >= c:
            break
        cost[k] = cost[child]
        for j in range(4):
            item[k, j] = item[child, j]
        k = child
    cost[k] = c
    item[k, 0], item[k, 1], item[k, 2], item[k, 3] = i0, i1, i2, i3
    return size
