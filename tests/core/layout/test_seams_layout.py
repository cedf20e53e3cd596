"""Seams, islands, packing and checks, with shapely measuring what packing promises."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from shapely.ops import unary_union

from jacket.core.checks.layout import flatten_checks, layout_checks, seam_checks
from jacket.core.checks.topology import topology_checks
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.margins import least_margin
from jacket.core.layout.masks import island_mask
from jacket.core.layout.pack import PackSettings, pack
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.cuts import (
    cut_edges,
    seam_loop,
    seam_path,
    sew_edges,
    sharp_edges,
    uv_border_pairs,
)
from jacket.core.seams.suggest import suggest_seams
from jacket.core.space.bvh import Bvh
from jacket.core.uv.islands import Islands, density_scales, texel_densities
from jacket.core.uv.sets import island_labels
from jacket.core.uv.sheets import Sheet
from jacket.errors import MeshError
from jacket.jobs.pack import sheets_of
from tests.conftest import cube, grid, icosphere, torus


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def shapes(mesh: PolyMesh, size: int) -> list[shapely.Geometry]:
    """Islands as shapely polygons in pixels."""
    islands = Islands.of(mesh)
    faces = [shapely.Polygon(mesh.uv[mesh.starts[f] : mesh.starts[f + 1]] * size) for f in range(mesh.n_faces)]
    return [
        unary_union([f.buffer(1e-7) for f, k in zip(faces, islands.labels, strict=True) if k == i])
        for i in range(islands.count)
    ]


def test_cutting_and_sewing() -> None:
    sheet = grid(6)
    row = seam_loop(sheet, sheet.topology.find_edge(21, 22))
    cut = cut_edges(sheet, row)
    assert island_labels(cut)[0] == 2 and len(cut.cuts) == 6
    # A crossing loop now stops at the first one; borders are never marked.
    column = seam_loop(cut, cut.topology.find_edge(3, 10))
    assert len(column) == 3
    assert len(cut_edges(sheet, sheet.topology.border_edges).cuts) == 0
    assert island_labels(sew_edges(cut, row[:1]))[0] == 1
    assert len(seam_path(sheet, 0, 48)) == 12  # the corners of a 6 × 6 grid are twelve edges apart
    assert len(sharp_edges(box(), 45)) == 12 * 4


def test_uv_cuts_are_read_back() -> None:
    mesh = cut_edges(box(), sharp_edges(box(), 45))
    flat, _ = unwrap(mesh)
    packed = flat.with_uv(pack(Islands.of(flat, sheets_of(256, margin=4))).uv)
    assert np.array_equal(uv_border_pairs(packed, packed.uv), packed.cuts)


@pytest.mark.parametrize("make", [lambda: box(3), lambda: torus(36, 18), lambda: split_to_quads(icosphere(2))])
def test_suggested_islands_all_open(make) -> None:  # type: ignore[no-untyped-def]
    mesh = suggest_seams(make())
    flat, islands = unwrap(mesh)
    assert len(islands) >= 2 and all(i.flat and not i.overlaps for i in islands)
    assert not [c for c in seam_checks(flat) + flatten_checks(flat) if c.level == "wrong"]


@pytest.mark.parametrize(("size", "margin", "turn"), [(512, 6, "free"), (1024, 16, "quarter"), (333, 2.5, "none")])
def test_packing_keeps_margin_and_never_overlaps(size: int, margin: float, turn: str) -> None:
    flat, _ = unwrap(suggest_seams(split_to_quads(icosphere(2))))
    result = pack(Islands.of(flat, sheets_of(size, margin=margin)), PackSettings(turn))
    mesh = flat.with_uv(result.uv)
    drawn = shapes(mesh, size)
    sheet = shapely.box(0, 0, size, size)
    least = min(a.distance(b) for k, a in enumerate(drawn) for b in drawn[k + 1 :])
    edge = min(s.distance(sheet.exterior) for s in drawn)
    assert min(least, edge) >= margin - 1e-3 and all(sheet.contains(s) for s in drawn)
    ours = least_margin(Islands.of(mesh, sheets_of(size, margin=margin))).pixels
    assert ours == pytest.approx(min(least, edge), abs=1e-4)
    assert result.use == pytest.approx(sum(s.area for s in drawn) / size**2, rel=1e-4)
    density = texel_densities(Islands.of(mesh, sheets_of(size)))
    assert np.median(density) == pytest.approx(result.density, rel=0.05)
    assert not [c for c in layout_checks(mesh, sheets_of(size, margin=margin)) if c.level == "wrong"]


def test_masks_cover_what_they_must() -> None:
    """Every place within `widen` of the polygon lies in a counted cell, says shapely."""
    rng = np.random.default_rng(4)
    for _ in range(6):
        hull = shapely.MultiPoint(rng.uniform(3, 40, (9, 2))).convex_hull
        ring = np.array(hull.exterior.coords)
        segments = np.stack([ring[:-1], ring[1:]], axis=1)
        mask = island_mask(segments, 2.3)
        grown = hull.buffer(2.3, quad_segs=32)
        cells = [
            shapely.box(x, y, x + 1, y + 1)
            for r in range(mask.height)
            for k in range(mask.row_start[r], mask.row_start[r + 1])
            for x in range(int(mask.low[0]) + mask.first[k], int(mask.low[0]) + mask.last[k])
            for y in [int(mask.low[1]) + r]
        ]
        covered = unary_union(cells)
        assert grown.difference(covered).area < 1e-9
        assert covered.area < hull.buffer(2.3 + 1.5).area


def test_locked_islands_stay_and_are_avoided() -> None:
    flat, _ = unwrap(cut_edges(box(), sharp_edges(box(), 45)))
    first = pack(Islands.of(flat, sheets_of(512, margin=4)))
    mesh = flat.with_uv(first.uv)
    again = pack(Islands.of(mesh, sheets_of(512, margin=4)), PackSettings(effort=2), locked=np.array([2]))
    here = Islands.of(mesh).corner_labels == 2
    assert np.array_equal(again.uv[here], first.uv[here])
    assert least_margin(Islands.of(flat.with_uv(again.uv), sheets_of(512, margin=4))).pixels >= 4 - 1e-6


def test_packing_refuses_well() -> None:
    with pytest.raises(MeshError, match="flatten"):
        pack(Islands.of(box()), PackSettings())
    flat, _ = unwrap(cut_edges(box(), sharp_edges(box(), 45)))
    with pytest.raises(MeshError, match="margin"):
        pack(Islands.of(flat, (Sheet(width=64, height=64, margin=40),)))
    with pytest.raises(MeshError, match="out of range"):
        pack(Islands.of(flat, (Sheet(width=2, height=2),)))


def test_even_density() -> None:
    flat, _ = unwrap(cut_edges(box(), sharp_edges(box(), 45)))
    labels = Islands.of(flat).corner_labels
    odd = flat.with_uv(flat.uv * np.where(labels == 3, 2.5, 1.0)[:, None])
    scales = density_scales(Islands.of(odd))
    assert scales[3] == pytest.approx(scales[0] / 2.5)


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
