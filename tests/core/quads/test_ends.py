"""Thin ends are reached, and both ways of a gap are measured."""

from __future__ import annotations

import itertools
from dataclasses import replace

import igl
import numpy as np
import pytest

from jacket.core.fit.relax import Lines, lines_of, relaxed
from jacket.core.mesh.geometry import face_areas, scaled_jacobian
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads import ends, fitting, reaching
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.base import Base, make_base
from jacket.core.quads.covering import _parts_of
from jacket.core.quads.ends import bare_places, ends_reached, farthest_pulled
from jacket.core.quads.figures import eyes_on, measure_quads
from jacket.core.quads.fitting import _without_new_folds
from jacket.core.quads.reaching import eased, ends_held, opened_still
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import sample_surface
from jacket.errors import Cancelled
from tests.conftest import grid, icosphere


@pytest.fixture(scope="module")
def horned() -> PolyMesh:
    """A ball with three horns, each twice as long as the ball's radius and as thin as a quad at its tip."""
    ball = icosphere(5)
    points = ball.points.copy()
    for way in np.array([[1.0, 0, 0], [-0.5, 0.8, 0.2], [-0.3, -0.6, 0.7]]):
        way = way / np.linalg.norm(way)
        close = np.clip((points @ way / np.linalg.norm(points, axis=1) - 0.86) / 0.14, 0, 1)
        points = points * (1 + 1.6 * close**3)[:, None]
    return ball.with_points(points)


def test_both_ways_of_a_gap_agree_with_libigl(horned: PolyMesh) -> None:
    """Reference: point_mesh_squared_distance of libigl on the same samples."""
    jacket = automatic_quads(icosphere(4), AutoSettings(quads=300, rows=0.0)).mesh
    figures = measure_quads(jacket, horned, Bvh.build(horned.points, horned.triangle_points))
    for a, b, most, mean in ((jacket, horned, figures.gap_out_largest, figures.gap_out_mean),
                             (horned, jacket, figures.gap_in_largest, figures.gap_in_mean)):  # fmt: skip
        samples = sample_surface(a.points, a.triangle_points, 30_000)
        square = igl.point_mesh_squared_distance(samples, b.points, b.triangle_points.astype(np.int64))[0]
        far = 100 * np.sqrt(np.maximum(square, 0)) / horned.diagonal
        assert most == pytest.approx(float(far.max()), rel=1e-6)
        assert mean == pytest.approx(float(far.mean()), rel=1e-6)
    assert figures.largest_gap == max(figures.gap_out_largest, figures.gap_in_largest)
    # The horns are missing, and only the way back from the source tells.
    assert figures.gap_in_largest > 3 * figures.gap_out_largest


def test_horns_are_reached(horned: PolyMesh) -> None:
    """The number is too small for the horns to be followed by even steps; their tips are held by quads all the same."""
    told: list[tuple[float, str]] = []
    result = automatic_quads(horned, AutoSettings(quads=700, rows=0.0), lambda share, what: told.append((share, what)))
    assert result.figures.gap_in_largest < 2.0
    assert result.figures.folded == 0 and result.mesh.is_quads
    # What takes long is told while it goes on, so that it can be stopped there.
    assert all(b[0] > a[0] - 0.01 for a, b in itertools.pairwise(told))
    assert {ends.PULLING, reaching.OPENING, fitting.RELAXING} <= {what for _, what in told}

    def stopped(share: float, what: str) -> None:
        if what == ends.PULLING:
            raise Cancelled

    with pytest.raises(Cancelled):
        automatic_quads(horned, AutoSettings(quads=700, rows=0.0), stopped)


def test_a_tip_that_was_cut_off_is_pulled_out(horned: PolyMesh) -> None:
    surface = Bvh.build(horned.points, horned.triangle_points)
    jacket = automatic_quads(horned, AutoSettings(quads=900, rows=0.0)).mesh
    step = float(np.sqrt(face_areas(jacket).mean()))
    # What relaxing without end would do: the last rings are drawn back.
    reach = np.linalg.norm(jacket.points, axis=1)
    blunt = jacket.with_points(surface.project(jacket.points * np.minimum(1.0, 2.0 / reach)[:, None]))
    before = float(bare_places(blunt, horned)[0].max())
    after = ends_reached(blunt, horned, surface, step, None)
    assert float(bare_places(after, horned)[0].max()) < 0.6 * before
    assert (scaled_jacobian(after) <= 0).sum() <= (scaled_jacobian(blunt) <= 0).sum()


def test_a_spike_that_relaxing_does_not_climb_is_pulled_to() -> None:
    """A spike two steps high and narrower than one on a ball of quads."""
    ball = icosphere(5)
    close = np.clip((ball.points[:, 2] / np.linalg.norm(ball.points, axis=1) - 0.985) / 0.015, 0, 1)
    form = ball.with_points(ball.points * (1 + 0.4 * close)[:, None])
    surface = Bvh.build(form.points, form.triangle_points)
    quads = automatic_quads(icosphere(4), AutoSettings(quads=300, rows=0.0)).mesh
    step = float(np.sqrt(face_areas(quads).mean()))
    pulled = ends_reached(quads, form, surface, step, None)
    relaxing = relaxed(quads, surface, 75, evenness=0.2, mending=10.0)
    off = [float(bare_places(m, form)[0].max()) / step for m in (pulled, relaxing)]
    assert off[0] < 0.5 < 1.0 < off[1]
    assert scaled_jacobian(pulled).min() > 0
    # One place after another: the spike comes first, and each pull helps or is not made.
    for rounds, most in ((0, 2.0), (1, 1.0), (8, 0.5)):
        mesh = farthest_pulled(quads, form.points, surface, None, 0.2 * step, rounds)
        far = float(bare_places(mesh, form)[0].max()) / step
        assert far <= most and scaled_jacobian(mesh).min() > 0


def test_a_thin_rim_is_reached_by_the_patient_way(monkeypatch: pytest.MonkeyPatch) -> None:
    """An ear, five times as wide as thick, whose tip was cut off: on the plain way quads of both sides fold over the rim."""
    size = np.array([1.0, 1.6, 0.2])
    ball, quads = icosphere(5), split_to_quads(icosphere(2))
    form = ball.with_points(ball.points * size)
    surface = Bvh.build(form.points, form.triangle_points)
    points = quads.points / np.linalg.norm(quads.points, axis=1)[:, None] * size
    points[:, 1] = np.minimum(points[:, 1], 0.88 * size[1])
    # A hair off the middle: what lies as far from both sides would be laid on either.
    short = quads.with_points(surface.project(points + np.array([0, 0, 1e-6])))
    short = relaxed(short, surface, 10, evenness=0.2, held=short.points[:, 1] > 0.88 * size[1] - 0.01)
    step = float(np.sqrt(face_areas(short).mean()))
    patient = farthest_pulled(short, form.points, surface, None, 0.2 * step)
    monkeypatch.setattr(ends, "PATIENT", ())
    plain = farthest_pulled(short, form.points, surface, None, 0.2 * step)
    off = [float(bare_places(m, form)[0].max()) / step for m in (patient, plain, short)]
    assert off[0] < 0.45 < 0.5 < off[1] < off[2]
    assert scaled_jacobian(patient).min() > max(0.1, scaled_jacobian(short).min())


def test_a_tip_of_a_border_is_reached_by_a_point_that_slides_along_it() -> None:
    """A sheet with a spike between two border points: one of them goes out along the border, every other one stays on it."""
    quads = grid(6)
    rim = np.array([[0, 0], [6, 0], [6, 6], [3.9, 6], [3.5, 6.5], [3.1, 6], [0, 6]], float)
    rim = np.column_stack([rim, np.zeros(len(rim))])
    middle = np.array([[3.5, 3, 0]])
    form = PolyMesh.from_faces(np.concatenate([rim, middle]), np.array([[k, (k + 1) % 7, 7] for k in range(7)]))
    surface = Bvh.build(form.points, form.triangle_points)
    lines = lines_of(quads, np.stack([rim, np.roll(rim, -1, axis=0)], axis=1), rim[[0, 1, 2, 6]], 1e-6)
    assert lines is not None and lines.sliding.sum() == 24 and lines.fixed.sum() == 4
    tip = rim[4]
    new = farthest_pulled(quads, np.concatenate([tip[None], quads.points]), surface, lines, 0.2)
    off = igl.point_mesh_squared_distance(np.concatenate([tip[None], rim[:3]]), new.points, new.triangle_points.astype(np.int64))[0]
    assert np.sqrt(off).max() < 1e-9, "the tip is reached, and no corner is lost"
    moved = np.flatnonzero((new.points != quads.points).any(axis=1) & quads.topology.border_points)
    assert len(moved) == 1 and np.allclose(new.points[moved], tip) and scaled_jacobian(new).min() > 0.25


def test_a_place_that_nothing_may_be_pulled_to_is_passed_over() -> None:
    """Two spikes on a plane: the quad under the higher one lies on lines, where points only slide; the lower one is reached."""
    quads, fine = grid(20), grid(120)
    points = fine.points / 6
    for x, high in ((5.5, 3.0), (14.0, 2.0)):
        points[:, 2] += high * np.exp(-((points[:, :2] - x) ** 2).sum(axis=1) / 0.4)
    form = fine.with_points(points)
    surface = Bvh.build(form.points, form.triangle_points)
    square = np.array([[5.0, 5, 0], [6, 5, 0], [6, 6, 0], [5, 6, 0]])
    on = np.array([(np.abs(square - p) < 1e-9).all(axis=1).any() for p in quads.points])
    lines = Lines(Bvh.of_segments(np.stack([square, np.roll(square, -1, axis=0)], axis=1)), on, np.zeros(quads.n_points, bool))
    pulled = farthest_pulled(quads, form.points, surface, lines, 0.5)
    far = bare_places(pulled, form)[0]
    near = [np.linalg.norm(form.points[:, :2] - x, axis=1) < 2 for x in (5.5, 14.0)]
    assert far[near[0]].max() > 2.5 and far[near[1]].max() < 1.0 and np.array_equal(pulled.points[on], quads.points[on])
    assert scaled_jacobian(pulled).min() > 0
    # Nothing is pulled where corners may give nothing.
    assert farthest_pulled(quads, form.points, surface, lines, 0.5, first=1.0) is quads


def test_what_is_left_out_is_said_with_a_place_and_a_number(horned: PolyMesh) -> None:
    result = automatic_quads(horned, AutoSettings(quads=30, rows=0.0))
    assert result.figures.gap_in_largest > 1.5
    assert any("of the source lies over 1.5 %" in note and "quads would reach it" in note for note in result.notes)


def test_what_a_pull_folds_goes_back_and_the_rest_stays() -> None:
    """A plane grid: one point drawn over its neighbours folds, another one drawn a little way does not."""
    plain = grid(30)
    points = plain.points.copy()
    middle = np.argsort(np.linalg.norm(points - points.mean(axis=0), axis=1))[0]
    corner = np.argsort(np.linalg.norm(points - (0.9 * points.min(axis=0) + 0.1 * points.max(axis=0)), axis=1))[0]
    step = float(np.ptp(points[:, 0])) / 30
    points[middle, :2] += 2.5 * step
    points[corner, :2] += 0.3 * step
    pulled = plain.with_points(points)
    assert (scaled_jacobian(pulled) <= 0).any()
    got = _without_new_folds(plain, pulled)
    assert (scaled_jacobian(got) > 0).all()
    assert np.allclose(got.points[middle], plain.points[middle]) and np.allclose(got.points[corner], points[corner])


def test_loose_parts_that_are_left_out_pull_at_nothing() -> None:
    """A ball, and beside it one of a thousandth of its area, too small for quads of its own."""
    ball = icosphere(3)
    crumb = icosphere(1).with_points(0.03 * icosphere(1).points + [1.2, 0, 0])
    result = automatic_quads(put_side_by_side([ball, crumb]), AutoSettings(quads=400, rows=0.0))
    assert np.linalg.norm(result.mesh.points, axis=1).max() < 1.01 and "left out" in " ".join(result.notes)
    two = put_side_by_side([ball, ball.with_points(ball.points + [4, 0, 0])])
    base = make_base(two, Bvh.build(two.points, two.triangle_points), 2000, 0.05, 38.0)
    parts = _parts_of(base, 0.05)
    assert len(parts) == 2 and sum(len(p.asked) for p in parts) == len(base.asked) > two.n_points
    assert all(np.ptp(p.asked[:, 0]) == pytest.approx(2.0, abs=0.02) for p in parts)


def test_corners_are_opened_but_where_that_loses_an_end(monkeypatch: pytest.MonkeyPatch) -> None:
    """A ball of quads whose every point would be drawn in a little, those about its pole by a tenth: these go part of that way or stay, and no place of
    the ball lies farther off than is allowed, by libigl's distances."""
    ball = icosphere(3)
    quads = split_to_quads(icosphere(2))
    quads = quads.with_points(quads.points / np.linalg.norm(quads.points, axis=1)[:, None])
    pole = int(np.argmax(quads.points[:, 1]))
    # One place lies farther off than all others: up to there they may, too.
    base = Base(ball, np.zeros((0, 2), np.int32), 0, 0, asked=1.036 * quads.points[[pole]])
    near = quads.points[:, 1] > 0.95

    def drawn_in(mesh: PolyMesh, surface: Bvh, stay: np.ndarray, lines: Lines | None) -> PolyMesh:  # type: ignore[type-arg]
        share = np.where(near, 0.9, 0.99)[:, None]
        return mesh.with_points(np.where(stay[:, None], mesh.points, share * quads.points))

    monkeypatch.setattr(reaching, "opened", drawn_in)
    # Points may lie anywhere between the middle and the ball: each has its ray.
    rays = Bvh.of_segments(np.stack([0.5 * quads.points, quads.points], axis=1))
    new = opened_still(quads, base, rays, lambda: eyes_on(ball))
    far = np.linalg.norm(new.points, axis=1)
    assert far[pole] == 1.0 and (far[near] > 0.95).sum() >= 5
    # Who cannot go all the way goes some of it.
    assert ((far[near] > 0.91) & (far[near] < 0.999)).any()
    assert np.isclose(far[~near], 0.99).mean() > 0.8
    off = np.sqrt(igl.point_mesh_squared_distance(ball.points, new.points, new.triangle_points.astype(np.int64))[0])
    assert off.max() <= 0.01 * reaching.SHORT * ball.diagonal + 1e-9
    least = np.linalg.norm(drawn_in(quads, base, np.zeros(len(far), bool), None).points, axis=1)  # type: ignore[arg-type]
    assert least.min() < 0.91, "it would have been lost"


def test_quads_are_eased_together_and_keep_their_ends() -> None:
    """A ball with a horn, its quads crumpled by chance: corners get better by the formula of Knupp (2003), and the horn's tip stays
    as near as it was, by libigl's distances."""
    horn = icosphere(4)
    up = horn.points[:, 1:2]
    horn = horn.with_points(horn.points * (1 + 1.2 * np.exp(-((1 - up) / 0.01))))
    surface = Bvh.build(horn.points, horn.triangle_points)
    quads = split_to_quads(icosphere(2))
    rng = np.random.default_rng(3)
    quads = quads.with_points(quads.points + rng.normal(0.0, 0.03, quads.points.shape))
    quads = quads.with_points(surface.project(quads.points))
    tip = horn.points[int(np.argmax(horn.points[:, 1]))]
    points = quads.points.copy()
    points[int(np.argmax(points[:, 1]))] = tip
    quads = quads.with_points(points)
    base = Base(horn, np.zeros((0, 2), np.int32), 0, 0)
    new = eased(quads, base, surface, lambda: eyes_on(horn))
    assert scaled_jacobian(new).mean() > scaled_jacobian(quads).mean() + 0.01
    assert np.percentile(scaled_jacobian(new), 1) >= np.percentile(scaled_jacobian(quads), 1)
    assert new.corners is quads.corners or np.array_equal(new.corners, quads.corners)
    off = igl.point_mesh_squared_distance(new.points, horn.points, horn.triangle_points.astype(np.int64))[0]
    assert np.sqrt(off.max()) < 1e-6, "all lie on the surface, also who went part of the way"
    before, after = (np.sqrt(igl.point_mesh_squared_distance(horn.points, m.points, m.triangle_points.astype(np.int64))[0]) for m in (quads, new))
    assert (after <= np.maximum(before, 0.01 * reaching.SHORT * horn.diagonal) + 1e-9).all()
    alone = relaxed(quads, surface, reaching.ROUNDS, evenness=reaching.EVENNESS, mending=reaching.MENDINGS[0])
    lost = np.sqrt(igl.point_mesh_squared_distance(tip[None], alone.points, alone.triangle_points.astype(np.int64))[0])[0]
    assert lost > 0.01 * reaching.SHORT * horn.diagonal, "relaxed alone they would have left it"


def test_ends_that_are_short_by_more_than_is_told_are_pulled_to() -> None:
    """A spike 1.16 % of the diagonal high on a ball, by libigl's distances: quads that miss it are pulled to it from 1.1 % on, and stay as
    they are where only what is missed by 1.2 % counts."""
    ball = icosphere(4)
    up = int(np.argmax(ball.points[:, 1]))
    spike = ball.with_points(ball.points * np.where(np.arange(ball.n_points) == up, 1.0405, 1.0)[:, None])
    surface, base = Bvh.build(spike.points, spike.triangle_points), Base(spike, np.zeros((0, 2), np.int32), 0, 0)
    quads = split_to_quads(icosphere(3))
    quads = quads.with_points(quads.points / np.linalg.norm(quads.points, axis=1)[:, None])

    def off(mesh: PolyMesh) -> float:
        square = igl.point_mesh_squared_distance(spike.points[[up]], mesh.points, mesh.triangle_points.astype(np.int64))[0]
        return 100 * float(np.sqrt(square[0])) / spike.diagonal

    assert 1.1 < off(quads) < 1.2
    assert ends_held(quads, base, surface, lambda: eyes_on(spike), from_=1.2) is quads
    assert off(ends_held(quads, base, surface, lambda: eyes_on(spike))) < 0.6
    # Beside larger parts a gap is told in % of those.
    assert ends_held(quads, replace(base, among=2 * spike.diagonal), surface, lambda: eyes_on(spike)) is quads


def test_gaps_are_told_in_percent_of_the_steps_where_these_are_long() -> None:
    """Balls of radius 1 and 0.1 far apart: what the small one leaves out may be half a step (1.1 % of 45), and of few quads so may what
    the large one does, be it a part or the whole."""
    ball = icosphere(3)
    two = put_side_by_side([ball, ball.with_points(0.1 * ball.points + [0, 3, 0])])
    base = make_base(two, Bvh.build(two.points, two.triangle_points), 8000, 0.0004, 38.0)
    for step, size in ((0.02, 0.9), (0.05, 2.25), (0.4, 18.0)):
        large, small = sorted(_parts_of(base, step), key=lambda b: -b.mesh.diagonal)
        assert small.size == pytest.approx(size, rel=0.01) and large.size == pytest.approx(max(size, ball.diagonal), rel=0.01)
        assert 0.01 * reaching.SHORT * small.size <= 0.51 * step
    assert base.size == base.mesh.diagonal
    alone = make_base(ball, Bvh.build(ball.points, ball.triangle_points), 8000, 0.0004, 38.0)
    assert [_parts_of(alone, step)[0].size for step in (0.02, 0.1)] == pytest.approx([ball.diagonal, 4.5], rel=0.01)


def test_what_lies_off_after_a_pull_is_what_libigl_says() -> None:
    """Places about a ball of quads of which a patch was pulled out: exact where they lie far off or the patch was nearest, and
    nowhere less than libigl's distance; the farthest of all is the same."""
    ball = icosphere(3)
    quads = split_to_quads(icosphere(2))
    rng = np.random.default_rng(5)
    places = ball.points * rng.uniform(0.9, 1.1, (ball.n_points, 1))
    far, face = ends.off_quads(quads, places)
    near = np.linalg.norm(quads.points - quads.points[7], axis=1) < 0.4
    new = quads.with_points(np.where(near[:, None], 1.08 * quads.points, quads.points))
    reach = 0.05
    after, there = ends._off_after(new, quads, places, far, face, reach)
    true = np.sqrt(igl.point_mesh_squared_distance(places, new.points, new.triangle_points.astype(np.int64))[0])
    moved = near[quads.as_quads()].any(axis=1)
    exact = moved[face] | (far > 0.5 * reach)
    assert 0.05 < exact.mean() < 0.95 and np.allclose(after[exact], true[exact])
    assert (after >= true - 1e-9).all() and after.max() == pytest.approx(true.max())
    ring = new.points[new.as_quads()[there]]
    assert (np.linalg.norm(places[:, None] - ring, axis=2).min(axis=1) < 0.4).all(), "the quad that is told is one nearby"
