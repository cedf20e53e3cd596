"""Laying a jacket flat along its cuts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.flatten.unwrap import IslandFlat
from jacket.core.flatten.unwrap import unwrap as laid_flat
from jacket.core.layout.apart import laid_apart
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import piece_labels
from jacket.core.uv.sheets import ONE_SHEET, Sheets
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent


@dataclass(frozen=True, eq=False)
class Unwrapped:
    """The mesh with its active UV set laid flat, and how each piece came out."""

    mesh: PolyMesh
    islands: tuple[IslandFlat, ...]

    @property
    def failed(self) -> tuple[IslandFlat, ...]:
        """Pieces that stay unmapped."""
        return tuple(i for i in self.islands if not i.flat)

    @property
    def overlapping(self) -> tuple[IslandFlat, ...]:
        """Pieces whose own border crosses itself."""
        return tuple(i for i in self.islands if i.flat and i.overlaps)

    @property
    def said(self) -> str:
        """What could not be done, in sentences; empty where all went well."""
        out = []
        if self.failed:
            faces = sum(len(i.faces) for i in self.failed)
            plural = "s stay" if len(self.failed) > 1 else " stays"
            out.append(f"{len(self.failed)} island{plural} unmapped ({faces:,} faces): {self.failed[0].problem}")
        if self.overlapping:
            plural = "s overlap themselves" if len(self.overlapping) > 1 else " overlaps itself"
            out.append(f"{len(self.overlapping)} island{plural}; cut once more there.")
        return " ".join(out)


def unwrap(
    mesh: PolyMesh, faces: NDArray[np.signedinteger] | None = None, sheets: Sheets = ONE_SHEET, sheet: int = 0,
    progress: Progress = silent,
) -> Unwrapped:  # fmt: skip
    """Lay a jacket flat: all of it, side by side at one density on a sheet, or only the pieces that some faces lie on,
    in their place. Raises MeshError where nothing could open."""
    only = np.unique(piece_labels(mesh)[1][faces]) if faces is not None else None
    flat, report = laid_flat(mesh, only, part(progress, 0.0, 0.95), sheets)
    result = Unwrapped(flat, tuple(report))
    if report and len(result.failed) == len(report):
        raise MeshError(f"No island could open flat: {report[0].problem}")
    if only is None:
        flat = flat.with_uv(laid_apart(Islands.of(flat), sheets[sheet]))
        result = Unwrapped(flat, tuple(report))
    return result


def unwrap_together(meshes: Sequence[PolyMesh], sheets: Sheets = ONE_SHEET, sheet: int = 0, progress: Progress = silent) -> tuple[list[PolyMesh], Unwrapped]:
    """Lay several jackets flat side by side on one sheet, at one density: their meshes with their active UV sets laid flat, and
    how the pieces of all came out. Raises MeshError where nothing could open."""
    bare = [m.with_(corner_data={}, face_data={}, point_data={}, marks={}, uv_sets=("uv",), active_uv="uv").with_cuts(m.cuts) for m in meshes]
    done = unwrap(put_side_by_side(bare), None, sheets, sheet, progress)
    uv = done.mesh.uv
    assert uv is not None
    ends = np.cumsum([m.n_corners for m in meshes])
    return [m.with_uv(uv[end - m.n_corners : end].copy()) for m, end in zip(meshes, ends, strict=True)], done
