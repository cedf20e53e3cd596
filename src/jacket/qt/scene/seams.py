"""Seams as a basting stitch: saffron dashes on a dark line, thinner where islands are small on the screen."""

from __future__ import annotations

import math

import numpy as np

from jacket.core.derive import islands_of, known_shown
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.seams.sky import at_edges
from jacket.document.state import State
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, dot_rows, line_rows
from jacket.stages.seams.suggesting import GLADLY, NEVER

WIDE = 4.6
"""Pixels of the dark line under a full stitch."""
PLAIN = 2.2
"""Pixels of it under which the stitch is left to a line: dashes would not be seen as such."""


def stitch_width(span: Floats) -> Floats:
    """Pixels of the stitch's dark line for islands (N,) of a span in pixels: a twentieth of it, up to the full width."""
    return np.clip(np.nan_to_num(span, nan=1e3, posinf=1e3) / 20.0, 0.9, WIDE)


def zoom_step(per_unit: float) -> int:
    """Steps by which widths on the screen are told apart, for pixels a unit."""
    return round(math.log(max(per_unit, 1e-9)) / math.log(1.3))


def zoomed(per_unit: float) -> float:
    """Pixels a unit by whole steps: what is drawn anew within a step looks as what was kept."""
    return float(1.3 ** zoom_step(per_unit))


def stitch_layers(segments: Floats, widths: Floats | None, palette: Palette, pull: float) -> list[Layer]:
    """Segments (S, 2, 2 or 3) as stitches of widths (S,), full ones unless given; thin ones as plain lines."""
    if len(segments) == 0:
        return []
    wide = np.full(len(segments), WIDE) if widths is None else widths
    full = wide >= PLAIN
    out = []
    if full.any():
        out.append(Layer(lines=line_rows(segments[full], rgb(palette.stitch_dark), wide[full]), pull=pull))
        out.append(Layer(lines=line_rows(segments[full], rgb(palette.stitch), wide[full] * 0.56), pull=pull * 1.15, stitch=11.0))
    if not full.all():
        rest = segments[~full]
        out.append(Layer(lines=line_rows(rest, rgb(palette.stitch_dark), wide[~full] + 0.9), pull=pull))
        out.append(Layer(lines=line_rows(rest, rgb(palette.stitch), np.maximum(0.6 * wide[~full], 0.8)), pull=pull * 1.15))
    return out


def form_seams(mesh: PolyMesh, points: Floats, state: State, per_unit: float, palette: Palette, pull: float) -> list[Layer]:
    """Edges at which islands end, over points (V, 3) of the form; `per_unit` is how many pixels a unit has on the screen."""
    islands = islands_of(mesh, state.sheets)
    topology = mesh.topology
    edges = np.flatnonzero(islands.borders)
    if len(edges) == 0:
        return []
    span = np.sqrt(islands.surface_area) * zoomed(per_unit)
    segments = points[topology.edge_points[edges]]
    known = known_shown(mesh, state.sights) if state.sights else None
    if known is not None:
        return _seen_seams(segments, at_edges(mesh, known)[edges], palette, pull)
    corner = topology.edge_corner[edges]
    twin = topology.twin[corner]
    here = span[islands.labels[mesh.face_of_corner[corner]]]
    there = np.where(twin >= 0, span[islands.labels[mesh.face_of_corner[np.maximum(twin, 0)]]], here)
    return stitch_layers(segments, stitch_width(np.minimum(here, there)), palette, pull)


def _seen_seams(segments: Floats, shown: Floats, palette: Palette, pull: float) -> list[Layer]:
    """Seams (S, 2, 3) with sight lines about, by how much each shows (S,): those that do glow, hidden ones are thin."""
    wide = np.where(shown > 0, PLAIN + (WIDE - PLAIN) * np.clip(2 * shown, 0, 1), 1.0)
    out = []
    if (shown > 0).any():
        glow = segments[shown > 0]
        out.append(Layer(lines=line_rows(glow, rgb(palette.stitch, 0.35), 9 * np.clip(2 * shown[shown > 0], 0.4, 1)), pull=pull))
    return out + stitch_layers(segments, wide, palette, pull)


def thread_layers(threads: Floats, palette: Palette) -> list[Layer]:
    """Threads (T, 2, 2) between sides that belong together, bent a little so that those side by side are told apart."""
    if len(threads) == 0:
        return []
    t = np.linspace(0, 1, 13)
    a, b = threads[:, 0][:, None], threads[:, 1][:, None]
    across = np.stack([-(b - a)[..., 1], (b - a)[..., 0]], axis=-1)
    way = a + (b - a) * t[:, None] + 0.6 * across * (t * (1 - t))[:, None]
    rows = np.stack([way[:, :-1], way[:, 1:]], axis=2).reshape(-1, 2, 2)
    dots = threads.reshape(-1, 2)
    return [Layer(lines=line_rows(rows, rgb(palette.accent), 1.3)),
            Layer(dots=dot_rows(np.column_stack([dots, np.zeros(len(dots))]), rgb(palette.accent), 7.0))]  # fmt: skip


def wish_layers(mesh: PolyMesh, palette: Palette, pull: float) -> list[Layer]:
    """Edges that are never to be cut and those that are cut gladly, as thin lines."""
    out = []
    for mark, colour in ((NEVER, palette.accent), (GLADLY, palette.good)):
        ends = mesh.mark(mark)
        if len(ends):
            out.append(Layer(lines=line_rows(mesh.points[ends], rgb(colour, 0.9), 2.0), pull=pull * 1.05))
    return out


def flat_seams(mesh: PolyMesh, places: Floats, state: State, per_unit: float, palette: Palette) -> list[Layer]:
    """Outlines of islands over places (C, 2) of the sheet; `per_unit` is how many pixels a sheet unit has on the screen."""
    islands = islands_of(mesh, state.sheets)
    corners = islands.border_corners
    corners = corners[islands.mapped[islands.corner_labels[corners]]]
    segments = np.stack([places[corners], places[mesh.topology.next[corners]]], axis=1)
    box = islands.boxes
    span = np.sqrt(np.maximum((box[:, 2:] - box[:, :2]).prod(axis=1), 0.0)) * zoomed(per_unit)
    return stitch_layers(segments, stitch_width(span[islands.corner_labels[corners]]), palette, 0.0)
