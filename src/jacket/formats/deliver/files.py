"""The files of a delivery: meshes, maps, layout pictures, the report; all or nothing, and nothing of others overwritten."""

from __future__ import annotations

import hashlib
import io
import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np
from PIL import Image

from jacket.core.bake.maps import Baked, stored
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.nodes import BARE, Nodes
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.mesh.shading import HARD, corner_normals
from jacket.core.uv.sheets import ONE_SHEET, Sheet, Sheets
from jacket.errors import FormatError, WouldOverwrite
from jacket.formats.atomic import write_bytes
from jacket.formats.deliver.maps import map_bytes, packed_bytes
from jacket.formats.deliver.own import fitted
from jacket.formats.deliver.picture import layout_png
from jacket.formats.deliver.profiles import Profile, in_profile, profile_named, turned
from jacket.formats.deliver.usd import KINDS, usd_files
from jacket.formats.mesh.glb import SheetLook, glb_bytes
from jacket.formats.mesh.obj import mtl_text, obj_text
from jacket.formats.mesh.ply import ply_bytes
from jacket.formats.mesh.stl import stl_bytes

Layer = tuple[str, PolyMesh, Mapping[int, str] | None]
"""A layer's name and mesh, and the names of its islands by the number on their faces."""
Maps = Sequence[tuple[Sheet, Mapping[str, Baked]]]
"""The maps of sheets."""

PLAIN = {"roughness": 0.8, "metal": 0.0, "occlusion": 1.0}
"""What stands in one channel of several where no picture says."""


def delivery_bytes(
    layers: Sequence[Layer], stem: str, profile: str | Profile, sheets: Sheets = ONE_SHEET, report: bytes = b"{}", maps: Maps = (),
    nodes: Mapping[str, Nodes] = MappingProxyType({}),
) -> dict[str, bytes]:  # fmt: skip
    """Every file of a delivery by its name. All layers stand in one OBJ, a group each, and in one GLB, a node each. glTF
    is always Y up in metres, as its specification demands (section 3.4), whatever the profile. Pivots and sockets (`nodes`, by
    the names of layers) go into the formats that have nodes."""
    receiver = profile_named(profile) if isinstance(profile, str) else profile
    name = name_of(stem)
    files: dict[str, bytes] = {}
    whole = _as_groups(layers)
    pictures = picture_files(receiver, name, maps, len(sheets))
    if "obj" in receiver.files:
        files[f"{name}.mtl"] = _with_pictures(mtl_text(whole, name), pictures).encode()
        files[f"{name}.obj"] = _obj(whole, receiver, name).encode()
    if "glb" in receiver.files:
        named = [(title if len(layers) > 1 else name, mesh) for title, mesh, _ in layers]
        by_name = nodes if len(layers) > 1 else dict.fromkeys([name] if nodes else [], next(iter(nodes.values()), BARE))
        files[f"{name}.glb"] = glb_bytes(named, name, sheet_looks(maps, name, len(sheets)), True, by_name)
    if "ply" in receiver.files:
        files[f"{name}.ply"] = ply_bytes(in_profile(whole, receiver))
    if "stl" in receiver.files:
        files[f"{name}.stl"] = stl_bytes(in_profile(whole, receiver), np.asarray(whole.corners[short_diagonals(whole)]))
    kinds = [k for k in KINDS if k in receiver.files]
    if kinds:
        # USD has green up always (UsdPreviewSurface specification); a receiver that wants it down gets a picture more.
        turned_up = {f"{name}-normal-usd.png": (map_bytes(known["normal"], 8), "normal") for _, known in maps[:1]
                     if "normal" in known and receiver.green == "down"}  # fmt: skip
        pictures = {**turned_up, **pictures}
        files |= usd_files([(title, mesh) for title, mesh, _ in layers], name, receiver, pictures, kinds, nodes)
    files |= {n: data for n, (data, _) in pictures.items()}
    files[f"{name}-report.json"] = report
    meshes = [(mesh, names) for _, mesh, names in layers if mesh.uv is not None and np.isfinite(mesh.uv).any()]
    for k, sheet in enumerate(sheets if meshes and "layout" in receiver.files else ()):
        tail = f"-{sheet.tile}" if len(sheets) > 1 else ""
        files[f"{name}-layout{tail}.png"] = layout_png(meshes, sheets, k)
    return files


def _obj(whole: PolyMesh, receiver: Profile, name: str) -> str:
    """OBJ text with the normals that the maps were baked with, as quads, or triangulated as for baking."""
    normals = corner_normals(whole)
    mesh = in_profile(whole, receiver)
    if receiver.faces == "triangles":
        tri = short_diagonals(whole)
        mesh, normals = as_triangles(mesh, tri), normals[tri].reshape(-1, 3)
    return obj_text(mesh, name, f"{name}.mtl", turned(normals, receiver))


def as_triangles(mesh: PolyMesh, tri: np.ndarray) -> PolyMesh:
    """A mesh as triangles (T, 3) of its corners, with groups, materials and the active UV set."""
    face = mesh.triangle_faces
    out = PolyMesh.from_faces(mesh.points, np.asarray(mesh.corners[tri]), materials=mesh.materials, groups=mesh.groups)
    out = out.with_(point_data=mesh.point_data, face_data={n: np.asarray(v[face]) for n, v in mesh.face_data.items()})
    return out.with_cuts(mesh.cuts).with_uv(mesh.uv[tri].reshape(-1, 2)) if mesh.uv is not None else out


def picture_files(receiver: Profile, name: str, maps: Maps, sheets: int) -> dict[str, tuple[bytes, str]]:
    """The pictures that a profile wants and whose maps there are: bytes and what it mostly is, by file name."""
    out: dict[str, tuple[bytes, str]] = {}
    for picture in receiver.pictures:
        for sheet, known in maps:
            file = picture.name.replace("{name}", name).replace("{tile}", f"-{sheet.tile}" if sheets > 1 else "")
            first = next(iter(known.values()), None)
            if first is None:
                continue
            if picture.name.endswith(".exr"):
                baked = known.get(picture.parts[0])
                data = map_bytes(baked, 32, ".exr") if baked is not None else None
            elif (len(picture.parts) == 1 and picture.parts[0].partition(".")[0] not in known) or not any(w.partition(".")[0] in known for w in picture.parts):
                data = None
            else:
                size = (first.pixels.shape[1], first.pixels.shape[0])
                data = packed_bytes(picture.parts, lambda n, k=known, s=size: _found(n, k, s), size, picture.bits, receiver.green == "down")  # type: ignore[misc]
            if data is not None:
                out[file] = data, picture.parts[0]
    return out


def _found(name: str, known: Mapping[str, Baked], size: tuple[int, int]) -> Baked | None:
    """A map, or the plain value of what no map says."""
    if name in known:
        return fitted(known[name], size)
    if name in PLAIN:
        value = PLAIN[name]
        return Baked(name, np.broadcast_to(stored(np.array([value])), (size[1], size[0], 1)))
    return None


def sheet_looks(maps: Maps, name: str, sheets: int) -> list[tuple[Floats, SheetLook]]:
    """Each sheet's lower left corner and its pictures as glTF wants them: eight bits, green up."""
    out = []
    for sheet, known in maps:
        title = f"{name}-{sheet.tile}" if sheets > 1 else name
        picture = {k: map_bytes(known[k], 8) if k in known else b"" for k in ("colour", "normal")}
        surface = b""
        first = next((known[k] for k in ("occlusion", "roughness", "metal") if k in known), None)
        if first is not None:
            size = (first.pixels.shape[1], first.pixels.shape[0])
            surface = packed_bytes(("occlusion", "roughness", "metal"), lambda n, k=known, s=size: _found(n, k, s), size, 8) or b""  # type: ignore[misc]
        if any(picture.values()) or surface:
            out.append((sheet.origin, SheetLook(title, picture["colour"], picture["normal"], surface)))
    return out


def _with_pictures(text: str, pictures: Mapping[str, tuple[bytes, str]]) -> str:
    """MTL text whose materials name the pictures: colour as map_Kd, normals as norm (common practice)."""
    for word, kind in (("norm", "normal"), ("map_Kd", "colour")):
        files = [n for n, (_, what) in pictures.items() if what == kind]
        if len(files) == 1:
            text = text.replace("illum 1\n", f"illum 1\n{word} {files[0]}\n")
    return text


def name_of(stem: str) -> str:
    """What files begin with: letters, digits, hyphens and underscores."""
    return "".join(c if c.isalnum() or c in "-_" else "_" for c in stem) or "jacket"


def delivery_names(stem: str) -> list[str]:
    """Names of the files that every delivery has, the OBJ first; layout pictures begin alike."""
    name = name_of(stem)
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
    uv, cuts, hard = mesh.uv, mesh.cuts, mesh.mark(HARD)
    bare = mesh.with_(corner_data={}, marks={HARD: hard} if len(hard) else {}, uv_sets=(), active_uv="")
    bare = bare.with_cuts(cuts) if len(cuts) or uv is not None else bare
    return bare.with_uv(uv) if uv is not None else bare


def digest(data: bytes) -> str:
    """What tells one content of a file from another."""
    return hashlib.sha256(data).hexdigest()


def strangers(folder: Path, files: Mapping[str, bytes], stem: str) -> list[str]:
    """Files of a folder that a delivery would replace although the last delivery there did not write them, or someone has
    changed them since."""
    known = _last_written(folder / f"{name_of(stem)}-report.json")
    out = []
    for name in files:
        path = folder / name
        try:
            there = path.read_bytes() if path.is_file() else None
        except OSError:
            continue
        if there is not None and there != files[name] and known.get(name) != digest(there) and not name.endswith("-report.json"):
            out.append(name)
    return out


def _last_written(report: Path) -> dict[str, str]:
    try:
        told = json.loads(report.read_bytes())
        files = told.get("files", {}) if isinstance(told, dict) else {}
        return {str(k): str(v) for k, v in files.items()} if isinstance(files, dict) else {}
    except (OSError, ValueError):
        return {}


def write_delivery(folder: Path, files: Mapping[str, bytes], stem: str = "", force: bool = True) -> list[Path]:
    """Write files into a folder, each whole or not at all; those that are there already as they are stay untouched. Returns
    the paths of all. Raises FormatError with the reason, WouldOverwrite where something would be lost and `force` is not
    set."""
    if folder.exists() and not folder.is_dir():
        raise FormatError(f"{folder} is a file; name a folder to deliver to.")
    if not force:
        lost = strangers(folder, files, stem)
        if lost:
            more = f" and {len(lost) - 1} more" if len(lost) > 1 else ""
            raise WouldOverwrite(f"{lost[0]}{more} in {folder.name} would be replaced, though Jacket did not write it as it is now; "
                                 "deliver to another folder, or allow it.")  # fmt: skip
    for entry, data in files.items():
        if not _same(folder / entry, data):
            write_bytes(folder / entry, data)
    return [folder / entry for entry in files]


def _same(path: Path, data: bytes) -> bool:
    try:
        return path.is_file() and path.stat().st_size == len(data) and path.read_bytes() == data
    except OSError:
        return False


def small_png(data: bytes, most: int = 320) -> bytes:
    """A picture made small, as PNG; nothing where it cannot be read."""
    try:
        with Image.open(io.BytesIO(data)) as opened:
            picture = opened.convert("RGB") if opened.mode not in ("I;16", "I") else opened.point(lambda v: v / 257).convert("L")
            picture.thumbnail((most, most))
            out = io.BytesIO()
            picture.save(out, "PNG")
            return out.getvalue()
    except (OSError, ValueError):
        return b""


def told_files(files: Mapping[str, bytes]) -> dict[str, Any]:
    """Names and digests for the report, so that the next delivery knows what is its own."""
    return {name: digest(data) for name, data in files.items() if not name.endswith("-report.json")}
