"""What brushes need many times a second, against plain NumPy and triangles worked by hand."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.brushing import relaxing, room


def test_room_is_where_the_first_triangle_loses_its_area() -> None:
    # A point that runs at the far edge of its triangle at its whole height: half of the way is room for half of the moves.
    places = np.array([[0.0, 0], [2, 0], [1, 1], [5, 5], [6, 5], [5, 6]])
    moves = np.zeros_like(places)
    moves[2] = (0.0, -2.0)
    tri = np.array([[0, 1, 2], [3, 4, 5]], np.int32)
    assert room(places, moves, tri) == pytest.approx(0.5)
    # Mirrored it is the same, and what has no area already, or is not mapped, holds nothing up.
    assert room(places, moves, tri[:, ::-1].copy()) == pytest.approx(0.5)
    places[5] = np.nan
    flat = np.array([[0, 0, 2], [3, 4, 5]], np.int32)
    assert room(places, moves, flat) == np.inf and room(places, np.zeros_like(moves), tri) == np.inf


def test_room_is_the_least_root_over_all_triangles() -> None:
    rng = np.random.default_rng(2)
    places, moves, tri = rng.random((30, 2)), rng.normal(size=(30, 2)), rng.integers(0, 30, (40, 3)).astype(np.int32)
    tri = tri[(np.diff(np.sort(tri, axis=1), axis=1) > 0).all(axis=1)]
    best = np.inf
    for a, b, c in tri:
        # Twice the area as a polynomial of the share, by its values at 0, 1 and −1.
        def area(x: float, a: int = a, b: int = b, c: int = c) -> float:
            p = places + x * moves
            (ux, uy), (vx, vy) = p[b] - p[a], p[c] - p[a]
            return float(ux * vy - uy * vx)

        k0, k2 = area(0), (area(1) + area(-1)) / 2 - area(0)
        roots = np.roots([k2, (area(1) - area(-1)) / 2, k0])
        real = roots[np.isreal(roots)].real
        best = min([best, *real[real > 0]])
    assert room(places, moves, tri) == pytest.approx(best, rel=1e-9)


def test_relaxing_goes_to_the_middle_of_neighbours_and_keeps_the_outline() -> None:
    n = 4
    at = np.stack(np.meshgrid(np.arange(n), np.arange(n), indexing="ij"), axis=-1).reshape(-1, 2).astype(float)
    at[5] += (0.3, -0.2)
    ends = np.array([(i * n + j, i * n + j + 1) for i in range(n) for j in range(n - 1)] + [(i * n + j, i * n + n + j) for i in range(n - 1) for j in range(n)])
    border = ((at.round() % (n - 1)) == 0).any(axis=1)
    moves = relaxing(at, ends.astype(np.int64), border, np.ones(len(at)))
    assert moves[5] == pytest.approx((1.0 - at[5][0], 1.0 - at[5][1]))
    # Points of a straight outline have their neighbours evenly on either side: they stay; corners go inwards along it only.
    assert moves[1] == pytest.approx((0.0, 0.0)) and moves[4] == pytest.approx((0.0, 0.0))
    half = np.zeros(len(at))
    half[5] = 0.5
    some = relaxing(at, ends.astype(np.int64), border, half)
    assert some[5] == pytest.approx(moves[5] / 2) and np.abs(np.delete(some, 5, axis=0)).max() == 0
