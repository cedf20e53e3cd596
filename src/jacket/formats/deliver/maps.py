"""Pictures of maps as files: PNG of eight or sixteen bits, and float EXR; several maps in the channels of one."""

from __future__ import annotations

import struct
import tempfile
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.maps import ALL_MAPS, Baked
from jacket.errors import FormatError

Pixels = NDArray[np.uint8] | NDArray[np.uint16]


def png_bytes(pixels: Pixels, screen: bool = False, level: int = 1) -> bytes:
    """A picture (H, W, 1 to 4 channels) as PNG (W3C, Portable Network Graphics, 3rd edition); sixteen bits stay sixteen.
    `screen` marks it as sRGB. Rows are filtered with Up, which suits maps and is quick (Pillow refuses RGB of 16 bits)."""
    height, width, channels = pixels.shape
    if channels not in (1, 2, 3, 4):
        raise FormatError(f"A PNG has 1 to 4 channels, not {channels}; pack fewer maps into it.")
    depth = 8 * pixels.dtype.itemsize
    rows = np.ascontiguousarray(pixels.astype(pixels.dtype.newbyteorder(">"))).view(np.uint8).reshape(height, -1)
    filtered = np.empty((height, rows.shape[1] + 1), np.uint8)
    filtered[:, 0] = 2
    filtered[0, 1:] = rows[0]
    np.subtract(rows[1:], rows[:-1], out=filtered[1:, 1:])
    head = struct.pack(">IIBBBBB", width, height, depth, {1: 0, 2: 4, 3: 2, 4: 6}[channels], 0, 0, 0)
    return b"".join([b"\x89PNG\r\n\x1a\n", _chunk(b"IHDR", head), _chunk(b"sRGB", b"\0") if screen else b"",
                     _chunk(b"IDAT", zlib.compress(filtered.tobytes(), level)), _chunk(b"IEND", b"")])  # fmt: skip


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def exr_bytes(values: NDArray[np.float32]) -> bytes:
    """Values (H, W, 1 or 3) as an OpenEXR file of 32-bit floats, channels Y or R, G, B."""
    import OpenEXR

    names = ("Y",) if values.shape[2] == 1 else ("R", "G", "B", "A")[: values.shape[2]]
    channels = {n: np.ascontiguousarray(values[..., k], np.float32) for k, n in enumerate(names)}
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    # The library writes to paths only.
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "map.exr"
        with OpenEXR.File(header, channels) as file:
            file.write(str(path))
        return path.read_bytes()


def map_bytes(baked: Baked, bits: int, ending: str = ".png", green_down: bool = False) -> bytes:
    """One map as a file of 8, 16 or 32 bits a channel; 32 are float and EXR."""
    if ending == ".exr":
        whole = baked.pixels if baked.pixels.dtype == np.float32 else baked.shares()
        return exr_bytes(np.asarray(whole, np.float32))
    pixels = _bits(turned_green(baked) if green_down else baked, bits)
    return png_bytes(pixels, ALL_MAPS[baked.kind].screen)


def turned_green(baked: Baked) -> Baked:
    """A map of tangent normals whose green points the other way."""
    if baked.kind != "normal":
        return baked
    pixels = baked.pixels.copy()
    pixels[..., 1] = (255 if pixels.dtype == np.uint8 else 65535) - pixels[..., 1]
    return Baked(baked.kind, pixels, baked.low, baked.high, baked.legend)


def _bits(baked: Baked, bits: int) -> Pixels:
    if bits not in (8, 16):
        raise FormatError(f"A PNG holds 8 or 16 bits a channel, not {bits}; choose one of them, or .exr.")
    return baked.eight() if bits == 8 else baked.sixteen()


def packed_bytes(
    parts: Sequence[str], find: Callable[[str], Baked | None], size: tuple[int, int], bits: int, green_down: bool = False
) -> bytes | None:
    """Several parts in the channels of one PNG of (width, height): each the name of a map (all its channels), "name.r",
    ".g", ".b" for one of them, or a number 0 to 1. None where a map is missing. Raises FormatError for other words."""
    width, height = size
    rows: list[Any] = []
    screen = False
    for word in parts:
        name, _, channel = word.partition(".")
        if word.replace(".", "", 1).isdigit():
            value = min(max(float(word), 0.0), 1.0)
            rows.append(np.full((height, width, 1), round(value * (2**bits - 1)), np.uint8 if bits == 8 else np.uint16))
            continue
        if name not in ALL_MAPS:
            raise FormatError(f"A picture cannot be made of '{word[:40]}'; name a map, or a number from 0 to 1.")
        baked = find(name)
        if baked is None:
            return None
        pixels = _bits(turned_green(baked) if green_down else baked, bits)
        rows.append(pixels[..., ["rgb".index(channel)]] if channel in ("r", "g", "b") else pixels)
        screen = screen or ALL_MAPS[name].screen
    whole = np.concatenate(rows, axis=2)
    return png_bytes(whole, screen)
