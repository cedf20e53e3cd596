"""Packing: margins, overlaps by shapely, locked islands, refusals."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from shapely.ops import unary_union

from jacket.core.checks.layout import layout_checks
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.margins import least_margin
from jacket.core.layout.pack import PackSettings, pack
from jacket.core.mesh.geometry import face_centres
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.cuts import (
    cut_edges,
    sharp_edges,
)
from jacket.core.space.enclosing import Enclosing
from jacket.core.uv.islands import Islands, texel_densities
from jacket.core.uv.sheets import Sheet
from jacket.errors import MeshError
from jacket.jobs.pack import sheets_of
from tests.conftest import cube, icosphere


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


@pytest.mark.parametrize(("size", "margin", "turn"), [(512, 6, "free"), (1024, 16, "quarter"), (333, 2.5, "none")])
def test_packing_keeps_margin_and_never_overlaps(size: int, margin: float, turn: str) -> None:
    ball = split_to_quads(icosphere(2))
    # Eight islands: cut where the coordinate planes cross it.
    octant = (face_centres(ball) > 0) @ [1, 2, 4]
    corner, topology = ball.topology.edge_corner, ball.topology
    apart = octant[ball.face_of_corner[corner]] != octant[ball.face_of_corner[topology.twin[corner]]]
    flat, _ = unwrap(cut_edges(ball, np.flatnonzero(apart)))
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


def test_locked_islands_stay_and_are_avoided() -> None:
    flat, _ = unwrap(cut_edges(box(), sharp_edges(box(), 45)))
    first = pack(Islands.of(flat, sheets_of(512, margin=4)))
    mesh = flat.with_uv(first.uv)
    again = pack(Islands.of(mesh, sheets_of(512, margin=4)), PackSettings(steps=2), locked=np.array([2]))
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


def test_the_smallest_box_of_a_turned_rectangle_lies_along_the_axes() -> None:
    """Freeman and Shapira (1975): of a rectangle it is itself, however it is turned."""
    corners = np.array([[0, 0], [3, 0], [3, 1], [0, 1.0]])
    for turn in np.linspace(0.1, 3.0, 7):
        c, s = np.cos(turn), np.sin(turn)
        at = corners @ np.array([[c, s], [-s, c]])
        angle = Enclosing.of(at).turn
        c, s = np.cos(angle), np.sin(angle)
        assert np.prod(np.ptp(at @ np.array([[c, -s], [s, c]]).T, axis=0)) == pytest.approx(3.0)


def test_the_margin_is_kept_and_not_wasted() -> None:
    """Sixteen squares: the least distance is what was asked for and no more than a few pixels above it."""
    tiles = PolyMesh.from_faces(*_apart(16))
    for margin in (4.0, 16.0):
        done = pack(Islands.of(tiles.with_uv(tiles.points[tiles.corners][:, :2] / 40), sheets_of(512, margin=margin)), PackSettings("none"))
        least = least_margin(Islands.of(tiles.with_uv(done.uv), sheets_of(512, margin=margin)))
        assert margin <= least.pixels <= margin + 4


def _apart(count: int) -> tuple[np.ndarray, np.ndarray]:
    at = np.array([[2.0 * (k % 4), 2.0 * (k // 4), 0] for k in range(count)])
    square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0.0]])
    return (at[:, None] + square).reshape(-1, 3), np.arange(4 * count).reshape(-1, 4)


def test_where_the_exact_end_fails_the_layout_found_before_is_taken(monkeypatch: pytest.MonkeyPatch) -> None:
    """With the last layout told to have no exact place, whatever its size, the one before is the answer and not the first; its margin is
    shapely's."""
    from jacket.core.layout.pack import _Table
    from jacket.core.layout.squeeze import Squeeze

    tiles = PolyMesh.from_faces(*_apart(9))
    islands = Islands.of(tiles.with_uv(tiles.points[tiles.corners][:, :2] / 40), sheets_of(512, margin=4.0))
    exact, enlarged, seen = _Table._exact, Squeeze.enlarged, {}

    def noting(self, squeeze, found, first, progress):  # type: ignore[no-untyped-def]
        seen["first"], seen["best"], seen["before"] = first[1], found.scale, [scale for _, scale in found.before]
        return exact(self, squeeze, found, first, progress)

    def failing(self, lying, scale, **more):  # type: ignore[no-untyped-def]
        if scale not in (seen["first"], *seen["before"]):
            return None
        seen["taken"] = scale
        return enlarged(self, lying, scale, **more)

    monkeypatch.setattr(_Table, "_exact", noting)
    monkeypatch.setattr(Squeeze, "enlarged", failing)
    done = pack(islands, PackSettings("none", steps=30, seed=2))
    assert seen["taken"] == seen["before"][0] and seen["first"] < seen["taken"] < seen["best"]
    assert sorted(seen["before"], reverse=True) == seen["before"]
    drawn = shapes(tiles.with_uv(done.uv), 512)
    assert min(a.distance(b) for k, a in enumerate(drawn) for b in drawn[k + 1 :]) == pytest.approx(4.0, abs=0.01)
