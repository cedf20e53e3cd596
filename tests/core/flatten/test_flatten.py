"""Flattening against developable forms, libigl's LSCM and SLIM, and exact overlap tests."""

from __future__ import annotations

import itertools

import igl
import numpy as np
import pytest
import shapely

from jacket.core.flatten.descent import Descent, flips
from jacket.core.flatten.overlap import border_crosses, flipped_faces, lies_over_itself, overlapping_faces
from jacket.core.flatten.starts import conformal, convex, signed_areas
from jacket.core.flatten.stretch import face_stretch, measure_stretch
from jacket.core.flatten.unwrap import flatten_chart, unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.chart import chart_of, charts_of
from jacket.errors import SolveError
from tests.conftest import grid, icosphere, torus


def cap(level: int = 4, low: float = 0.0) -> PolyMesh:
    """Triangles of a unit sphere above a plane."""
    ball = icosphere(level)
    keep = ball.points[ball.triangle_points].mean(axis=1)[:, 2] > low
    used, new = np.unique(ball.triangle_points[keep], return_inverse=True)
    return PolyMesh.from_faces(ball.points[used], new.reshape(-1, 3))


def half_cylinder() -> PolyMesh:
    sheet = grid(12, 8)
    angle = sheet.points[:, 0] * np.pi / 12
    return sheet.with_points(np.stack([np.cos(angle) * 3, sheet.points[:, 1], np.sin(angle) * 3], axis=1))


def test_developable_forms_open_without_stretch() -> None:
    """A half cylinder is isometric to a rectangle (of the chord lengths of its facets)."""
    flat, islands = unwrap(half_cylinder())
    figures = measure_stretch(flat, flat.uv)
    assert islands[0].flat and figures.dirichlet == pytest.approx(1.0, abs=1e-6) and figures.linf < 1.001
    size = np.ptp(flat.uv, axis=0)
    assert sorted(size) == pytest.approx(sorted([8.0, 12 * 6 * np.sin(np.pi / 24)]), rel=1e-3)
    assert np.abs(face_stretch(flat, flat.uv)).max() < 1e-3


def test_conformal_start_agrees_with_libigl() -> None:
    mesh = cap(3, 0.2)
    chart = charts_of(mesh)[0]
    ours = conformal(chart)
    fixed = [int(np.argmin(mesh.points[:, 0])), int(np.argmax(mesh.points[:, 0]))]
    theirs, _ = igl.lscm(
        mesh.points, mesh.triangle_points.astype(np.int64), np.array(fixed), np.array([[0.0, 0], [1, 0]])
    )
    # The two pin different points, so compare shapes: angles of the flat triangles.
    back = np.argsort(_order(chart, mesh))
    assert np.abs(_angles(ours[back], mesh.triangle_points) - _angles(theirs, mesh.triangle_points)).max() < 0.05


def _order(chart, mesh: PolyMesh) -> np.ndarray:  # type: ignore[no-untyped-def]
    """Points of the whole mesh behind the chart's points."""
    out = np.empty(chart.mesh.n_points, int)
    out[chart.mesh.corners] = mesh.corners[chart.corners]
    return out


def _angles(uv: np.ndarray, tri: np.ndarray) -> np.ndarray:
    out = []
    for k in range(3):
        a, b, c = (uv[tri[:, (k + j) % 3]] for j in range(3))
        u, v = b - a, c - a
        out.append(np.arctan2(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0], (u * v).sum(axis=1)))
    return np.stack(out)


def test_energy_is_below_libigls_slim() -> None:
    """On a deep cap from the same flip-free start, against SLIM after 30 iterations (Rabinovich et al. 2017)."""
    mesh = cap(4, -0.6)
    chart = charts_of(mesh)[0]
    start = convex(chart)
    assert flips(chart, start) == 0
    ours = Descent(chart, start)
    ours.run(60, from_bad_start=True)
    order = _order(chart, mesh)
    uv0 = np.empty_like(start)
    uv0[order] = start
    tri = np.asfortranarray(mesh.triangle_points.astype(np.int32))
    start3 = np.asfortranarray(np.column_stack([uv0, np.zeros(len(uv0))])[:, :2])
    none = np.zeros(0, np.int32), np.zeros((0, 2), order="F")
    data = igl.slim_precompute(
        np.asfortranarray(mesh.points), tri, start3, igl.MappingEnergyType.SYMMETRIC_DIRICHLET, *none, 0.0
    )
    theirs = np.asarray(igl.slim_solve(data, 30))
    there = Descent(chart, theirs[order, :2])
    assert flips(chart, ours.uv) == 0
    assert ours.energy <= there.energy * (1 + 1e-4)


def test_late_steps_keep_the_secant_equation_and_save_factorisations(monkeypatch: pytest.MonkeyPatch) -> None:
    """The approximation to the inverse Hessian takes the last change of the gradient to the last step (Nocedal and Wright, Numerical
    Optimization, 2006, 6.6), and the way it gives leads down. The energy is that of steps with a factorisation each."""
    chart, past = charts_of(cap(4, -0.5))[0], []
    real = Descent._quasi_step

    def watched(self: Descent) -> float:
        gain = real(self)
        if self._past:
            step, turned, _ = self._past[-1]
            assert np.allclose(self._corrected(turned), step, atol=1e-9 * np.abs(step).max())
            past.append(float(turned @ self._corrected(turned)))
        return gain

    monkeypatch.setattr(Descent, "_quasi_step", watched)
    energy = flatten_chart(chart)[1]
    assert len(past) >= 2 and min(past) > 0
    monkeypatch.setattr(Descent, "_quasi_step", lambda self: 0.0)
    assert energy == pytest.approx(flatten_chart(chart)[1], rel=1e-4)


def test_gradient_is_the_slope_of_the_energy() -> None:
    from jacket.core.flatten.energies import derivatives, mean_energy

    chart = charts_of(cap(2, 0.3))[0]
    d = Descent(chart, convex(chart))
    blocks = np.empty((len(d.tri), 6, 6))
    gradient = derivatives(d.uv, d.tri, d.inverse, d.area, False, blocks)
    rng = np.random.default_rng(0)
    move = rng.normal(size=d.uv.shape) * 1e-6
    slope = (mean_energy(d.uv + move, d.tri, d.inverse, d.area) - mean_energy(d.uv - move, d.tri, d.inverse, d.area)) / 2
    assert slope == pytest.approx(float(gradient @ move.ravel()), rel=1e-5)
    assert all(np.linalg.eigvalsh(b).min() > -1e-9 * np.abs(b).max() for b in blocks)  # projected Hessians


def test_islands_that_cannot_open_say_why() -> None:
    with pytest.raises(SolveError, match="closed"):
        flatten_chart(charts_of(icosphere(2))[0])
    flat, islands = unwrap(torus(10, 6))
    assert not islands[0].flat and "seam" in islands[0].problem and np.isnan(flat.uv).all()


def test_a_ring_opens_with_its_hole_and_overlap_is_seen() -> None:
    ring = torus(24, 12)
    middle = ring.points[ring.corners.reshape(-1, 4)].mean(axis=1)
    upper = PolyMesh.from_faces(*_kept(ring, middle[:, 2] > 0.05))
    flat, islands = unwrap(upper)
    assert islands[0].flat and not islands[0].overlaps and len(flipped_faces(flat, flat.uv)) == 0
    spiral = _spiral()
    chart = charts_of(spiral)[0]
    assert border_crosses(chart, spiral.points[:, :2][_order(chart, spiral)])


def _kept(mesh: PolyMesh, keep: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    quads = mesh.corners.reshape(-1, 4)[keep]
    used, new = np.unique(quads, return_inverse=True)
    return mesh.points[used], new.reshape(-1, 4)


def _spiral() -> PolyMesh:
    """A strip of quads that winds over itself."""
    t = np.linspace(0, 2.6 * np.pi, 40)
    inner, outer = np.stack([np.cos(t), np.sin(t), t * 0], 1), 1.4 * np.stack([np.cos(t), np.sin(t), t * 0], 1)
    quads = np.array([[k, k + 40, k + 41, k + 1] for k in range(39)])
    return PolyMesh.from_faces(np.concatenate([inner, outer]), quads)


def test_overlap_agrees_with_shapely() -> None:
    """Random triangles: the pairs found are those whose intersection has an area, says shapely."""
    rng = np.random.default_rng(5)
    corner = rng.uniform(size=(120, 1, 2)) + rng.normal(scale=0.08, size=(120, 3, 2))
    mesh = PolyMesh.from_faces(np.zeros((360, 3)), np.arange(360).reshape(-1, 3))
    mesh = mesh.with_uv(corner.reshape(-1, 2))
    found = {tuple(p) for p in overlapping_faces(mesh, mesh.uv).tolist()}
    shapes = [shapely.Polygon(c) for c in corner]
    wanted = {(i, j) for i in range(120) for j in range(i + 1, 120) if shapes[i].intersection(shapes[j]).area > 1e-12}
    assert found == wanted
    sheet = grid(6).with_uv(grid(6).points[grid(6).corners][:, :2] / 6)
    assert len(overlapping_faces(sheet, sheet.uv)) == 0  # neighbours only touch


def test_both_diagonals_make_results_independent_of_the_first_corner() -> None:
    mesh = half_cylinder()
    bent = mesh.with_points(mesh.points + np.sin(mesh.points[:, [1, 2, 0]] * 1.7) * 0.2)
    rolled = PolyMesh.from_faces(bent.points, np.roll(bent.corners.reshape(-1, 4), 1, axis=1))
    one, two = (measure_stretch(m, m.uv).dirichlet for m in (unwrap(bent)[0], unwrap(rolled)[0]))
    assert one == pytest.approx(two, rel=1e-4)
    chart = charts_of(bent)[0]
    assert signed_areas(conformal(chart), chart.triangles).min() > 0


def test_borders_that_cross_are_found_as_shapely_finds_them() -> None:
    """Random outlines, concave ones among them; a fan of triangles round a middle carries each."""
    rng = np.random.default_rng(8)
    seen = [0, 0]
    for _ in range(120):
        n = int(rng.integers(5, 12))
        angle = np.sort(rng.random(n)) * 2 * np.pi + rng.normal(scale=0.25, size=n)
        ring = np.stack([np.cos(angle), np.sin(angle)], axis=1) * rng.uniform(0.2, 1, (n, 1))
        mesh = PolyMesh.from_faces(np.concatenate([np.c_[ring, np.zeros(n)], np.zeros((1, 3))]), [[k, (k + 1) % n, n] for k in range(n)])
        chart = charts_of(mesh)[0]
        uv = chart.mesh.points[:, :2]
        crosses = not shapely.LinearRing(uv[chart.border[0]]).is_simple
        assert border_crosses(chart, uv) == crosses
        seen[crosses] += 1
    assert min(seen) > 20


def test_corrections_are_those_of_the_dense_formula() -> None:
    """Against H ← (I − ρ s yᵀ) H (I − ρ y sᵀ) + ρ s sᵀ, step by step (Nocedal and Wright 2006, equation 6.17)."""
    from jacket.core.flatten.energies import put_forward, taken_back

    rng = np.random.default_rng(5)
    half = rng.normal(size=(9, 9))
    matrix = half @ half.T + np.eye(9)
    inverse = np.linalg.inv(matrix)
    steps = rng.normal(size=(4, 9))
    turns = steps @ (matrix + 0.3 * np.diag(np.arange(9.0)))
    shares = 1 / (steps * turns).sum(axis=1)
    gradient, dense = rng.normal(size=9), inverse.copy()
    for s, y, share in zip(steps, turns, shares, strict=True):
        left = np.eye(9) - share * np.outer(s, y)
        dense = left @ dense @ left.T + share * np.outer(s, s)
    way, along = taken_back(gradient, steps, turns, shares)
    assert np.allclose(put_forward(inverse @ way, steps, turns, shares, along), dense @ gradient)


def test_sides_of_a_cut_that_touch_do_not_overlap_and_sides_that_cross_do() -> None:
    """A plane grid cut along half of its middle row, its sides drawn over one another by a share of an edge."""
    sheet = grid(6, 6)
    slit = [int(np.flatnonzero((np.abs(sheet.points[:, :2] - [x, 3]) < 1e-9).all(axis=1))[0]) for x in range(4)]
    cut = np.zeros(sheet.topology.n_edges, bool)
    cut[[sheet.topology.find_edge(a, b) for a, b in itertools.pairwise(slit)]] = True
    chart = chart_of(sheet, np.arange(sheet.n_faces), cut)
    at = chart.mesh.points[:, :2]
    middle = chart.mesh.points[chart.mesh.corners.reshape(-1, 4)].mean(axis=1)[:, 1]
    upper = np.zeros(len(at), bool)
    upper[chart.mesh.corners.reshape(-1, 4)[middle > 3]] = True
    lower = np.zeros(len(at), bool)
    lower[chart.mesh.corners.reshape(-1, 4)[middle < 3]] = True
    side = upper & ~lower & (np.abs(at[:, 1] - 3) < 1e-9)
    assert side.sum() == 3
    for share, over in ((0.0, False), (2e-5, False), (1e-2, True)):
        uv = at + np.where(side, np.where(at[:, 0] < 0.5, share, -share), 0.0)[:, None] * [0, 1]
        mesh = chart.mesh.with_uv(uv[chart.mesh.corners])
        assert border_crosses(chart, uv) == (share > 0)
        assert lies_over_itself(chart, uv) == (len(overlapping_faces(mesh, mesh.uv)) > 0) == over

