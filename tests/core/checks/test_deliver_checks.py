"""Checks of a delivery on forms where the answer can be counted by hand."""

from __future__ import annotations

import numpy as np

from jacket.core.checks.deliver import bake_checks, hard_inside, limit_checks, shading_checks, soft_corners
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.shading import hard_by_angle
from jacket.core.uv.sheets import Sheet
from tests.core.bake.forms import boxed


def test_limits_count_triangles_islands_sheets_and_faces_too_coarse() -> None:
    """A box of 3 × 3 quads a side: 108 triangles, six islands of .28 of a sheet over a side of 2 units."""
    box, sheets = boxed(3, False), (Sheet(width=100, height=100),)
    assert limit_checks(box, sheets, 0, 0, 0, 0.0) == []
    levels = {c.id: (c.level, c.number) for c in limit_checks(box, sheets, 107, 6, 1, 14.01)}
    assert levels == {"most-triangles": ("wrong", 108), "most-islands": ("good", 6), "most-sheets": ("good", 1), "least-density": ("wrong", 54)}
    # .28 of 100 pixels over 2 units are 14 pixels a unit.
    assert [c.level for c in limit_checks(box, sheets, 108, 5, 0, 13.99)] == ["good", "wrong", "good"]


def test_hard_edges_inside_islands_and_soft_square_corners_are_found() -> None:
    """Of a soft box all twelve sides are soft square corners, three edges each; hard, none, and they run along the islands; with all
    edges hard those within the sides are inside. A row close beside the corner supports it."""
    box = boxed(3, False)
    assert soft_corners(box).sum() == 36 and hard_inside(box).sum() == 0
    hard = hard_by_angle(box, 45)
    assert soft_corners(hard).sum() == 0 and hard_inside(hard).sum() == 0
    every = box.with_mark("hard", box.topology.edge_points)
    assert hard_inside(every).sum() == 6 * 12
    told = {c.id: c for c in shading_checks(every)}
    assert told["hard-inside"].level == "look" and len(told["hard-inside"].offenders) == 72
    supported = box.with_points(np.where(np.abs(box.points) < 0.5, np.sign(box.points) * 0.95, box.points))
    assert soft_corners(supported).sum() < 36
    assert shading_checks(PolyMesh.empty()) == []


def test_what_became_of_the_rays_is_graded() -> None:
    faces = (np.array([3, 4], np.int32), np.zeros(0, np.int32))
    rows = {c.id: c for c in bake_checks([0.03], [0.0], False, faces)}
    assert rows["rays-missed"].level == "wrong" and rows["rays-missed"].offenders.tolist() == [3, 4]
    assert rows["rays-behind"].level == "good" and "maps-stale" not in rows
    assert [c.level for c in bake_checks([0.001], [0.01], True)] == ["good", "look", "wrong"]
