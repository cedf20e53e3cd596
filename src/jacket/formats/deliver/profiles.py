"""What receivers expect, as plain files: axes, unit, normals, faces, files, pictures and limits.

Shipped profiles lie in assets/profiles; own ones, made from them, in the user's folder. A file is TOML 1.0:

    label, about            for people
    up = "y" or "z"         which way is up;  scale  units of the receiver for one of the jacket (a metre)
    green = "up" or "down"  of tangent normals in pictures (glTF files have it up, as their standard demands)
    faces = "quads" or "triangles"
    files = [...]           of FILES
    [limits]                triangles, islands, sheets, density; 0 for none
    [[pictures]]            name with {name} and {tile}; parts: maps, "map.r" or numbers; bits 8, 16 or 32
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError

FILES = ("obj", "glb", "ply", "stl", "usda", "usdc", "usdz", "layout", "report", "page")
"""Kinds of files: meshes, the layout pictures, the report as JSON and as a page with pictures."""
SHIPPED = Path(__file__).parents[2] / "assets" / "profiles"


@dataclass(frozen=True)
class Picture:
    """A picture that is delivered for every sheet: its name, what its channels hold, bits a channel."""

    name: str
    parts: tuple[str, ...]
    bits: int = 8


@dataclass(frozen=True)
class Limits:
    """What a receiver takes at most, 0 for anything; and pixels a unit that it wants at least."""

    triangles: int = 0
    islands: int = 0
    sheets: int = 0
    density: float = 0.0


@dataclass(frozen=True)
class Profile:
    """A receiver: see the head of this file."""

    label: str
    up: str = "y"
    scale: float = 1.0
    green: str = "up"
    faces: str = "quads"
    files: tuple[str, ...] = ("obj", "glb", "layout", "report")
    pictures: tuple[Picture, ...] = ()
    limits: Limits = field(default_factory=Limits)
    about: str = ""

    @property
    def maps(self) -> tuple[str, ...]:
        """Maps that its pictures are made of."""
        words = [w.partition(".")[0] for p in self.pictures for w in p.parts if not _is_number(w)]
        return tuple(dict.fromkeys(w for w in words if w not in ("roughness", "metal")))


def _is_number(word: str) -> bool:
    return word.replace(".", "", 1).isdigit()


def parsed(text: str, where: str) -> Profile:
    """A profile from TOML. Raises FormatError with a sentence that says which value makes no sense."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise FormatError(f"The profile {where} cannot be read: {error}; correct that line.") from None
    known = {"label", "about", "up", "scale", "green", "faces", "files", "limits", "pictures"}
    for key in data:
        if key not in known:
            raise FormatError(f"The profile {where} says '{key}', which means nothing; remove it or correct its spelling.")
    for key, allowed in (("up", ("y", "z")), ("green", ("up", "down")), ("faces", ("quads", "triangles"))):
        if data.get(key, allowed[0]) not in allowed:
            raise FormatError(f"The profile {where} says {key} = {data[key]!r}; choose {allowed[0]!r} or {allowed[1]!r}.")
    scale = data.get("scale", 1.0)
    if not isinstance(scale, (int, float)) or isinstance(scale, bool) or not 1e-6 <= scale <= 1e6:
        raise FormatError(f"The profile {where} says scale = {scale!r}; choose a number from 0.000001 to 1,000,000.")
    files = data.get("files", [])
    if not isinstance(files, list) or not files or any(f not in FILES for f in files):
        raise FormatError(f"The profile {where} needs files, a list of some of {', '.join(FILES)}.")
    return Profile(
        str(data.get("label", where)), data.get("up", "y"), float(scale), data.get("green", "up"), data.get("faces", "quads"),
        tuple(files), tuple(_picture(p, where) for p in _rows(data, where)), _limits(data.get("limits", {}), where), str(data.get("about", "")),
    )  # fmt: skip


def _rows(data: dict[str, Any], where: str) -> list[Any]:
    rows = data.get("pictures", [])
    if not isinstance(rows, list):
        raise FormatError(f"The profile {where} has pictures that are no list; write each under [[pictures]].")
    return rows


def _picture(entry: Any, where: str) -> Picture:
    name, parts, bits = (entry.get("name"), entry.get("parts"), entry.get("bits", 8)) if isinstance(entry, dict) else (None, None, 8)
    if not isinstance(name, str) or not re.fullmatch(r"[\w .{}-]+\.(png|exr)", name):
        raise FormatError(f"The profile {where} has a picture named {name!r}; name it like \"{{name}}{{tile}}-normal.png\".")
    if not isinstance(parts, list) or not 1 <= len(parts) <= 4 or not all(isinstance(w, str) for w in parts):
        raise FormatError(f"The picture {name} of the profile {where} needs parts, a list of one to four words.")
    if bits not in ((32,) if name.endswith(".exr") else (8, 16)):
        raise FormatError(f"The picture {name} of the profile {where} has {bits!r} bits; a PNG has 8 or 16, an EXR 32.")
    return Picture(name, tuple(parts), bits)


def _limits(data: Any, where: str) -> Limits:
    if not isinstance(data, dict) or any(k not in ("triangles", "islands", "sheets", "density") for k in data):
        raise FormatError(f"The profile {where} knows limits of triangles, islands, sheets and density only; remove the others.")
    for key, value in data.items():
        if not isinstance(value, (int, float)) or isinstance(value, bool) or not 0 <= value <= 1e9:
            raise FormatError(f"The profile {where} says {key} = {value!r}; choose a number from 0, which means no limit.")
    return Limits(int(data.get("triangles", 0)), int(data.get("islands", 0)), int(data.get("sheets", 0)), float(data.get("density", 0.0)))


def toml_of(profile: Profile) -> str:
    """A profile as TOML, such as `parsed` reads."""
    rows = [f"label = {_quoted(profile.label)}", f"about = {_quoted(profile.about)}", f'up = "{profile.up}"', f"scale = {profile.scale!r}",
            f'green = "{profile.green}"', f'faces = "{profile.faces}"', f"files = [{', '.join(map(_quoted, profile.files))}]", "",
            "[limits]"]  # fmt: skip
    rows += [f"{k} = {getattr(profile.limits, k)!r}" for k in ("triangles", "islands", "sheets", "density")]
    for p in profile.pictures:
        rows += ["", "[[pictures]]", f"name = {_quoted(p.name)}", f"parts = [{', '.join(map(_quoted, p.parts))}]", f"bits = {p.bits}"]
    return "\n".join(rows) + "\n"


def _quoted(text: str) -> str:
    return '"' + "".join(c if c.isprintable() and c not in '"\\' else f"\\u{ord(c):04x}" for c in text) + '"'


@lru_cache(maxsize=1)
def _shipped() -> Mapping[str, Profile]:
    return {p.stem: parsed(p.read_text(encoding="utf-8"), p.name) for p in sorted(SHIPPED.glob("*.toml"))}


PROFILES: Mapping[str, Profile] = _shipped()
"""Those that ship with Jacket, by name."""


def profile_named(name: str, folder: Path | None = None) -> Profile:
    """A profile by its name: a file named so, an own one in `folder`, or a shipped one; raises FormatError with those there
    are."""
    path = Path(name) if name.endswith(".toml") else folder / f"{name}.toml" if folder is not None else None
    if path is not None and path.is_file():
        try:
            return parsed(path.read_text(encoding="utf-8"), path.name)
        except (OSError, UnicodeDecodeError):
            raise FormatError(f"The profile {path.name} cannot be read; save it as UTF-8 text.") from None
    if name not in PROFILES:
        own = sorted(p.stem for p in folder.glob("*.toml")) if folder is not None and folder.is_dir() else []
        raise FormatError(f"There is no profile {name}; choose one of {', '.join(sorted({*PROFILES, *own}))}, or name a .toml file.")
    return PROFILES[name]


def profiles_in(folder: Path | None) -> dict[str, Profile]:
    """All profiles by name, own ones last; own files that cannot be read are left out."""
    out = dict(PROFILES)
    for path in sorted(folder.glob("*.toml")) if folder is not None and folder.is_dir() else ():
        try:
            out[path.stem] = profile_named(str(path))
        except FormatError:
            continue
    return out


def faulty_in(folder: Path | None) -> list[str]:
    """What is wrong with own files that cannot be read, a sentence each."""
    out = []
    for path in sorted(folder.glob("*.toml")) if folder is not None and folder.is_dir() else ():
        try:
            profile_named(str(path))
        except FormatError as error:
            out.append(str(error))
    return out


def in_profile(mesh: PolyMesh, profile: Profile) -> PolyMesh:
    """The mesh (Y up, metres) in a profile's axes and units. Turning keeps it right-handed."""
    return mesh.with_points(turned(mesh.points, profile) * profile.scale)


def turned(vectors: np.ndarray, profile: Profile) -> np.ndarray:
    """Vectors (N, 3) with Y up in a profile's axes."""
    return np.stack([vectors[:, 0], -vectors[:, 2], vectors[:, 1]], axis=1) if profile.up == "z" else vectors
