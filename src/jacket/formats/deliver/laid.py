"""Decals on the maps of sheets: their pictures read from disk, read again when they change there."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image

from jacket.core.bake.decals import Decal
from jacket.core.bake.laying import Stencil, by_role, ground_of, laid_on, stencil, texels_of
from jacket.core.bake.made import SheetMaps
from jacket.core.derive import rays_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sheets import Sheets
from jacket.errors import FormatError
from jacket.formats.atomic import read_bytes
from jacket.formats.deliver.own import MOST_SIDE, stamp_of_file

MOST_STENCIL = 4096
"""Pixels of the longer side that a decal's picture is read at."""

Laid = tuple[PolyMesh, tuple[Decal, ...]]
"""A mesh and what lies on it."""


def checked_stencil(path: Path) -> Stencil:
    """The picture of a decal. Raises FormatError with a sentence where it is none."""
    try:
        with Image.open(io.BytesIO(bytes(read_bytes(path)))) as opened:
            if max(opened.size) > MOST_SIDE:
                raise FormatError(f"{path.name} is {opened.size[0]:,} × {opened.size[1]:,} pixels, more than {MOST_SIDE:,}; make it smaller.")
            image = opened.point(lambda v: v / 257).convert("L") if opened.mode.startswith("I") else opened
            image = image.convert("RGBA")
            image.thumbnail((MOST_STENCIL, MOST_STENCIL))
            return stencil(np.asarray(image))
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        raise FormatError(f"{path.name} is no picture that can be read; choose a PNG or JPEG.") from None


@lru_cache(maxsize=32)
def _kept(path: str, stamp: tuple[int, int]) -> Stencil | None:
    try:
        return checked_stencil(Path(path))
    except FormatError:
        return None


def stencil_of(path: str) -> Stencil | None:
    """The picture of a decal as it is on disk now; None where there is none."""
    return _kept(path, stamp_of_file(path))


def decal_stamps(decals: Sequence[Decal]) -> tuple[tuple[Decal, tuple[int, int]], ...]:
    """What the look of decals follows from."""
    return tuple((d, stamp_of_file(d.path)) for d in decals)


def with_decals(made: Sequence[SheetMaps], layers: Sequence[Laid], sheets: Sheets) -> tuple[SheetMaps, ...]:
    """The maps of all sheets with the decals of layers laid on them; sheets and maps that none touches stay the objects they
    are. Where a map is not there yet, a plain one is made. Decals whose picture cannot be read are left out."""
    rows = [(mesh, by_role([(d, s) for d in decals if (s := stencil_of(d.path)) is not None])) for mesh, decals in layers]
    rows = [(mesh, of) for mesh, of in rows if of and mesh.uv is not None]
    if not rows:
        return tuple(made)
    by_tile = {s.sheet.tile: s for s in made}
    out = []
    for sheet in sheets:
        known = by_tile.get(sheet.tile) or SheetMaps(sheet, {}, np.zeros((sheet.height, sheet.width), np.uint8))
        new: dict[str, object] = {}
        for role in dict.fromkeys(r for _, of in rows for r in of):
            base = known.maps.get(role) or ground_of(role, sheet.width, sheet.height)
            height, width = base.pixels.shape[:2]
            parts = []
            for mesh, of in rows:
                texels = texels_of(mesh, sheet, width, height) if role in of else None
                if texels is not None:
                    parts.append((texels, of[role], rays_of(mesh) if any(d.eye > 0 for d, _ in of[role]) else None))
            laid = laid_on(base, parts)
            if laid is not base:
                new[role] = laid
        if new or sheet.tile in by_tile:
            out.append(replace(known, maps={**known.maps, **new}) if new else known)  # type: ignore[dict-item]
    return tuple(out)


def lacking_pictures(decals: Sequence[Decal]) -> list[str]:
    """Files of decals that show, and that are not there or no pictures."""
    return sorted({d.path for d in decals if d.shown and stencil_of(d.path) is None})
