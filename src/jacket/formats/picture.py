"""The layout of a sheet as a picture to paint on."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.layout.islands import Islands
from jacket.core.mesh.polymesh import PolyMesh

ISLAND_TINTS = (
    (196, 216, 203), (206, 200, 220), (224, 204, 188), (198, 214, 224), (221, 215, 180),
    (224, 196, 200), (189, 215, 214), (214, 208, 200), (205, 220, 180), (200, 202, 226),
)  # fmt: skip


def layout_png(mesh: PolyMesh, size: int, names: dict[int, str] | None = None) -> bytes:
    """A PNG of `size` pixels: islands filled in tints, quad edges thin, outlines strong."""
    from PIL import Image, ImageDraw, ImageFont

    islands = Islands.of(mesh)
    scale = max(1, min(2, 4096 // size))
    image = Image.new("RGB", (size * scale, size * scale), (244, 240, 232))
    draw = ImageDraw.Draw(image)
    place = _pixels(islands.uv, size * scale)
    starts = mesh.starts.tolist()
    mapped: Any = np.isfinite(place).all(axis=1)
    for f in range(mesh.n_faces):
        span = slice(starts[f], starts[f + 1])
        if mapped[span].all():
            tint = ISLAND_TINTS[int(islands.labels[f]) % len(ISLAND_TINTS)]
            draw.polygon([tuple(p) for p in place[span].tolist()], fill=tint, outline=(150, 146, 140))
    corner = islands.border_corners
    for c in corner.tolist():
        d = int(mesh.topology.next[c])
        if mapped[c] and mapped[d]:
            draw.line([tuple(place[c]), tuple(place[d])], fill=(35, 39, 46), width=2 * scale)
    for island, name in (names or {}).items():
        here = place[islands.corner_labels == island]
        if len(here) and np.isfinite(here).all():
            x, y = (here.min(axis=0) + here.max(axis=0)) / 2
            draw.text((x, y), name, fill=(35, 39, 46), anchor="mm", font=ImageFont.load_default(11 * scale))
    if scale > 1:
        image = image.resize((size, size), Image.Resampling.LANCZOS)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def _pixels(uv: NDArray[np.float64], size: int) -> NDArray[np.float64]:
    return np.stack([uv[:, 0] * size, (1.0 - uv[:, 1]) * size], axis=1)
