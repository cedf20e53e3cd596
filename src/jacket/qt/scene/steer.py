"""What steers the automatic quads: guides and painted density, over the source."""

from __future__ import annotations

from functools import partial

import numpy as np

from jacket.core.derive import form_of, islands_of, light_of, surface_of
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.quads.steering import guide_curve
from jacket.core.store import STORE
from jacket.core.uv.curves import onto_sheet
from jacket.document.state import State
from jacket.jobs.picture import guide_curves
from jacket.qt.scene.rows import SHOWN_TRIANGLES, triangle_rows
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, dot_rows, line_rows
from jacket.stages.topology.tools.steer import PAINTED


def guide_layers(state: State, palette: Palette, pull: float) -> list[Layer]:
    """Guides on the source: hard ones whole, soft ones in dashes, with their points."""
    out: list[Layer] = []
    source = state.source
    if source is None:
        return out
    for guide in state.guides:
        path = STORE.get((guide, *form_of(source.mesh)), "curve", partial(guide_curve, guide, surface_of(source.mesh)))
        ahead = np.roll(path, -1, axis=0) if guide.closed else path[1:]
        pieces = np.stack([path[: len(ahead)], ahead], axis=1)
        out.append(Layer(lines=line_rows(pieces, rgb("#fbf9f4"), 5.0), pull=pull))
        out.append(
            Layer(lines=line_rows(pieces, rgb(palette.accent), 3.0), pull=pull * 1.1, stitch=0.0 if guide.hard else 9.0)
        )
        dots = [dot_rows(guide.points, rgb("#fbf9f4"), 8.0), dot_rows(guide.points, rgb(palette.accent), 5.5)]
        out.append(Layer(dots=np.concatenate(dots), pull=pull * 1.2))
    return out


def flat_guides(mesh: PolyMesh, state: State, palette: Palette) -> list[Layer]:
    """Guides where they lie on the sheet."""
    if not state.guides or state.source is None:
        return []
    key = (*(mesh.aspect(a) for a in ("points", "faces", "uv", "marks", "cuts")), *form_of(state.source.mesh), *state.guides)
    # While UVs are dragged only the places on the sheet are new: tree and islands are kept for others too.
    runs: list[Floats] = STORE.get(key, "guides on the sheet", lambda: onto_sheet(guide_curves(state), mesh, state.sheets, surface_of(mesh), islands_of(mesh, state.sheets)))
    if not runs:
        return []
    rows = np.concatenate([np.stack([r[:-1], r[1:]], axis=1) for r in runs])
    ends = np.concatenate([rows, np.zeros((*rows.shape[:2], 1))], axis=2)
    return [Layer(lines=line_rows(ends, rgb("#fbf9f4"), 4.0), lit=False), Layer(lines=line_rows(ends, rgb(palette.accent), 2.4), lit=False)]


def paint_layers(state: State, palette: Palette, pull: float) -> list[Layer]:
    """Painted density over the source: towards the accent where closer, towards moss where farther apart."""
    paint, source = state.paint, state.source
    if paint is None or source is None or not np.any(paint.values):
        return []
    light, _ = light_of(source.mesh, PAINTED)
    if light.n_points != len(paint.values):
        dots = np.abs(paint.values) > 0.05
        tint = rgb(palette.look)
        return [Layer(dots=dot_rows(paint.places[dots], tint, 4.0), pull=pull)]
    corner = light.triangle_points
    value = paint.values[corner].mean(axis=1)
    keep = np.abs(value) > 0.03
    rows = triangle_rows(light.points[corner[keep]], rgb(palette.accent))
    dense, sparse = np.array(rgb(palette.accent)[:3]), np.array(rgb(palette.good)[:3])
    tints = np.where((value[keep] > 0)[:, None], dense, sparse)
    share = np.clip(np.abs(value[keep]) / 2.0, 0, 1)
    step = max(1, int(keep.sum()) // SHOWN_TRIANGLES)
    rows[:, 6:9] = np.repeat(tints[::step], 3, axis=0)
    rows[:, 9] = np.repeat(0.25 + 0.6 * share[::step], 3)
    return [Layer(rows, pull=pull, lit=True)]
