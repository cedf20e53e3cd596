"""The one place that knows which file ending is read and written by what."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import Cancelled, FormatError, JacketError
from jacket.formats.atomic import read_bytes
from jacket.formats.mesh import glb, gltf, obj, off, ply, stl
from jacket.formats.mesh.ply_stream import stream_ply
from jacket.progress import Progress, part, silent

Reader = Callable[[bytearray, Path, Progress], PolyMesh]
Writer = Callable[[PolyMesh, Path], None]


@dataclass(frozen=True)
class Format:
    """A mesh format: its endings, what people call it, how it is read and written; `stream` reads the
    plain kind of large files without holding them in memory, and gives None for others."""

    endings: tuple[str, ...]
    label: str
    read: Reader
    write: Writer | None = None
    stream: Callable[[Path, Progress], PolyMesh | None] | None = None


FORMATS = (
    Format((".obj",), "Wavefront OBJ", obj.read_obj, obj.write_obj),
    Format((".ply",), "PLY", ply.read_ply, ply.write_ply, stream_ply),
    Format((".stl",), "STL", stl.read_stl, stl.write_stl, stl.stream_stl),
    Format((".off",), "OFF", off.read_off),
    Format((".glb", ".gltf"), "glTF", gltf.read_gltf, glb.write_glb),
)

READ_ENDINGS = tuple(e for f in FORMATS for e in f.endings)


def format_of(path: Path) -> Format:
    """The format of a file by its ending; raises FormatError for others."""
    ending = Path(path).suffix.lower()
    for entry in FORMATS:
        if ending in entry.endings:
            return entry
    known = ", ".join(READ_ENDINGS)
    raise FormatError(f"{Path(path).name} has an ending Jacket does not know; use one of {known}.")


def read_mesh(path: Path | str, progress: Progress = silent) -> PolyMesh:
    """Open a mesh file; raises FormatError with one sentence for anything that is wrong with it."""
    path = Path(path)
    entry = format_of(path)
    progress(0.0, f"reading {path.name}")
    streamed = entry.stream(path, progress) if entry.stream is not None else None
    if streamed is not None:
        return streamed
    data = read_bytes(path, part(progress, 0.0, 0.25))
    try:
        # What is no number is refused by `PolyMesh.checked`; warnings on the way help nobody.
        with np.errstate(all="ignore"):
            mesh = entry.read(data, path, part(progress, 0.25, 1.0))
    except (FormatError, Cancelled):
        raise
    except JacketError as error:
        raise FormatError(f"{path.name}: {error}") from error
    except (ValueError, KeyError, IndexError, TypeError, OverflowError, AttributeError, EOFError,
            UnicodeError, RecursionError, MemoryError, AssertionError, ZeroDivisionError, BufferError) as error:  # fmt: skip
        # Readers of libraries fail in many ways on damaged files; to the user they are one.
        raise FormatError(f"{path.name} is damaged or not a {entry.label} file; export it again.") from error
    if mesh.n_faces == 0:
        raise FormatError(f"{path.name} has no faces; a point cloud has to be meshed first.")
    progress(1.0, f"read {path.name}")
    return mesh


def write_mesh(mesh: PolyMesh, path: Path | str) -> None:
    """Write a mesh by its file ending, whole or not at all."""
    path = Path(path)
    entry = format_of(path)
    if entry.write is None:
        raise FormatError(f"Jacket reads {entry.label} but does not write it; choose .obj, .ply, .stl or .glb.")
    entry.write(mesh, path)
