"""Pictures of one's own in place of baked maps: read from disk, read again when they change there."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image

from jacket.core.bake.made import SheetMaps
from jacket.core.bake.maps import ALL_MAPS, Baked
from jacket.core.uv.sheets import FIRST_TILE, Sheets
from jacket.errors import FormatError
from jacket.formats.atomic import read_bytes

ROLES = ("colour", "normal", "occlusion", "roughness", "metal", "opacity")
"""What a picture of one's own can stand for."""
MOST_SIDE = 16384


def checked_own(role: str, path: Path) -> Baked:
    """A picture for a role. Raises FormatError with a sentence where it is none, or of another kind."""
    if role not in ROLES:
        raise FormatError(f"A picture cannot stand for {role[:40]}; choose one of {', '.join(ROLES)}.")
    return _decoded(role, path.name, bytes(read_bytes(path)))


def _decoded(role: str, name: str, data: bytes) -> Baked:
    try:
        with Image.open(io.BytesIO(data)) as opened:
            if max(opened.size) > MOST_SIDE:
                raise FormatError(f"{name} is {opened.size[0]:,} × {opened.size[1]:,} pixels, more than {MOST_SIDE:,}; make it smaller.")
            # Sixteen bits of one channel are kept in eight: these are pictures to look at and to pack.
            image = opened.point(lambda v: v / 257).convert("L") if opened.mode.startswith("I") else opened
            pixels = np.asarray(image.convert("RGB" if ALL_MAPS[role].channels == 3 else "L"))
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        raise FormatError(f"{name} is no picture that can be read; choose a PNG or JPEG.") from None
    return Baked(role, pixels[..., None] if pixels.ndim == 2 else pixels)


@lru_cache(maxsize=32)
def _kept(role: str, path: str, stamp: tuple[int, int]) -> Baked | None:
    try:
        return checked_own(role, Path(path))
    except FormatError:
        return None


def stamp_of_file(path: str) -> tuple[int, int]:
    """What tells one state of a file from another; (0, 0) where there is none."""
    try:
        status = Path(path).stat()
        return status.st_mtime_ns, status.st_size
    except (OSError, ValueError):
        return 0, 0


def own_stamps(own: Mapping[str, str]) -> tuple[tuple[str, str, tuple[int, int]], ...]:
    """What pictures of one's own follow from."""
    return tuple((role, path, stamp_of_file(path)) for role, path in own.items())


def on_tile(path: str, tile: int) -> str:
    """The file of a tile: where a name holds the number of the first tile, that of another stands there (common practice)."""
    name = Path(path).name
    there = str(Path(path).with_name(name.replace(str(FIRST_TILE), str(tile)))) if str(FIRST_TILE) in name else path
    return there if there == path or stamp_of_file(there) != (0, 0) else path


def with_own(made: Sequence[SheetMaps], own: Mapping[str, str], sheets: Sheets) -> tuple[SheetMaps, ...]:
    """The maps of all sheets with one's own pictures in place of baked ones; those that cannot be read are left out."""
    if not own:
        return tuple(made)
    by_tile = {s.sheet.tile: s for s in made}
    out = []
    for sheet in sheets:
        known = by_tile.get(sheet.tile) or SheetMaps(sheet, {}, np.zeros((sheet.height, sheet.width), np.uint8))
        found = {r: _kept(r, p, stamp_of_file(p)) for r, p in ((r, on_tile(p, sheet.tile)) for r, p in own.items())}
        out.append(replace(known, maps={**known.maps, **{r: b for r, b in found.items() if b is not None}}))
    return tuple(out)


def fitted(baked: Baked, size: tuple[int, int]) -> Baked:
    """A map at another size (width, height), as a picture of one's own next to others in one file."""
    height, width = baked.pixels.shape[:2]
    if (width, height) == size:
        return baked
    eight = baked.eight()
    image = Image.fromarray(eight[..., 0] if eight.shape[2] == 1 else eight).resize(size, Image.Resampling.BOX if width > size[0] else Image.Resampling.BILINEAR)
    pixels = np.asarray(image)
    return Baked(baked.kind, pixels[..., None] if pixels.ndim == 2 else pixels)
