"""Pictures on the graphics side."""

from __future__ import annotations

import io
import weakref
from typing import Any

import moderngl
import numpy as np
from numpy.typing import NDArray


class Textures:
    """Textures of arrays of pixels (H, W, K): each array is sent once, however many skins show it. What is made of one that
    nobody keeps any more goes to `dead`, to be given back when the context is current."""

    def __init__(self, context: Any, dead: list[Any]) -> None:
        self.context, self.dead = context, dead
        self.made: dict[int, tuple[weakref.ref[NDArray[np.uint8]], Any]] = {}

    def of(self, pixels: NDArray[np.uint8]) -> Any:
        """The texture of an array with the upper row first."""
        known = self.made.get(id(pixels))
        # The number of a dead array comes back for another: only the array itself counts.
        if known is not None and known[0]() is pixels:
            return known[1]
        height, width, channels = pixels.shape
        texture = self.context.texture((width, height), channels, np.ascontiguousarray(pixels[::-1]).tobytes(), alignment=1)
        texture.build_mipmaps()
        texture.filter = moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR
        texture.repeat_x = texture.repeat_y = False
        self.made[id(pixels)] = weakref.ref(pixels), texture
        weakref.finalize(pixels, self.dead.append, texture).atexit = False
        return texture


def decoded(data: bytes, most: int = 4096) -> tuple[tuple[int, int], bytes]:
    """Size and RGB bytes of a picture, its last row first, at most `most` pixels wide or high."""
    from PIL import Image

    try:
        with Image.open(io.BytesIO(data)) as opened:
            opened.draft("RGB", (most, most))
            picture = opened.convert("RGB")
        picture.thumbnail((most, most))
    except (OSError, ValueError, Image.DecompressionBombError):
        return (1, 1), b"\x99\x99\x99"
    return picture.size, picture.transpose(Image.Transpose.FLIP_TOP_BOTTOM).tobytes()
