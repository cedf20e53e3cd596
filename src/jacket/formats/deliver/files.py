"""The files of a delivery: OBJ with MTL, GLB, a layout picture for each sheet, the report."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sheets import ONE_SHEET, Sheets
from jacket.errors import FormatError
from jacket.formats.atomic import write_bytes
from jacket.formats.deliver.picture import layout_png
from jacket.formats.deliver.profiles import in_profile, profile_named
from jacket.formats.mesh.glb import glb_bytes
from jacket.formats.mesh.obj import mtl_text, obj_text

Layer = tuple[str, PolyMesh, Mapping[int, str] | None]
"""A layer's name and mesh, and the names of its islands by the number on their faces."""


def delivery_bytes(
    layers: Sequence[Layer], stem: str, profile: str, sheets: Sheets = ONE_SHEET, report: bytes = b"{}"
) -> dict[str, bytes]:
    """Every file of a delivery by its name. All layers stand in one OBJ, a group each, and in one GLB, a node each. glTF
    is always Y up in metres, as its specification demands (section 3.4), whatever the profile."""
    receiver = profile_named(profile)
    name = _name_of(stem)
    whole = _as_groups(layers)
    files = {
        f"{name}.mtl": mtl_text(whole, name).encode(),
        f"{name}.obj": obj_text(in_profile(whole, receiver), name, f"{name}.mtl").encode(),
        f"{name}.glb": glb_bytes([(title if len(layers) > 1 else name, mesh) for title, mesh, _ in layers], name),
        f"{name}-report.json": report,
    }
    meshes = [(mesh, names) for _, mesh, names in layers if mesh.uv is not None and np.isfinite(mesh.uv).any()]
    for k, sheet in enumerate(sheets if meshes else ()):
        tail = f"-{sheet.tile}" if len(sheets) > 1 else ""
        files[f"{name}-layout{tail}.png"] = layout_png(meshes, sheets, k)
    return files


def _name_of(stem: str) -> str:
    return "".join(c if c.isalnum() or c in "-_" else "_" for c in stem) or "jacket"


def delivery_names(stem: str) -> list[str]:
    """Names of the files that every delivery has, the OBJ first; layout pictures begin alike."""
    name = _name_of(stem)
    return [f"{name}.obj", f"{name}.mtl", f"{name}.glb", f"{name}-report.json", f"{name}-layout.png"]


def _as_groups(layers: Sequence[Layer]) -> PolyMesh:
    """Several layers as one mesh with a group each; one layer as it is."""
    if len(layers) == 1:
        return layers[0][1]
    rows = [mesh.with_(face_data={**mesh.face_data, "group": np.zeros(mesh.n_faces, np.int32)}, groups=(title,))
            for title, mesh, _ in layers]  # fmt: skip
    # The active set of each layer is what is delivered, whatever it is called there.
    return put_side_by_side([_only_active(m) for m in rows])


def _only_active(mesh: PolyMesh) -> PolyMesh:
    uv, cuts = mesh.uv, mesh.cuts
    bare = mesh.with_(corner_data={}, marks={}, uv_sets=(), active_uv="")
    bare = bare.with_cuts(cuts) if len(cuts) or uv is not None else bare
    return bare.with_uv(uv) if uv is not None else bare


def write_delivery(folder: Path, files: Mapping[str, bytes]) -> list[Path]:
    """Write files into a folder, each whole or not at all; returns their paths. Raises FormatError with the reason."""
    if folder.exists() and not folder.is_dir():
        raise FormatError(f"{folder} is a file; name a folder to deliver to.")
    for entry, data in files.items():
        write_bytes(folder / entry, data)
    return [folder / entry for entry in files]
