"""Checks of the layout find what was put there."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.core.checks.layout import flatten_checks, layout_checks
from jacket.core.checks.topology import topology_checks
from jacket.core.space.bvh import Bvh
from jacket.core.uv.islands import Islands
from jacket.jobs.pack import sheets_of
from tests.conftest import grid, icosphere


def test_checks_find_what_was_put_there() -> None:
    sheet = grid(4)
    bad = sheet.with_uv(sheet.points[sheet.corners][:, :2] / 4.0)
    uv = bad.uv.copy()
    uv[:4] = uv[4:8]  # the first quad on top of the second
    rows = {c.id: c for c in layout_checks(bad.with_uv(uv), sheets_of(512, margin=0))}
    assert rows["overlap"].level == "wrong" and {0, 1} <= set(rows["overlap"].offenders.tolist())
    # Two islands that lie on one another on purpose do not overlap.
    joined, apart = bad.with_uv(uv), np.array([7, 7])
    islands = Islands.of(joined, sheets_of(512, margin=0))
    assert islands.count == 2
    rows = {c.id: c for c in layout_checks(joined, sheets_of(512, margin=0), islands, apart)}
    assert rows["overlap"].level == rows["margin"].level == "good"
    outside = {c.id: c for c in layout_checks(bad.with_uv(bad.uv + 0.5), sheets_of(512, margin=4))}
    assert outside["outside"].level == "wrong" and outside["outside"].number == 12
    # A corner of the sheet pulled across its own quad turns that over; the island's other faces lie as they should.
    uv = bad.uv.copy()
    uv[0] = [0.6, 0.6]
    found = {c.id: c for c in flatten_checks(bad.with_uv(uv))}
    assert 0 in found["flipped"].offenders and found["flipped"].level == "wrong" and "mirrored" not in found
    # A whole island laid on its face is no fault of its faces.
    found = {c.id: c for c in flatten_checks(bad.with_uv(bad.uv * [-1, 1] + [1, 0]))}
    assert found["mirrored"].number == 16 and found["mirrored"].level == "look" and found["flipped"].level == "good"
    # Density by formula: 512 pixels over four units are 128 a unit; a sheet may want more.
    wanted = (replace(sheets_of(512, margin=0)[0], least=200.0),)
    assert {c.id: c for c in layout_checks(bad, wanted)}["coarse"].number == 1
    # Half a pixel wide is told.
    thin = {c.id: c for c in layout_checks(bad.with_uv(bad.uv * [0.5 / 512, 0.9]), sheets_of(512, margin=0))}
    assert thin["slivers"].number == 1
    # At mip 2 a margin of 3 is twelve pixels.
    mip = sheets_of(512, margin=3, mip=2)
    near = {c.id: c for c in layout_checks(bad.with_uv(bad.uv * 0.9 + 10 / 512), mip)}["margin"]
    assert near.level == "wrong" and near.value == "2.5 px at mip 2"
    # Near the edge as allowed and too near to one another: the second is what is told.
    two = grid(2, 1)
    uv = two.points[two.corners][:, :2] * [0.4, 0.9] + [0.01, 0.05] + np.repeat([[0, 0], [6 / 512, 0]], 4, axis=0)
    rims = sheets_of(512, margin=8, edge=2)
    told = {c.id: c for c in layout_checks(two.with_uv(uv), rims)}["margin"]
    assert told.level == "wrong" and told.value == "6.0 px" and told.offenders.tolist() == [0, 1]
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
