"""Islands arranged: places by formula and by shapely, on sheets that are not square too."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from shapely import affinity

from jacket.core.layout import arrange
from jacket.core.layout.snapping import snapped
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet
from jacket.errors import EditRefused

SHEET = (Sheet(width=800, height=400, margin=5.0),)
BOXES = ((10, 20, 60, 90), (100, 30, 180, 70), (300, 200, 420, 240), (500, 100, 560, 350))
ALL = [0, 1, 2, 3]


def islands(boxes: tuple[tuple[int, ...], ...] = BOXES) -> Islands:
    """Rectangles on a sheet twice as wide as high, in pixels; each an island of one face, twice as large on the surface."""
    rings = np.array([[[a, b], [c, b], [c, d], [a, d]] for a, b, c, d in boxes], float)
    points = np.c_[2 * rings.reshape(-1, 2), np.repeat(np.arange(len(boxes)), 4)]
    mesh = PolyMesh.from_faces(points, np.arange(4 * len(boxes)).reshape(-1, 4))
    return Islands.of(mesh.with_uv(rings.reshape(-1, 2) / [800, 400]), SHEET)


def forms(i: Islands, uv: np.ndarray) -> list[shapely.Polygon]:
    return [shapely.Polygon(ring) for ring in (uv * [800, 400]).reshape(-1, 4, 2)]


def boxes(i: Islands, uv: np.ndarray) -> np.ndarray:
    return np.array([f.bounds for f in forms(i, uv)])


@pytest.mark.parametrize("name", ["middle", "lower left", "upper right", "sheet", "origin"])
def test_turning_and_mirroring_is_what_shapely_does_about_the_same_point(name: str) -> None:
    i = islands()
    pivot = arrange.pivot_of(i, [0, 1], name)
    known = {"middle": (95, 55), "lower left": (10, 20), "upper right": (180, 90), "sheet": (400, 200), "origin": (0, 0)}
    assert pivot == pytest.approx(known[name])
    before = forms(i, i.uv)
    for done, theirs in (
        (arrange.turned(i, [0, 1], 33.0, pivot), lambda f: affinity.rotate(f, 33.0, origin=tuple(pivot))),
        (arrange.mirrored(i, [0, 1], 0, pivot), lambda f: affinity.scale(f, -1, 1, origin=tuple(pivot))),
    ):
        after = forms(i, done)
        for k in (0, 1):
            assert after[k].symmetric_difference(theirs(before[k])).area < 1e-6
        assert after[2].equals(before[2]) and after[3].equals(before[3])
    own = forms(i, arrange.turned(i, [0, 1], 90.0))
    assert all(own[k].centroid.distance(before[k].centroid) < 1e-9 for k in (0, 1))


def test_aligning_and_spreading_and_fitting_give_the_boxes_that_they_say() -> None:
    i = islands()
    for side, column in (("left", 0), ("bottom", 1), ("right", 2), ("top", 3)):
        out = boxes(i, arrange.aligned(i, ALL, side))
        edge = (min if column < 2 else max)(b[column] for b in BOXES)
        assert out[:, column] == pytest.approx(edge)
        assert boxes(i, arrange.aligned(i, ALL, side, True))[:, column] == pytest.approx({0: 5, 1: 5, 2: 795, 3: 395}[column])
        assert boxes(i, arrange.aligned_to(i, [0, 2], 3, side))[[0, 2], column] == pytest.approx(BOXES[3][column])
    out = boxes(i, arrange.aligned(i, ALL, "across"))
    assert out[:, 1] + out[:, 3] == pytest.approx(20 + 350)
    out = boxes(i, arrange.spread(i, ALL, 0))
    gaps = out[1:, 0] - out[:-1, 2]
    assert gaps == pytest.approx(gaps[0]) and out[0, 0] == 10 and out[3, 2] == 560
    assert out[:, [1, 3]] == pytest.approx(np.array(BOXES)[:, [1, 3]])
    with pytest.raises(EditRefused, match="three"):
        arrange.spread(i, [0, 1], 0)
    whole = shapely.union_all(forms(i, arrange.fitted(i, ALL, "sheet"))).bounds
    assert whole[3] - whole[1] == pytest.approx(390) and whole[0] + whole[2] == pytest.approx(800)
    whole = shapely.union_all(forms(i, arrange.fitted(i, [1], "width"))[1:2]).bounds
    assert whole[2] - whole[0] == pytest.approx(790)


def test_standing_by_the_smallest_box_and_by_an_edge() -> None:
    i = islands()
    crooked = i.with_uv(arrange.turned(i, [1, 3], 28.0))
    straight = boxes(i, arrange.upright(crooked, [1, 3]))
    assert sorted((straight[:, 2:] - straight[:, :2])[1]) == pytest.approx([40, 80])
    edge = int(i.mesh.topology.edge[4 * 3 + 1])
    laid = forms(i, arrange.along_edge(crooked, [edge]))
    assert laid[3].equals_exact(shapely.box(*laid[3].bounds), 1e-6) or laid[3].symmetric_difference(shapely.box(*laid[3].bounds)).area < 1e-6
    assert laid[1].equals(forms(i, crooked.uv)[1])


def test_what_is_made_alike_is_alike() -> None:
    i = islands()
    leader = 3
    size = boxes(i, arrange.made_alike(i, leader, [0, 1], "size"))
    assert (size[:2, 2:] - size[:2, :2]).max(axis=1) == pytest.approx(250)
    place = boxes(i, arrange.made_alike(i, leader, [0], "place"))
    assert (place[0, :2] + place[0, 2:]) / 2 == pytest.approx([530, 225])
    crooked = i.with_uv(arrange.turned(i, [0], 25.0))
    turned = forms(i, arrange.made_alike(crooked, leader, [0], "turning"))
    assert turned[0].symmetric_difference(shapely.box(*turned[0].bounds)).area < 1e-6
    other = i.with_uv(arrange.at_density(i, [leader], 3.0))
    assert arrange.densities(i.with_uv(arrange.made_alike(other, leader, [0, 1, 2], "density"))) == pytest.approx(3.0)


def test_an_island_made_alike_in_place_goes_to_the_sheet_of_the_other() -> None:
    i = islands()
    sheets = (SHEET[0], Sheet("Other", 1002, 800, 400, 5.0))
    uv = i.uv.copy()
    uv[:4] += [1.0, 0.0]
    two = Islands.of(i.mesh.with_uv(uv), sheets)
    assert two.sheet_of.tolist() == [1, 0, 0, 0]
    place = boxes(i, arrange.made_alike(two, 3, [0], "place"))
    assert (place[0, :2] + place[0, 2:]) / 2 == pytest.approx([530, 225])


def test_density_by_its_definition() -> None:
    """√(area in pixels / area on the surface): the rectangles are twice as large there, so half a pixel a unit."""
    i = islands()
    assert arrange.densities(i) == pytest.approx(0.5) and arrange.density_of(i, 2) == pytest.approx(0.5)
    done = i.with_uv(arrange.at_density(i, [1, 2], 2.0))
    assert arrange.densities(done) == pytest.approx([0.5, 2.0, 2.0, 0.5])
    after, before = forms(i, done.uv), forms(i, i.uv)
    assert after[1].area == pytest.approx(16 * before[1].area) and after[1].centroid.distance(before[1].centroid) < 1e-9
    with pytest.raises(EditRefused, match="more than 0"):
        arrange.at_density(i, [1], 0.0)


def test_moves_snap_to_pixels_to_the_grid_side_to_side_and_point_to_point() -> None:
    i = islands(((10, 20, 60, 90), (100, 30, 180, 70)))
    taken = np.array([35.0, 50.0])

    def moved(shift: tuple[float, float], how: str) -> np.ndarray:
        return snapped(i, [0], taken, np.array(shift), how, 32.0, 6.0).shift

    assert moved((3.3, 0.2), "free") == pytest.approx([3.3, 0.2])
    assert moved((3.3, 0.2), "px") == pytest.approx([3, 0])
    assert (np.array([10, 20]) + moved((20.0, 20.0), "grid")) % 32 == pytest.approx(0, abs=1e-9)
    # The right side ends a margin before the other's left, the lower side in line with the other's.
    found = snapped(i, [0], taken, np.array([33.0, 8.0]), "islands", 32.0, 6.0)
    assert found.shift == pytest.approx([100 - 5 - 60, 30 - 20]) and len(found.lines) == 2
    # To the sheet's edge less its margin.
    assert moved((-7.0, -60.0), "islands")[0] == pytest.approx(-5)
    corner = snapped(i, [0], np.array([60.0, 90.0]), np.array([38.0, -58.0]), "points", 32.0, 6.0).shift
    assert corner == pytest.approx([40, -60])
    assert moved((300.0, 200.0), "points") == pytest.approx([300, 200])
