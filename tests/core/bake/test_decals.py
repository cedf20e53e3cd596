"""Decals against pictures of Pillow, projections by formula, and blends worked by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PIL import Image

from jacket.core.bake.decals import Decal, frame_across
from jacket.core.bake.laying import blended, by_role, ground_of, laid_on, overlay, stencil, texels_of
from jacket.core.bake.maps import Baked
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.rays import RayTree
from jacket.core.uv.sheets import Sheet
from tests.conftest import icosphere

SIZE = 64
SHEET = Sheet("s", 1001, SIZE, SIZE, 2.0)


def plate(z: float = 0.0, cells: int = 4, uv: tuple[float, float, float, float] = (0, 0, 1, 1)) -> PolyMesh:
    """The unit square at a height, mapped onto a box (left, bottom, right, top) of the sheet."""
    k = np.arange(cells + 1) / cells
    x, y = (a.ravel() for a in np.meshgrid(k, k))
    i, j = (a.ravel() for a in np.meshgrid(np.arange(cells), np.arange(cells)))
    a = j * (cells + 1) + i
    mesh = PolyMesh.from_faces(np.stack([x, y, np.full(len(x), z)], axis=1), np.stack([a, a + 1, a + cells + 2, a + cells + 1], axis=1))
    low, high = np.array(uv[:2]), np.array(uv[2:])
    return mesh.with_uv(low + mesh.points[mesh.corners][:, :2] * (high - low))


def lying(width: float = 1.0, height: float = 1.0, **changes: object) -> Decal:
    """A decal over the middle of the unit square."""
    base = Decal(1, "d", "d.png", "colour", (0.5, 0.5, 0.0), (1.0, 0.0, 0.0), (0.0, 1.0, 0.0), width, height, 0.5)
    return replace(base, **changes)  # type: ignore[arg-type]


def noise(height: int, width: int, alpha: bool = True) -> np.ndarray:
    picture = np.random.default_rng(4).integers(0, 256, (height, width, 4), np.uint8)
    if not alpha:
        picture[..., 3] = 255
    return picture


def texels(mesh: PolyMesh, size: int = SIZE):  # type: ignore[no-untyped-def]
    found = texels_of(mesh, SHEET, size, size)
    assert found is not None
    return found


def test_a_picture_as_large_as_the_sheet_lies_there_pixel_by_pixel() -> None:
    """Over a square that fills the sheet, as fine as the sheet: nothing is filtered, and Porter and Duff's *over* is Pillow's."""
    picture = noise(SIZE, SIZE)
    ground = np.random.default_rng(1).integers(0, 256, (SIZE, SIZE, 3), np.uint8)
    done = laid_on(Baked("colour", ground), [(texels(plate()), [(lying(), stencil(picture))], None)])
    below = Image.fromarray(np.dstack([ground, np.full((SIZE, SIZE), 255, np.uint8)]))
    wanted = np.asarray(Image.alpha_composite(below, Image.fromarray(picture)))[..., :3].astype(int)
    assert np.abs(done.pixels.astype(int) - wanted).max() <= 1
    mirrored = laid_on(Baked("colour", ground), [(texels(plate()), [(lying(width=-1.0), stencil(picture))], None)])
    wanted = np.asarray(Image.alpha_composite(below, Image.fromarray(picture[:, ::-1].copy())))[..., :3].astype(int)
    assert np.abs(mirrored.pixels.astype(int) - wanted).max() <= 1


def test_a_finer_picture_is_averaged_as_by_boxes() -> None:
    """Four times as fine as the sheet: each texel has the mean of its sixteen pixels, as Pillow's box filter has it."""
    picture = noise(4 * SIZE, 4 * SIZE, alpha=False)
    done = overlay(texels(plate()), [(lying(), stencil(picture))])
    wanted = np.asarray(Image.fromarray(picture[..., :3]).resize((SIZE, SIZE), Image.Resampling.BOX)) / 255.0
    assert np.abs(done[..., :3] - wanted).max() < 1.5 / 255
    assert np.allclose(done[..., 3], 1)


def test_halvings_leave_out_what_does_not_cover() -> None:
    """A red pixel beside three clear green ones halves to red at a quarter of cover."""
    picture = np.zeros((2, 2, 4), np.uint8)
    picture[..., 1] = 255
    picture[0, 0] = (255, 0, 0, 255)
    made = stencil(picture)
    assert made.levels.tolist() == [[0, 2, 2], [4, 1, 1]]
    assert made.pixels[4].tolist() == [255, 0, 0, 64]


def test_a_ball_takes_the_picture_straight_through() -> None:
    """Orthographic projection: where a texel of the ball lies, the picture (a ramp) says its x and y; the far side and what is
    turned away by 84° and more has nothing."""
    ball = icosphere(4)
    place = ball.points / np.linalg.norm(ball.points, axis=1, keepdims=True)
    # Two hemispheres side by side, by the azimuthal map; faces across the equator are left out.
    flat = 0.25 + 0.2 * place[:, :2]
    front = place[ball.corners][:, 2].reshape(-1, 3).min(axis=1) > 0.02
    back = place[ball.corners][:, 2].reshape(-1, 3).max(axis=1) < -0.02
    uv = np.full((ball.n_corners, 2), np.nan)
    uv[np.repeat(front, 3)] = flat[ball.corners[np.repeat(front, 3)]]
    uv[np.repeat(back, 3)] = flat[ball.corners[np.repeat(back, 3)]] * [-1, 1] + [1.0, 0.0]
    mesh = ball.with_points(place).with_uv(uv)
    ramp = np.full((256, 256, 4), 255, np.uint8)
    ramp[..., 0] = np.arange(256)[None, :]
    ramp[..., 1] = np.arange(256)[::-1, None]
    decal = lying(2.0, 2.0, place=(0.0, 0.0, 0.0), reach=10.0)
    done = overlay(texels(mesh, 256), [(decal, stencil(ramp))])
    j, i = np.mgrid[0:256, 0:256]
    x, y = ((i + 0.5) / 256 - 0.25) / 0.2, ((255.5 - j) / 256 - 0.25) / 0.2
    inside = x**2 + y**2 < 0.75**2
    assert np.allclose(done[inside][:, 3], 1)
    wanted = np.stack([(x[inside] + 1) / 2, (y[inside] + 1) / 2], axis=1)
    # Flat faces of 4 % of the radius, and pixels of 1/256.
    assert np.abs(done[inside][:, :2] - wanted).max() < 0.012
    behind = texels(mesh, 256).which[:, 128:] >= 0
    assert behind.any() and not done[:, 128:, 3][behind].any()


def test_from_an_eye_lengths_grow_with_the_distance_and_what_is_hidden_stays_clear() -> None:
    """Pinhole projection: seen from 2 over a plate at −1, what lies at x stands at 2/3 of it on the picture; under a half plate in
    between there is nothing."""
    far = plate(-1.0)
    ramp = np.full((512, 512, 4), 255, np.uint8)
    ramp[..., 0] = (np.arange(512) / 2)[None, :]
    decal = lying(1.0, 1.0, reach=5.0, eye=2.0)
    done = overlay(texels(far), [(decal, stencil(ramp))])
    x = (np.arange(SIZE) + 0.5) / SIZE
    wanted = 0.5 + (x - 0.5) * 2 / 3
    assert np.abs(done[SIZE // 2, :, 0] - wanted).max() < 0.01
    near = plate(0.0)
    shade = near.with_points(near.points * [0.5, 1.0, 1.0])  # over x < 0.5 at z = 0
    tree = RayTree.build(*(lambda m: (m.points, m.triangle_points))(put_side_by_side([far, shade])))
    dark = overlay(texels(far), [(decal, stencil(ramp))], tree)
    # From (0.5, 0.5, 2) the shade covers x of the far plate from −0.25 to 0.5.
    assert not dark[SIZE // 2, x < 0.49, 3].any() and (dark[SIZE // 2, x > 0.51, 3] == 1).all()


def test_reach_faces_and_strength_bound_it() -> None:
    picture = stencil(noise(8, 8, alpha=False))
    assert overlay(texels(plate(0.6)), [(lying(), picture)])[..., 3].max() == 0
    assert overlay(texels(plate(0.2)), [(lying(), picture)])[..., 3].min() == 1
    assert overlay(texels(plate()), [(lying(up=(0.0, -1.0, 0.0)), picture)])[..., 3].max() == 0  # from behind
    assert np.allclose(overlay(texels(plate()), [(lying(strength=0.25), picture)])[8:-8, 8:-8, 3], 0.25)
    half = overlay(texels(plate()), [(lying(0.5, 0.5), picture)])[..., 3] > 0.5
    assert half.sum() == (SIZE // 2) ** 2 and half[SIZE // 4 : 3 * SIZE // 4, SIZE // 4 : 3 * SIZE // 4].all()


def test_decals_go_on_past_the_border_of_islands_and_nowhere_else() -> None:
    """An island over the middle half of the sheet: the picture covers it, its gutter and its padding, and leaves the rest."""
    mesh = plate(uv=(0.25, 0.25, 0.75, 0.75))
    base = Baked("roughness", np.zeros((SIZE, SIZE, 1), np.uint8))
    white = np.full((4, 4, 4), 255, np.uint8)
    done = laid_on(base, [(texels(mesh), [(lying(4.0, 4.0), stencil(white))], None)])
    assert (done.pixels[16:48, 16:48] == 255).all()
    assert done.pixels[32, 2, 0] == 255  # padding of 16 texels reaches there
    beside = laid_on(base, [(texels(mesh), [(lying(4.0, 4.0, place=(9.0, 0.5, 0.0)), stencil(white))], None)])
    assert beside is base


def test_normals_of_a_decal_are_turned_with_it_and_blended_by_slopes() -> None:
    """Whiteout blend (Barré-Brisebois and Hill 2012) worked by hand; a quarter turn turns the picture's x into the surface's y."""
    flat = np.full((4, 4, 4), 255, np.uint8)
    flat[..., :3] = np.rint(255 * (np.array([0.6, 0.0, 0.8]) + 1) / 2)
    picture = stencil(flat)
    plain = laid_on(ground_of("normal", SIZE, SIZE), [(texels(plate()), [(lying(role="normal"), picture)], None)])
    seen = plain.pixels[SIZE // 2, SIZE // 2] / 65535.0 * 2 - 1
    assert np.allclose(seen, [0.6, 0.0, 0.8], atol=0.006)
    turned = laid_on(ground_of("normal", SIZE, SIZE), [(texels(plate()), [(lying(role="normal").turned(90), picture)], None)])
    assert np.allclose(turned.pixels[SIZE // 2, SIZE // 2] / 65535.0 * 2 - 1, [0.0, 0.6, 0.8], atol=0.006)
    mixed = blended(np.array([[0.6, 0.0, 0.8]]), np.array([[0.0, 0.6, 0.8]]))[0]
    wanted = np.array([0.6, 0.6, 0.64])
    assert np.allclose(mixed, wanted / np.linalg.norm(wanted))


def test_a_frame_moves_turns_and_mirrors_with_its_form() -> None:
    decal = lying(0.4, 0.2)
    a = np.radians(30)
    matrix = np.array([[2 * np.cos(a), -2 * np.sin(a), 0, 5], [2 * np.sin(a), 2 * np.cos(a), 0, 6], [0, 0, 2, 7], [0, 0, 0, 1.0]])
    points = np.random.default_rng(0).normal(size=(50, 3))
    there = np.column_stack([points, np.ones(50)]) @ matrix.T
    assert np.allclose(decal.moved(matrix).at(there[:, :3]) / [1, 1, 2], decal.at(points))
    across = np.diag([-1.0, 1.0, 1.0, 1.0])
    flipped = decal.moved(across)
    assert np.allclose(flipped.at(points * [-1, 1, 1]), decal.at(points)) and np.linalg.det(flipped.axes) == pytest.approx(1)
    assert np.allclose(decal.turned(90).up, [-1, 0, 0]) and np.allclose(decal.turned(90).right, [0, 1, 0])
    right, up = frame_across(np.array([0.0, 1.0, 0.0]), np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0]))
    assert right == (1.0, 0.0, 0.0) and up == (0.0, 0.0, -1.0)  # the wish stands on the plane


def test_hidden_ones_and_those_of_other_maps_are_kept_apart() -> None:
    picture = stencil(noise(2, 2))
    rows = [(lying(), picture), (lying(role="metal"), picture), (lying(shown=False), picture), (lying(strength=0.0), picture)]
    assert {k: len(v) for k, v in by_role(rows).items()} == {"colour": 1, "metal": 1}
