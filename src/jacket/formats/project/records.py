"""The project file: a zip of manifest.json and .npy arrays; reading trusts nothing in it."""

from __future__ import annotations

import dataclasses
import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.decals import LAID, Decal
from jacket.core.mesh.materials import Material
from jacket.core.mesh.nodes import Nodes, Socket
from jacket.core.mesh.polymesh import CUT, PIN, UV, PolyMesh, sorted_pairs
from jacket.core.quads.steering import Guide, Paint
from jacket.core.seams.sight import KINDS, Sight
from jacket.core.uv.identity import IslandRecord
from jacket.core.uv.sheets import Sheet, checked_sheets
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State, Trial
from jacket.errors import FormatError, JacketError
from jacket.formats.atomic import read_bytes, write_pieces
from jacket.formats.deliver.own import ROLES
from jacket.formats.project.container import PICTURE, Packed, Reader, packed, packed_array, zip_pieces
from jacket.formats.project.damage import DAMAGE
from jacket.formats.project.maps import KeptMaps, maps_members
from jacket.formats.project.migrations import VERSION, brought_up, channel_name


def save_project(state: State, path: Path, maps: KeptMaps | None = None) -> None:
    """Write a state to a .jacket file, and the maps that were baked of it, whole or not at all."""
    write_pieces(path, project_pieces(state, maps))


# ---- writing -----------------------------------------------------------------------------------------------------


def project_bytes(state: State) -> bytes:
    """A state as the bytes of a project file."""
    return b"".join(project_pieces(state))


def project_pieces(state: State, maps: KeptMaps | None = None) -> list[bytes]:
    """A state as the pieces of a project file; arrays that were packed before and still live are not packed again."""
    members: list[tuple[str, Packed]] = []
    meshes: list[PolyMesh] = []

    def put(mesh: PolyMesh) -> int:
        known = next((k for k, m in enumerate(meshes) if m is mesh), None)
        if known is not None:
            return known
        meshes.append(mesh)
        members.extend(_mesh_members(f"mesh{len(meshes) - 1}", mesh))
        return len(meshes) - 1

    manifest = {
        "format": "jacket project", "version": VERSION, "active": state.active, "mirror": state.mirror,
        "next_id": state.next_id, "sheets": [dataclasses.asdict(s) for s in state.sheets],
        "active_source": state.active_source,
        "sources": [{"id": s.id, "name": s.name, "path": s.path, "visible": s.visible, "locked": s.locked,
                     "placing": s.placing.ravel().tolist(), "stamp": list(s.stamp), "mesh": put(s.mesh)}
                    for s in state.sources],
        "jackets": [{"id": j.id, "name": j.name, "visible": j.visible, "locked": j.locked, "mesh": put(j.mesh),
                     "islands": [dataclasses.asdict(r) for r in j.islands], "next_island": j.next_island,
                     "pictures": [list(p) for p in j.pictures], "dense": j.dense,
                     "nodes": dataclasses.asdict(j.nodes), "coarser_of": j.coarser_of,
                     "decals": [dataclasses.asdict(d) for d in j.decals]}
                    for j in state.jackets],
        "trials": [{"id": t.id, "name": t.name, "settings": t.settings, "figures": t.figures, "mesh": put(t.mesh)}
                   for t in state.trials],
        "guides": [{"points": np.asarray(g.points).tolist(), "hard": g.hard, "closed": g.closed, "smooth": g.smooth}
                   for g in state.guides],
        "sights": [dataclasses.asdict(s) for s in state.sights],
    }  # fmt: skip
    if state.paint is not None:
        table = np.concatenate([state.paint.places, state.paint.values[:, None]], axis=1)
        members.append(("paint.npy", packed_array(table.astype(np.float64))))
    if maps is not None:
        members.extend(maps_members(maps))
    return zip_pieces([("manifest.json", packed(json.dumps(manifest, indent=1).encode())), *members])


def _mesh_members(name: str, mesh: PolyMesh) -> list[tuple[str, Packed]]:
    arrays = {"points": mesh.points, "corners": mesh.corners, "starts": mesh.starts}
    for kind, channels in (("corner", mesh.corner_data), ("mark", mesh.marks), ("point", mesh.point_data),
                           ("face", mesh.face_data)):  # fmt: skip
        arrays |= {f"{kind}.{k}": v for k, v in channels.items()}
    out = [(f"{name}/{key}.npy", packed_array(array)) for key, array in arrays.items()]
    tables = {
        "groups": list(mesh.groups), "uv_sets": list(mesh.uv_sets), "active_uv": mesh.active_uv,
        "materials": [{"name": m.name, "colour": list(m.colour), "left_out": m.left_out,
                       "picture": f"picture{k}" if m.picture else ""} for k, m in enumerate(mesh.materials)],
    }  # fmt: skip
    out.append((f"{name}/tables.json", packed(json.dumps(tables, indent=1).encode())))
    out += [(f"{name}/picture{k}", packed(m.picture)) for k, m in enumerate(mesh.materials) if m.picture]
    return out


# ---- reading -----------------------------------------------------------------------------------------------------

def load_project(path: Path) -> State:
    """Read a project file; raises FormatError with one sentence for anything wrong with it."""
    path = Path(path)
    data = read_bytes(path)
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            return _read(Reader(archive, path.name))
    except FormatError:
        raise
    except JacketError as error:
        raise FormatError(f"{path.name}: {error}") from error
    except DAMAGE as error:
        raise FormatError(f"{path.name} is damaged or not a Jacket project; open an earlier copy.") from error


def _read(reader: Reader) -> State:
    manifest = json.loads(reader.bytes("manifest.json"))
    if not isinstance(manifest, dict) or manifest.get("format") != "jacket project":
        raise FormatError(f"{reader.name} is no Jacket project.")
    version = manifest.get("version")
    if not isinstance(version, int) or isinstance(version, bool) or version > VERSION:
        raise FormatError(f"{reader.name} was saved by a newer Jacket (format {version}); update to open it.")
    if version < 1:
        raise FormatError(f"{reader.name} is no Jacket project.")
    manifest = brought_up(manifest)
    meshes: dict[int, PolyMesh] = {}

    def mesh(index: Any) -> PolyMesh:
        if index not in meshes:
            meshes[index] = _read_mesh(reader, f"mesh{int(index)}", version)
        return meshes[index]

    sources = tuple(_source(s, mesh(s["mesh"])) for s in manifest["sources"])
    jackets = tuple(_jacket(j, mesh(j["mesh"])) for j in manifest["jackets"])
    trials = tuple(Trial(int(t["id"]), str(t["name"]), mesh(t["mesh"]), dict(t["settings"]), dict(t["figures"]))
                   for t in manifest["trials"])  # fmt: skip
    used = [*(s.id for s in sources), *(j.id for j in jackets), *(t.id for t in trials)]
    state = State(
        sources, jackets, trials, active=int(manifest["active"]),
        mirror=manifest["mirror"] if manifest["mirror"] in ("", "x", "y", "z") else "",
        sheets=checked_sheets(tuple(_sheet(s) for s in manifest["sheets"])),
        next_id=max([int(manifest["next_id"]), *(k + 1 for k in used)]),
        active_source=int(manifest.get("active_source", -1)),
        guides=tuple(_guide(g) for g in manifest.get("guides", ())), paint=_paint(reader),
        sights=tuple(_sight(s) for s in manifest.get("sights", ())),
    )  # fmt: skip
    # Islands of files before version 3 have no numbers and names yet.
    return with_island_numbers(State(), state)


def _sheet(entry: dict[str, Any]) -> Sheet:
    margin, edge = float(entry["margin"]), entry.get("edge")
    return Sheet(str(entry["name"]), int(entry["tile"]), int(entry["width"]), int(entry["height"]),
                 margin if np.isfinite(margin) else 8.0, None if edge is None else float(edge),
                 int(entry.get("mip", 0)), float(entry.get("least", 0.0)))  # fmt: skip


def _weigh(entry: dict[str, Any]) -> float:
    weigh = float(entry.get("weigh", 1.0))
    return weigh if np.isfinite(weigh) and 0.01 <= weigh <= 100 else 1.0


def _jacket(entry: dict[str, Any], mesh: PolyMesh) -> JacketObject:
    records = tuple(
        IslandRecord(int(r["id"]), str(r["name"]), str(r["group"]), bool(r["lock"]), bool(r["done"]), int(r["twin"]),
                     _weigh(r))
        for r in entry.get("islands", ())
    )
    first = max([int(entry.get("next_island", 1)), *(r.id + 1 for r in records)])
    return JacketObject(int(entry["id"]), str(entry["name"]), mesh, bool(entry["visible"]),
                        bool(entry.get("locked", False)), records, first, _pictures(entry), bool(entry.get("dense", False)),
                        _nodes(entry.get("nodes", {})), int(entry.get("coarser_of", -1)), _decals(entry))  # fmt: skip


def _decals(entry: dict[str, Any]) -> tuple[Decal, ...]:
    """What lies on a layer; older files have none."""
    out = []
    for d in entry.get("decals", ()):
        path, role = str(d["path"]), str(d["role"])
        width, height, reach, eye, strength = sizes = [float(d[k]) for k in ("width", "height", "reach", "eye", "strength")]
        right, up = _place(d["right"]), _place(d["up"])
        square = abs(np.dot(right, up)) < 1e-6 and abs(np.linalg.norm(right) - 1) < 1e-6 and abs(np.linalg.norm(up) - 1) < 1e-6
        if not np.isfinite(sizes).all() or width == 0 or min(height, reach) <= 0 or eye < 0 or not square:
            raise ValueError("a decal without a frame")
        if role in LAID and 0 < len(path) < 4096:
            out.append(Decal(int(d["id"]), str(d["name"]), path, role, _place(d["place"]), right, up, width, height, reach, eye,
                             min(max(strength, 0.0), 1.0), bool(d["shown"])))  # fmt: skip
    return tuple(out)


def _nodes(entry: dict[str, Any]) -> Nodes:
    """Pivot and sockets; older files have none."""
    sockets = tuple(Socket(str(s["name"]), _place(s["place"]), _place(s["towards"])) for s in entry.get("sockets", ()))
    return Nodes(_place(entry.get("pivot", (0.0, 0.0, 0.0))), sockets)


def _place(values: Any) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    if not np.isfinite([x, y, z]).all():
        raise ValueError("a place that is not a number")
    return x, y, z


def _pictures(entry: dict[str, Any]) -> tuple[tuple[str, str], ...]:
    """Pictures of one's own by what they stand for; older files have none."""
    rows = [(str(role), str(path)) for role, path in entry.get("pictures", ())]
    return tuple((r, p) for r, p in rows if r in ROLES and 0 < len(p) < 4096)


def _sight(data: Any) -> Sight:
    eye, target = (tuple(float(v) for v in data[k]) for k in ("eye", "target"))
    weight = float(data["weight"])
    if len(eye) != 3 or len(target) != 3 or not np.isfinite([*eye, *target, weight]).all() or data["kind"] not in KINDS:
        raise ValueError("sight")
    return Sight(int(data["id"]), str(data["name"]), data["kind"], eye, target, weight)


def _guide(entry: dict[str, Any]) -> Guide:
    points = np.array(entry["points"], float).reshape(-1, 3)
    if not np.isfinite(points).all():
        raise ValueError("a guide with a place that is not a number")
    return Guide(points, bool(entry["hard"]), bool(entry["closed"]), bool(entry["smooth"]))


def _paint(reader: Reader) -> Paint | None:
    if not reader.has("paint.npy"):
        return None
    table = np.asarray(reader.array("paint.npy"), float)
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


def _read_mesh(reader: Reader, name: str, version: int) -> PolyMesh:
    points, corners, starts = (reader.array(f"{name}/{key}.npy") for key in ("points", "corners", "starts"))
    mesh = PolyMesh.checked(points.reshape(-1, 3), corners, starts)
    rows = {"corner": mesh.n_corners, "point": mesh.n_points, "face": mesh.n_faces}
    tables: dict[str, dict[str, NDArray[Any]]] = {"corner": {}, "point": {}, "face": {}, "mark": {}}
    for member in reader.names(name):
        key = channel_name(member[:-4], version) if member.endswith(".npy") else ""
        kind, _, channel = key.partition(".")
        if kind not in tables or not channel:
            continue
        array = reader.array(f"{name}/{member}", rows.get(kind))
        kept = _channel(kind, channel, array, mesh)
        if kept is not None:
            tables[kind][channel] = kept
    extra = json.loads(reader.bytes(f"{name}/tables.json")) if reader.has(f"{name}/tables.json") else {}
    materials, groups = _materials(reader, name, extra), tuple(str(g) for g in extra.get("groups", ()))
    for kind, table in (("material", materials), ("group", groups)):
        label = tables["face"].get(kind)
        if label is not None and (label.dtype.kind not in "iu" or (len(label) and label.max() >= len(table))):
            del tables["face"][kind]
    sets = _set_names(extra, tables)
    active = str(extra.get("active_uv", sets[0] if sets else ""))
    return mesh.with_(
        point_data=tables["point"], face_data=tables["face"], corner_data=tables["corner"], marks=tables["mark"],
        uv_sets=sets, active_uv=active if active in sets else (sets[0] if sets else ""), materials=materials, groups=groups,
    )  # fmt: skip


def _channel(kind: str, name: str, array: NDArray[Any], mesh: PolyMesh) -> NDArray[Any] | None:
    """A channel as meshes hold it; None where it is not what its name says."""
    if kind == "mark":
        if array.ndim != 2 or array.shape[1:] != (2,) or array.dtype.kind not in "iu":
            return None
        inside = (array >= 0).all(axis=1) & (array < mesh.n_points).all(axis=1)
        return sorted_pairs(array[inside])
    if name.startswith(UV):
        return array.astype(np.float64) if array.shape == (mesh.n_corners, 2) and array.dtype.kind == "f" else None
    if name.startswith(PIN):
        good = array.shape == (mesh.n_corners,) and array.dtype.kind == "f"
        return np.clip(np.nan_to_num(array), 0, 1).astype(np.float32) if good else None
    if name == "colour":
        return array if array.dtype == np.uint8 and array.shape == (mesh.n_points, 4) else None
    if kind == "face":
        return array if array.ndim == 1 else None
    return array if array.ndim <= 2 else None


def _set_names(extra: dict[str, Any], tables: dict[str, dict[str, NDArray[Any]]]) -> tuple[str, ...]:
    """UV sets in the order that the file gives, and those of which there are channels only."""
    found = [n[len(UV) :] for n in tables["corner"] if n.startswith(UV)]
    found += [n[len(CUT) :] for n in tables["mark"] if n.startswith(CUT)]
    return tuple(dict.fromkeys([str(n) for n in extra.get("uv_sets", ())] + found))


def _materials(reader: Reader, name: str, extra: dict[str, Any]) -> tuple[Material, ...]:
    out = []
    for row in extra.get("materials", ()):
        r, g, b, a = (float(v) for v in row["colour"])
        picture = reader.bytes(f"{name}/{row['picture']}", PICTURE) if row["picture"] else b""
        out.append(Material(str(row["name"]), (r, g, b, a), picture, str(row["left_out"])))
    return tuple(out)
