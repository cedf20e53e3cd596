"""What is laid over mapped faces to see stretch by: squares, numbered squares, squares coloured by sheet, a picture of one's own."""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from jacket.commands.display import Display
from jacket.document.state import State
from jacket.formats.deliver.own import stamp_of_file
from jacket.qt.theme import ASSETS
from jacket.render.scene import Board

SIDE = 2048
"""Pixels of the longer side of numbered squares and of one's own picture."""
MOST_NUMBERED = 64


def board_of(display: Display, state: State) -> Board | None:
    """What lies over mapped faces; nothing where the checker is off. Squares are as high as wide on the sheet that is worked on."""
    if not display.checker:
        return None
    path = display.board_picture if display.board == "picture" else ""
    return _board(display.board, display.squares, state.sheet.width / max(state.sheet.height, 1), path, stamp_of_file(path) if path else (0, 0),
                  display.board_share, display.board_light)  # fmt: skip


@lru_cache(maxsize=8)
def _board(kind: str, squares: float, across: float, path: str, stamp: tuple[int, int], share: float, light: float) -> Board:
    if kind == "numbered":
        rows = int(np.clip(round(squares), 2, MOST_NUMBERED))
        return Board(squares, across, pixels=numbered(max(round(rows * across), 1), rows))
    if kind == "picture":
        return Board(squares, across, pixels=_picture(path, stamp), share=share, light=light)
    return Board(squares, across, kind == "sheets")


@lru_cache(maxsize=4)
def numbered(columns: int, rows: int) -> NDArray[np.uint8]:
    """(H, W, 3) squares with a letter for the column and a number for the row from below, paper and kraft by turns, a darker
    corner at the lower left of each, by which one sees what is mirrored or turned."""
    cell = max(SIDE // max(columns, rows), 8)
    image = Image.new("RGB", (columns * cell, rows * cell))
    draw = ImageDraw.Draw(image)
    font = ImageFont.truetype(str(ASSETS / "fonts" / "DejaVuSans-Bold.ttf"), max(int(0.34 * cell), 6))
    for i in range(columns):
        for j in range(rows):
            x, y = i * cell, (rows - 1 - j) * cell
            light = (i + j) % 2
            draw.rectangle((x, y, x + cell, y + cell), fill=(244, 240, 232) if light else (201, 190, 166))
            draw.polygon([(x, y + cell), (x + 0.28 * cell, y + cell), (x, y + 0.72 * cell)], fill=(63, 107, 79) if light else (124, 45, 58))
            draw.text((x + 0.54 * cell, y + 0.48 * cell), f"{letters(i)}{j + 1}", font=font, fill=(35, 39, 46), anchor="mm")
    return np.ascontiguousarray(np.asarray(image))


def letters(number: int) -> str:
    """A, B … Z, AA, AB … for 0, 1 …"""
    out = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        out = chr(65 + rest) + out
    return out


def _picture(path: str, stamp: tuple[int, int]) -> NDArray[np.uint8] | None:
    if stamp == (0, 0) or not os.access(path, os.R_OK):
        return None
    try:
        with Image.open(Path(path)) as opened:
            image = opened.convert("RGB")
        image.thumbnail((SIDE, SIDE))
        return np.ascontiguousarray(np.asarray(image))
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return None
