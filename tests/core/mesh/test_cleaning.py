"""Cleaning: triangles to quads, idle loops, near points."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest

from jacket.core.mesh.cleaning import idle_loops, near_merged, near_pairs, triangle_pairs, triangles_paired
from jacket.core.mesh.edits import weld_targets
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.rows import edges_dissolved
from jacket.errors import EditRefused
from tests.conftest import cube, grid, icosphere


def test_triangles_become_quads_again() -> None:
    """A split grid comes back whole; on an open mesh as many pairs are found as the best matching has, less 10 %."""
    g = grid(6)
    again = triangles_paired(PolyMesh.from_faces(g.points, g.triangle_points))
    assert again.is_quads and again.n_faces == 36
    spot = icosphere(3)
    pairs = triangle_pairs(spot, most_turn=180)
    graph = nx.Graph()
    topology = spot.topology
    for e in range(topology.n_edges):
        c = int(topology.edge_corner[e])
        graph.add_edge(int(spot.face_of_corner[c]), int(spot.face_of_corner[topology.twin[c]]))
    best = len(nx.max_weight_matching(graph, maxcardinality=True))
    assert 0.9 * best < len(pairs) <= best
    quads = edges_dissolved(spot, pairs, thin=False).mesh
    assert (quads.sizes == 4).sum() == len(pairs) and quads.n_faces == spot.n_faces - len(pairs)
    marked = PolyMesh.from_faces(g.points, g.triangle_points).with_cuts([[0, 8]])
    assert triangles_paired(marked).topology.find_edge(0, 8) >= 0


def test_idle_loops_go_and_shape_stays() -> None:
    box = cube()
    for _ in range(2):
        from jacket.core.mesh.rows import loops_inserted

        box, _new = loops_inserted(box, int(box.topology.find_edge(0, 1)), 1) if box.n_faces == 6 else (box, None)
    idle = idle_loops(box, 1.0)
    assert len(idle) == 4
    back = edges_dissolved(box, idle).mesh
    assert (back.n_points, back.n_faces) == (8, 6) and len(idle_loops(back, 1.0)) == 0


def test_near_points_merge_and_bad_pairs_are_left() -> None:
    two = put_side_by_side([grid(2), grid(2).with_points(grid(2).points + [2.001, 0, 0])])
    assert len(near_pairs(two, 0.01)) == 3
    new, merged, refused = near_merged(two, 0.01)
    assert (merged, refused) == (3, 0) and new.n_points == 15 and len(new.topology.nonmanifold_edges) == 0
    with pytest.raises(EditRefused, match="raise the distance"):
        near_merged(new, 0.001)
    # Coincident sheets have no merge that is not an edge with four faces, or a pinch.
    stack = put_side_by_side([grid(1), grid(1).with_points(grid(1).points + [0, 0, 0.001]),
                              grid(1).with_points(grid(1).points + [0, 0, 0.002])])  # fmt: skip
    with pytest.raises(EditRefused, match="nothing was merged"):
        near_merged(stack, 0.01)
    # A sheet beside one of two that coincide: the free border is welded, the rest is left alone.
    row = put_side_by_side([grid(2), grid(2), grid(2).with_points(grid(2).points + [2, 0, 0])])
    new, merged, refused = near_merged(row, 1e-9)
    assert (merged, refused) == (3, 9) and new.n_points == 24 and len(new.topology.nonmanifold_edges) == 0


def test_welding_one_after_another_and_at_once_are_the_same() -> None:
    """Rows are carried out in order: what landed on a point goes on with it. Against doing just that."""
    rng = np.random.default_rng(4)
    for _ in range(50):
        pairs = rng.integers(0, 30, (12, 2))
        target = np.arange(30)
        for a, b in pairs.tolist():
            target[target == target[a]] = target[b]
        assert np.array_equal(weld_targets(30, pairs), target)


def test_what_goes_onto_another_takes_no_third_along() -> None:
    """Four points in a row, each within reach of the next alone: the second goes onto the first, the fourth onto the third."""
    row = np.array([[0.0, 0, 0], [0.9, 0, 0], [1.8, 0, 0], [2.7, 0, 0]])
    assert near_pairs(PolyMesh.from_faces(row, [[0, 1, 2, 3]]), 1.0, np.arange(4)).tolist() == [[1, 0], [3, 2]]
