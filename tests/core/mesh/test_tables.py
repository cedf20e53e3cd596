"""Long tables column by column, against NumPy's own reductions."""

from __future__ import annotations

import networkx
import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.tables import bounds, finite_rows, spread
from tests.conftest import icosphere


def test_rows_and_bounds_are_those_of_numpy() -> None:
    rng = np.random.default_rng(2)
    for width in (1, 2, 3, 4):
        table = rng.normal(size=(500, width))
        low, high = bounds(table)
        assert (low == table.min(axis=0)).all() and (high == table.max(axis=0)).all()
        table[rng.integers(0, 500, 40), rng.integers(0, width, 40)] = rng.choice([np.nan, np.inf, -np.inf], 40)
        assert (finite_rows(table) == np.isfinite(table).all(axis=1)).all()
        low, high = bounds(table)
        # A number that is none spreads, whether it comes first or last.
        assert np.array_equal(low, table.min(axis=0), equal_nan=True) and np.array_equal(high, table.max(axis=0), equal_nan=True)


def test_a_mesh_has_a_box_even_without_points() -> None:
    mesh = PolyMesh.from_faces(np.array([[0.0, 1, 2], [3, -1, 2], [1, 5, -4]]), [[0, 1, 2]])
    assert np.allclose(mesh.box, [[0, -1, -4], [3, 5, 2]]) and np.allclose(mesh.middle, [1.5, 2, -1])
    none = PolyMesh.from_faces(np.zeros((0, 3)), np.zeros((0, 3), int))
    assert np.allclose(none.box, 0) and none.diagonal == 0
    with pytest.raises(ValueError, match="no rows"):
        bounds(np.zeros((0, 3)))


def test_flags_spread_as_far_as_networkx_counts_edges() -> None:
    mesh = icosphere(2)
    ends = mesh.topology.edge_points
    start = np.zeros(mesh.n_points, bool)
    start[[3, 70]] = True
    graph = networkx.Graph(ends.tolist())
    far = networkx.multi_source_dijkstra_path_length(graph, {3, 70})
    steps = np.array([far[p] for p in range(mesh.n_points)])
    for times in range(4):
        assert np.array_equal(spread(start, ends, times), steps <= times)
        assert np.array_equal(spread(start, mesh.triangle_points, times), steps <= times), "on triangles every corner is beside the others"
    assert start.sum() == 2, "what was given stays"
