"""Pictures that mesh files name: taken along when they lie in the file's own folder tree."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from urllib.parse import unquote

from jacket.core.mesh.materials import Material
from jacket.errors import FormatError
from jacket.formats.atomic import beside, read_bytes

_MOST = 256_000_000


def picture_material(material: Material, path: Path, name: str) -> Material:
    """The material with the picture `name` that the mesh file `path` refers to; where it cannot be had the
    material says why, and the mesh opens all the same."""
    name = unquote(name).replace("\\", "/")
    try:
        target = beside(path, name)
        if target.is_file() and target.stat().st_size > _MOST:
            return replace(material, left_out=f"the picture {Path(name).name} is over 256 MB")
        return checked_picture(material, bytes(read_bytes(target)))
    except (FormatError, OSError, ValueError) as error:
        return replace(material, left_out=f"the picture {Path(name).name} was not taken: {error}")


def checked_picture(material: Material, data: bytes) -> Material:
    """The material with a picture, if it is a PNG or JPEG."""
    if data[:8] == b"\x89PNG\r\n\x1a\n" or data[:3] == b"\xff\xd8\xff":
        return replace(material, picture=data)
    return replace(material, left_out="its picture is neither PNG nor JPEG")
