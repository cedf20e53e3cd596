"""Packing the islands of one or several layers on sheets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.layout.greedy import turn_matrix
from jacket.core.layout.pack import PackResult, PackSettings, Watch, pack_layers
from jacket.core.layout.pieces import Bonds, Layer, pieces_of
from jacket.core.layout.twins import find_twins, laid_on
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.identity import IslandRecord, island_numbers
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import FIRST_TILE, ONE_SHEET, Sheet, Sheets, checked_sheets
from jacket.errors import MeshError
from jacket.progress import Progress, silent

MOST_SHEETS = 100


@dataclass(frozen=True, eq=False)
class Packed:
    """The meshes of the layers with their active UV sets packed, the sheets, and how it came out."""

    meshes: tuple[PolyMesh, ...]
    result: PackResult
    sheets: Sheets = ONE_SHEET

    @property
    def mesh(self) -> PolyMesh:
        """The first layer."""
        return self.meshes[0]


@dataclass(frozen=True, eq=False)
class PackLayer:
    """A layer to pack: its mesh, what is known of its islands, faces to which packing is restricted (None for all), and
    stacks (count,) where they are not told by the records: islands of one number move as one, −1 for none."""

    mesh: PolyMesh
    records: Sequence[IslandRecord] = ()
    only: NDArray[np.signedinteger] | None = None
    islands: Islands | None = None
    stacks: NDArray[np.signedinteger] | None = None


def sheets_of(width: int, height: int = 0, margin: float = 8.0, count: int = 1, mip: int = 0, edge: float | None = None) -> Sheets:
    """So many sheets of one size side by side, square where no height is given. Raises MeshError for sizes that make no
    sense."""
    if not 1 <= count <= MOST_SHEETS:
        raise MeshError(f"{count} sheets are out of range; choose 1 to {MOST_SHEETS}.")
    first = Sheet("Sheet", FIRST_TILE, width, height or width, margin, edge, mip)
    return checked_sheets((first, *(_beside(first, k) for k in range(1, count))))


def _beside(first: Sheet, k: int) -> Sheet:
    return replace(first, name=f"Sheet {k + 1}", tile=FIRST_TILE + k)


def pack(
    mesh: PolyMesh, sheets: Sheets = ONE_SHEET, settings: PackSettings = PackSettings(), progress: Progress = silent,
    locked: NDArray[np.signedinteger] | None = None, islands: Islands | None = None,
) -> Packed:  # fmt: skip
    """Pack the islands of one layer's active UV set; those that `locked` faces lie on stay. Raises MeshError where nothing is
    mapped or the sheets leave no room."""
    found = islands if islands is not None else Islands.of(mesh, sheets)
    bonds = Bonds.none(found.count)
    if locked is not None and len(locked):
        bonds.locked[found.labels[locked]] = True
    result = pack_layers([Layer(found, bonds)], settings, progress)
    return Packed((mesh.with_uv(result.uv),), result, sheets)


def pack_together(
    layers: Sequence[PackLayer], sheets: Sheets = ONE_SHEET, settings: PackSettings = PackSettings(),
    progress: Progress = silent, watch: Watch | None = None,
) -> Packed:  # fmt: skip
    """Pack the islands of several layers on the sheets they share, with their locks, weights, stacks and groups."""
    rows = []
    for layer in layers:
        islands = layer.islands if layer.islands is not None else Islands.of(layer.mesh, sheets)
        bonds = Bonds.of(islands, island_numbers(layer.mesh), layer.records, layer.only)
        if layer.stacks is not None:
            bonds = replace(bonds, stack=layer.stacks)
        rows.append(Layer(islands, bonds))
    result = pack_layers(rows, settings, progress, watch)
    return Packed(tuple(x.mesh.with_uv(uv) for x, uv in zip(layers, result.uvs, strict=True)), result, sheets)


def stack_twins(mesh: PolyMesh, tolerance: float = 0.01, mirrored: bool = True) -> tuple[PolyMesh, NDArray[np.signedinteger]]:
    """The mesh with islands of one shape laid on one another, and the stack (count,) of each, −1 for none. Raises MeshError for
    a tolerance that makes no sense."""
    if not 0 < tolerance <= 0.2:
        raise MeshError(f"Twins that differ by {100 * tolerance:g} % are none; choose more than 0 and at most 20 %.")
    islands = Islands.of(mesh)
    uv, stacks = islands.uv, np.full(islands.count, -1)
    for number, twins in enumerate(find_twins(islands, tolerance, mirrored)):
        here = np.isin(islands.corner_labels, twins.islands)
        uv = np.where(here[:, None], laid_on(islands, twins), uv)
        stacks[list(twins.islands)] = number
    return mesh.with_uv(uv), stacks


def pack_at_density(
    layers: Sequence[PackLayer], sheet: Sheet, settings: PackSettings, progress: Progress = silent,
    watch: Watch | None = None,
) -> Packed:  # fmt: skip
    """Pack at a density on as many sheets like the given one as it takes, side by side."""
    assert settings.density is not None
    area = 0.0
    for layer in layers:
        islands = layer.islands if layer.islands is not None else Islands.of(layer.mesh, (sheet,))
        _refuse_large(islands, sheet, settings.density)
        area += float(islands.surface_area[islands.mapped].sum()) * settings.density**2
    count = max(int(np.ceil(area / sheet.area / 0.9)), 1)
    first = replace(sheet, name="Sheet", tile=FIRST_TILE)
    refused: MeshError | None = None
    for n in range(count, min(max(2 * count + 2, 4), MOST_SHEETS) + 1):
        sheets = (first, *(_beside(first, k) for k in range(1, n)))
        try:
            bare = [replace(x, islands=None) for x in layers]
            return pack_together(bare, sheets, replace(settings, spread=True), progress, watch)
        except MeshError as error:
            refused = error
    raise refused or MeshError(
        f"At {settings.density:.4g} pixels a unit more than {MOST_SHEETS} sheets would be needed; lower the density."
    )


def _refuse_large(islands: Islands, sheet: Sheet, density: float) -> None:
    """Raise MeshError where an island does not fit on a sheet even by itself, however it is turned."""
    room = sheet.size - 2 * sheet.rim
    for piece in pieces_of([Layer(islands, Bonds.none(islands.count))], True, True):
        at = piece.segments[:, 0] * density
        turned = [at @ turn_matrix(angle).T for angle in np.linspace(0, np.pi, 90, endpoint=False)]
        if not any((np.ptp(t, axis=0) <= room).all() for t in turned):
            span = np.ptp(at, axis=0)
            raise MeshError(
                f"At {density:.4g} pixels a unit an island of {span.max():.0f} × {span.min():.0f} pixels is too large for a "
                "sheet; enlarge the sheet, lower the density or cut the island."
            )
