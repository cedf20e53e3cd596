"""Rows of loose triangles for drawing."""

from __future__ import annotations

from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import Floats
from jacket.render.scene import FILL_WIDTH

SHOWN_TRIANGLES = 60_000
"""At most so many triangles of picked faces and proposals are drawn, so that they never cost a frame."""


def triangle_rows(corner: Floats, colour: tuple[float, ...]) -> Any:
    """(3K, 15) rows of loose triangles (K, 3, 3)."""
    corner = corner[:: max(1, len(corner) // SHOWN_TRIANGLES)]
    out = np.zeros((3 * len(corner), FILL_WIDTH), np.float32)
    out[:, :3] = corner.reshape(-1, 3)
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    out[:, 3:6] = np.repeat(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300), 3, axis=0)
    out[:, 6:10] = colour
    out[:, 10:12] = -1e6
    return out
