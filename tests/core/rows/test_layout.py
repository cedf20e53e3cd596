"""The T-mesh, what other lengths of it cost, and jackets laid anew from it."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.odd_layers import split_hull
from jacket.core.mesh.pieces import split_off
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.rows import metric
from jacket.core.rows.lattice import reduced
from jacket.core.rows.measure import rings
from jacket.core.rows.metric import layout, strain_metric
from jacket.core.rows.rebuild import pairs_merged, rebuilt
from jacket.core.rows.tmesh import TMesh, t_mesh
from jacket.core.rows.unwind import unwound, windings
from tests.conftest import cube, grid, icosphere
from tests.core.rows.shapes import torus, tube


def taken_apart(mesh: PolyMesh, features: np.ndarray | None = None) -> TMesh:
    tm = t_mesh(mesh, features)
    assert tm is not None
    return tm


def test_a_cube_comes_apart_into_squares() -> None:
    """Twelve lines join eight corners; each is parted in its middle by a line of our own, so that each side is four."""
    mesh = split_to_quads(split_to_quads(cube()))
    tm = taken_apart(mesh)
    assert sorted(p.points.shape for p in tm.patches) == [(3, 3)] * 24
    assert sum(not c.made for c in tm.chains) == 24
    assert tm.hard.sum() >= 8


@pytest.mark.parametrize("make", [lambda: torus(9, 6), lambda: torus(9, 6, 2), lambda: tube(8, 5)])
def test_forms_without_corners_become_rectangles_too(make) -> None:  # type: ignore[no-untyped-def]
    mesh = make()
    tm = taken_apart(mesh)
    faces = sorted((p.points.shape[0] - 1) * (p.points.shape[1] - 1) for p in tm.patches)
    assert sum(faces) == mesh.n_faces


def test_patches_cover_every_face_once_and_sides_add_up(winding: PolyMesh) -> None:
    tm = taken_apart(winding)
    seen = np.zeros(winding.n_points, int)
    for patch in tm.patches:
        assert len(patch.sides) == 4
        for side, length in zip(patch.sides, np.array(patch.points.shape)[[1, 0, 1, 0]] - 1, strict=True):
            assert sum(p.stop - p.start for p in side) == length
        seen[patch.points[1:-1, 1:-1]] += 1
    assert seen.max() <= 1
    assert sum((p.points.shape[0] - 1) * (p.points.shape[1] - 1) for p in tm.patches) == winding.n_faces


@pytest.mark.parametrize("splits", [False, True])
def test_the_same_lengths_give_the_same_quads(winding: PolyMesh, splits: bool) -> None:
    # Of split hulls nearly every point is irregular, and lines are more than points.
    winding = split_hull(np.random.default_rng(2)) if splits else winding
    tm = taken_apart(winding)
    assert (len(tm.chains) > winding.n_points) == splits
    plan = layout(tm)
    same = np.zeros(len(plan.basis), np.int64)
    same[plan.of] = plan.lengths
    mesh, _ = rebuilt(tm, plan, same)
    assert (mesh.n_faces, mesh.n_points) == (winding.n_faces, winding.n_points)
    assert sorted(rings(mesh).crossings.tolist()) == sorted(rings(winding).crossings.tolist())
    order = np.lexsort(mesh.points.T), np.lexsort(winding.points.T)
    assert np.allclose(mesh.points[order[0]], winding.points[order[1]], atol=1e-9)


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10_000))
def test_any_fitting_lengths_give_a_sound_mesh(winding_seed: int) -> None:
    """Whatever whole numbers fit together and leave no side without length: manifold, the same topology, the same poles."""
    mesh = _small()
    tm = taken_apart(mesh)
    plan = layout(tm)
    rng = np.random.default_rng(winding_seed)
    start = np.zeros(len(plan.basis), np.int64)
    start[plan.of] = plan.lengths
    lengths = start + plan.basis @ rng.integers(-1, 2, plan.basis.shape[1])
    if lengths.min() < 1:
        lengths = 3 * start + (lengths - start)
    if lengths.min() < 1:
        return
    new, _ = rebuilt(tm, plan, lengths)
    assert new.is_quads and len(new.topology.nonmanifold_edges) == 0
    assert euler_characteristic(new) == euler_characteristic(mesh)
    assert irregular_count(new) == irregular_count(mesh)


_KEPT: list[PolyMesh] = []


def _small() -> PolyMesh:
    if not _KEPT:
        _KEPT.append(automatic_quads(icosphere(3), AutoSettings(quads=300, rows=0.0)).mesh)
    return _KEPT[0]


def test_one_row_more_on_a_torus_costs_what_even_strain_does(monkeypatch: pytest.MonkeyPatch) -> None:
    """n rows of m quads that become m + 1: every edge along them is strained by 1/m, and n m (1/m)² = n / m is the least
    energy (the mean is the least square), where our own lines may move for nothing. Worked by hand."""
    monkeypatch.setattr(metric, "LIMP", 1e6)
    m, n = 12, 5
    tm = taken_apart(torus(m, n))
    plan = layout(tm)
    form, centre = strain_metric(tm, plan, np.zeros(tm.mesh.topology.n_edges))
    assert np.allclose(centre, 0, atol=1e-6)
    start = np.zeros(len(plan.basis), np.int64)
    start[plan.of] = plan.lengths
    energies = []
    for z in itertools.product((-1, 0, 1), repeat=plan.basis.shape[1]):
        new, _ = rebuilt(tm, plan, start + plan.basis @ np.array(z))
        if new.n_faces == (m + 1) * n:
            energies.append(float(np.array(z) @ form @ np.array(z)))
    assert energies and min(energies) == pytest.approx(n / m, rel=2e-3)


def test_a_reduced_basis_spans_the_same_lattice_with_short_vectors() -> None:
    """Lenstra, Lenstra and Lovász (1982): the first vector is at most (1/(δ − ¼))^((n−1)/2) times the shortest; here the
    shortest is found by trying all with small numbers."""
    rng = np.random.default_rng(3)
    for _ in range(5):
        raw = rng.normal(size=(5, 5)) @ np.diag([1, 1, 4, 9, 30.0])
        form = raw.T @ raw
        change, gram = reduced(form)
        assert np.allclose(change, np.rint(change)) and abs(abs(np.linalg.det(change)) - 1) < 1e-6
        assert np.allclose(gram, change.T @ form @ change, rtol=1e-6, atol=1e-6)
        tries = np.array([z for z in itertools.product(range(-3, 4), repeat=5) if any(z)])
        shortest = float(np.einsum("ij,jk,ik->i", tries, gram, tries).min())
        assert gram[0, 0] <= (1 / (0.9 - 0.25)) ** 4 * shortest * (1 + 1e-9)
        assert np.trace(gram) <= np.trace(form) + 1e-9


def test_rows_are_unwound(winding: PolyMesh) -> None:
    lines = np.zeros(winding.topology.n_edges, bool)
    before = windings(winding)
    found = unwound(winding, lines, 0.5)
    assert found is not None
    after = windings(found.mesh)
    assert sum(after) < 0.75 * sum(before)
    assert irregular_count(found.mesh) <= irregular_count(winding)
    assert abs(found.mesh.n_faces / winding.n_faces - 1) < 0.03
    again = unwound(winding, lines, 0.5)
    assert again is not None and again.mesh.points.tobytes() == found.mesh.points.tobytes()


def test_creases_stay_edges_and_their_corners_corners() -> None:
    """A box: its twelve edges are lines; whatever the lengths, every point of them lies on an edge of the box."""
    mesh = split_to_quads(split_to_quads(split_to_quads(cube())))
    size = np.abs(mesh.points).max()
    rim = (np.abs(np.abs(mesh.points) - size) < 1e-9).sum(axis=1) >= 2
    lines = rim[mesh.topology.edge_points].all(axis=1)
    tm = taken_apart(mesh, lines)
    plan = layout(tm)
    start = np.zeros(len(plan.basis), np.int64)
    start[plan.of] = plan.lengths
    new, pairs = rebuilt(tm, plan, start + plan.basis @ np.ones(plan.basis.shape[1], np.int64))
    places = new.points[pairs].reshape(-1, 3)
    assert ((np.abs(np.abs(places) - size) < 1e-9).sum(axis=1) >= 2).all()
    assert len(np.unique(pairs)) > 8


def test_strain_of_any_moves_closes_round_every_quad() -> None:
    """Points of a plane grid moved anyhow: what each edge is longer along its way, and turned to the left across it, adds up to
    nothing round each quad; turned round, an edge has both unchanged."""
    mesh = grid(5, 4)
    moves = np.random.default_rng(3).normal(size=(mesh.n_points, 2))
    ends = mesh.topology.edge_points
    way = mesh.points[ends[:, 1], :2] - mesh.points[ends[:, 0], :2]
    way /= np.linalg.norm(way, axis=1)[:, None]
    change = moves[ends[:, 1]] - moves[ends[:, 0]]
    strain = np.concatenate([(change * way).sum(axis=1), way[:, 0] * change[:, 1] - way[:, 1] * change[:, 0]])
    assert np.abs(metric._closing(mesh) @ strain).max() < 1e-12 < np.abs(strain).min()


def test_a_held_border_stays_where_irregular_points_come_to_lie_on_it() -> None:
    """Half a ball, whose border is one line that others end on, with any lengths that leave the border alone, some of them
    nothing: its points are there to the bit."""
    ball = icosphere(3)
    dome = split_off(ball, np.flatnonzero(ball.points[ball.corners.reshape(-1, 3)].mean(axis=1)[:, 2] > 0))[1]
    half = automatic_quads(dome, AutoSettings(quads=300, rows=0.0)).mesh
    held = half.topology.edge_uses == 1
    tm = taken_apart(half)
    plan = layout(tm, held)
    start = np.zeros(len(plan.basis), np.int64)
    start[plan.of] = plan.lengths
    border = {p.tobytes() for p in half.points[half.topology.border_points]}
    rng, shrunk = np.random.default_rng(0), 0
    for _ in range(2000):
        lengths = start + plan.basis @ rng.integers(-4, 5, plan.basis.shape[1])
        if lengths.min() < 0:
            continue
        new, _ = rebuilt(tm, plan, lengths, held)
        shrunk += int(lengths.min() == 0)
        assert border <= {p.tobytes() for p in new.points}
    assert shrunk > 5


def test_two_quads_that_share_two_edges_become_one_again() -> None:
    mesh = grid(4, 3)
    quads, points = mesh.as_quads(), mesh.points
    for face in (5, 10):
        a, b, c, d = quads[0 if face == 5 else 6]
        points = np.concatenate([points, points[[a, c]].mean(axis=0, keepdims=True)])
        v = len(points) - 1
        quads = np.concatenate([quads[~(quads == [a, b, c, d]).all(axis=1)], [[a, b, c, v], [a, v, c, d]]])
    split = PolyMesh.from_faces(points, quads)
    assert (split.topology.valence[~split.topology.border_points] == 2).sum() == 2
    merged, lines = pairs_merged(split, np.array([[0, 1]]))
    assert {frozenset(map(bytes, f)) for f in merged.points[merged.as_quads()]} == {frozenset(map(bytes, f)) for f in mesh.points[mesh.as_quads()]}
    assert np.array_equal(merged.points[lines], mesh.points[[[0, 1]]])
    assert len(rings(merged).crossings) == len(rings(mesh).crossings)
    # A point that a crease runs through stays.
    kept, _ = pairs_merged(split, np.array([[quads[-1][0], len(points) - 1]]))
    assert kept.n_faces == mesh.n_faces + 1
    # Of what is not manifold nothing is taken for such a pair.
    fan = PolyMesh.from_faces(np.random.default_rng(0).normal(size=(6, 3)), [[0, 1, 2, 5], [0, 5, 2, 3], [0, 5, 2, 4]])
    assert pairs_merged(fan, np.zeros((0, 2), np.int64))[0].n_faces == 3
