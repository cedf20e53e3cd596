"""The grid over a sheet against shapely and against looking at everything."""

from __future__ import annotations

import numpy as np
from shapely.geometry import LineString, Point, Polygon

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.space.flat import FlatGrid
from jacket.jobs.unwrap import unwrap
from tests.conftest import cube, grid, torus


def laid(mesh: PolyMesh) -> FlatGrid:
    return FlatGrid.build(mesh.uv, mesh.triangles, mesh.topology.next)


def sheets() -> list[PolyMesh]:
    rng = np.random.default_rng(3)
    square = grid(6)
    bent = square.with_uv(
        square.points[square.corners][:, :2] / 6 + 0.03 * rng.normal(size=(square.n_points, 2))[square.corners]
    )
    part = unwrap(cut_edges(cube(), np.arange(12))).mesh
    uv = part.uv.copy()
    uv[:4] = np.nan  # one side is not mapped
    ring = torus(16, 8)
    flags = (ring.topology.edge_points % 8 == 0).all(axis=1) | (ring.topology.edge_points // 8 % 4 == 0).all(axis=1)
    return [bent, part.with_uv(uv), unwrap(cut_edges(ring, np.flatnonzero(flags))).mesh]


def test_the_nearest_of_all_is_found() -> None:
    rng = np.random.default_rng(4)
    for mesh in sheets():
        found, uv = laid(mesh), mesh.uv
        good = np.isfinite(uv).all(axis=1)
        faces = [(f, Polygon(uv[mesh.starts[f] : mesh.starts[f + 1]])) for f in range(mesh.n_faces)
                 if good[mesh.starts[f] : mesh.starts[f + 1]].all()]  # fmt: skip
        edges = [(c, LineString([uv[c], uv[mesh.topology.next[c]]])) for c in np.flatnonzero(good).tolist()
                 if good[mesh.topology.next[c]]]  # fmt: skip
        low, high = np.nanmin(uv, axis=0) - 0.1, np.nanmax(uv, axis=0) + 0.1
        reach = 0.03 * float((high - low).max())
        for x, y in rng.uniform(low, high, (150, 2)).tolist():
            corner, point_far, edge, _, edge_far, face = found.near(x, y, reach)
            here = Point(x, y)
            to_points = np.linalg.norm(uv[good] - [x, y], axis=1).min()
            assert (corner >= 0) == bool(to_points <= reach)
            if corner >= 0:
                assert np.isclose(point_far, to_points)
            to_edges = min(line.distance(here) for _, line in edges)
            assert (edge >= 0) == bool(to_edges <= reach)
            if edge >= 0:
                assert np.isclose(edge_far, to_edges)
            inside = {f for f, shape in faces if shape.contains(here)}
            if min(abs(line.distance(here)) for _, line in edges) > 1e-9:
                assert (face >= 0) == bool(inside)
                assert face < 0 or int(mesh.face_of_corner[face]) in inside


def test_barycentric_weights() -> None:
    """At corners, in the middle, outside, and above a triangle in space (its foot); none without area."""
    from jacket.core.space.segments import barycentric

    triangle = np.array([[0.0, 0, 0], [2, 0, 0], [0, 3, 0]])
    assert np.allclose(barycentric(np.array([2.0, 0, 5]), triangle), [0, 1, 0])
    assert np.allclose(barycentric(triangle.mean(axis=0), triangle), 1 / 3)
    weights = barycentric(np.array([2.0, 3.0]), triangle[:, :2])
    assert np.allclose(weights, [-1, 1, 1]) and np.allclose(weights @ triangle[:, :2], [2, 3])
    assert barycentric(np.zeros(2), np.array([[0.0, 0], [1, 1], [2, 2]])) is None
