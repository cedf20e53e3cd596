"""Strokes along which pictures are stretched, on the sheet and on the form."""

from __future__ import annotations

import numpy as np

from jacket.core.derive import layout_of
from jacket.core.flatten.stretch import Strokes, stretch_strokes
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.store import STORE
from jacket.document.state import State
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, line_rows

WIDE = 1.6


def strokes_of(mesh: PolyMesh, state: State) -> Strokes:
    """Which way the active UV set stretches pictures, kept."""
    detached, size = mesh.detached(), np.asarray(state.sheet.size, float)

    def make() -> Strokes:
        uv = detached.uv if detached.uv is not None else np.full((detached.n_corners, 2), np.nan)
        return stretch_strokes(detached, uv, size)

    made: Strokes = STORE.get(layout_of(mesh), ("strokes", tuple(size)), make)
    return made


def flat_strokes(mesh: PolyMesh, state: State, palette: Palette) -> list[Layer]:
    """Those on the sheet."""
    ends = strokes_of(mesh, state).flat
    ends = np.concatenate([ends, np.zeros((*ends.shape[:2], 1))], axis=2)
    return [Layer(lines=line_rows(ends, rgb(palette.ink, 0.9), WIDE), lit=False)]


def form_strokes(mesh: PolyMesh, state: State, palette: Palette, pull: float) -> list[Layer]:
    """Those on the form."""
    return [Layer(lines=line_rows(strokes_of(mesh, state).form, rgb(palette.ink, 0.9), WIDE), pull=pull)]
