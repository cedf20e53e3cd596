"""PolyMesh, connectivity, geometry and walks against libigl, networkx and closed formulas."""

from __future__ import annotations

import igl
import networkx as nx
import numpy as np
import pytest

from jacket.core.mesh.geometry import (
    dihedral_angles,
    face_areas,
    face_normals,
    point_normals,
    scaled_jacobian,
    volume,
)
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import edge_loop, euler_characteristic, face_parts, ring_edges, shortest_path
from jacket.errors import MeshError
from tests.conftest import cube, grid, icosphere, torus


def test_arrays_are_read_only_and_shared() -> None:
    mesh = grid(3)
    with pytest.raises(ValueError, match="read-only"):
        mesh.points[0, 0] = 5
    topology = mesh.topology
    moved = mesh.with_points(mesh.points + 1)
    assert moved.corners is mesh.corners and moved.topology is topology


@pytest.mark.parametrize(
    ("points", "faces", "words"),
    [
        ([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 7]], "point 7"),
        ([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, -1]], "point -1"),
        ([[0, 0, np.nan], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]], "Point 0"),
        ([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1]], "three corners"),
    ],
)
def test_bad_input_is_named(points: list, faces: list, words: str) -> None:
    with pytest.raises(MeshError, match=words):
        PolyMesh.from_faces(points, faces)


def test_topology_agrees_with_libigl(spot: PolyMesh) -> None:
    """Edges, borders and manifold tests on a real scan with a patch of faces taken out."""
    keep = np.linalg.norm(spot.points[spot.triangle_points].mean(axis=1) - spot.points[100], axis=1) > 0.25
    triangles = spot.triangle_points[keep].astype(np.int64)
    mesh = PolyMesh.from_faces(spot.points, triangles)
    assert mesh.topology.n_edges == len(igl.edges(triangles))
    assert sorted(len(x) for x in mesh.topology.border_loops) == sorted(
        len(x) for x in igl.boundary_loop_all(triangles)
    )
    assert igl.is_edge_manifold(triangles)[0] and len(mesh.topology.nonmanifold_edges) == 0
    used = np.unique(triangles)
    compact = np.searchsorted(used, triangles)
    assert euler_characteristic(mesh) == igl.euler_characteristic(compact)


def test_nonmanifold_edge_is_seen() -> None:
    points = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]]
    mesh = PolyMesh.from_faces(points, [[0, 1, 2], [1, 0, 3], [0, 1, 4]])
    bad = mesh.topology.nonmanifold_edges
    assert mesh.topology.edge_points[bad].tolist() == [[0, 1]]
    assert not igl.is_edge_manifold(np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]]))[0]


def test_geometry_on_forms_with_known_answers() -> None:
    box = cube()
    assert volume(box) == pytest.approx(1.0) and face_areas(box).sum() == pytest.approx(6.0)
    assert np.allclose(face_normals(box)[1], [0, 0, 1])
    assert np.allclose(dihedral_angles(box), 90)
    # Pappus: area 4π²Rr and volume 2π²Rr² of a torus, approached from inside as 1/n².
    ring = torus(160, 80)
    assert face_areas(ring).sum() == pytest.approx(4 * np.pi**2 * 2 * 0.7, rel=2e-3)
    assert volume(ring) == pytest.approx(2 * np.pi**2 * 2 * 0.49, rel=3e-3)
    ball = icosphere(4)
    assert np.abs(point_normals(ball) - ball.points).max() < 0.02


def test_scaled_jacobian_is_the_sine_of_the_least_corner() -> None:
    """Knupp 2003: 1 for squares, sin θ for a rhombus, negative for an arrowhead."""
    t = np.radians(50)
    rhombus = PolyMesh.from_faces(
        [[0, 0, 0], [1, 0, 0], [1 + np.cos(t), np.sin(t), 0], [np.cos(t), np.sin(t), 0]], [[0, 1, 2, 3]]
    )
    assert scaled_jacobian(rhombus)[0] == pytest.approx(np.sin(t))
    assert np.allclose(scaled_jacobian(grid(2)), 1)
    arrow = PolyMesh.from_faces([[0, 0, 0], [1, -1, 0], [0, 2, 0], [-1, -1, 0]], [[0, 1, 2, 3]])
    assert scaled_jacobian(arrow)[0] < 0


def test_loops_and_rings_on_a_torus() -> None:
    """On an n × m torus every loop and every ring closes after n or m steps."""
    ring = torus(12, 7)
    for edge in range(0, ring.topology.n_edges, 5):
        a, b = ring.topology.edge_points[edge]
        around = abs(int(a) // 7 - int(b) // 7) in (1, 11)
        loop = edge_loop(ring, edge)
        assert len(loop) == (12 if around else 7) and len(set(loop.tolist())) == len(loop)
        assert len(ring_edges(ring, edge)) == (7 if around else 12)


def test_loops_stop_at_borders_poles_and_seams() -> None:
    sheet = grid(6)
    edge = sheet.topology.find_edge(9, 10)
    assert len(edge_loop(sheet, edge)) == 6
    stop = sheet.topology.edge_flags(np.array([[10, 17], [17, 24]]))
    assert len(edge_loop(sheet, edge, stop)) == 3  # columns 0..3 of the row
    border = sheet.topology.find_edge(2, 3)
    assert len(edge_loop(sheet, border)) == 24  # the whole border, corners and all
    assert len(edge_loop(cube(), 0)) == 1  # points of three edges end a loop


def test_shortest_path_agrees_with_networkx(spot: PolyMesh) -> None:
    from jacket.core.mesh.geometry import edge_lengths

    graph = nx.Graph()
    for (a, b), w in zip(spot.topology.edge_points.tolist(), edge_lengths(spot).tolist(), strict=True):
        graph.add_edge(a, b, weight=w)
    for start, end in ((0, 2000), (5, 1234), (77, 77)):
        path = shortest_path(spot, start, end)
        assert path[0] == start and path[-1] == end
        length = np.linalg.norm(np.diff(spot.points[path], axis=0), axis=1).sum()
        assert length == pytest.approx(nx.shortest_path_length(graph, start, end, weight="weight"))


def test_parts_agree_with_libigl(spot: PolyMesh) -> None:
    two = PolyMesh.from_faces(
        np.concatenate([spot.points, spot.points + 5]),
        np.concatenate([spot.triangle_points, spot.triangle_points + spot.n_points]),
    )
    count, labels = face_parts(two)
    assert count == 2 == igl.facet_components(two.triangle_points.astype(np.int64))[0]
    assert (labels[: spot.n_faces] == 0).all() and (labels[spot.n_faces :] == 1).all()
