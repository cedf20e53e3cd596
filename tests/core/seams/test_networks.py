"""Rounded edges, walls between them, and what islands make of a sheet: against closed forms, symmetry and shapely."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
import shapely

from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import PackSettings, pack
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams import cutting
from jacket.core.seams.filling import USUAL_USE, use_of
from jacket.core.seams.laying import lay
from jacket.core.seams.networks import ways_of, without_loose_ends
from jacket.core.seams.ridges import rounded_edges, without_small_walls
from jacket.core.seams.suggest import suggest_seams
from jacket.core.seams.work import SuggestSettings
from jacket.core.space.enclosing import Enclosing
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import cut_flags
from jacket.core.uv.sheets import Sheet
from tests.conftest import grid, icosphere, torus
from tests.core.seams.test_suggest import box

ROUND = 0.2


def rounded_box(levels: int = 4, noise: float = 0.0) -> PolyMesh:
    """A box of half sides 1 whose edges are rounded by a radius: points go straight out from a smaller box."""
    plain = box(levels)
    points = 2.0 * (plain.points - plain.points.min(axis=0)) / np.ptp(plain.points, axis=0) - 1.0
    inner = np.clip(points, ROUND - 1, 1 - ROUND)
    away = points - inner
    out = inner + ROUND * away / np.maximum(np.linalg.norm(away, axis=1), 1e-9)[:, None]
    return plain.with_points(out + noise * np.random.default_rng(0).standard_normal(out.shape))


def can(around: int = 40, tall: int = 16, rings: int = 9) -> PolyMesh:
    """A can of radius 1 with rounded rims, its ends being square grids drawn out to discs, as quads run there."""
    side = around // 4
    u, v = np.meshgrid(np.linspace(-1, 1, side + 1), np.linspace(-1, 1, side + 1), indexing="ij")
    disc = np.stack([u * np.sqrt(1 - v**2 / 2), v * np.sqrt(1 - u**2 / 2)], axis=2).reshape(-1, 2)
    rim = [*[(k, 0) for k in range(side)], *[(side, k) for k in range(side)], *[(side - k, side) for k in range(side)],
           *[(0, side - k) for k in range(side)]]  # fmt: skip
    at = np.array([i * (side + 1) + j for i, j in rim])
    quads = np.array([[i * (side + 1) + j, (i + 1) * (side + 1) + j, (i + 1) * (side + 1) + j + 1, i * (side + 1) + j + 1]
                      for i in range(side) for j in range(side)])  # fmt: skip
    levels = [*(-1 - 0.1 * np.cos(a) for a in np.linspace(0, np.pi / 2, 3)[1:]), *np.linspace(-1, 1, tall)[1:-1],
              *(1 + 0.1 * np.sin(a) for a in np.linspace(0, np.pi / 2, 3)[:-1])]  # fmt: skip
    reach = [*(0.9 + 0.1 * np.sin(a) for a in np.linspace(0, np.pi / 2, 3)[1:]), *np.ones(tall - 2),
             *(0.9 + 0.1 * np.cos(a) for a in np.linspace(0, np.pi / 2, 3)[:-1])]  # fmt: skip
    bottom, top = np.c_[0.9 * disc, np.full(len(disc), -1.1)], np.c_[0.9 * disc, np.full(len(disc), 1.1)]
    walls = [np.c_[r * disc[at], np.full(len(at), z)] for z, r in zip(levels, reach, strict=True)]
    points = np.concatenate([bottom, top, *walls])
    rows = [at, *[2 * len(disc) + k * len(at) + np.arange(len(at)) for k in range(len(walls))], len(disc) + at]
    sides = [np.stack([a, np.roll(a, -1), np.roll(b, -1), b], axis=1) for a, b in pairwise(rows)]
    return PolyMesh.from_faces(points, np.concatenate([quads[:, ::-1], quads + len(disc), *sides]))


@pytest.mark.parametrize("noise", [0.0, 0.008])
def test_rounded_edges_of_a_box_part_its_six_walls(noise: float) -> None:
    """Each row of edges lies where two coordinates are rounded, and by symmetry the walls are alike, also where a sculptor's hand has
    shaken; the ways of cutting begin with them."""
    mesh = rounded_box(noise=noise)
    found = without_loose_ends(mesh, rounded_edges(mesh))
    middle = np.abs(mesh.points[mesh.topology.edge_points[found]].mean(axis=1))
    assert ((middle > 1 - ROUND - 4 * noise).sum(axis=1) >= 2).all()
    count, labels = face_parts(mesh, found)
    area = np.bincount(labels, face_areas(mesh))
    assert count == 6 and np.ptp(area) < 0.25 * area.mean()
    way = ways_of(mesh, np.ones(mesh.topology.n_edges, bool))[0]
    assert way.rounded and way.network is not None and face_parts(mesh, way.network)[0] == 6


def test_a_can_is_cut_into_its_wall_and_its_ends() -> None:
    """What lies beyond the rims lies in the ends; a wall of 2π by 2 and two discs, so the wall has at most 2 / 3 of the area."""
    mesh = can()
    islands = unwrap(suggest_seams(mesh))[1]
    assert all(i.flat and not i.overlaps for i in islands) and len(islands) in (3, 4)
    height = mesh.points[mesh.as_quads()].mean(axis=1)[:, 2]
    ends = [i for i in islands if (np.abs(height[i.faces]) > 1.02).mean() > 0.8]
    assert len(ends) == 2
    for end in ends:
        assert face_areas(mesh)[end.faces].sum() == pytest.approx(np.pi, rel=0.1)


@pytest.mark.parametrize("mesh", [split_to_quads(icosphere(3)), torus(40, 24), torus(40, 8), grid(8)])
def test_what_turns_evenly_has_no_rounded_edges(mesh: PolyMesh) -> None:
    """A ball, a ring, a ring of eight rows round its tube (45° each: three of them turn more than most bevels) and what is flat."""
    assert not rounded_edges(mesh).any()


def test_small_walls_go_to_whom_they_have_most_in_common_with() -> None:
    """Of a plate of 8 by 8 squares parted in 40 and 24, a pocket of one square on the side of 40 that touches the line by one side."""
    mesh = grid(8)
    middle = mesh.points[mesh.as_quads()].mean(axis=1)
    low, high = mesh.points.min(axis=0), mesh.points.max(axis=0)
    cell = np.floor((middle - low) / (high - low + 1e-12) * 8)
    a, b = (cell[:, k] for k in np.flatnonzero(high > low)[:2])
    wall = np.where(a < 5, 0, 1)
    wall[(a == 4) & (b == 3)] = 2
    sides = mesh.face_of_corner[np.stack([mesh.topology.edge_corner, np.maximum(mesh.topology.twin[mesh.topology.edge_corner], 0)], axis=1)]
    flags = (mesh.topology.edge_uses == 2) & (wall[sides[:, 0]] != wall[sides[:, 1]])
    each = float(face_areas(mesh)[0])
    assert face_parts(mesh, flags)[0] == 3
    labels = face_parts(mesh, without_small_walls(mesh, flags, 1.5 * each))[1]
    assert np.array_equal(np.unique(np.bincount(labels)), [24, 40]) and labels[wall == 2] == labels[0 if a[0] < 5 else -1]
    assert np.array_equal(without_small_walls(mesh, flags, 0.5 * each), flags)
    assert not without_small_walls(mesh, flags, 100 * each).any()


def test_the_smallest_square_round_points() -> None:
    """The largest equilateral triangle in a unit square has sides √6 − √2 (Madachy, "Mathematical recreations", 1979); others by turning
    them in small steps with shapely."""
    angle = np.arange(3) * 2 * np.pi / 3 + 0.2
    triangle = np.c_[np.cos(angle), np.sin(angle)] / np.sqrt(3)
    assert Enclosing.of(triangle).square == pytest.approx(1 / (np.sqrt(6) - np.sqrt(2)), rel=0.005)
    rng = np.random.default_rng(4)
    for _ in range(20):
        points = rng.standard_normal((12, 2)) * rng.uniform(0.2, 1, 2)
        hull = shapely.MultiPoint(points).convex_hull
        turned = [shapely.affinity.rotate(hull, t).bounds for t in np.linspace(0, 90, 1801)]
        least = min(max(c - a, d - b) for a, b, c, d in turned)
        assert least * 0.999 <= Enclosing.of(points).square <= least * 1.005


def use_when_packed(mesh: PolyMesh) -> tuple[int, float]:
    flat, islands = unwrap(mesh)
    return len(islands), pack(Islands.of(flat, (Sheet(width=512, height=512, margin=4),)), PackSettings(steps=30)).use


def test_an_island_that_leaves_half_of_the_sheet_empty_is_cut_where_it_is_alone() -> None:
    """A cross of six squares lies in a square of more than twice its area; one that is one of many parts may stay."""
    one = box(3)
    whole, cut = use_when_packed(suggest_seams(one, SuggestSettings(longest=np.inf))), use_when_packed(suggest_seams(one))
    assert whole[0] == 1 and whole[1] < 0.5 and cut[0] in (2, 3) and cut[1] > 0.6
    many = PolyMesh.from_faces(
        np.concatenate([one.points + [3 * k, 0, 0] for k in range(4)]), np.concatenate([one.as_quads() + k * one.n_points for k in range(4)])
    )
    assert len(unwrap(suggest_seams(many))[1]) == 4


def test_a_ring_that_comes_as_a_c_is_halved() -> None:
    """A shade of slope s opens to a sector of an annulus of 2π / √(1 + s²), which fills little of its hull (both by plane geometry)."""
    slope, sides, rings = 0.6, 48, 9
    around = np.arange(sides) * (2 * np.pi / sides)
    radii = np.linspace(0.5, 1, rings)
    points = np.concatenate([np.stack([r * np.cos(around), r * np.sin(around), np.full(sides, slope * (1 - r))], axis=1) for r in radii])
    first = np.add.outer(np.arange(rings - 1) * sides, np.arange(sides)).ravel()
    on = first - first % sides + (first + 1) % sides
    shade = PolyMesh.from_faces(points, np.stack([first, first + sides, on + sides, on], axis=1))
    whole, halved = (suggest_seams(shade, SuggestSettings(longest=longest)) for longest in (np.inf, 0.85))
    laid = lay(whole, np.arange(whole.n_faces, dtype=np.int32), cut_flags(whole), 30)
    angle = 2 * np.pi / np.sqrt(1 + slope**2)
    assert laid is not None and laid.solidity == pytest.approx(0.75 * angle / (angle + np.sin(2 * np.pi - angle)), abs=0.01)
    (one, before), (two, after) = use_when_packed(whole), use_when_packed(halved)
    assert one == 1 and two == 2 and after > 1.1 * before
    # Who wants one island gets it whole.
    assert len(unwrap(suggest_seams(shade, SuggestSettings(most=1)))[1]) == 1


def test_what_is_cut_for_the_sheet_has_to_pay(monkeypatch: pytest.MonkeyPatch) -> None:
    """Who wants one island gets the cross whole, and so does who is told that all layouts use the same."""
    assert len(unwrap(suggest_seams(box(3), SuggestSettings(most=1)))[1]) == 1
    monkeypatch.setattr(cutting, "use_of", lambda mesh, cut, parts: 0.5)
    assert len(unwrap(suggest_seams(box(3)))[1]) == 1


def test_small_parts_are_not_packed_each_for_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    """Where two ways of cutting are to be compared, a part alone is packed in both, and none of five is."""
    asked: list[int] = []
    monkeypatch.setattr(cutting, "use_of", lambda mesh, cut, parts: asked.append(len(parts)) or 0.5)
    one = rounded_box(3)
    suggest_seams(one)
    assert len(asked) >= 2
    asked.clear()
    suggest_seams(PolyMesh.from_faces(
        np.concatenate([one.points + [3 * k, 0, 0] for k in range(5)]), np.concatenate([one.as_quads() + k * one.n_points for k in range(5)])
    ))  # fmt: skip
    assert not asked


def test_use_of_one_square_is_known() -> None:
    """A square of 512 pixels less 4 round it; of a crowd the usual is told without trying."""
    mesh = grid(6)
    cut, faces = np.zeros(mesh.topology.n_edges, bool), np.arange(mesh.n_faces, dtype=np.int32)
    laid = lay(mesh, faces, cut)
    assert laid is not None and use_of(mesh, cut, [(faces, laid)]) == pytest.approx((504 / 512) ** 2, rel=0.01)
    assert use_of(mesh, cut, [(faces, laid)] * 50) == USUAL_USE
    assert laid.span == pytest.approx(float(np.ptp(mesh.points, axis=0).max()), rel=0.01) and laid.strip == 0
