"""What a source brings along to look like something: materials with a colour and a picture."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Material:
    """name     as in the file
    colour   red, green, blue, alpha in 0..1, sRGB as on the screen
    picture  the bytes of a PNG or JPEG laid over the UVs, or nothing
    left_out why a picture that the file names is not here, or nothing
    """

    name: str
    colour: tuple[float, float, float, float] = (0.8, 0.8, 0.8, 1.0)
    picture: bytes = b""
    left_out: str = ""
