"""Islands changed where they lie: refining, carrying, squaring up, straightening, against formulas and finite differences."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np
import pytest
from scipy.linalg import fractional_matrix_power

from jacket.core.flatten import energies as kernels
from jacket.core.flatten.carrying import Carrier, carried
from jacket.core.flatten.descent import Descent, Held, flips
from jacket.core.flatten.editing import Laying, refined
from jacket.core.flatten.overlap import flipped_faces
from jacket.core.flatten.shaping import rounded, squared, straightened
from jacket.core.flatten.squares import squared_up
from jacket.core.flatten.starts import signed_areas
from jacket.core.flatten.stretch import singular_values
from jacket.core.flatten.unwrap import flatten_chart, unwrap
from jacket.core.mesh.polymesh import PIN, PolyMesh
from jacket.core.uv.chart import Chart, chart_of, charts_of
from jacket.core.uv.islands import Islands
from jacket.errors import EditRefused
from tests.conftest import grid, icosphere


def dome(n: int = 12, high: float = 3.0) -> PolyMesh:
    """n × n quads over a bump, flat on the sheet."""
    sheet = grid(n)
    points = sheet.points - [n / 2, n / 2, 0]
    points[:, 2] = high * np.exp(-(points[:, :2] ** 2).sum(axis=1) / (n / 4) ** 2)
    flat, _ = unwrap(sheet.with_points(points))
    return flat.with_uv(flat.uv * (0.6 / n) + 0.5)


def tube(n: int = 24, rows: int = 8, top: float = 1.0) -> tuple[PolyMesh, np.ndarray]:
    """An open tube (a frustum for `top` other than 1) and the flags of a straight line along it."""
    angle = 2 * np.pi * np.arange(n) / n
    rings = [np.stack([(1 + (top - 1) * k / rows) * np.cos(angle), np.full(n, 0.3 * k), (1 + (top - 1) * k / rows) * np.sin(angle)], 1)
             for k in range(rows + 1)]  # fmt: skip
    faces = [[k * n + (i + 1) % n, k * n + i, (k + 1) * n + i, (k + 1) * n + (i + 1) % n] for k in range(rows) for i in range(n)]
    mesh = PolyMesh.from_faces(np.concatenate(rings), faces)
    cut = np.zeros(mesh.topology.n_edges, bool)
    cut[[mesh.topology.find_edge(k * n, (k + 1) * n) for k in range(rows)]] = True
    return mesh, cut


def half_ball() -> Chart:
    ball = icosphere(2)
    return chart_of(ball, np.flatnonzero(ball.points[ball.corners.reshape(-1, 3)].mean(axis=1)[:, 2] > 0.1), np.zeros(ball.topology.n_edges, bool))


# ---- shapes on the way ----------------------------------------------------------------------------------------------


def test_shapes_between_are_as_far_as_allowed_and_a_power_of_the_whole_way() -> None:
    """Liu, Ye, Ni and Fu, "Progressive parameterizations" (2018): the map from a shape between has the singular values of the whole
    map to a power and its axes in the plane; matrix powers by SciPy."""
    random = np.random.default_rng(4)
    maps = random.normal(size=(40, 2, 2)) * np.exp(random.uniform(-3, 3, (40, 1, 1)))
    maps[np.linalg.det(maps) < 0] *= [[-1.0, 1.0]]
    size = random.uniform(0.5, 2, (40, 2))
    inverse = np.zeros((40, 2, 2))
    inverse[:, 0, 0], inverse[:, 1, 1], inverse[:, 0, 1] = *size.T, random.normal(size=40)
    edges = maps @ np.linalg.inv(inverse)
    uv = np.concatenate([np.zeros((40, 1, 2)), edges.transpose(0, 2, 1)], axis=1).reshape(-1, 2)
    tri, out = np.arange(120).reshape(-1, 3), inverse.copy()
    squares = np.linalg.svd(maps, compute_uv=False) ** 2
    off = (squares + 1 / squares).sum(axis=1) / 4
    most = 15.0
    assert kernels.shapes_between(uv, tri, inverse, most, out) == (off > most).sum() and 10 < (off > most).sum() < 40
    assert np.array_equal(out[off <= most], inverse[off <= most]) and np.all(out[:, 1, 0] == 0)
    for k in np.flatnonzero(off > most):
        now = edges[k] @ out[k]
        whole, part = maps[k] @ maps[k].T, now @ now.T
        reached = np.linalg.eigvalsh(part)
        assert (reached + 1 / reached).sum() / 4 == pytest.approx(most, rel=1e-3)
        power = np.log(reached[1]) / np.log(np.linalg.eigvalsh(whole)[1])
        assert 0 < power < 1 and np.allclose(part, fractional_matrix_power(whole, power), rtol=1e-6)


# ---- the energy between angles and areas ----------------------------------------------------------------------------


@pytest.mark.parametrize("balance", [0.1, 0.3, 0.5, 0.8])
def test_gradients_are_those_of_finite_differences(balance: float) -> None:
    chart = half_ball()
    uv, _ = flatten_chart(chart, 3)
    rng = np.random.default_rng(2)
    uv = uv + 0.01 * rng.normal(size=uv.shape)
    descent = Descent(chart, uv, balance=balance)
    a, s = distortions(chart, uv)
    weight = chart.rest[1] * chart.weights / chart.area
    assert descent.energy == pytest.approx(float((weight * a ** (2 - 2 * balance) * s ** (2 * balance)).sum()), rel=1e-9)
    way = rng.normal(size=uv.shape)
    step = 1e-6
    slope = (descent.value(uv + step * way) - descent.value(uv - step * way)) / (2 * step)
    own, blocks = (descent.uv, descent.tri, descent.inverse, descent.area), np.empty((len(descent.tri), 6, 6))
    gradient = kernels.derivatives_between(*own, 2 - 2 * balance, 2 * balance, blocks)
    assert slope == pytest.approx(float(gradient @ way.ravel()), rel=1e-5)
    # What is left of the Hessian bends nowhere down, triangle by triangle; at ½ it is that of the symmetric Dirichlet energy.
    assert np.linalg.eigvalsh(blocks).min() > -1e-9 * np.abs(blocks).max()
    if balance == 0.5:
        other = np.empty_like(blocks)
        plain = kernels.derivatives(*own, False, other)
        assert np.allclose(plain, gradient) and np.allclose(other, blocks, atol=1e-9 * np.abs(other).max())


def distortions(chart: Chart, uv: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Of angles and of areas, from the singular values of each triangle's map at the surface's own scale."""
    tri, inverse = chart.triangles, chart.rest[0]
    edges = np.stack([uv[tri[:, 1]] - uv[tri[:, 0]], uv[tri[:, 2]] - uv[tri[:, 0]]], axis=2)
    s1, s2 = np.linalg.svd(edges @ inverse, compute_uv=False).T
    return (s1 / s2 + s2 / s1) / 2, (s1 * s2 + 1 / (s1 * s2)) / 2


def test_the_slider_trades_angles_for_areas() -> None:
    """A half ball: nearer to conformal maps angles come out truer, nearer to the other side areas, monotonously."""
    chart = half_ball()
    uv, _ = flatten_chart(chart, 3)
    weight, told = chart.rest[1] * chart.weights, []
    for balance in (0.05, 0.3, 0.5, 0.7, 0.95):
        descent = Descent(chart, uv, balance=balance)
        descent.run(60, False)
        assert flips(chart, descent.uv) == 0
        s1, s2 = singular_values(chart, descent.uv).T
        told.append((np.average((s1 / s2 + s2 / s1) / 2, weights=weight), np.average((s1 * s2 + 1 / (s1 * s2)) / 2, weights=weight)))
    angle, area = np.array(told).T
    assert (np.diff(angle) > 0).all() and (np.diff(area) < 0).all()


# ---- refining and carrying ------------------------------------------------------------------------------------------


def test_refining_a_part_leaves_the_rest_to_the_bit() -> None:
    mesh = dome()
    rng = np.random.default_rng(4)
    chart = charts_of(mesh)[0]
    noise = 0.004 * rng.normal(size=(mesh.n_points, 2))
    mesh = mesh.with_uv(mesh.uv + noise[mesh.corners])
    faces = np.zeros(144, bool)
    faces[[k * 12 + j for k in range(3, 9) for j in range(3, 9)]] = True
    pinned = np.zeros(mesh.n_corners, np.float32)
    pinned[mesh.corners == 6 * 13 + 6] = 1
    mesh = mesh.with_(corner_data={**mesh.corner_data, PIN + mesh.active_uv: pinned})
    islands = Islands.of(mesh)
    uv = refined(mesh, islands, faces)
    moved = np.abs(uv - mesh.uv).max(axis=1) > 0
    inner = np.bincount(mesh.corners, ~faces[mesh.face_of_corner], mesh.n_points) == 0
    assert moved.any() and not moved[~inner[mesh.corners]].any() and not moved[pinned > 0].any()
    before, after = (Descent(chart, to_surface(m, chart)).energy for m in (mesh, mesh.with_uv(uv)))
    assert after < before and len(flipped_faces(mesh, uv)) == 0
    # Everything free is as low as a whole flattening gets.
    bare = mesh.with_(corner_data={k: v for k, v in mesh.corner_data.items() if not k.startswith(PIN)})
    whole = refined(bare, Islands.of(bare), np.ones(144, bool), 60)
    assert Descent(chart, to_surface(mesh.with_uv(whole), chart)).energy == pytest.approx(flatten_chart(chart)[1], rel=2e-3)


def to_surface(mesh: PolyMesh, chart: Chart) -> np.ndarray:
    out = np.empty((chart.mesh.n_points, 2))
    out[chart.mesh.corners] = Islands.of(mesh).places[chart.corners]
    flat = float((np.abs(signed_areas(out, chart.triangles)) * chart.weights).sum())
    return out * np.sqrt(chart.area / flat)


def test_points_are_carried_and_pins_hold() -> None:
    mesh = dome()
    laying = Laying.of(mesh, Islands.of(mesh), 0)
    corners = np.array([0, 12, 156, 168])
    at = np.array([int(np.flatnonzero(laying.points_of(mesh, np.arange(mesh.n_points) == c))[0]) for c in corners])
    pins = np.zeros(len(laying.uv))
    pins[at[:3]] = 1.0
    middle = int(np.flatnonzero(laying.points_of(mesh, np.arange(mesh.n_points) == 84))[0])
    pins[middle] = 0.5
    goal = laying.uv[at[3]] + [1.0, 0.7]
    uv, share = carried(laying, at[3:], goal[None, :], pins)
    assert share == 1.0 and np.allclose(uv[at[3]], goal) and np.array_equal(uv[at[:3]], laying.uv[at[:3]])
    assert flips(laying.chart, uv) == 0
    free, _ = carried(laying, at[3:], goal[None, :], np.where(pins == 0.5, 0, pins))
    drawn = np.linalg.norm(uv[middle] - laying.uv[middle])
    assert 0 < drawn < np.linalg.norm(free[middle] - laying.uv[middle])  # half a pin holds it back
    # Through the other side it cannot go: it stops with every face as it was turned.
    across, share = carried(laying, at[3:], laying.uv[at[0]][None, :] - 50, pins)
    assert share < 1 and flips(laying.chart, across) == 0


def test_a_point_led_on_while_nothing_can_follow_yet_is_not_driven_into_the_fold(monkeypatch: pytest.MonkeyPatch) -> None:
    """Led on twenty times before the rest is solved for, then until it rests: as good as what is carried in one go."""
    mesh = dome()
    laying = Laying.of(mesh, Islands.of(mesh), 0)
    middle = np.flatnonzero(laying.points_of(mesh, np.arange(mesh.n_points) == 84))
    goal, pins = laying.uv[middle] + [2.5, 0.0], np.zeros(len(laying.uv))
    at_once = Descent(laying.chart, carried(laying, middle, goal, pins, last=60)[0])
    late: list[tuple[Future[None], Callable[[], None]]] = []

    def wanted(act: Callable[[], None]) -> Future[None]:
        late.append((Future(), act))
        return late[-1][0]

    monkeypatch.setattr("jacket.core.flatten.carrying.ahead", wanted)
    monkeypatch.setattr("jacket.core.flatten.carrying.SHARED", 1)
    carrier = Carrier(laying, middle, pins)
    shares = [carrier.lead(goal, 1, hurried=True) for _ in range(20)]
    assert carrier.waits and not carrier.still and 0 < shares[0] < 1 and shares == shares[:1] * 20
    for _ in range(100):
        for future, act in late:
            if not future.done():
                act()
                future.set_result(None)
        carrier.lead(goal, 1, hurried=True)
        if carrier.still:
            break
    assert carrier.still and not carrier.waits and np.allclose(carrier.descent.uv[middle], goal)
    assert carrier.descent.value() == pytest.approx(at_once.energy, rel=0.01)


def test_who_lets_go_waits_for_what_the_rest_follows_by(monkeypatch: pytest.MonkeyPatch) -> None:
    """A point of a large island let go before the rest can follow gets all the way all the same."""
    with ThreadPoolExecutor(1) as pool:
        monkeypatch.setattr("jacket.core.flatten.carrying.ahead", lambda act: pool.submit(lambda: (time.sleep(0.1), act())))
        monkeypatch.setattr("jacket.core.flatten.carrying.SHARED", 1)
        mesh = dome()
        laying = Laying.of(mesh, Islands.of(mesh), 0)
        middle = np.flatnonzero(laying.points_of(mesh, np.arange(mesh.n_points) == 84))
        goal = laying.uv[middle] + [2.5, 0.0]
        carrier = Carrier(laying, middle, np.zeros(len(laying.uv)))
        assert carrier.bring(goal, 6, hurried=True, until=time.perf_counter() + 20) == 1.0
    assert np.allclose(carrier.descent.uv[middle], goal) and flips(laying.chart, carrier.descent.uv) == 0


def test_islands_that_lie_nowhere_or_folded_are_refused_and_mirrored_ones_are_not() -> None:
    mesh = dome(4)
    with pytest.raises(EditRefused, match="flatten it first"):
        Laying.of(mesh.with_uv(np.full_like(mesh.uv, np.nan)), Islands.of(mesh.with_uv(np.full_like(mesh.uv, np.nan))), 0)
    folded = mesh.uv.copy()
    folded[mesh.corners == 12] += 3
    with pytest.raises(EditRefused, match="flipped"):
        Laying.of(mesh.with_uv(folded), Islands.of(mesh.with_uv(folded)), 0)
    mirrored = mesh.with_uv(mesh.uv * [-1, 1] + [1, 0])
    uv = refined(mirrored, Islands.of(mirrored), np.ones(16, bool), 3)
    assert np.abs(uv - mirrored.uv).max() < 0.02


# ---- squares --------------------------------------------------------------------------------------------------------


def test_a_tube_is_laid_as_a_rectangle_without_stretch() -> None:
    """A developable strip squared up is isometric: stretch 1 to 1e-9, as long as its polygon is round."""
    mesh, cut = tube()
    for way in ("whole", "rows", "border"):
        result = squared_up(chart_of(mesh, np.arange(mesh.n_faces), cut), way)
        assert result.stretch == pytest.approx(1, abs=1e-9) and (result.columns, result.rows) in ((24, 8), (8, 24))
    sides = np.sort(np.ptp(squared_up(chart_of(mesh, np.arange(mesh.n_faces), cut)).uv, axis=0))
    assert sides == pytest.approx([8 * 0.3, 24 * 2 * np.sin(np.pi / 24)])


def test_squares_of_what_is_no_rectangle_stretch_and_rows_alone_less() -> None:
    mesh, cut = tube(top=0.4)
    chart = chart_of(mesh, np.arange(mesh.n_faces), cut)
    whole, rows, border = (squared_up(chart, way) for way in ("whole", "rows", "border"))
    assert whole.stretch > 1.05 and rows.stretch <= whole.stretch + 1e-9 and border.stretch <= whole.stretch + 1e-9
    for result in (whole, rows, border):
        assert flips(chart, result.uv) == 0
    # Rows: every point of one row of the grid at one height.
    heights = [np.ptp(rows.uv[np.abs(whole.uv[:, 1] - y) < 1e-9, 1]) for y in np.unique(np.round(whole.uv[:, 1], 9))]
    assert max(heights) < 1e-9


def test_what_is_no_grid_says_why() -> None:
    ball = icosphere(1)
    with pytest.raises(EditRefused, match="quads"):
        squared_up(chart_of(ball, np.arange(20), np.zeros(ball.topology.n_edges, bool)))
    from jacket.core.quads.subdivide import split_to_quads

    cap = split_to_quads(icosphere(0))
    with pytest.raises(EditRefused, match="pole"):
        squared_up(chart_of(cap, np.flatnonzero(cap.points[cap.corners.reshape(-1, 4)].mean(axis=1)[:, 2] > 0.2), np.zeros(cap.topology.n_edges, bool)))
    mesh, cut = tube()
    with pytest.raises(EditRefused, match="run into themselves"):
        squared_up(chart_of(mesh, np.arange(mesh.n_faces), cut & False))


def test_an_island_is_squared_where_it_lies() -> None:
    mesh = dome(8, 1.0)
    turned = mesh.with_uv((mesh.uv - 0.5) @ np.array([[0, 1], [-1, 0]]) + 0.5)
    islands = Islands.of(turned)
    uv, result = squared(turned, islands, 0, "whole")
    assert (result.columns, result.rows) == (8, 8) and np.abs(uv - turned.uv).max() < 0.06
    assert len(np.unique(np.round(uv[:, 0], 9))) == 9 and len(np.unique(np.round(uv[:, 1], 9))) == 9


# ---- straight and round ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize("direction", ["own", "across", "down"])
@pytest.mark.parametrize("spacing", ["kept", "even", "surface"])
def test_held_edges_are_laid_straight(direction: str, spacing: str) -> None:
    mesh = dome()
    row = np.array([mesh.topology.find_edge(5 * 13 + k, 5 * 13 + k + 1) for k in range(12)])
    uv, share = straightened(mesh, Islands.of(mesh), row, direction, spacing)
    place = np.zeros((mesh.n_points, 2))
    place[mesh.corners] = uv
    line = place[65:78]
    if direction == "down":
        # Rows that run across the sheet stand up only as far as no face turns over.
        assert len(flipped_faces(mesh, uv)) == 0
        return
    assert share == 1.0
    away = line - line.mean(axis=0)
    way = np.linalg.svd(away, full_matrices=False)[2][0] if direction == "own" else np.array([1.0, 0])
    assert np.abs(away @ [-way[1], way[0]]).max() < 1e-9 and len(flipped_faces(mesh, uv)) == 0
    steps = np.abs(np.diff(away @ way))
    if spacing == "even":
        assert np.allclose(steps, steps.mean())
    if spacing == "surface":
        real = np.linalg.norm(np.diff(mesh.points[65:78], axis=0), axis=1)
        assert np.allclose(steps / steps.mean(), real / real.mean())


def test_a_loop_is_made_round_and_open_ones_are_refused() -> None:
    mesh = dome(10, 1.0)
    ids = [3 * 11 + k for k in range(3, 8)] + [k * 11 + 7 for k in range(4, 8)] + [7 * 11 + k for k in range(6, 2, -1)] + [k * 11 + 3 for k in range(6, 3, -1)]
    loop = np.array([mesh.topology.find_edge(a, b) for a, b in zip(ids, ids[1:] + ids[:1], strict=True)])
    uv, share = rounded(mesh, Islands.of(mesh), loop)
    place = np.zeros((mesh.n_points, 2))
    place[mesh.corners] = uv
    radius = np.linalg.norm(place[ids] - place[ids].mean(axis=0), axis=1)
    assert share == 1.0 and np.ptp(radius) / radius.mean() < 0.02 and len(flipped_faces(mesh, uv)) == 0
    with pytest.raises(EditRefused, match="closed loop"):
        rounded(mesh, Islands.of(mesh), loop[:-2])
    with pytest.raises(EditRefused, match="let go of one"):
        straightened(mesh, Islands.of(mesh), loop)
    with pytest.raises(EditRefused, match="two edges"):
        straightened(mesh, Islands.of(mesh), loop[:1])


def test_coordinates_that_move_alike() -> None:
    """Held.alike: a row of points that shares its height keeps sharing it, however far it goes."""
    chart = charts_of(dome())[0]
    uv, _ = flatten_chart(chart, 2)
    number = np.arange(2 * len(uv))
    row = np.flatnonzero(chart.mesh.topology.border_points)[:9]
    uv[row, 1] = uv[row, 1]
    number[2 * row + 1] = 2 * len(uv)
    descent = Descent(chart, uv, Held(np.zeros(len(uv), bool), alike=number))
    descent.run(5, False)
    moved = descent.uv[row, 1] - uv[row, 1]
    assert np.ptp(moved) < 1e-12 and np.abs(descent.uv - uv).max() > 0


def test_the_upper_pattern_is_that_of_scipy() -> None:
    """The Hessian put together in its upper half against a plain sum of blocks, with points that no triangle has."""
    from scipy import sparse

    chart = half_ball()
    tri = np.ascontiguousarray(chart.triangles[::3])
    n, rng = chart.mesh.n_points + 7, np.random.default_rng(0)
    half = rng.normal(size=(len(tri), 6, 6))
    blocks = half @ half.transpose(0, 2, 1)
    starts, rows, slots = kernels.hessian_pattern(tri, n)
    upper = sparse.csc_array((kernels.assembled(slots, blocks, len(rows)), rows, starts), shape=(2 * n, 2 * n))
    ids = np.stack([2 * tri, 2 * tri + 1], axis=2).reshape(-1, 6)
    full = sparse.coo_array((blocks.ravel(), (np.repeat(ids, 6, axis=1).ravel(), np.tile(ids, (1, 6)).ravel())), shape=(2 * n, 2 * n))
    assert abs(upper - sparse.triu(full.tocsc())).max() < 1e-12
    assert (rows[starts[1:] - 1] == np.arange(2 * n)).all() and (np.diff(starts) > 0).all()


@pytest.mark.parametrize("reweighted", [False, True])
def test_a_triangle_whose_thinness_rounds_to_nothing_still_has_derivatives(reweighted: bool) -> None:
    """Its determinant is above 0 and its energy a number; the smaller singular value, a difference, is 0 to the last digit."""
    uv = np.array([[0.0, 0], [1, 0], [0, 1e-17]])
    own = uv, np.array([[0, 1, 2]]), np.eye(2)[None], np.ones(1)
    assert np.isfinite(kernels.mean_energy(*own)) and np.linalg.det(uv[1:]) > 0
    assert np.hypot(0.5, 0.5e-17) - np.hypot(0.5, 0.5e-17) == 0
    blocks = np.zeros((1, 6, 6))
    assert not np.isnan(kernels.derivatives(*own, reweighted, blocks)).any()
    kernels.derivatives_between(*own, 0.5, 1.5, blocks)
