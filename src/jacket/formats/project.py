"""The project file: a zip of manifest.json and .npy arrays; reading trusts nothing in it."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh, sorted_pairs
from jacket.core.quads.steering import Guide, Paint
from jacket.document.state import JacketObject, Sheet, SourceObject, State, Trial
from jacket.errors import FormatError, JacketError
from jacket.formats.atomic import read_bytes, write_bytes

VERSION = 2
"""1: first. 2: colours, materials and groups of meshes; locked, placed and stamped sources."""
_MOST_BYTES = 8_000_000_000
_KINDS = {"f": np.float64, "i": np.int32, "u": np.int32, "b": np.bool_}


def save_project(state: State, path: Path) -> None:
    """Write a state to a .jacket file, whole or not at all."""
    write_bytes(path, project_bytes(state))


def project_bytes(state: State) -> bytes:
    """A state as the bytes of a project file."""
    out = io.BytesIO()
    meshes: dict[int, int] = {}
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:

        def put(mesh: PolyMesh) -> int:
            if id(mesh) not in meshes:
                meshes[id(mesh)] = len(meshes)
                _write_mesh(archive, f"mesh{meshes[id(mesh)]}", mesh)
            return meshes[id(mesh)]

        manifest = {
            "format": "jacket project", "version": VERSION, "active": state.active, "mirror": state.mirror,
            "next_id": state.next_id,
            "sheet": {"size": state.sheet.size, "margin": state.sheet.margin, "turn": state.sheet.turn},
            "active_source": state.active_source,
            "sources": [{"id": s.id, "name": s.name, "path": s.path, "visible": s.visible, "locked": s.locked,
                         "placing": s.placing.ravel().tolist(), "stamp": list(s.stamp), "mesh": put(s.mesh)}
                        for s in state.sources],
            "jackets": [{"id": j.id, "name": j.name, "visible": j.visible, "locked": j.locked, "mesh": put(j.mesh)}
                        for j in state.jackets],
            "trials": [{"id": t.id, "name": t.name, "settings": t.settings, "figures": t.figures, "mesh": put(t.mesh)}
                       for t in state.trials],
            "guides": [{"points": np.asarray(g.points).tolist(), "hard": g.hard, "closed": g.closed, "smooth": g.smooth}
                       for g in state.guides],
        }  # fmt: skip
        if state.paint is not None:
            table = np.concatenate([state.paint.places, state.paint.values[:, None]], axis=1)
            data = io.BytesIO()
            np.save(data, table.astype(np.float64), allow_pickle=False)
            archive.writestr("paint.npy", data.getvalue())
        archive.writestr("manifest.json", json.dumps(manifest, indent=1))
    return out.getvalue()


def _write_mesh(archive: zipfile.ZipFile, name: str, mesh: PolyMesh) -> None:
    arrays = {"points": mesh.points, "corners": mesh.corners, "starts": mesh.starts}
    arrays |= {f"uv.{k}": v for k, v in mesh.uvs.items()}
    arrays |= {f"mark.{k}": v for k, v in mesh.marks.items()}
    arrays |= {f"point.{k}": v for k, v in mesh.point_data.items()}
    arrays |= {f"face.{k}": v for k, v in mesh.face_data.items()}
    if mesh.materials or mesh.groups:
        tables = {
            "groups": list(mesh.groups),
            "materials": [{"name": m.name, "colour": list(m.colour), "left_out": m.left_out,
                           "picture": f"picture{k}" if m.picture else ""} for k, m in enumerate(mesh.materials)],
        }  # fmt: skip
        archive.writestr(f"{name}/tables.json", json.dumps(tables, indent=1))
        for k, m in enumerate(mesh.materials):
            if m.picture:
                archive.writestr(f"{name}/picture{k}", m.picture)
    for key, array in arrays.items():
        data = io.BytesIO()
        np.save(data, np.ascontiguousarray(array), allow_pickle=False)
        archive.writestr(f"{name}/{key}.npy", data.getvalue())


def load_project(path: Path) -> State:
    """Read a project file; raises FormatError with one sentence for anything wrong with it."""
    path = Path(path)
    data = read_bytes(path)
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            return _read(archive, path)
    except FormatError:
        raise
    except JacketError as error:
        raise FormatError(f"{path.name}: {error}") from error
    except (zipfile.BadZipFile, KeyError, ValueError, TypeError, OSError, EOFError, AttributeError,
            IndexError, NotImplementedError, OverflowError, RuntimeError) as error:  # fmt: skip
        raise FormatError(f"{path.name} is damaged or not a Jacket project; open an earlier copy.") from error


def _read(archive: zipfile.ZipFile, path: Path) -> State:
    if sum(info.file_size for info in archive.infolist()) > _MOST_BYTES:
        raise FormatError(f"{path.name} claims to hold more than 8 GB and was not opened.")
    manifest = json.loads(archive.read("manifest.json"))
    if not isinstance(manifest, dict) or manifest.get("format") != "jacket project":
        raise FormatError(f"{path.name} is no Jacket project.")
    version = manifest.get("version")
    if not isinstance(version, int) or version > VERSION:
        raise FormatError(f"{path.name} was saved by a newer Jacket (format {version}); update to open it.")
    meshes: dict[int, PolyMesh] = {}

    def mesh(index: Any) -> PolyMesh:
        if index not in meshes:
            meshes[index] = _read_mesh(archive, f"mesh{int(index)}")
        return meshes[index]

    sheet = manifest["sheet"]
    turn = str(sheet["turn"])
    return State(
        sources=tuple(_source(s, mesh(s["mesh"])) for s in manifest["sources"]),
        jackets=tuple(JacketObject(int(j["id"]), str(j["name"]), mesh(j["mesh"]), bool(j["visible"]),
                                   bool(j.get("locked", False)))
                      for j in manifest["jackets"]),
        trials=tuple(Trial(int(t["id"]), str(t["name"]), mesh(t["mesh"]), dict(t["settings"]), dict(t["figures"]))
                     for t in manifest["trials"]),
        active=int(manifest["active"]),
        mirror=manifest["mirror"] if manifest["mirror"] in ("", "x", "y", "z") else "",
        sheet=Sheet(int(sheet["size"]), float(sheet["margin"]), turn if turn in ("free", "quarter", "none") else "free"),
        next_id=int(manifest["next_id"]),
        active_source=int(manifest.get("active_source", -1)),
        guides=tuple(_guide(g) for g in manifest.get("guides", ())),
        paint=_paint(archive),
    )  # fmt: skip


def _guide(entry: dict[str, Any]) -> Guide:
    points = np.array(entry["points"], float).reshape(-1, 3)
    if not np.isfinite(points).all():
        raise ValueError("a guide with a place that is not a number")
    return Guide(points, bool(entry["hard"]), bool(entry["closed"]), bool(entry["smooth"]))


def _paint(archive: zipfile.ZipFile) -> Paint | None:
    if "paint.npy" not in archive.namelist():
        return None
    table = np.asarray(_array(archive.read("paint.npy")), float)
    if table.ndim != 2 or table.shape[1] != 4 or not np.isfinite(table).all():
        raise ValueError("painted density that is not one")
    return Paint(table[:, :3].copy(), np.clip(table[:, 3], -2.0, 2.0))


def _source(entry: dict[str, Any], mesh: PolyMesh) -> SourceObject:
    placing = np.array(entry.get("placing", np.eye(4)), float).reshape(4, 4)
    if not np.isfinite(placing).all() or abs(np.linalg.det(placing[:3, :3])) < 1e-300:
        placing = np.eye(4)
    time, size = entry.get("stamp", (0, 0))
    return SourceObject(
        int(entry["id"]), str(entry["name"]), mesh, str(entry["path"]), bool(entry["visible"]),
        bool(entry.get("locked", False)), placing, (int(time), int(size)),
    )  # fmt: skip


def _tables(archive: zipfile.ZipFile, name: str) -> tuple[tuple[Material, ...], tuple[str, ...]]:
    if f"{name}/tables.json" not in archive.namelist():
        return (), ()
    tables = json.loads(archive.read(f"{name}/tables.json"))
    materials = []
    for row in tables["materials"]:
        r, g, b, a = (float(v) for v in row["colour"])
        picture = archive.read(f"{name}/{row['picture']}") if row["picture"] else b""
        materials.append(Material(str(row["name"]), (r, g, b, a), picture, str(row["left_out"])))
    return tuple(materials), tuple(str(g) for g in tables["groups"])


def _read_mesh(archive: zipfile.ZipFile, name: str) -> PolyMesh:
    arrays: dict[str, NDArray[Any]] = {}
    for info in archive.infolist():
        folder, _, key = info.filename.partition("/")
        if folder == name and key.endswith(".npy"):
            arrays[key[:-4]] = _array(archive.read(info))
    mesh = PolyMesh.checked(arrays["points"].reshape(-1, 3), arrays["corners"], arrays["starts"])
    for key, array in arrays.items():
        if key.startswith("uv.") and array.shape == (mesh.n_corners, 2):
            mesh = mesh.with_uv(array.astype(np.float64), key[3:])
        elif key.startswith("mark.") and array.ndim == 2 and array.shape[1:] == (2,):
            inside = (array >= 0).all(axis=1) & (array < mesh.n_points).all(axis=1)
            mesh = mesh.with_(marks={**mesh.marks, key[5:]: sorted_pairs(array[inside])})
        elif key.startswith("point.") and len(array) == mesh.n_points and array.ndim <= 2:
            mesh = mesh.with_(point_data={**mesh.point_data, key[6:]: array})
        elif key.startswith("face.") and array.shape == (mesh.n_faces,):
            mesh = mesh.with_(face_data={**mesh.face_data, key[5:]: array})
    materials, groups = _tables(archive, name)
    for kind, table in (("material", materials), ("group", groups)):
        label = mesh.face_data.get(kind)
        if label is not None and (label.dtype.kind not in "iu" or (len(label) and label.max() >= len(table))):
            mesh = mesh.with_(face_data={k: v for k, v in mesh.face_data.items() if k != kind})
    colour = mesh.point_data.get("colour")
    if colour is not None and (colour.dtype != np.uint8 or colour.shape != (mesh.n_points, 4)):
        mesh = mesh.with_(point_data={k: v for k, v in mesh.point_data.items() if k != "colour"})
    return mesh.with_(materials=materials, groups=groups)


def _array(data: bytes) -> NDArray[Any]:
    array = np.load(io.BytesIO(data), allow_pickle=False)
    if array.dtype.kind not in _KINDS:
        raise ValueError("unexpected array type")
    return np.asarray(array)
