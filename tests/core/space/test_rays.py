"""Rays: the tree against the other hierarchy and against linear equations; open sky against closed forms."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree, cosine_directions, fans
from tests.conftest import grid, icosphere, torus


def rays(count: int, size: float) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(3)
    origins = rng.normal(size=(count, 3)) * size
    ways = rng.normal(size=(count, 3)) * 0.3 * size - origins
    return origins, ways / np.linalg.norm(ways, axis=1)[:, None]


@pytest.mark.parametrize("mesh", [torus(48, 24), icosphere(3), grid(9)])
def test_rays_hit_what_other_ways_hit(mesh) -> None:  # type: ignore[no-untyped-def]
    tree = RayTree.build(mesh.points, mesh.triangle_points)
    bvh = Bvh.build(mesh.points, mesh.triangle_points)
    origins, ways = rays(400, 2.0)
    which, far = tree.first(origins, ways)
    hits = [bvh.ray(o, w) for o, w in zip(origins, ways, strict=True)]
    assert np.array_equal(which >= 0, [h is not None for h in hits]) and (which >= 0).sum() > 60
    assert np.allclose(far[which >= 0], [h.distance for h in hits if h is not None], rtol=1e-12)
    # Origin + t · way = a + u (b − a) + v (c − a), solved by NumPy for every ray and triangle.
    a, b, c = (mesh.points[mesh.triangle_points[:, k]] for k in range(3))
    for k in range(0, 400, 16):
        system = np.stack([np.broadcast_to(-ways[k], a.shape), b - a, c - a], axis=2)
        safe = np.abs(np.linalg.det(system)) > 1e-12
        t, u, v = np.linalg.solve(system[safe], (origins[k] - a[safe])[:, :, None])[:, :, 0].T
        met = t[(t >= 0) & (u >= 0) & (v >= 0) & (u + v <= 1)]
        assert met.min(initial=np.inf) == pytest.approx(far[k], rel=1e-9)


def test_a_reach_ends_rays_and_nothing_is_never_hit() -> None:
    flat = grid(4)
    tree = RayTree.build(flat.points, flat.triangle_points)
    above = np.array([[1.2, 1.7, 3.0]])
    down = np.array([[0.0, 0.0, -1.0]])
    assert tree.first(above, down, 2.9)[0][0] == -1 and tree.first(above, down, 3.1)[1][0] == pytest.approx(3.0)
    empty = RayTree.build(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
    assert empty.first(above, down)[0][0] == -1 and empty.open_share(above, -down)[0] == 1.0


def test_a_tree_of_points_in_one_place_and_in_a_row_far_apart() -> None:
    """Splits find nothing where all middles are one, and go one by one where each lies ten times as far as the last."""
    same = np.tile([[0, 0, 0], [1, 0, 0], [0, 1, 0]], (500, 1)).astype(float)
    row = (10.0 ** (np.arange(500) % 250)[:, None, None] * np.array([[1, 0, 0], [1.1, 0, 0], [1, 0.1, 0]])).reshape(-1, 3)
    for points in (same, row):
        tree = RayTree.build(points, np.arange(1500).reshape(-1, 3))
        inside = points.reshape(-1, 3, 3)[0].mean(axis=0) + [[0, 0, 1.0]]
        assert tree.first(inside, np.array([[0, 0, -1.0]]))[1][0] == pytest.approx(1.0)
        assert sorted(tree.order.tolist()) == list(range(500))


def test_open_sky_against_closed_forms() -> None:
    """View factors to the sky of Lambert's light: a plane 1; anywhere inside a half sphere 1/2; the middle of the floor of an
    endless trench w wide and h deep (w/2) / √((w/2)² + h²) (Howell, A Catalog of Radiation Heat Transfer Configuration
    Factors, C-2 and C-140; from memory)."""
    up = np.array([[0.0, 0, 1]])
    plane = grid(4)
    assert RayTree.build(plane.points, plane.triangle_points).open_share(np.array([[2.0, 2, 0]]), up, 4096, 1e-6)[0] == 1
    ball = icosphere(5)
    below = ball.points[ball.triangle_points].max(axis=1)[:, 2] <= 1e-9
    bowl = RayTree.build(ball.points, ball.triangle_points[below])
    for place in ([0, 0, -1.0], [0.6, 0, -0.8]):
        at = np.array([place])
        assert bowl.open_share(0.999 * at, -at, 4096, 1e-3)[0] == pytest.approx(0.5, abs=0.02)
    w, h, long = 1.0, 0.7, 1e3
    wall = np.array([[-w / 2, -long, 0], [-w / 2, long, 0], [-w / 2, long, h], [-w / 2, -long, h]])
    trench = RayTree.build(np.concatenate([wall, wall * [-1, 1, 1]]), np.array([[0, 1, 2], [0, 2, 3], [4, 5, 6], [4, 6, 7]]))
    share = trench.open_share(np.zeros((1, 3)), up, 4096, 1e-6)[0]
    assert share == pytest.approx((w / 2) / np.hypot(w / 2, h), abs=0.005)


def test_directions_are_spread_like_the_cosine() -> None:
    """The mean of the cosine over a half sphere, weighted by it, is 2/3."""
    ways = cosine_directions(4096)
    assert np.allclose(np.linalg.norm(ways, axis=1), 1) and (ways[:, 2] > 0).all()
    assert ways[:, 2].mean() == pytest.approx(2 / 3, abs=1e-3) and np.abs(ways[:, :2].mean(axis=0)).max() < 1e-2


def test_embree_gives_the_same_sky(monkeypatch: pytest.MonkeyPatch) -> None:
    """Where it is installed: fewer than 1 in 10,000 rays come out otherwise, far from the origin and at odd sizes too."""
    pytest.importorskip("embreex")
    monkeypatch.delenv("JACKET_OWN_RAYS")
    mesh = icosphere(4)
    points = np.concatenate([mesh.points, mesh.points * 0.6 + [1.2, 0.3, 0]]) * 1e-3 + [500.0, 0, 7.0]
    tri = np.concatenate([mesh.triangle_points, mesh.triangle_points + mesh.n_points])
    tree = RayTree.build(points, tri)
    origins, directions = fans(points, np.concatenate([mesh.points] * 2), cosine_directions(16), 1e-7)
    assert tree._embree is not None
    own = tree.first(origins, directions, 1e-3, True)[0] >= 0
    assert 0.02 < own.mean() < 0.5
    assert (tree.covered(origins, directions, 1e-3) != own).mean() < 1e-4
    reaches = np.linspace(0, 1e-3, len(own))
    assert (tree.covered(origins, directions, reaches) != (tree.first(origins, directions, reaches, True)[0] >= 0)).mean() < 1e-4
    monkeypatch.setenv("JACKET_OWN_RAYS", "1")
    alone = RayTree.build(points, tri)
    assert alone._embree is None and np.array_equal(alone.covered(origins, directions, 1e-3), own)
