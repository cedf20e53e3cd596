"""Seam sets, sight lines and what a cut would do."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.unwrap import flatten_chart
from jacket.core.mesh.rows import loops_inserted
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.cuts import cut_edges, sharp_edges
from jacket.core.seams.foreseen import foresee, lying_now
from jacket.core.seams.kept import (
    is_on,
    joined_in,
    put_on,
    set_flags,
    set_names,
    set_renamed,
    taken_off,
    with_set,
    without_set,
)
from jacket.core.seams.measure import set_figures
from jacket.core.seams.sight import Sight, seam_shown, shown_from
from jacket.core.space.rays import RayTree
from jacket.core.uv.chart import charts_of
from jacket.core.uv.sets import cut_flags
from jacket.errors import EditRefused
from tests.conftest import cube, grid, icosphere, torus


def box(levels: int = 2):  # type: ignore[no-untyped-def]
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def test_sets_are_put_on_joined_taken_off_and_renamed() -> None:
    mesh = box(1)
    ends, sharp = mesh.topology.edge_points, sharp_edges(mesh, 45)
    mesh = with_set(with_set(mesh, "all", ends[sharp]), "half", ends[sharp[:12]])
    assert set_names(mesh) == ["all", "half"] and not is_on(mesh, "all")
    on = put_on(mesh, "all")
    assert is_on(on, "all") and cut_flags(on).sum() == 24
    less = taken_off(on, "half")
    assert cut_flags(less).sum() == 12 and (cut_flags(joined_in(less, "half")) == cut_flags(on)).all()
    named = set_renamed(on, "all", "edges")
    assert set_names(named) == ["edges", "half"] and is_on(named, "edges")
    assert set_names(without_set(named, "half")) == ["edges"]
    for bad in (lambda: set_renamed(on, "all", "half"), lambda: set_renamed(on, "all", " "), lambda: put_on(on, "none"),
                lambda: with_set(on, "", ends[:1])):  # fmt: skip
        with pytest.raises(EditRefused):
            bad()


def test_sets_survive_an_inserted_loop() -> None:
    """The loop splits edges of the set in two: both halves belong to it."""
    mesh = box(2)
    mesh = with_set(mesh, "edges", mesh.topology.edge_points[sharp_edges(mesh, 45)])
    before = set_flags(mesh, "edges").sum()
    flat_edge = int(np.flatnonzero(~set_flags(mesh, "edges"))[0])
    more, _ = loops_inserted(mesh, flat_edge, 1)
    flags = set_flags(more, "edges")
    assert flags.sum() > before and (flags == np.isin(np.arange(len(flags)), sharp_edges(more, 45))).all()


def test_what_shows_from_where() -> None:
    """Of a ball the half towards a far eye; from a ring or all around every part for its share; behind a wall nothing."""
    ball = icosphere(3)
    tree = RayTree.build(ball.points, ball.triangle_points)
    far = Sight(1, "far", "eye", (0.0, 0.0, 1000.0), (0.0, 0.0, 0.0))
    seen = shown_from(ball, [far], tree)
    # The horizon of a ball seen from a distance d lies where z = r/d: all before it shows.
    assert ((seen > 0) == (ball.points[:, 2] > 0.002)).mean() > 0.98 and set(np.unique(seen)) == {0.0, 1.0}
    around = shown_from(ball, [Sight(2, "all", "around", (0.0, 0.0, 1000.0), (0.0, 0.0, 0.0))], tree)
    assert around.mean() == pytest.approx(0.5, abs=0.02) and around.std() < 0.05
    ring = shown_from(ball, [Sight(3, "ring", "ring", (0.0, 0.0, 1000.0), (0.0, 0.0, 0.0))], tree)
    waist = np.abs(ball.points[:, 1]) < 0.3
    assert np.abs(ring[waist] - 0.5).max() <= 1 / 12 + 1e-9
    both = shown_from(ball, [far, Sight(4, "back", "eye", (0.0, 0.0, -1000.0), (0.0, 0.0, 0.0), 3.0)], tree)
    front = ball.points[:, 2] > 0.1
    assert both[front] == pytest.approx(0.25)
    wall = grid(4)
    screen = RayTree.build((wall.points - [2, 2, 0]) * 10 + [0, 0, 5], wall.triangle_points)
    assert shown_from(ball, [far], screen).max() == 0
    assert len(shown_from(ball, [], tree)) == ball.n_points and shown_from(ball, [], tree).max() == 0


def test_share_of_a_seam_that_shows() -> None:
    mesh = grid(4)
    cut = np.zeros(mesh.topology.n_edges, bool)
    cut[[mesh.topology.find_edge(10 + k, 11 + k) for k in range(4)]] = True
    half = (mesh.points[:, 0] <= 2).astype(float)
    assert seam_shown(mesh, cut, half) == pytest.approx((1 + 1 + 0.5 + 0) / 4)
    assert seam_shown(mesh, ~cut & cut, half) == 0


def test_figures_of_a_set_of_cuts() -> None:
    mesh = box(2)
    cut = mesh.topology.edge_flags(mesh.topology.edge_points[sharp_edges(mesh, 45)])
    figures = set_figures(mesh, cut, np.ones(mesh.n_points))
    assert (figures.islands, figures.closed, figures.shown) == (6, 0, 1.0)
    assert figures.stretch == pytest.approx(1) and figures.length == pytest.approx(12 / np.sqrt(6))
    bare = set_figures(mesh, np.zeros_like(cut), np.ones(mesh.n_points))
    assert (bare.islands, bare.closed, bare.stretch) == (1, 1, np.inf)


def test_a_cut_is_foreseen_as_it_comes_out() -> None:
    """What is foreseen for a ring round a tube and a line along it, against laying flat the piece that is really freed."""
    mesh = torus(40, 16)
    around = np.array([mesh.topology.find_edge(k, (k + 1) % 16) for k in range(16)])
    none = np.zeros(mesh.topology.n_edges, bool)
    first = foresee(mesh, none, around)
    assert first.pieces == 1 and "ring" in first.problem and len(first.faces) == mesh.n_faces
    assert "handle" in foresee(mesh, none, around[:1]).problem or "closed" in foresee(mesh, none, around[:1]).problem
    once = cut_flags(cut_edges(mesh, around))
    half = np.array([mesh.topology.find_edge(20 * 16 + k, 20 * 16 + (k + 1) % 16) for k in range(16)])
    two = foresee(mesh, once, half)
    assert two.pieces == 2 and "ring" in two.problem and "ring" in two.rest
    along = np.array([mesh.topology.find_edge(min(16 * k, 16 * (k + 1) % 640), max(16 * k, 16 * (k + 1) % 640)) for k in range(40)])
    seen = foresee(mesh, once | cut_flags(cut_edges(mesh, half)), along)
    assert seen.problem == "" and len(seen.faces) == mesh.n_faces // 2 and len(seen.lines) > 100
    real = charts_of(cut_edges(mesh, np.concatenate([around, half, along])))[0]
    assert seen.after == pytest.approx(flatten_chart(real)[1], abs=0.02)


def test_sewing_is_foreseen_and_what_lies_there_is_gone_on_from() -> None:
    mesh = box(2)
    cut = mesh.topology.edge_flags(mesh.topology.edge_points[sharp_edges(mesh, 45)])
    side = np.flatnonzero(cut & (np.abs(mesh.points[mesh.topology.edge_points] - [0, 0, 0.5]).max(axis=1)[:, :2].max(axis=1) <= 1)
                          & (mesh.points[mesh.topology.edge_points][:, :, :2] == 0).all(axis=(1, 2)))  # fmt: skip
    now = lying_now(mesh, cut, side)
    assert now.energy == pytest.approx(1) and np.isfinite(now.places).all(axis=1).sum() == mesh.n_corners // 3
    sewn = foresee(mesh, cut, side, now=now)
    assert sewn.sews and sewn.pieces == 1 and sewn.after == pytest.approx(1, abs=1e-6) and len(sewn.faces) == mesh.n_faces // 3
