"""Checks of the layout find what was put there."""

from __future__ import annotations

from jacket.core.checks.layout import flatten_checks, layout_checks
from jacket.core.checks.topology import topology_checks
from jacket.core.space.bvh import Bvh
from jacket.jobs.pack import sheets_of
from tests.conftest import grid, icosphere


def test_checks_find_what_was_put_there() -> None:
    sheet = grid(4)
    bad = sheet.with_uv(sheet.points[sheet.corners][:, :2] / 4.0)
    uv = bad.uv.copy()
    uv[:4] = uv[4:8]  # the first quad on top of the second
    rows = {c.id: c for c in layout_checks(bad.with_uv(uv), sheets_of(512, margin=0))}
    assert rows["overlap"].level == "wrong" and {0, 1} <= set(rows["overlap"].offenders.tolist())
    outside = {c.id: c for c in layout_checks(bad.with_uv(bad.uv + 0.5), sheets_of(512, margin=4))}
    assert outside["outside"].level == "wrong" and outside["outside"].number == 12
    uv = bad.uv.copy()
    uv[:4] = uv[[0, 3, 2, 1]]
    assert {c.id: c for c in flatten_checks(bad.with_uv(uv))}["flipped"].offenders.tolist() == [0]
    points = sheet.points.copy()
    points[0] += [2.0, 0.9, 0.0]  # a corner pulled across its own quad's far side
    ball = icosphere(2)
    rows = {
        c.id: c for c in topology_checks(sheet.with_points(points), ball, Bvh.build(ball.points, ball.triangle_points))
    }
    assert (
        rows["folded"].offenders.tolist() == [0]
        and rows["open-border"].value == "1 loop"
        and rows["largest-gap"].level == "wrong"
    )
    assert rows["uncovered"].number > 50
