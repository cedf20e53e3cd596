"""What a verb is going to write, looked at before any work is done: never its own input, never one file twice."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from jacket.errors import FormatError

_LARGE = 1 << 24


def companions(path: Path) -> set[Path]:
    """A mesh file and the files beside it that it refers to: OBJ libraries and their pictures, buffers and pictures of
    glTF. Files that cannot be read have none."""
    out = {path}
    try:
        if path.suffix.lower() == ".obj":
            with path.open("rb") as file:
                libraries = re.findall(rb"(?m)^[ \t]*mtllib[ \t]+(.+?)[ \t\r]*$", file.read(_LARGE))
            for name in libraries:
                library = path.parent / name.decode("utf-8", "replace")
                out.add(library)
                text = library.read_bytes()[:_LARGE] if library.is_file() else b""
                pictures = re.findall(rb"(?m)^[ \t]*map_\w+[ \t]+(?:.*[ \t])?(\S+)[ \t\r]*$", text)
                out |= {path.parent / p.decode("utf-8", "replace") for p in pictures}
        elif path.suffix.lower() == ".gltf":
            table = json.loads(path.read_bytes()[:_LARGE])
            rows = [*table.get("buffers", ()), *table.get("images", ())]
            out |= {path.parent / str(r["uri"]) for r in rows if not str(r.get("uri", "data:")).startswith("data:")}
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return out
    return out


def mesh_files(path: Path) -> list[Path]:
    """What writing a mesh to a path writes, pictures of its materials excepted."""
    return [path, path.with_suffix(".mtl")] if path.suffix.lower() == ".obj" else [path]


def guard(inputs: Sequence[str | None], outputs: Iterable[Path], report: str | None, force: bool) -> None:
    """Refuse to write over what is read, unless `force` allows it, and in any case to write a report over an input or over
    another output. Raises FormatError with a sentence."""
    read = {_real(c) for name in inputs if name for c in companions(Path(name))}
    written: set[str] = set()
    for path in outputs:
        where = _real(path)
        if where in read and not force:
            raise FormatError(f"{path.name} would be written over the file it is made from; name another, or add --force.")
        written.add(where)
    if report and _real(Path(report)) in read | written:
        raise FormatError(f"The report would be written over {Path(report).name}; give it a name of its own.")


def _real(path: Path) -> str:
    """One name for one file, links followed."""
    try:
        return str(path.resolve())
    except (OSError, ValueError, RuntimeError):
        return str(path)
