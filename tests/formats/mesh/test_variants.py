"""More of what files may hold: PLY in all its forms, glTF scenes, STL and OFF variants."""

from __future__ import annotations

import base64
import io
import json
import struct
from pathlib import Path

import numpy as np
import plyfile
import pytest

from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.geometry import volume
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.identity import numbered
from jacket.errors import FormatError
from jacket.formats.atomic import read_bytes, write_bytes
from jacket.formats.deliver.picture import layout_png
from jacket.formats.mesh.ply import write_ply
from jacket.formats.mesh.registry import FORMATS, READ_ENDINGS, format_of, read_mesh, write_mesh
from jacket.jobs.pack import sheets_of
from tests.conftest import cube, icosphere

# ---- PLY (Turk 1994) ----------------------------------------------------------------------------


def _ply(order: str, text: bool, vertex_type: str, list_type: str, extra: bool) -> bytes:
    box = cube()
    fields = [("nx", "f4"), ("x", vertex_type), ("y", vertex_type), ("z", vertex_type), ("red", "u1")] if extra else [
        (k, vertex_type) for k in "xyz"]  # fmt: skip
    vertex = np.zeros(8, fields)
    for k, axis in enumerate("xyz"):
        vertex[axis] = box.points[:, k]
    face = np.zeros(6, [("vertex_indices", object)])
    for f in range(6):
        face["vertex_indices"][f] = box.face(f).astype("u4" if list_type == "u4" else "i4")
    elements = [plyfile.PlyElement.describe(vertex, "vertex"),
                plyfile.PlyElement.describe(face, "face", val_types={"vertex_indices": list_type})]  # fmt: skip
    out = io.BytesIO()
    plyfile.PlyData(elements, text=text, byte_order="=" if text else order).write(out)
    return out.getvalue()


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("vertex_type", ["f4", "f8", "i2"])
@pytest.mark.parametrize("extra", [False, True])
def test_binary_ply_in_both_orders_and_any_types(order: str, vertex_type: str, extra: bool, tmp_path: Path) -> None:
    (tmp_path / "b.ply").write_bytes(_ply(order, False, vertex_type, "i4", extra))
    mesh = read_mesh(tmp_path / "b.ply")
    assert mesh.is_quads and volume(mesh) == pytest.approx(1.0)


def test_ascii_ply_and_mixed_polygons(tmp_path: Path) -> None:
    (tmp_path / "a.ply").write_bytes(_ply("<", True, "f4", "u4", True))
    assert volume(read_mesh(tmp_path / "a.ply")) == pytest.approx(1.0)
    mixed = PolyMesh.from_faces([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0.5, 0]], [[0, 1, 2, 3], [1, 4, 2]])
    write_ply(mixed, tmp_path / "m.ply")
    back = read_mesh(tmp_path / "m.ply")
    assert back.sizes.tolist() == [4, 3] and np.array_equal(back.corners, mixed.corners)


def test_single_precision_halves_the_points(tmp_path: Path) -> None:
    ball = icosphere(3)
    write_ply(ball, tmp_path / "d.ply")
    write_ply(ball, tmp_path / "s.ply", np.float32)
    saved = (tmp_path / "d.ply").stat().st_size - (tmp_path / "s.ply").stat().st_size
    assert abs(saved - 12 * ball.n_points) < 20
    assert np.abs(read_mesh(tmp_path / "s.ply").points - ball.points).max() < 1e-6


# ---- STL, OFF -----------------------------------------------------------------------------------


def test_ascii_and_binary_stl_join_points(tmp_path: Path) -> None:
    box = cube()
    corner = box.points[box.triangle_points].astype("<f4")
    record = np.zeros(12, [("n", "<f4", 3), ("c", "<f4", (3, 3)), ("x", "<u2")])
    record["c"] = corner
    (tmp_path / "b.stl").write_bytes(b"solid but binary".ljust(80) + struct.pack("<I", 12) + record.tobytes())
    lines = ["solid box"]
    for tri in corner.tolist():
        lines += [
            "facet normal 0 0 0",
            "outer loop",
            *[f"  vertex {x:g} {y:g} {z:g}" for x, y, z in tri],
            "endloop",
            "endfacet",
        ]
    (tmp_path / "a.stl").write_text("\n".join([*lines, "endsolid"]))
    for name in ("a.stl", "b.stl"):
        mesh = read_mesh(tmp_path / name)
        assert mesh.n_points == 8 and volume(mesh) == pytest.approx(1.0)


def test_off_with_comments_and_counts_on_the_first_line(tmp_path: Path) -> None:
    text = "OFF 4 2 0 # counts\n0 0 0\n1 0 0\n# a comment\n1 1 0\n0 1 0\n\n3 0 1 2 255 0 0\n3 0 2 3\n"
    (tmp_path / "c.off").write_text(text)
    assert read_mesh(tmp_path / "c.off").n_faces == 2


# ---- glTF ---------------------------------------------------------------------------------------


def _gltf(node: dict, uri: str | None, blob: bytes) -> dict:
    return {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}],
        "nodes": [{"children": [1], "scale": [2, 2, 2]}, {"mesh": 0, **node}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
                      {"bufferView": 1, "componentType": 5123, "count": 12, "type": "SCALAR"}],
        "bufferViews": [{"buffer": 0, "byteOffset": 0, "byteLength": 48}, {"buffer": 0, "byteOffset": 48, "byteLength": 24}],
        "buffers": [{"byteLength": len(blob), "uri": uri}],
    }  # fmt: skip


TETRA = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], "<f4")
FACES = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]], "<u2")
BLOB = TETRA.tobytes() + FACES.tobytes()
DATA_URI = "data:application/octet-stream;base64," + base64.b64encode(BLOB).decode()


@pytest.mark.parametrize(
    ("node", "factor"),
    [
        ({}, 8.0), ({"translation": [5, 0, 0]}, 8.0), ({"scale": [1, 3, 1]}, 24.0), ({"rotation": [0, 0.7071068, 0, 0.7071068]}, 8.0),
        ({"scale": [-1, 1, 1]}, 8.0), ({"matrix": [0, 0, 1, 0, 1, 0, 0, 0, 0, 1, 0, 0, 1, 2, 3, 1]}, 8.0),
    ],
)  # fmt: skip
def test_node_transforms_compose(node: dict, factor: float, tmp_path: Path) -> None:
    """Khronos glTF 2.0, 3.5.2: global = parent · local; mirrored nodes keep their outside outside (3.7.4)."""
    (tmp_path / "t.gltf").write_text(json.dumps(_gltf(node, DATA_URI, BLOB)))
    assert volume(read_mesh(tmp_path / "t.gltf")) == pytest.approx(factor / 6, rel=1e-5)


def test_rotation_is_the_quaternions(tmp_path: Path) -> None:
    """A quarter turn about Y takes X to −Z."""
    (tmp_path / "r.gltf").write_text(
        json.dumps(_gltf({"rotation": [0, np.sqrt(0.5), 0, np.sqrt(0.5)]}, DATA_URI, BLOB))
    )
    mesh = read_mesh(tmp_path / "r.gltf")
    assert any(np.allclose(p, [0, 0, -2], atol=1e-6) for p in mesh.points)


def test_external_buffers_only_from_the_files_own_folder(tmp_path: Path) -> None:
    inner = tmp_path / "inner"
    inner.mkdir()
    (inner / "blob.bin").write_bytes(BLOB)
    (tmp_path / "secret.bin").write_bytes(BLOB)
    (inner / "ok.gltf").write_text(json.dumps(_gltf({}, "blob.bin", BLOB)))
    assert read_mesh(inner / "ok.gltf").n_faces == 4
    (inner / "bad.gltf").write_text(json.dumps(_gltf({}, "../secret.bin", BLOB)))
    with pytest.raises(FormatError, match="outside"):
        read_mesh(inner / "bad.gltf")
    (inner / "short.gltf").write_text(json.dumps(_gltf({}, DATA_URI.replace("=", "")[:-20], BLOB)))
    with pytest.raises(FormatError):
        read_mesh(inner / "short.gltf")
    circle = _gltf({"children": [0]}, DATA_URI, BLOB)
    (inner / "circle.gltf").write_text(json.dumps(circle))
    with pytest.raises(FormatError, match="circle"):
        read_mesh(inner / "circle.gltf")


def test_quads_are_split_at_their_shorter_diagonal() -> None:
    kite = PolyMesh.from_faces([[0, 0, 0], [3, 0, 0], [4, 4, 0], [0, 1, 0]], [[0, 1, 2, 3]])
    tri = {frozenset(t) for t in short_diagonals(kite).tolist()}
    assert tri == {frozenset({1, 2, 3}), frozenset({1, 3, 0})}
    square = PolyMesh.from_faces([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2, 3]])
    assert {frozenset(t) for t in short_diagonals(square).tolist()} == {frozenset({0, 1, 2}), frozenset({0, 2, 3})}


# ---- registry, writing, picture -----------------------------------------------------------------


def test_the_registry_is_the_only_list_of_endings() -> None:
    assert len(READ_ENDINGS) == len(set(READ_ENDINGS))
    for entry in FORMATS:
        for ending in entry.endings:
            assert format_of(Path(f"x{ending.upper()}")) is entry
    with pytest.raises(FormatError, match=r"\.xyz|ending"):
        format_of(Path("cloud.xyz"))
    with pytest.raises(FormatError, match="does not write"):
        write_mesh(cube(), Path("/tmp/never.off"))


def test_writing_replaces_whole_files_and_makes_folders(tmp_path: Path) -> None:
    target = tmp_path / "new" / "folder" / "f.txt"
    write_bytes(target, b"one")
    write_bytes(target, b"two")
    assert target.read_bytes() == b"two" and [p.name for p in target.parent.iterdir()] == ["f.txt"]
    assert target.stat().st_mode & 0o444
    with pytest.raises(FormatError, match="folder"):
        read_bytes(tmp_path)
    (tmp_path / "empty").write_bytes(b"")
    with pytest.raises(FormatError, match="empty"):
        read_bytes(tmp_path / "empty")


def test_the_layout_picture_puts_up_up() -> None:
    """UV (0, 0) is the lower left of the picture: a face at the bottom of the sheet is dark there."""
    from PIL import Image

    face = PolyMesh.from_faces([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2, 3]])
    face = face.with_uv(np.array([[0.1, 0.05], [0.5, 0.05], [0.5, 0.25], [0.1, 0.25]]))
    face = numbered(face, 1)[0]
    picture = np.asarray(
        Image.open(io.BytesIO(layout_png([(face, {1: "Lip"})], sheets_of(400, margin=4)))).convert("RGB")
    ).astype(int)
    tinted = np.abs(picture - [244, 240, 232]).max(axis=2) > 6
    rows, columns = np.where(tinted)
    assert rows.min() >= 295 and rows.max() <= 384 and columns.min() >= 36 and columns.max() <= 204
