"""The boards that stretch is seen by: numbers where they belong, a colour a sheet, a picture of one's own, square squares."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from jacket.commands.display import Display
from jacket.core.uv.sheets import Sheet
from jacket.document.state import JacketObject, State
from jacket.errors import FormatError
from jacket.qt.scene.boards import board_of, letters, numbered
from jacket.render.scene import Board, Layer, Scene, fill_rows
from jacket.tools.view import FlatCamera
from tests.conftest import grid
from tests.host import Headless
from tests.render.test_renderer import renderer  # noqa: F401 - a fixture

SIZE = (200, 160)


def picture(renderer, board: Board, centre: tuple[float, float] = (0.5, 0.5)) -> np.ndarray:  # type: ignore[no-untyped-def] # noqa: F811
    """Two sheets side by side, mapped as they lie, seen flat; the upper row first."""
    square = grid(2).with_points(grid(2).points * [1.0, 0.5, 0])  # two units wide, one high
    mesh = square.with_uv(square.points[square.corners][:, :2])
    layer = Layer(fill_rows(mesh, np.array([0.5, 0.5, 0.5, 1])), lit=False, board=board)
    camera = FlatCamera(np.array(centre), 100.0, *SIZE)
    target = renderer.context.simple_framebuffer(SIZE, 4)
    renderer.draw(Scene(layers=(layer,)), camera.matrix, np.array([0.0, 0.0, 10.0]), SIZE, target)
    return np.frombuffer(target.read(components=3), np.uint8).reshape(SIZE[1], SIZE[0], 3)[::-1].astype(int)


def test_columns_have_letters_and_rows_count_from_below() -> None:
    assert [letters(k) for k in (0, 25, 26, 701, 702)] == ["A", "Z", "AA", "ZZ", "AAA"]
    board = numbered(4, 2)
    assert board.shape == (1024, 2048, 3)
    # The darker corner lies at the lower left of each square; paper and kraft take turns.
    cells = [board[y + 400, x + 480] for y in (0, 512) for x in (0, 512)]
    assert (cells[0] == cells[3]).all() and (cells[1] == cells[2]).all() and (cells[0] != cells[1]).any()
    assert tuple(board[1020, 8]) == (124, 45, 58) and tuple(board[1020, 520]) == (63, 107, 79)


def test_squares_are_square_on_a_sheet_that_is_not() -> None:
    state = State((), (JacketObject(1, "j", grid(2)),), active=1, sheets=(Sheet(width=2048, height=1024),))
    assert board_of(Display(), state) is None
    shown = Display(checker=True)
    plain = board_of(shown, state)
    assert plain is not None and (plain.squares, plain.across) == (16, 2) and board_of(shown, state) is plain
    many = board_of(replace(shown, board="numbered"), state)
    assert many is not None and many.pixels is not None and many.pixels.shape == (1024, 2048, 3)


def test_pixels_are_drawn_over_the_faces_and_on_every_sheet(renderer) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    """A red and a blue half, drawn twice over side by side; half of a picture is mixed with the ground of the face."""
    halves = np.zeros((4, 4, 3), np.uint8)
    halves[:, :2, 0], halves[:, 2:, 2] = 255, 255
    seen = picture(renderer, Board(4.0, pixels=halves), (1.0, 0.5))
    row = seen[80]
    assert [int(row[x].argmax()) for x in (20, 80, 120, 180)] == [0, 2, 0, 2]
    assert np.abs(row[20] - [255, 0, 0]).max() <= 1
    mixed = picture(renderer, Board(4.0, pixels=halves, share=0.5, light=0.5), (1.0, 0.5))[80, 20]
    assert np.abs(mixed - [(128 + 128) / 2, 64, 64]).max() <= 2
    sheets = picture(renderer, Board(2.0, by_sheet=True), (1.0, 0.5))
    assert np.abs(sheets[100, 20] - sheets[100, 120]).max() > 20  # the same square of the next sheet has another colour


def test_a_picture_is_chosen_refused_and_read_again(tmp_path: Path) -> None:
    p = Headless(State((), (JacketObject(1, "j", grid(2)),), active=1))
    path = tmp_path / "own.png"
    path.write_text("nothing")
    p.front.filing.picture = str(path)
    with pytest.raises(FormatError, match="no picture"):
        p.do("checker-picture")
    Image.new("RGB", (8, 8), (10, 20, 30)).save(path)
    p.do("checker-picture")
    assert p.display.checker and p.display.board == "picture"
    first = board_of(p.display, p.document.state)
    assert first is not None and first.pixels is not None and tuple(first.pixels[0, 0]) == (10, 20, 30)
    Image.new("RGB", (8, 8), (90, 20, 30)).save(path)
    os.utime(path, ns=(1, 1))
    again = board_of(p.display, p.document.state)
    assert again is not None and again.pixels is not None and again.pixels[0, 0, 0] == 90
    path.unlink()
    gone = board_of(p.display, p.document.state)
    assert gone is not None and gone.pixels is None
