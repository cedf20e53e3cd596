"""Packing a jacket's islands on sheets."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.layout.pack import PackResult, PackSettings
from jacket.core.layout.pack import pack as packed
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import ONE_SHEET, Sheet, Sheets, checked_sheets
from jacket.errors import MeshError
from jacket.progress import Progress, silent


@dataclass(frozen=True, eq=False)
class Packed:
    """The mesh with its active UV set packed, and how it came out."""

    mesh: PolyMesh
    result: PackResult


def sheets_of(width: int, height: int = 0, margin: float = 8.0, count: int = 1) -> Sheets:
    """So many sheets of one size side by side, square where no height is given. Raises MeshError for sizes that make no
    sense."""
    if not 1 <= count <= 100:
        raise MeshError(f"{count} sheets are out of range; choose 1 to 100.")
    first = Sheet("Sheet", 1001, width, height or width, margin)
    rows = [first] + [replace(first, name=f"Sheet {k + 1}", tile=1001 + k % 10 + 10 * (k // 10)) for k in range(1, count)]
    return checked_sheets(tuple(rows))


def pack(
    mesh: PolyMesh, sheets: Sheets = ONE_SHEET, settings: PackSettings = PackSettings(), progress: Progress = silent,
    locked: NDArray[np.signedinteger] | None = None, islands: Islands | None = None,
) -> Packed:  # fmt: skip
    """Pack the islands of the active UV set; those that `locked` faces lie on stay. Raises MeshError where nothing is
    mapped or the sheets leave no room."""
    found = islands if islands is not None else Islands.of(mesh, sheets)
    stay = np.unique(found.labels[locked]) if locked is not None and len(locked) else None
    result = packed(found, settings, progress, stay)
    return Packed(mesh.with_uv(result.uv), result)
