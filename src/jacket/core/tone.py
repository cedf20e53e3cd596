"""Between what a screen is sent and linear light (IEC 61966-2-1, sRGB)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def to_linear(values: Floats) -> Floats:
    """sRGB as on the screen to linear light."""
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def to_screen(values: Floats) -> Floats:
    """Linear light to sRGB."""
    values = np.clip(values, 0.0, 1.0)
    return np.where(values <= 0.0031308, values * 12.92, 1.055 * values ** (1 / 2.4) - 0.055)
