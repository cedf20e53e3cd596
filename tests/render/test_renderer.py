"""What is drawn, pixel by pixel, in an OpenGL context without a window."""

from __future__ import annotations

import io

import moderngl
import numpy as np
import pytest
from PIL import Image

from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh
from jacket.render.renderer import Renderer, chosen_light
from jacket.render.scene import FILL_WIDTH, Board, Layer, Scene, dot_rows, fill_rows, line_rows
from jacket.render.surfaces import Look, surface_of_mesh
from jacket.render.textures import decoded
from jacket.tools.view import FlatCamera, FormCamera
from tests.conftest import cube, grid, icosphere

SIZE = (200, 160)


@pytest.fixture(scope="module")
def renderer() -> Renderer:
    """A context of its own, without any window of Qt's."""
    return Renderer(moderngl.create_context(standalone=True, require=330))


def drawn(renderer: Renderer, scene: Scene, matrix: np.ndarray, eye: np.ndarray) -> np.ndarray:
    """The picture (H, W, 3) with the first row at the top."""
    context = renderer.context
    target = context.framebuffer([context.texture(SIZE, 4)])
    renderer.draw(scene, matrix, eye, SIZE, target, rotation=np.eye(3))
    data = np.frombuffer(target.read(components=3), np.uint8).reshape(SIZE[1], SIZE[0], 3)
    return data[::-1].astype(int)


def flat_camera() -> FlatCamera:
    return FlatCamera(np.array([0.5, 0.5]), 100, *SIZE)


def square(colour: tuple[float, ...]) -> PolyMesh:
    return PolyMesh.from_faces([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2, 3]])


def test_rows_hold_what_they_say() -> None:
    box = cube()
    rows = fill_rows(box, np.array([1, 0, 0, 1.0]))
    assert rows.shape == (36, FILL_WIDTH) and (rows[:, 6:10] == [1, 0, 0, 1]).all()
    assert np.allclose(rows[:, :3], box.points[box.triangle_points.ravel()])
    assert (rows[:, 10] < -1e5).all()  # unmapped
    # The share opposite the diagonal inside each quad is lifted by one, and only that one.
    shares = rows[:, 12:].reshape(12, 3, 3)
    assert ((shares.sum(axis=2) > 1.5).all(axis=1)).sum() == 12 and ((shares >= 1).all(axis=1).sum(axis=1) == 1).all()
    assert fill_rows(box, np.ones(4), faces=np.arange(6) == 2).shape[0] == 6
    assert line_rows(np.zeros((3, 2, 2)), (0, 0, 0, 1), 2.0).shape == (3, 11) and dot_rows(
        np.zeros((2, 3)), (0, 0, 0, 1), 4
    ).shape == (2, 8)


def test_a_face_is_where_the_camera_says(renderer: Renderer) -> None:
    layer = Layer(fill_rows(square((1, 0, 0, 1)), np.array([1.0, 0, 0, 1])), lit=False)
    picture = drawn(renderer, Scene(layers=(layer,), ground=(0, 0, 1.0)), flat_camera().matrix, np.array([0, 0, 10.0]))
    red = (picture == [255, 0, 0]).all(axis=2)
    rows, columns = np.where(red)
    assert (rows.min(), rows.max(), columns.min(), columns.max()) == (30, 129, 50, 149)
    assert (picture[0, 0] == [0, 0, 255]).all()


def test_lines_have_their_width_and_stitches_their_gaps(renderer: Renderer) -> None:
    segment = np.array([[[0.0, 0.5], [1.0, 0.5]]])
    for width in (2.0, 6.0):
        layer = Layer(lines=line_rows(segment, (1, 1, 1, 1), width))
        picture = drawn(
            renderer, Scene(layers=(layer,), ground=(0, 0, 0)), flat_camera().matrix, np.array([0, 0, 10.0])
        )
        assert picture[:, 100, 0].sum() / 255 == pytest.approx(width, abs=0.6)
    layer = Layer(lines=line_rows(segment, (1, 1, 1, 1), 4.0), stitch=20.0)
    row = drawn(renderer, Scene(layers=(layer,), ground=(0, 0, 0)), flat_camera().matrix, np.array([0, 0, 10.0]))[
        80, :, 0
    ]
    lit = row > 128
    assert 4 <= int((lit[1:] & ~lit[:-1]).sum()) <= 6 and 0.4 < lit[50:150].mean() < 0.85


def test_wires_run_along_edges_and_not_along_diagonals(renderer: Renderer) -> None:
    layer = Layer(fill_rows(square((1, 1, 1, 1)), np.ones(4)), lit=False, wire=(0.0, 0.0, 0.0, 1.0))
    picture = drawn(renderer, Scene(layers=(layer,), ground=(1, 1, 1)), flat_camera().matrix, np.array([0, 0, 10.0]))[
        :, :, 0
    ]
    assert picture[80, 50] < 128 and picture[80, 149] < 128 and picture[30, 100] < 128
    inner = picture[40:120, 60:140]
    assert inner.min() > 250  # the diagonal of the quad is nowhere to be seen


def test_the_nearer_of_two_faces_is_seen_and_a_pull_brings_forward(renderer: Renderer) -> None:
    camera = FormCamera(np.array([0.5, 0.5, 0.0]), 4.0, yaw=0, pitch=0, width=SIZE[0], height=SIZE[1])
    near, far = square((1, 0, 0, 1)), square((0, 1, 0, 1))
    far = far.with_points(far.points - [0, 0, 0.2])
    red = Layer(fill_rows(near, np.array([1.0, 0, 0, 1])), lit=False)
    for pull, wanted in ((0.0, [255, 0, 0]), (0.5, [0, 255, 0])):
        green = Layer(fill_rows(far, np.array([0, 1.0, 0, 1])), lit=False, pull=pull)
        picture = drawn(renderer, Scene(layers=(red, green)), camera.matrix, camera.eye)
        assert picture[80, 100].tolist() == wanted


def test_checker_has_the_asked_number_of_squares(renderer: Renderer) -> None:
    mesh = square((1, 1, 1, 1)).with_uv(np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]]))
    layer = Layer(fill_rows(mesh, np.array([0.5, 0.5, 0.5, 1])), lit=False, board=Board(4.0))
    row = drawn(renderer, Scene(layers=(layer,)), flat_camera().matrix, np.array([0, 0, 10.0]))[75, 50:150, 0]
    assert int((np.abs(np.diff(row)) > 40).sum()) == 3


def test_buffers_of_layers_that_are_gone_are_released(renderer: Renderer) -> None:
    for _ in range(5):
        layer = Layer(fill_rows(cube(), np.ones(4)))
        drawn(renderer, Scene(layers=(layer,)), flat_camera().matrix, np.array([0, 0, 10.0]))
    del layer
    drawn(renderer, Scene(), flat_camera().matrix, np.array([0, 0, 10.0]))
    assert len(renderer.dead) == 0 and len(renderer.buffers) == 0


def eye_at_z(distance: float = 4.0) -> FormCamera:
    return FormCamera(np.zeros(3), distance, yaw=0, pitch=0, width=SIZE[0], height=SIZE[1])


def test_a_heavy_source_is_finished_over_several_calls_and_looks_the_same(renderer: Renderer) -> None:
    """Meanwhile its light copy is seen; turning throws the half-finished picture away."""
    surface, light = surface_of_mesh(icosphere(6)), surface_of_mesh(icosphere(2))
    camera, look = eye_at_z(), Look()
    whole = drawn(renderer, Scene((surface,), look=look), camera.matrix, camera.eye)
    scene = Scene((surface,), ((light,),), look=look)
    target = renderer.context.framebuffer([renderer.context.texture(SIZE, 4)])
    renderer.base_key, renderer.rate = None, 1e6
    calls = 0
    while calls == 0 or renderer.unfinished:
        renderer.draw(scene, camera.matrix, camera.eye, SIZE, target, rotation=np.eye(3), budget=0.01)
        renderer.rate = 1e6
        if calls == 1:
            assert not renderer.shows(scene, camera.matrix)
        calls += 1
    assert calls >= 3 and renderer.shows(scene, camera.matrix)
    data = np.frombuffer(target.read(components=3), np.uint8).reshape(SIZE[1], SIZE[0], 3)[::-1]
    assert np.abs(data.astype(int) - whole).max() <= 1
    turned = camera.turned(30, 0)
    renderer.draw(scene, turned.matrix, turned.eye, SIZE, target, moving=True, rotation=np.eye(3))
    assert not renderer.unfinished and not renderer.shows(scene, turned.matrix) and renderer.coming_key is None


def test_the_heaviest_light_copy_that_the_rate_allows_is_chosen() -> None:
    counts = [40_000, 600_000, 7_000_000]
    assert chosen_light(counts, 1.2e6, software=True) == 0
    assert chosen_light(counts, 1e9, software=True) == 0
    assert chosen_light(counts, 1e8, software=False) == 1
    assert chosen_light(counts, 2e9, software=False) == 2
    assert chosen_light(counts, 1e5, software=False) == 0


def test_cutting_away_shows_the_inside(renderer: Renderer) -> None:
    surface, camera = surface_of_mesh(icosphere(4)), eye_at_z()
    closed = drawn(renderer, Scene((surface,)), camera.matrix, camera.eye)
    cut = drawn(renderer, Scene((surface,), look=Look(cut=(0, 0, 1, 0.0))), camera.matrix, camera.eye)
    gone = drawn(renderer, Scene((surface,), look=Look(cut=(0, 0, 1, -2.0))), camera.matrix, camera.eye)
    ground = np.rint(np.array(Scene().ground) * 255)
    assert np.abs(gone[80, 100] - ground).max() <= 1
    assert np.abs(cut[80, 100] - closed[80, 100]).max() > 15  # the far wall, seen from behind
    assert np.abs(cut[80, 100] - ground).max() > 10


def test_facets_are_flat_and_smooth_shading_is_not(renderer: Renderer) -> None:
    surface, camera = surface_of_mesh(icosphere(1)), eye_at_z(3.0)

    def steps(shade: str) -> int:
        picture = drawn(renderer, Scene((surface,), look=Look(shade)), camera.matrix, camera.eye)
        return len(np.unique(picture[50:110, 70:130].reshape(-1, 3), axis=0))

    assert steps("facets") < 60 < steps("smooth")


def test_clay_darkens_hollows_and_lightens_ridges() -> None:
    """A sheet with a valley and a ridge (in closed form a saddle-free wave): packed values under and over the middle."""
    n = 60
    x, y = np.meshgrid(np.linspace(0, 2 * np.pi, n), np.linspace(0, 1, n))
    points = np.stack([x.ravel(), y.ravel(), np.cos(x).ravel()], axis=1)
    wave = surface_of_mesh(PolyMesh.from_faces(points, grid(n - 1).corners.reshape(-1, 4)))
    raised = wave.packed[:, 3].reshape(n, n)[10:-10].astype(int).mean(axis=0)
    assert raised[n // 2] < 110 and raised[3] > 135  # the valley at π, the ridge at 0


def test_own_colours_materials_and_pictures(renderer: Renderer) -> None:
    camera = FormCamera(np.array([0.5, 0.5, 0.0]), 4.0, yaw=0, pitch=0, width=SIZE[0], height=SIZE[1])
    sheet = grid(2).with_points(grid(2).points / 2)

    def middle(mesh: PolyMesh, shade: str) -> np.ndarray:
        picture = drawn(renderer, Scene((surface_of_mesh(mesh),), look=Look(shade)), camera.matrix, camera.eye)
        return picture[[70, 70, 90, 90], [90, 110, 90, 110]]

    blue = np.tile(np.array([[0, 0, 255, 255]], np.uint8), (9, 1))
    seen = middle(sheet.with_(point_data={"colour": blue}), "colours")
    assert (seen[:, 2] > 120).all() and (seen[:, :2] < 12).all()
    half = sheet.with_(materials=(Material("r", (1, 0, 0, 1)), Material("g", (0, 1, 0, 1))),
                       face_data={"material": np.array([0, 1, 0, 1], np.int32)})  # fmt: skip
    seen = middle(half, "colours")
    assert (seen[[0, 2], 0] > 100).all() and (seen[[1, 3], 1] > 100).all() and (seen[:, 2] < 12).all()
    out = io.BytesIO()
    pixels = np.array([[[255, 0, 0], [0, 255, 0]], [[0, 0, 255], [255, 255, 0]]], np.uint8)
    Image.fromarray(pixels.repeat(32, 0).repeat(32, 1)).save(out, "PNG")
    pictured = sheet.with_uv(sheet.points[sheet.corners, :2]).with_(
        materials=(Material("p", picture=out.getvalue()),), face_data={"material": np.zeros(4, np.int32)}
    )
    seen = middle(pictured, "picture")
    wanted = [(0,), (1,), (2,), (0, 1)]
    for row, high in zip(seen, wanted, strict=True):
        assert set(np.flatnonzero(row > 60).tolist()) == set(high), (row, high)
    assert decoded(b"no picture")[0] == (1, 1)
