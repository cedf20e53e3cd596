"""The layout of a sheet as a picture to paint on: PNG, or SVG by the standard of the W3C (SVG 1.1)."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.uv.identity import numbers_by_label
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import ONE_SHEET, Sheet, Sheets
from jacket.errors import MeshError

ISLAND_TINTS = (
    "#c4d8cb", "#cec8dc", "#e0ccbc", "#c6d6e0", "#ddd7b4", "#e0c4c8", "#bdd7d6", "#d6d0c8", "#cddcb4", "#c8cae2",
)  # fmt: skip
FILLS = ("tints", "plain", "none")
MOST_PIXELS = 16384
BAND = 256
"""Rows or columns of a picture that are reduced at a time."""

Named = tuple[PolyMesh, Mapping[int, str] | None]


@dataclass(frozen=True)
class PictureSettings:
    """How a layout is drawn. Colours are written as #rrggbb, "" for none of it; widths are pixels of the sheet.

    times    multiple of the sheet's size
    ground   colour behind the islands, "" for transparent
    fill     islands in "tints", all "plain" in one colour, or "none"
    lines    edges of quads;  seams  outlines of islands;  names  what islands are called;  curves  guides that lie on the form
    """

    times: int = 1
    ground: str = "#f4f0e8"
    fill: str = "tints"
    plain: str = "#d6d0c8"
    lines: str = "#96928c"
    line_width: float = 1.0
    seams: str = "#23272e"
    seam_width: float = 2.0
    names: str = "#23272e"
    curves: str = "#7c2d3a"

    def checked(self) -> PictureSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        for name in ("ground", "plain", "lines", "seams", "names", "curves"):
            value = getattr(self, name)
            if value and not re.fullmatch(r"#[0-9a-fA-F]{6}", value):
                raise MeshError(f"The colour '{value[:20]}' of {name} is not written as #rrggbb; type it like #23272e, or leave it empty.")
        if self.fill not in FILLS:
            raise MeshError(f"Islands cannot be filled with '{self.fill}'; choose {', '.join(FILLS[:-1])} or {FILLS[-1]}.")
        if not 1 <= self.times <= 16:
            raise MeshError(f"{self.times} times the sheet's size is out of range; choose 1 to 16.")
        if not (0 <= self.line_width <= 64 and 0 <= self.seam_width <= 64):
            raise MeshError("Lines have to be 0 to 64 pixels wide; choose another width.")
        return self


@dataclass(frozen=True, eq=False)
class _Drawn:
    """An island in pixels from the upper left: faces as closed rings, its outline and inner edges as segments, its name."""

    number: int
    name: str
    tint: str
    rings: list[Floats]
    edges: Floats
    outline: Floats
    middle: Floats


def layout_png(
    meshes: Sequence[Named], sheets: Sheets = ONE_SHEET, sheet: int = 0, settings: PictureSettings = PictureSettings(),
    curves: Sequence[Floats] = (),
) -> bytes:
    """A PNG of a sheet at a multiple of its size, drawn twice as large where there is room and reduced. Raises MeshError
    where the settings make no sense or the picture would be larger than pictures are."""
    from PIL import Image, ImageDraw, ImageFont

    where, settings = sheets[sheet], settings.checked()
    width, height = where.width * settings.times, where.height * settings.times
    if max(width, height) > MOST_PIXELS:
        raise MeshError(f"A picture of {width} × {height} pixels is too large; choose a smaller multiple.")
    fine = 2 if max(width, height) <= 4096 else 1
    scale = settings.times * fine
    ground = (*_rgb(settings.ground), 255) if settings.ground else (*_rgb(settings.plain), 0)
    image = Image.new("RGBA", (width * fine, height * fine), ground)
    draw = ImageDraw.Draw(image)
    drawn = [island for mesh, names in meshes for island in _islands(mesh, names or {}, sheets, sheet, settings)]
    for island in drawn:
        for ring in island.rings if island.tint else ():
            draw.polygon([tuple(p) for p in (ring * scale).tolist()], fill=island.tint)
    for colour, wide, of in ((settings.lines, settings.line_width, "edges"), (settings.seams, settings.seam_width, "outline")):
        if colour and wide > 0:
            for island in drawn:
                for a, b in (getattr(island, of) * scale).tolist():
                    draw.line([tuple(a), tuple(b)], fill=colour, width=max(round(wide * scale), 1))
    if settings.curves:
        for curve in _laid(curves, where):
            draw.line([tuple(p) for p in (curve * scale).tolist()], fill=settings.curves, width=max(round(2 * scale), 1), joint="curve")
    if settings.names:
        writing = ImageFont.load_default(11 * scale)
        for island in drawn:
            if island.name:
                draw.text(tuple(island.middle * scale), island.name, fill=settings.names, anchor="mm", font=writing)
    if fine > 1:
        image = reduced(image, fine)
    out = io.BytesIO()
    (image if not settings.ground else image.convert("RGB")).save(out, "PNG")
    return out.getvalue()


def reduced(image: Any, times: int) -> Any:
    """A picture that many times smaller, by Lanczos' filter across and then down, in bands: the library lets nobody else work
    while it filters."""
    from PIL import Image

    wide, tall = image.size
    width, height = wide // times, tall // times
    across, small = Image.new(image.mode, (width, tall)), Image.new(image.mode, (width, height))
    for top in range(0, tall, BAND):
        end = min(top + BAND, tall)
        across.paste(image.crop((0, top, wide, end)).resize((width, end - top), Image.Resampling.LANCZOS), (0, top))
    for left in range(0, width, BAND):
        end = min(left + BAND, width)
        small.paste(across.crop((left, 0, end, tall)).resize((end - left, height), Image.Resampling.LANCZOS), (left, 0))
    return small


def layout_svg(
    meshes: Sequence[Named], sheets: Sheets = ONE_SHEET, sheet: int = 0, settings: PictureSettings = PictureSettings(),
    curves: Sequence[Floats] = (),
) -> bytes:
    """An SVG of a sheet, a unit a pixel of the sheet: a group for each island with its name, so that a drawing program can
    tell them apart. Places have four digits after the point."""
    where, settings = sheets[sheet], settings.checked()
    rows = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{where.width * settings.times}" height="{where.height * settings.times}" '
        f'viewBox="0 0 {where.width} {where.height}">',
        f"<title>{escape(where.name)} · {where.tile}</title>",
    ]
    if settings.ground:
        rows.append(f'<rect class="ground" width="{where.width}" height="{where.height}" fill="{settings.ground}"/>')
    for mesh, names in meshes:
        for island in _islands(mesh, names or {}, sheets, sheet, settings):
            rows += _group(island, settings)
    if settings.curves:
        for curve in _laid(curves, where):
            path = " L".join(f"{x:.4f},{y:.4f}" for x, y in curve.tolist())
            rows.append(f'<path class="curves" d="M{path}" fill="none" stroke="{settings.curves}" stroke-width="2" stroke-linejoin="round"/>')
    return "\n".join([*rows, "</svg>", ""]).encode()


def _laid(curves: Sequence[Floats], where: Sheet) -> list[Floats]:
    """Curves in UV coordinates that begin on a sheet, in its pixels from the upper left."""
    at = [(c - where.origin) * [1, -1] * where.size + [0, where.height] for c in curves]
    return [c for c in at if (c[0] >= 0).all() and (c[0] <= where.size).all()]


def _group(island: _Drawn, settings: PictureSettings) -> list[str]:
    rows = [f'<g id="island-{island.number}" class="island" data-name={quoteattr(island.name)}>']
    if island.tint:
        faces = " ".join("M" + " L".join(f"{x:.4f},{y:.4f}" for x, y in ring.tolist()) + " Z" for ring in island.rings)
        # A hair of the same colour closes the seams that smoothing leaves between faces.
        rows.append(f'<path class="fill" d="{faces}" fill="{island.tint}" stroke="{island.tint}" stroke-width="0.25"/>')
    for of, colour, wide in (("edges", settings.lines, settings.line_width), ("outline", settings.seams, settings.seam_width)):
        segments = getattr(island, of)
        if colour and wide > 0 and len(segments):
            path = " ".join(f"M{ax:.4f},{ay:.4f} L{bx:.4f},{by:.4f}" for (ax, ay), (bx, by) in segments.tolist())
            rows.append(f'<path class="{of}" d="{path}" fill="none" stroke="{colour}" stroke-width="{wide:g}" stroke-linecap="round"/>')
    if settings.names and island.name:
        x, y = island.middle.tolist()
        rows.append(f'<text x="{x:.2f}" y="{y:.2f}" font-size="11" font-family="sans-serif" text-anchor="middle" '
                    f'dominant-baseline="central" fill="{settings.names}">{escape(island.name)}</text>')  # fmt: skip
    return [*rows, "</g>"]


def _islands(mesh: PolyMesh, names: Mapping[int, str], sheets: Sheets, sheet: int, settings: PictureSettings) -> list[_Drawn]:
    """The islands of a layer that lie on a sheet."""
    islands = Islands.of(mesh, sheets)
    where, topology = sheets[sheet], mesh.topology
    # Rows of a picture run downwards.
    place = (islands.uv - where.origin) * [1, -1] * where.size + [0, where.height]
    mapped: Any = finite_rows(place) & (islands.sheet_of[islands.corner_labels] == sheet)
    numbers = numbers_by_label(mesh, islands.labels, islands.count)
    names_at = (islands.name_places - where.origin) * [1, -1] * where.size + [0, where.height]
    border = np.zeros(mesh.n_corners, bool)
    border[islands.border_corners] = True
    # Of an inner edge one of its two sides is enough.
    first = ~border & (topology.edge_corner[topology.edge] == np.arange(mesh.n_corners))
    ends = np.stack([place, place[topology.next]], axis=1)
    good = mapped & mapped[topology.next]
    out = []
    for k in range(islands.count):
        own = islands.corner_labels == k
        if not (own & mapped).any():
            continue
        faces = [place[mesh.starts[f] : mesh.starts[f + 1]] for f in islands.faces(k).tolist()
                 if mapped[mesh.starts[f] : mesh.starts[f + 1]].all()]  # fmt: skip
        tint = {"tints": ISLAND_TINTS[k % len(ISLAND_TINTS)], "plain": settings.plain}.get(settings.fill, "")
        out.append(_Drawn(int(numbers[k]), names.get(int(numbers[k]), ""), tint, faces, ends[own & good & first],
                          ends[own & good & border], names_at[k]))  # fmt: skip
    return out


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
