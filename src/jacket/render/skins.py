"""Meshes as a game shows them: pictures on them, lit by lamps that formulas describe. Arrays only, no OpenGL here."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

SKIN_WIDTH = 12
"""position 3, normal 3, tangent 4, uv 2 of each corner of each triangle"""
Bytes = NDArray[np.uint8]
Rgb = tuple[float, float, float]


@dataclass(frozen=True)
class Lamps:
    """A place to look at things in, in linear light: the sky from straight above and the ground from straight below, blended
    by height; two lamps far away with directions towards them. Turned about the vertical by `turn` degrees."""

    label: str
    sky: Rgb
    ground: Rgb
    key_way: Rgb
    key: Rgb
    fill_way: Rgb
    fill: Rgb
    turn: float = 0.0

    def turned(self, degrees: float) -> Lamps:
        """The same place turned about the vertical."""
        return Lamps(self.label, self.sky, self.ground, self.key_way, self.key, self.fill_way, self.fill, degrees)

    def uniforms(self) -> dict[str, Rgb]:
        """What shaders are given."""
        return {"u_sky": self.sky, "u_ground": self.ground, "u_lamp_way": _about_y(self.key_way, self.turn), "u_lamp": self.key,
                "u_fill_way": _about_y(self.fill_way, self.turn), "u_fill": self.fill}  # fmt: skip


def _about_y(way: Rgb, degrees: float) -> Rgb:
    a = np.radians(degrees)
    x, y, z = np.asarray(way) / np.linalg.norm(way)
    return (float(np.cos(a) * x + np.sin(a) * z), float(y), float(np.cos(a) * z - np.sin(a) * x))


LAMPS = {
    "overcast": Lamps("Overcast", (0.95, 1.0, 1.08), (0.30, 0.28, 0.25), (0.3, 1.0, 0.4), (0.55, 0.55, 0.55), (-0.8, 0.2, -0.3), (0.1, 0.1, 0.12)),
    "low-sun": Lamps("Low sun", (0.30, 0.38, 0.52), (0.14, 0.11, 0.09), (-0.85, 0.32, 0.55), (2.6, 1.9, 1.2), (0.8, 0.3, -0.4), (0.18, 0.24, 0.36)),
    "lamp-room": Lamps("Lamp room", (0.10, 0.10, 0.12), (0.06, 0.05, 0.05), (0.5, 0.55, 0.75), (2.0, 1.9, 1.75), (-0.9, 0.1, 0.2), (0.5, 0.62, 0.8)),
}
"""Those that ship with Jacket."""


@dataclass(frozen=True, eq=False)
class Pictures:
    """Pictures of one sheet, (H, W, 3) bytes with the upper row first, or nothing. colour is sRGB; normal has its green up;
    surface is occlusion, roughness and metal; where opacity is under a half nothing is drawn."""

    colour: Bytes | None = None
    normal: Bytes | None = None
    surface: Bytes | None = None
    opacity: Bytes | None = None


@dataclass(frozen=True, eq=False)
class Skin:
    """Triangles (3T, 12) with the pictures of the sheet they lie on; `lit` by the lamps of the scene, or the colour picture as
    it is; `tint` where no colour is given; (r, g, b) in linear light."""

    rows: NDArray[np.float32]
    pictures: Pictures = field(default_factory=Pictures)
    lit: bool = True
    tint: Rgb = (0.52, 0.5, 0.47)
