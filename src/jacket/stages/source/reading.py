"""Reading sources from files, with what their first picture and pick need; for the background."""

from __future__ import annotations

from pathlib import Path

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.placing import placed
from jacket.document.state import SourceObject
from jacket.formats.mesh.registry import read_mesh
from jacket.progress import Progress

Stamp = tuple[int, int]


def stamp_of(path: Path | str) -> Stamp:
    """Time (ns) and size of a file; noughts where there is none."""
    try:
        status = Path(path).stat()
    except (OSError, ValueError):
        return (0, 0)
    return (status.st_mtime_ns, status.st_size)


def read_newer(source: SourceObject, progress: Progress) -> tuple[PolyMesh, Stamp]:
    """The present file of a source, moved as the source was, and its stamp. Raises FormatError as `read_mesh` does."""
    stamp = stamp_of(source.path)
    return placed(read_mesh(Path(source.path), progress), source.placing), stamp
