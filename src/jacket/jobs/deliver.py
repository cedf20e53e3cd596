"""Delivering layers of a jacket: checked, turned into the axes and units of a profile, written in open formats."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jacket import __version__
from jacket.core.checks.model import Check
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.uv.identity import IslandRecord
from jacket.core.uv.sheets import ONE_SHEET, Sheets
from jacket.errors import MeshError
from jacket.formats.deliver.files import delivery_bytes, write_delivery
from jacket.formats.deliver.profiles import profile_named
from jacket.formats.report import plain, report_bytes
from jacket.jobs.checks import delivery_checks
from jacket.progress import Progress, silent


@dataclass(frozen=True, eq=False)
class DeliverLayer:
    """A layer as it goes out: its name, its mesh, the names of its islands by the number on their faces, and what else is
    known of them."""

    name: str
    mesh: PolyMesh
    islands: Mapping[int, str] | None = None
    records: Sequence[IslandRecord] = ()


@dataclass(frozen=True)
class DeliverSettings:
    """profile  by its name;  sheets  what the UVs lie on;  stem  the beginning of every file's name"""

    profile: str = "y-up-metres"
    sheets: Sheets = ONE_SHEET
    stem: str = "jacket"

    def checked(self) -> DeliverSettings:
        """The settings themselves; raises FormatError where there is no such profile."""
        profile_named(self.profile)
        return self


@dataclass(frozen=True, eq=False)
class Delivered:
    """What was written, the checks by layer, and the report."""

    paths: tuple[Path, ...]
    checks: dict[str, list[Check]]
    report: dict[str, Any]

    @property
    def wrong(self) -> list[tuple[str, Check]]:
        """Layer and check of every check that is not met."""
        return [(name, c) for name, rows in self.checks.items() for c in rows if c.level == "wrong"]


def deliver(
    layers: Sequence[DeliverLayer], folder: Path, settings: DeliverSettings, source: PolyMesh | None = None,
    surface: Bvh | None = None, report: dict[str, Any] | None = None, progress: Progress = silent,
    checks: dict[str, list[Check]] | None = None,
) -> Delivered:  # fmt: skip
    """Check the layers and write their files. Raises MeshError where there is nothing to deliver, FormatError where a
    file cannot be written; nothing is written before everything is made."""
    settings.checked()
    layers = [layer for layer in layers if layer.mesh.n_faces]
    if not layers:
        raise MeshError("There are no faces to deliver; show a layer that has some.")
    rows = dict(checks) if checks is not None else {}
    for k, layer in enumerate(layers):
        if layer.name not in rows:
            progress(0.5 * k / len(layers), f"checking {layer.name}")
            beside = [x.mesh for x in layers if x is not layer]
            rows[layer.name] = delivery_checks(layer.mesh, source, surface, settings.sheets, beside, layer.records)
    wrong = any(c.level == "wrong" for found in rows.values() for c in found)
    told: dict[str, Any] = {"jacket": __version__, **(report or {}), "profile": settings.profile, "ready": not wrong}
    if len(layers) == 1:
        told["checks"] = [c.as_dict() for c in rows[layers[0].name]]
    else:
        told["layers"] = {name: [c.as_dict() for c in found] for name, found in rows.items()}
    progress(0.6, "writing the files")
    files = delivery_bytes([(x.name, x.mesh, x.islands) for x in layers], settings.stem, settings.profile, settings.sheets,
                           report_bytes(plain(told)))  # fmt: skip
    return Delivered(tuple(write_delivery(folder, files)), rows, told)
