"""Values as colours."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import Floats
from jacket.qt.theme import Palette, rgb


def heat_tints(values: Floats, reach: float, palette: Palette) -> Any:
    """(V, 4) bytes: paper over saffron to the accent."""
    t = np.clip(np.nan_to_num(values) / max(reach, 1e-12), 0, 1)[:, None]
    a, m, b = (np.array(rgb(c)) for c in (palette.paper, palette.look, palette.accent))
    out = np.where(t < 0.5, a + (m - a) * 2 * t, m + (b - m) * (2 * t - 1))
    return np.rint(out * 255).astype(np.uint8)


def heat(values: Floats, low: str, middle: str, high: str, reach: float) -> Floats:
    """(N, 4) colours from `low` at −reach over `middle` at 0 to `high` at +reach; grey where NaN."""
    t = np.clip(np.nan_to_num(values) / reach, -1, 1)[:, None]
    a, m, b = (np.array(rgb(c)) for c in (low, middle, high))
    out = np.where(t < 0, m + (a - m) * -t, m + (b - m) * t)
    out[~np.isfinite(values)] = (0.6, 0.6, 0.6, 1.0)
    return out
