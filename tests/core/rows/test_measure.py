"""Rings against networkx, and base complexes that are known."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.rows.measure import patch_count, rings, separatrices
from tests.conftest import cube
from tests.core.rows.shapes import torus, tube


def plain(mesh: PolyMesh) -> list[tuple[int, ...]]:
    """Crossings of each ring by networkx: opposite edges of quads joined, one link a crossing."""
    graph: nx.MultiGraph = nx.MultiGraph()
    edge = mesh.topology.edge
    for start, end in zip(mesh.starts[:-1], mesh.starts[1:], strict=True):
        if end - start == 4:
            a, b, c, d = (int(e) for e in edge[start:end])
            graph.add_edges_from([(a, c), (b, d)])
    return sorted((graph.subgraph(part).number_of_edges(), len(part)) for part in nx.connected_components(graph))


@pytest.mark.parametrize("mesh", [split_to_quads(cube()), split_to_quads(split_to_quads(cube())), torus(7, 5), torus(12, 5, 3),
                                  tube(9, 4)])  # fmt: skip
def test_rings_are_those_of_the_graph(mesh: PolyMesh) -> None:
    """Reference: connected components by networkx."""
    found = rings(mesh)
    crossed = np.flatnonzero(found.crossings)
    own = sorted((int(found.crossings[r]), int((found.of_edge == r).sum())) for r in crossed)
    assert own == plain(mesh)
    assert found.crossings.sum() == 2 * mesh.n_faces


@pytest.mark.parametrize(("around", "along", "twist"), [(12, 5, 0), (12, 5, 1), (12, 5, 4), (10, 6, 5)])
def test_a_twisted_torus_has_as_many_rings_as_the_twist_leaves(around: int, along: int, twist: int) -> None:
    """A line that comes back `twist` further on closes after around / gcd(around, twist) turns (elementary number theory)."""
    found = rings(torus(around, along, twist))
    turns = around // np.gcd(around, twist) if twist else 1
    wanted = sorted([around] * along + [along * turns] * (around // turns))
    assert sorted(found.crossings.tolist()) == wanted
    assert found.closed.all() and found.crossed_by_itself == 0
    assert found.longest == pytest.approx(100 * max(wanted) / (2 * around * along))


def test_rings_of_a_tube_end_at_its_borders() -> None:
    found = rings(tube(8, 3))
    assert sorted(found.crossings.tolist()) == [3] * 8 + [8] * 3
    assert sorted(found.closed.tolist()) == [False] * 8 + [True] * 3


@pytest.mark.parametrize("times", [1, 2, 3])
def test_eight_irregular_points_make_six_patches(times: int) -> None:
    """The base complex of a cube is its six sides (Tarini et al. 2011), however often it is split or rounded."""
    mesh = cube()
    for _ in range(times):
        mesh = split_to_quads(mesh)
    assert patch_count(mesh) == 6
    assert patch_count(mesh.with_points(np.cos(mesh.points))) == 6
    # By hand: each of the 12 edges of the cube, as often as it was split.
    assert separatrices(mesh).sum() == 12 * 2**times


def test_forms_without_irregular_points_are_one_patch() -> None:
    assert patch_count(torus(8, 5)) == 1 and patch_count(tube(8, 5)) == 1
