"""Rows of a jacket unwound: whole, in part, on both sides of a mirror, in the window's command and from the command line."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from jacket.cli.main import main
from jacket.core.checks.topology import left_out, winding_rows
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.closing import Ends, Over, Standing, closed, fits, standing
from jacket.core.quads.unwinding import rows_unwound
from jacket.core.rows import unwind
from jacket.core.rows.measure import rings
from jacket.core.rows.unwind import windings
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import EditRefused, MeshError
from jacket.formats.mesh.registry import read_mesh, write_mesh
from jacket.jobs.unwind import UnwindSettings
from tests.conftest import icosphere
from tests.core.rows.shapes import tube
from tests.host import Headless
from tests.stages.test_commands import run

NONE = np.zeros(0, np.int32)


@pytest.fixture(scope="module")
def surface(spot: PolyMesh) -> Bvh:
    return Bvh.build(spot.points, spot.triangle_points)


@pytest.fixture(scope="module")
def jacket(spot: PolyMesh) -> PolyMesh:
    """Spot as the grid's rounding leaves it."""
    return automatic_quads(spot, AutoSettings(quads=1500, rows=0.0)).mesh


def assert_like(new: PolyMesh, old: PolyMesh) -> None:
    assert new.is_quads and len(new.topology.nonmanifold_edges) == 0
    assert euler_characteristic(new) == euler_characteristic(old)
    assert irregular_count(new) <= irregular_count(old)
    assert (scaled_jacobian(new) <= 0).sum() <= (scaled_jacobian(old) <= 0).sum()
    assert abs(new.n_faces / old.n_faces - 1) < 0.04


def test_automatic_quads_close_their_rows(spot: PolyMesh, jacket: PolyMesh) -> None:
    result = automatic_quads(spot, AutoSettings(quads=1500))
    before, after = windings(jacket), windings(result.mesh)
    assert (result.figures.longest_ring, result.figures.crossed_by_itself) == after
    assert max(after) < 0.7 * max(before) and max(after) < 20
    assert result.figures.folded == 0 and result.figures.jacobian_p1 > 0.75
    assert abs(result.figures.quads / 1500 - 1) < 0.03


def test_the_whole_jacket_is_unwound(jacket: PolyMesh, surface: Bvh) -> None:
    new, told = rows_unwound(jacket, NONE, surface)
    assert_like(new, jacket)
    assert sum(windings(new)) < 0.8 * sum(windings(jacket))
    assert f"{rings(new).longest:.0f} % of all crossings" in told
    assert surface.closest(new.points)[2].max() < 1e-9


def test_a_part_keeps_its_border_to_the_bit(jacket: PolyMesh, surface: Bvh) -> None:
    centres = jacket.points[jacket.as_quads()].mean(axis=1)
    faces = np.flatnonzero(centres[:, 2] > np.percentile(centres[:, 2], 40)).astype(np.int32)
    new, _ = rows_unwound(jacket, faces, surface, 0.7)
    assert_like(new, jacket)
    rest = np.setdiff1d(np.arange(jacket.n_faces), faces)
    kept = {p.tobytes() for p in jacket.points[np.unique(jacket.as_quads()[rest])]}
    assert kept <= {p.tobytes() for p in new.points}


@pytest.mark.parametrize("across", [False, True])
def test_both_sides_of_a_mirror_stay_exact_images(spot: PolyMesh, surface: Bvh, across: bool) -> None:
    mirrored = automatic_quads(spot, AutoSettings(quads=1200, mirror="x", across=across, rows=0.0)).mesh
    new, _ = rows_unwound(mirrored, NONE, surface, mirror="x")
    assert_like(new, mirrored)
    places = {p.tobytes() for p in new.points + 0.0}
    assert {p.tobytes() for p in new.points * [-1.0, 1.0, 1.0] + 0.0} == places


def test_what_cannot_be_unwound_is_refused(jacket: PolyMesh, surface: Bvh) -> None:
    straight = tube(12, 6)
    with pytest.raises(EditRefused, match="No other rows"):
        rows_unwound(straight, NONE, Bvh.build(straight.points, straight.triangle_points))
    ball = icosphere(2)
    with pytest.raises(EditRefused, match="Rows run over quads only"):
        rows_unwound(ball, NONE, Bvh.build(ball.points, ball.triangle_points))
    with pytest.raises(MeshError, match="sharp angle of 200"):
        UnwindSettings(sharp=200.0).checked()


@pytest.fixture
def few_searches(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is tested is which result is kept, not how short its rings are."""
    monkeypatch.setattr(unwind, "FIRST", unwind.LATER)


def ends_by(form: PolyMesh, pull: Callable[[PolyMesh], PolyMesh]) -> Ends:
    return Ends(pull, lambda: RayTree.build(form.points, form.triangle_points))


@pytest.mark.usefixtures("few_searches")
def test_a_result_with_worse_corners_is_not_kept(spot: PolyMesh, jacket: PolyMesh, surface: Bvh) -> None:
    """Closing is offered a coarse grid that is crumpled: it has short rings, and is refused for its corners."""
    from jacket.core.quads.base import make_base
    from jacket.core.quads.subdivide import split_to_quads

    base = make_base(spot, surface, 8000, 0.01, 38.0)
    now = standing(jacket, surface, base)
    rng = np.random.default_rng(1)
    crumpled = jacket.with_points(surface.project(jacket.points + rng.normal(0, 0.03, jacket.points.shape)))
    worse = standing(split_to_quads(crumpled), surface, base)
    assert worse.winding < now.winding and not fits(worse, now, 1.0)
    kept = closed(jacket, lambda n, tell: None, Over(base, surface, (), ends_by(spot, lambda quads: quads), 1500, 0.5, False), lambda f, w: None)
    assert fits(standing(kept, surface, base), now, 1.0)
    assert standing(kept, surface, base).winding <= now.winding


@pytest.mark.usefixtures("few_searches")
def test_an_end_that_is_short_is_pulled_to_before_closed_rows_are_given_up(
    spot: PolyMesh, jacket: PolyMesh, surface: Bvh, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every result is told to leave 5 % uncovered until its ends were pulled to: then closed rows are kept, else not."""
    from jacket.core.quads import closing
    from jacket.core.quads.base import make_base

    base = make_base(spot, surface, 8000, 0.01, 38.0)
    now = standing(jacket, surface, base)
    pulled: list[PolyMesh] = []

    def told(mesh: PolyMesh, *rest) -> closing.Standing:  # type: ignore[no-untyped-def]
        found = standing(mesh, *rest)
        return found if mesh is jacket or any(mesh is p for p in pulled) else replace(found, bare=5.0)

    def ends(quads: PolyMesh) -> PolyMesh:
        pulled.append(quads.with_points(quads.points.copy()))
        return pulled[-1]

    monkeypatch.setattr(closing, "standing", told)
    short = closed(jacket, lambda n, tell: None, Over(base, surface, (), ends_by(spot, lambda quads: quads), 1500, 0.75, False), lambda f, w: None)
    assert short is jacket
    kept = closed(jacket, lambda n, tell: None, Over(base, surface, (), ends_by(spot, ends), 1500, 0.75, False), lambda f, w: None)
    assert any(kept is p for p in pulled) and standing(kept, surface, base).winding < now.winding


@pytest.mark.usefixtures("few_searches")
def test_corners_are_eased_before_closed_rows_are_given_up(
    spot: PolyMesh, jacket: PolyMesh, surface: Bvh, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every result is told to have corners of .92 in the mean until it was eased: then closed rows are kept, else not."""
    from jacket.core.quads import closing
    from jacket.core.quads.base import make_base

    base = make_base(spot, surface, 8000, 0.01, 38.0)
    now = standing(jacket, surface, base)
    better: list[PolyMesh] = []

    def told(mesh: PolyMesh, *rest) -> closing.Standing:  # type: ignore[no-untyped-def]
        found = standing(mesh, *rest)
        return replace(found, mean=0.98) if mesh is jacket or any(mesh is e for e in better) else replace(found, mean=0.92)

    def ease(quads: PolyMesh) -> PolyMesh:
        better.append(quads.with_points(quads.points.copy()))
        return better[-1]

    monkeypatch.setattr(closing, "standing", told)
    plain = ends_by(spot, lambda quads: quads)
    for ends, eased in ((plain, False), (replace(plain, ease=ease), True)):
        kept = closed(jacket, lambda n, tell: None, Over(base, surface, (), ends, 1500, 0.75, False), lambda f, w: None)
        assert any(kept is e for e in better) == eased and (kept is jacket) != eased
    assert standing(kept, surface, base).winding < now.winding


def test_the_command_unwinds_the_layer_or_what_is_held(spot: PolyMesh, jacket: PolyMesh) -> None:
    host = Headless(State((SourceObject(1, "s", spot),), (JacketObject(2, "j", jacket),), active=2, next_id=3))
    new = run(host, "unwind-rows")
    assert_like(new, jacket)
    assert [s.name for s in host.document.history.done][-1] == "unwind the rows"
    host.document.undo()
    assert host.document.require_jacket().mesh is jacket


def test_the_command_line_closes_rows_and_unwinds(jacket: PolyMesh, spot: PolyMesh, tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    write_mesh(jacket, tmp_path / "j.obj")
    write_mesh(spot, tmp_path / "s.ply")
    out, report = tmp_path / "out.obj", tmp_path / "r.json"
    args = ["unwind", str(tmp_path / "j.obj"), str(out), "--over", str(tmp_path / "s.ply"), "--report", str(report)]
    assert main(args) == 0
    assert "The longest ring makes" in capsys.readouterr().out
    told = json.loads(report.read_text())
    found = rings(read_mesh(out))
    assert told["quads"]["longest_ring"] == pytest.approx(found.longest)
    assert told["quads"]["crossed_by_itself"] == pytest.approx(found.crossed_by_itself)
    assert main([*args[:2], str(tmp_path / "s.ply"), *args[3:5]]) == 2
    assert main(["remesh", str(tmp_path / "s.ply"), str(out), "--quads", "300", "--rows", "101", "--force"]) == 2


def test_checks_tell_of_long_rings_and_ends(spot: PolyMesh, jacket: PolyMesh) -> None:
    check, found = winding_rows(jacket), rings(jacket)
    assert check.number == pytest.approx(found.longest) and check.level == ("look" if found.longest > 20 else "good")
    assert len(check.offenders) == (found.of_edge == np.argmax(found.crossings)).sum()
    blunt = jacket.with_points(jacket.points * [1.0, 0.8, 1.0])
    ends = left_out(blunt, spot)
    assert ends.level == "look" and ends.number > 2 and len(ends.offenders)
    assert left_out(jacket, spot).level == "good"


def test_each_thing_that_gets_worse_is_reason_enough_to_refuse() -> None:
    """Closed rows are no excuse for folds, thin corners, gaps, or guides that are not kept."""
    before = Standing(50.0, 40.0, 0.98, 0.85, 0, 0.5, 0.6, 0.1, 0.05)
    assert fits(replace(before, longest=8.0), before, 1.0)
    for what, worse in (("folded", 1), ("mean", 0.96), ("first", 0.74), ("gap", 1.3), ("bare", 1.3), ("guided", 0.16), ("uncarried", 0.07)):
        assert not fits(replace(before, longest=8.0, **{what: worse}), before, 1.0), what
