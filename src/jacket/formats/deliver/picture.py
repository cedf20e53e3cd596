"""The layout of a sheet as a picture to paint on."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.identity import island_numbers
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import ONE_SHEET, Sheets

ISLAND_TINTS = (
    (196, 216, 203), (206, 200, 220), (224, 204, 188), (198, 214, 224), (221, 215, 180),
    (224, 196, 200), (189, 215, 214), (214, 208, 200), (205, 220, 180), (200, 202, 226),
)  # fmt: skip

Named = tuple[PolyMesh, Mapping[int, str] | None]


def layout_png(meshes: Sequence[Named], sheets: Sheets = ONE_SHEET, sheet: int = 0) -> bytes:
    """A PNG of a sheet at its size in pixels: islands filled in tints, quad edges thin, outlines strong, and the names of
    islands by the number on their faces where some are given."""
    from PIL import Image, ImageDraw

    where = sheets[sheet]
    scale = max(1, min(2, 4096 // max(where.width, where.height)))
    size = (where.width * scale, where.height * scale)
    image = Image.new("RGB", size, (244, 240, 232))
    draw = ImageDraw.Draw(image)
    for mesh, names in meshes:
        _draw(draw, mesh, names or {}, sheets, sheet, size, scale)
    if scale > 1:
        image = image.resize((where.width, where.height), Image.Resampling.LANCZOS)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def _draw(
    draw: Any, mesh: PolyMesh, names: Mapping[int, str], sheets: Sheets, sheet: int, size: tuple[int, int], scale: int
) -> None:
    from PIL import ImageFont

    islands = Islands.of(mesh, sheets)
    where = sheets[sheet]
    # Rows of the picture run downwards.
    place = (islands.uv - where.origin) * [1, -1] * size + [0, size[1]]
    here = islands.sheet_of[islands.corner_labels] == sheet
    mapped: Any = np.isfinite(place).all(axis=1) & here
    starts = mesh.starts.tolist()
    for f in range(mesh.n_faces):
        span = slice(starts[f], starts[f + 1])
        if mapped[span].all():
            tint = ISLAND_TINTS[int(islands.labels[f]) % len(ISLAND_TINTS)]
            draw.polygon([tuple(p) for p in place[span].tolist()], fill=tint, outline=(150, 146, 140))
    for c in islands.border_corners.tolist():
        d = int(mesh.topology.next[c])
        if mapped[c] and mapped[d]:
            draw.line([tuple(place[c]), tuple(place[d])], fill=(35, 39, 46), width=2 * scale)
    numbers = island_numbers(mesh)
    for k in range(islands.count if numbers is not None else 0):
        name = names.get(int(numbers[islands.faces(k)[0]]), "") if numbers is not None else ""
        spots = place[(islands.corner_labels == k) & mapped]
        if name and len(spots):
            x, y = (spots.min(axis=0) + spots.max(axis=0)) / 2
            draw.text((x, y), name, fill=(35, 39, 46), anchor="mm", font=ImageFont.load_default(11 * scale))
