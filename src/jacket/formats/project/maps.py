"""Baked maps in a project file. They can be made anew, so what is damaged of them costs no more than a bake."""

from __future__ import annotations

import dataclasses
import io
import json
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from jacket.core.bake.made import Bake, SheetMaps
from jacket.core.bake.maps import MAPS, Baked
from jacket.core.uv.sheets import Sheet
from jacket.errors import FormatError, JacketError
from jacket.formats.atomic import read_bytes
from jacket.formats.project.container import Packed, Reader, packed, packed_array
from jacket.formats.project.damage import DAMAGE

TABLE = "maps/table.json"
MOST_SIDE = 8192
ROOM = 64 << 20
"""Bytes that a map may hold whatever it was packed to; beyond, at most 260 times that, as for meshes."""


@dataclass(frozen=True, eq=False)
class KeptMaps:
    """Maps as a project keeps them, and the settings they were baked with where they were true when it was saved."""

    baked: Bake
    settings: dict[str, Any] | None = None


def maps_members(kept: KeptMaps) -> list[tuple[str, Packed]]:
    """The members of a project file that hold maps."""
    members: list[tuple[str, Packed]] = []
    rows = []
    for k, sheet in enumerate(kept.baked.sheets):
        maps = {}
        for kind, baked in sheet.maps.items():
            if kind in MAPS:
                members.append((f"maps/{k}.{kind}.npy", packed_array(baked.pixels)))
                maps[kind] = {"low": baked.low, "high": baked.high, "legend": [[n, list(c)] for n, c in baked.legend]}
        members.append((f"maps/{k}.state.npy", packed_array(sheet.state)))
        rows.append({"sheet": dataclasses.asdict(sheet.sheet), "maps": maps})
    table = {"sheets": rows, "reach": dict(kept.baked.reach), "notes": list(kept.baked.notes), "seconds": kept.baked.seconds, "settings": kept.settings}
    return [(TABLE, packed(json.dumps(table, indent=1).encode())), *members]


def load_maps(path: Path) -> KeptMaps | None:
    """The maps in a project file; None where it holds none. Raises FormatError where they are damaged."""
    try:
        with zipfile.ZipFile(io.BytesIO(read_bytes(path))) as archive:
            reader = Reader(archive, Path(path).name)
            return _read(reader) if reader.has(TABLE) else None
    except (*DAMAGE, JacketError) as error:
        raise FormatError(f"The maps in {Path(path).name} cannot be read; bake them again.") from error


def _read(reader: Reader) -> KeptMaps:
    table = json.loads(reader.bytes(TABLE))
    sheets = []
    for k, row in enumerate(table["sheets"]):
        state = _pixels(reader, f"maps/{k}.state.npy")
        if state.ndim != 2 or state.dtype != np.uint8:
            raise ValueError("states of texels that are none")
        maps = {}
        for kind, known in row["maps"].items():
            pixels = _pixels(reader, f"maps/{k}.{kind}.npy")
            dtype = np.uint8 if kind.startswith("id-") else np.float32 if MAPS[kind].whole else np.uint16
            if pixels.dtype != dtype or pixels.shape != (*state.shape, MAPS[kind].channels):
                raise ValueError("a map that is not what its name says")
            legend = tuple((str(n), (int(r), int(g), int(b))) for n, (r, g, b) in known["legend"])
            maps[kind] = Baked(kind, pixels, float(known["low"]), float(known["high"]), legend)
        s = row["sheet"]
        sheet = Sheet(str(s["name"]), int(s["tile"]), int(s["width"]), int(s["height"]), float(s["margin"]))
        sheets.append(SheetMaps(sheet, maps, state))
    reach = {str(n): float(v) for n, v in table["reach"].items()}
    settings = table["settings"]
    return KeptMaps(Bake(tuple(sheets), reach, tuple(str(n) for n in table["notes"]), float(table["seconds"])), dict(settings) if settings else None)


def _pixels(reader: Reader, member: str) -> Any:
    info = reader.infos[member]
    if info.file_size > ROOM + 260 * info.compress_size:
        raise ValueError("a map that would unpack to far more than it can hold")
    pixels = reader.array(member, reader.rows(member))
    if not 1 <= max(pixels.shape[:2]) <= MOST_SIDE or (pixels.dtype.kind == "f" and not np.isfinite(pixels).all()):
        raise ValueError("a map out of range")
    return pixels
