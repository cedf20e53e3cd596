"""Delivering layers of a jacket: checked, turned into the axes and units of a profile, written in open formats with their maps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np

from jacket import __version__
from jacket.core.bake.decals import Decal
from jacket.core.bake.failing import failing_faces
from jacket.core.bake.made import Bake
from jacket.core.checks.deliver import bake_checks, limit_checks, shading_checks
from jacket.core.checks.model import Check
from jacket.core.mesh.nodes import BARE, Nodes
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.uv.identity import IslandRecord
from jacket.core.uv.sheets import ONE_SHEET, Sheets
from jacket.document.state import State
from jacket.errors import FormatError, MeshError
from jacket.formats.deliver.files import delivery_bytes, name_of, small_png, told_files, write_delivery
from jacket.formats.deliver.laid import lacking_pictures, with_decals
from jacket.formats.deliver.own import with_own
from jacket.formats.deliver.page import facts_of, page_bytes
from jacket.formats.deliver.profiles import Profile, profile_named, turned
from jacket.formats.report import plain, report_bytes
from jacket.jobs.checks import delivery_checks
from jacket.progress import Progress, silent


@dataclass(frozen=True, eq=False)
class DeliverLayer:
    """A layer as it goes out: its name, its mesh, the names of its islands by the number on their faces, and what else is
    known of them; its pivot and sockets; the name of the layer it is a coarser level of detail of; what lies on it."""

    name: str
    mesh: PolyMesh
    islands: Mapping[int, str] | None = None
    records: Sequence[IslandRecord] = ()
    nodes: Nodes = BARE
    level_of: str = ""
    decals: tuple[Decal, ...] = ()


def layers_of(state: State) -> list[DeliverLayer]:
    """The layers of a state that go out, under the names they have in files."""
    names, ids = state.going_names, {j.id: j for j in state.outgoing}
    return [DeliverLayer(names[j.id], j.mesh, {r.id: r.name for r in j.islands}, j.islands, j.nodes,
                         names[j.coarser_of] if j.coarser_of in ids else "",
                         j.decals if j in state.baked_onto else ()) for j in state.outgoing]  # fmt: skip


@dataclass(frozen=True)
class DeliverSettings:
    """profile  by its name, or itself;  sheets  what the UVs lie on;  stem  the beginning of every file's name;  force  replace
    files that Jacket did not write;  folder  where own profiles lie"""

    profile: str | Profile = "y-up-metres"
    sheets: Sheets = ONE_SHEET
    stem: str = "jacket"
    force: bool = False
    folder: Path | None = None

    def checked(self) -> DeliverSettings:
        """The settings themselves; raises FormatError where there is no such profile."""
        self.receiver()
        return self

    def receiver(self) -> Profile:
        """The profile itself. Raises FormatError where there is none of that name."""
        return self.profile if isinstance(self.profile, Profile) else profile_named(self.profile, self.folder)


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


def profile_checks(mesh: PolyMesh, profile: Profile, sheets: Sheets, bake: Bake | None = None, stale: bool = False) -> list[Check]:
    """What a receiver asks of a layer beside the checks of the stages."""
    limits = profile.limits
    rows = limit_checks(mesh, sheets, limits.triangles, limits.islands, limits.sheets, limits.density)
    rows += shading_checks(mesh, sheets)
    if bake is not None:
        failing = failing_faces(mesh, bake) if not stale else None
        rows += bake_checks([s.missed for s in bake.sheets], [s.behind for s in bake.sheets], stale, failing)
    return rows


def deliver(
    layers: Sequence[DeliverLayer], folder: Path, settings: DeliverSettings, source: PolyMesh | None = None,
    surface: Bvh | None = None, report: dict[str, Any] | None = None, progress: Progress = silent,
    checks: dict[str, list[Check]] | None = None, bake: Bake | None = None, own: Mapping[str, str] = MappingProxyType({}),
) -> Delivered:  # fmt: skip
    """Check the layers and write their files, the maps of a bake, and in their place pictures of one's `own` by what they stand
    for. Raises MeshError where there is nothing to deliver,
    FormatError where a file cannot be written; nothing is written before everything is made."""
    profile = settings.receiver()
    layers = [layer for layer in layers if layer.mesh.n_faces]
    if not layers:
        raise MeshError("There are no faces to deliver; show a layer that has some.")
    if folder.exists() and not folder.is_dir():
        raise FormatError(f"{folder} is a file; name a folder to deliver to.")
    rows = dict(checks) if checks is not None else {}
    for k, layer in enumerate(layers):
        if layer.name not in rows:
            progress(0.5 * k / len(layers), f"checking {layer.name}")
            beside = [x.mesh for x in layers if x is not layer]
            rows[layer.name] = delivery_checks(layer.mesh, source, surface, settings.sheets, beside, layer.records)
        rows[layer.name] = [*rows[layer.name], *profile_checks(layer.mesh, profile, settings.sheets, bake)]
        lacking = lacking_pictures(layer.decals)
        if lacking:
            raise FormatError(f"The picture {Path(lacking[0]).name} of a decal on {layer.name} is not there or no picture; put it back or take the decal off.")
    told = _told(layers, rows, settings, profile, report, bake)
    progress(0.6, "writing the files")
    files = _files(layers, rows, settings, profile, told, bake, own)
    paths = write_delivery(folder, files, settings.stem, settings.force)
    return Delivered(tuple(paths), rows, told)


def _told(
    layers: Sequence[DeliverLayer], rows: Mapping[str, list[Check]], settings: DeliverSettings, profile: Profile,
    report: dict[str, Any] | None, bake: Bake | None,
) -> dict[str, Any]:  # fmt: skip
    wrong = any(c.level == "wrong" for found in rows.values() for c in found)
    name = settings.profile if isinstance(settings.profile, str) else profile.label
    told: dict[str, Any] = {"jacket": __version__, **(report or {}), "profile": name, "ready": not wrong,
                            "axes": {"up": profile.up, "scale": profile.scale, "green": profile.green, "faces": profile.faces}}  # fmt: skip
    if bake is not None:
        told["bake"] = bake.figures()
    nodes = {x.name: _told_nodes(x, profile) for x in layers if x.nodes != BARE or x.level_of}
    if nodes:
        told["nodes"] = nodes
    if len(layers) == 1:
        told["checks"] = [c.as_dict() for c in rows[layers[0].name]]
    else:
        told["layers"] = {name: [c.as_dict() for c in found] for name, found in rows.items()}
    return told


def _told_nodes(layer: DeliverLayer, profile: Profile) -> dict[str, Any]:
    """Pivot, sockets and finest level of a layer for the report, in the receiver's axes and unit."""

    def placed(place: Any, scale: float = profile.scale) -> list[float]:
        return [float(v) for v in turned(np.array([place], float), profile)[0] * scale]

    out: dict[str, Any] = {"pivot": placed(layer.nodes.pivot)}
    if layer.nodes.sockets:
        out["sockets"] = [{"name": s.name, "place": placed(s.place), "towards": placed(s.towards, 1.0)} for s in layer.nodes.sockets]
    return {**out, **({"level_of": layer.level_of} if layer.level_of else {})}


def _files(
    layers: Sequence[DeliverLayer], rows: Mapping[str, list[Check]], settings: DeliverSettings, profile: Profile,
    told: dict[str, Any], bake: Bake | None, own: Mapping[str, str],
) -> dict[str, bytes]:  # fmt: skip
    worn = with_own(bake.sheets if bake is not None else (), own, settings.sheets)
    maps = [(s.sheet, s.maps) for s in with_decals(worn, [(x.mesh, x.decals) for x in layers if x.decals], settings.sheets)]
    nodes = {x.name: x.nodes for x in layers if x.nodes != BARE}
    files = delivery_bytes([(x.name, x.mesh, x.islands) for x in layers], settings.stem, profile, settings.sheets, b"", maps, nodes)
    name = name_of(settings.stem)
    if "page" in profile.files:
        triangles = sum(int((x.mesh.sizes - 2).sum()) for x in layers)
        facts = facts_of(told, len(layers), sum(x.mesh.n_faces for x in layers), triangles, len(settings.sheets))
        pictures = {n: small_png(data) for n, data in files.items() if n.endswith(".png")}
        files[f"{name}.html"] = page_bytes(settings.stem, rows, pictures, facts, bake.notes if bake is not None else ())
    told["files"] = told_files(files)
    files[f"{name}-report.json"] = report_bytes(plain(told))
    return files
