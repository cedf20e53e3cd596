"""Shifts with a falloff."""

from __future__ import annotations

import networkx as nx
import numpy as np
from scipy.spatial.transform import Rotation

from jacket.core.fit.shift import FALLOFFS, Shift, falloff, shifted, step_weights
from jacket.core.mesh.polymesh import PolyMesh
from tests.conftest import grid


def point_graph(mesh: PolyMesh) -> nx.Graph:
    graph = nx.Graph()
    graph.add_nodes_from(range(mesh.n_points))
    graph.add_edges_from(mesh.topology.edge_points.tolist())
    return graph


def test_shifts_are_rigid_at_full_weight() -> None:
    rng = np.random.default_rng(3)
    points, axis = rng.normal(size=(9, 3)), np.array([1.0, 2, -1])
    pivot = np.array([0.2, 0, 1])
    new = shifted(points, np.ones(9), Shift(pivot, np.array([1.0, 0, 0]), axis, 0.8))
    turn = Rotation.from_rotvec(0.8 * axis / np.linalg.norm(axis))
    assert np.allclose(new, turn.apply(points - pivot) + pivot + [1, 0, 0])
    half = shifted(points, np.full(9, 0.5), Shift(pivot, np.zeros(3), axis, 0.8))
    assert np.allclose(half, Rotation.from_rotvec(0.4 * axis / np.linalg.norm(axis)).apply(points - pivot) + pivot)
    grownup = shifted(points, np.ones(9), Shift(pivot, np.zeros(3), axis, 0.0, np.array([2.0, 1, 1])))
    assert np.allclose(grownup - pivot, (points - pivot) * [2, 1, 1])


def test_falloff_counts_steps() -> None:
    g = grid(8)
    far = nx.single_source_shortest_path_length(point_graph(g), 40)
    weight = step_weights(g, np.array([40]), 3)
    assert all((weight[p] > 0) == (d <= 3) for p, d in far.items()) and weight[40] == 1
    for curve in FALLOFFS:
        values = falloff(np.linspace(0, 1, 11), curve)
        assert values[0] == 1 and values[-1] == 0 and (np.diff(values) <= 0).all()
