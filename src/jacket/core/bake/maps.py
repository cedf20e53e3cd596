"""The maps that can be baked: what each holds, how its numbers become pixels, and what stands where nothing is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.polymesh import Floats


@dataclass(frozen=True)
class MapKind:
    """label   for people;  channels of its pixels
    whole    kept as real numbers (float32) and not as shares of 65535
    screen   whether its pixels are sRGB as on the screen; all others are plain numbers
    ground   what stands where nothing is baked, a share a channel
    about    what one reads off it
    """

    label: str
    channels: int
    whole: bool = False
    screen: bool = False
    ground: tuple[float, ...] = (0.0,)
    about: str = ""


MAPS: dict[str, MapKind] = {
    "normal": MapKind("Normal", 3, ground=(0.5, 0.5, 1.0), about="tangent space, MikkTSpace"),
    "object": MapKind("Object normal", 3, ground=(0.5, 0.5, 0.5), about="in the axes of the jacket"),
    "occlusion": MapKind("Occlusion", 1, ground=(1.0,), about="share of the sky that is open"),
    "bent": MapKind("Bent normal", 3, ground=(0.5, 0.5, 0.5), about="mean open direction, in the axes of the jacket"),
    "curvature": MapKind("Curvature", 1, ground=(0.5,), about="mean curvature: ridges light, hollows dark"),
    "ridges": MapKind("Ridges", 1, about="convex curvature only"),
    "hollows": MapKind("Hollows", 1, about="concave curvature only"),
    "height": MapKind("Height", 1, whole=True, about="of the source over the jacket, along the cage"),
    "position": MapKind("Position", 3, whole=True, about="of the source's surface"),
    "thickness": MapKind("Thickness", 1, ground=(1.0,), about="way through the form under the surface"),
    "id-material": MapKind("Materials", 3, screen=True, about="a colour for each material of the source"),
    "id-group": MapKind("Groups", 3, screen=True, about="a colour for each group of the source"),
    "id-part": MapKind("Parts", 3, screen=True, about="a colour for each source"),
    "colour": MapKind("Colour", 3, screen=True, ground=(0.5, 0.5, 0.5), about="of the source's points and pictures"),
    "opacity": MapKind("Opacity", 1, about="where the source is met at all"),
    "light": MapKind("Light gradient", 1, about="from below to above along a direction"),
}


ALL_MAPS: dict[str, MapKind] = {
    **MAPS,
    "roughness": MapKind("Roughness", 1, ground=(0.8,), about="a picture of one's own"),
    "metal": MapKind("Metal", 1, about="a picture of one's own"),
}
"""Those, and what only pictures of one's own say."""


_IN_EIGHT = ((np.arange(65536, dtype=np.uint32) * 255 + 32767) // 65535).astype(np.uint8)
"""Sixteen bits in eight, rounded."""


@dataclass(frozen=True, eq=False)
class Baked:
    """One map of one sheet: pixels (H, W, channels), the upper row first: uint16 shares of 65535, float32 of whole
    kinds, or uint8 of id maps. `low` and `high` are the range of whole kinds, in units of the jacket, for pictures of few bits; `legend` names
    the colours of an id map."""

    kind: str
    pixels: NDArray[np.uint16] | NDArray[np.float32] | NDArray[np.uint8]
    low: float = 0.0
    high: float = 1.0
    legend: tuple[tuple[str, tuple[int, int, int]], ...] = ()

    def shares(self) -> NDArray[np.float32]:
        """(H, W, channels) float32 in 0..1: whole kinds by their range."""
        if self.pixels.dtype != np.float32:
            return np.asarray(self.pixels, np.float32) / np.float32(255 if self.pixels.dtype == np.uint8 else 65535)
        span = max(self.high - self.low, 1e-30)
        return np.clip((self.pixels - np.float32(self.low)) / np.float32(span), 0, 1).astype(np.float32)

    def eight(self) -> NDArray[np.uint8]:
        """(H, W, channels) in eight bits."""
        if self.pixels.dtype == np.uint8:
            return np.asarray(self.pixels, np.uint8)
        if self.pixels.dtype == np.uint16:
            return np.asarray(_IN_EIGHT[self.pixels], np.uint8)
        return np.rint(self.shares() * 255).astype(np.uint8)

    def sixteen(self) -> NDArray[np.uint16]:
        """(H, W, channels) in sixteen bits."""
        if self.pixels.dtype == np.uint8:
            return self.pixels.astype(np.uint16) * np.uint16(257)
        if self.pixels.dtype == np.uint16:
            return np.asarray(self.pixels, np.uint16)
        return np.rint(self.shares() * 65535).astype(np.uint16)


def stored(values: Floats | NDArray[np.float32]) -> NDArray[np.uint16]:
    """Shares in 0..1 as they are kept."""
    return np.rint(np.clip(values, 0.0, 1.0) * 65535).astype(np.uint16)


def directions(baked: Baked) -> Floats:
    """(H, W, 3) unit vectors of a map of normals."""
    v = baked.pixels.astype(np.float64) / 65535 * 2 - 1
    return v / np.maximum(np.linalg.norm(v, axis=2, keepdims=True), 1e-12)


def id_colours(count: int) -> NDArray[np.uint8]:
    """(count, 3) colours that stay apart, sRGB: hues a golden section of the circle on from one another, in three
    lightnesses."""
    k = np.arange(count)
    hue, light = (k * 0.6180339887) % 1.0, np.array([1.0, 0.68, 0.44])[k % 3]
    six = (hue[:, None] * 6 + np.array([0.0, 4.0, 2.0])) % 6
    wave = np.clip(np.abs(six - 3) - 1, 0, 1)
    return np.rint(255 * light[:, None] * (1 - 0.82 * (1 - wave))).astype(np.uint8)
