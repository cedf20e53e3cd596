"""Readers and writers of meshes against trimesh, the published descriptions, and damage."""

from __future__ import annotations

import json
import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from jacket.core.mesh.geometry import volume
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import uv_border_pairs
from jacket.errors import FormatError
from jacket.formats.mesh.registry import read_mesh, write_mesh
from tests.conftest import DATA, grid, icosphere


def test_obj_with_everything_it_may_have(tmp_path: Path) -> None:
    """Negative indices, texture indices, n-gons, continued lines, comments (OBJ specification, Appendix B1)."""
    text = ("# a comment\r\nv 0 0 0\nv 1.5e0 0 0 1.0\nv +1 1. 0\nv 0 .1e1 0\nv 2 2 -0.5E-1\nvt 0 0\nvt 1 0 0\nvt 1 1\nvt 0 1\n"
            "vn 0 0 1\ng part\nusemtl none\ns off\nf 1/1/1 2/2/1 \\\n 3/3/1 4/4/1 # quad\nf -3//1 -2//1 -1//1\nl 1 2\nf 1 2 3 4 5\n")  # fmt: skip
    (tmp_path / "a.obj").write_bytes(text.encode())
    mesh = read_mesh(tmp_path / "a.obj")
    assert mesh.sizes.tolist() == [4, 3, 5] and mesh.face(1).tolist() == [2, 3, 4]
    assert mesh.points[4].tolist() == [2, 2, -0.05] and mesh.points[1, 0] == 1.5
    assert mesh.uv[:4].tolist() == [[0, 0], [1, 0], [1, 1], [0, 1]] and np.isnan(mesh.uv[4:]).all()


def test_numbers_are_read_like_pythons(tmp_path: Path) -> None:
    """To the last bit (IEEE 754-2019, 5.12.2, correct rounding): at random over many sizes, and where it is hard: ties
    between two numbers, and decimals of 17 digits near one."""
    rng = np.random.default_rng(1)
    sizes = (1, 1e-7, 1e9, 1e-40, 1e50)
    values = np.concatenate([rng.normal(size=900) * size for size in sizes])
    hard = ["9007199254740993", "9007199254740992.5", "0.1", "1e23", "8.5e-17", "5e22", "7.2057594037927933e+16", "8.41e+21",
            "2.00416836000897278e-146", "123456789012345678", "0.30000000000000004", "4.35"]  # fmt: skip
    texts = [repr(v) for v in values.tolist()] + hard
    rows = [" ".join(texts[k : k + 3]) for k in range(0, len(texts), 3)]
    (tmp_path / "n.obj").write_text("\n".join(f"v {row}" for row in rows) + "\nf 1 2 3\n")
    assert read_mesh(tmp_path / "n.obj").points.ravel().tolist() == [float(t) for t in texts]


@pytest.mark.parametrize("offset", [0.0, 1e6, 1e9, 1e15])
def test_obj_reads_back_to_the_same_bits_however_far_out(offset: float, tmp_path: Path) -> None:
    ball = icosphere(2)
    far = ball.with_points(ball.points / 3 + offset).with_uv(np.random.default_rng(2).random((ball.n_corners, 2)))
    write_mesh(far, tmp_path / "far.obj")
    back = read_mesh(tmp_path / "far.obj")
    assert back.points.tobytes() == far.points.tobytes() and back.uv.tobytes() == far.uv.tobytes()
    # What was single precision stays so, in fewer digits, and a reader that keeps single precision gets the same bits.
    single = far.with_points(far.points.astype(np.float32).astype(float))
    write_mesh(single, tmp_path / "single.obj")
    assert (tmp_path / "single.obj").stat().st_size < (tmp_path / "far.obj").stat().st_size or offset > 1e9
    again = read_mesh(tmp_path / "single.obj").points
    assert again.astype(np.float32).tobytes() == single.points.astype(np.float32).tobytes()


@pytest.mark.parametrize("ending", [".obj", ".ply", ".stl", ".off", ".glb"])
def test_files_of_trimesh_open_the_same(ending: str, tmp_path: Path, spot: PolyMesh) -> None:
    other = trimesh.Trimesh(spot.points, spot.corners.reshape(-1, 3), process=False)
    other.export(tmp_path / f"spot{ending}")
    mesh = read_mesh(tmp_path / f"spot{ending}")
    assert mesh.n_faces == spot.n_faces and mesh.n_points == spot.n_points
    assert volume(mesh) == pytest.approx(volume(spot), rel=1e-5)


@pytest.mark.parametrize("ending", [".obj", ".ply", ".glb"])
def test_what_we_write_trimesh_reads(ending: str, tmp_path: Path, packed: PolyMesh) -> None:
    write_mesh(packed, tmp_path / f"box{ending}")
    other = trimesh.load(tmp_path / f"box{ending}", force="mesh", process=False)
    assert other.volume == pytest.approx(1.0, rel=1e-6) and len(other.faces) == 12
    if ending != ".ply":
        uv = np.asarray(other.visual.uv)
        assert uv.min() >= 0 and uv.max() <= 1 and len(np.unique(uv.round(6), axis=0)) == 24
    back = read_mesh(tmp_path / f"box{ending}")
    if ending != ".glb":  # glTF has triangles only
        assert back.is_quads and np.allclose(back.points, packed.points)
    if ending == ".obj":
        assert np.allclose(back.uv, packed.uv, atol=1e-8)
        assert np.array_equal(uv_border_pairs(back, back.uv), packed.cuts)


def test_obj_islands_never_share_texture_indices(tmp_path: Path) -> None:
    sheet = grid(2).with_uv(np.zeros((16, 2)) + 0.5).with_cuts([[1, 4], [4, 7]])
    write_mesh(sheet, tmp_path / "s.obj")
    faces = [
        [int(c.split("/")[1]) for c in line.split()[1:]]
        for line in (tmp_path / "s.obj").read_text().splitlines()
        if line[0] == "f"
    ]
    assert not set(faces[0] + faces[2]) & set(faces[1] + faces[3])


def test_glb_keeps_its_form_far_from_the_origin(tmp_path: Path) -> None:
    """Positions are single precision (section 3.6.2.4), so a node carries the offset; read back by trimesh."""
    far = icosphere(2).with_points(icosphere(2).points + [1e6, -3e6, 2e6])
    write_mesh(far, tmp_path / "far.glb")
    scene = trimesh.load(tmp_path / "far.glb", process=False)
    other = scene.to_geometry() if hasattr(scene, "to_geometry") else scene.dump(concatenate=True)
    assert np.abs(np.sort(other.vertices[:, 0]) - np.sort(far.points[:, 0])).max() < 1e-6
    back = read_mesh(tmp_path / "far.glb")
    assert np.abs(np.sort(back.points, axis=0) - np.sort(far.points, axis=0)).max() < 1e-6


def test_glb_follows_the_specification(tmp_path: Path, packed: PolyMesh) -> None:
    """Khronos glTF 2.0: 4.4 (container), 3.6.2.4 (alignment), 3.6.2.5 (min and max), 3.7.2.1 (v downwards)."""
    write_mesh(packed, tmp_path / "box.glb")
    data = (tmp_path / "box.glb").read_bytes()
    magic, version, length = struct.unpack("<III", data[:12])
    assert (magic, version, length) == (0x46546C67, 2, len(data)) and len(data) % 4 == 0
    size, kind = struct.unpack("<II", data[12:20])
    assert kind == 0x4E4F534A and size % 4 == 0
    gltf = json.loads(data[20 : 20 + size])
    blob = data[20 + size + 8 :]
    position, texture = gltf["accessors"][0], gltf["accessors"][2]
    assert position["min"] == [0, 0, 0] and position["max"] == [1, 1, 1]
    for view in gltf["bufferViews"]:
        assert view.get("byteOffset", 0) % 4 == 0
    start = gltf["bufferViews"][2]["byteOffset"]
    v = np.frombuffer(blob, "<f4", 2 * texture["count"], start).reshape(-1, 2)[:, 1]
    assert np.allclose(np.sort(v), np.sort(1 - packed.uv[:, 1]), atol=1e-6)


def test_nothing_half_written_is_left(tmp_path: Path, packed: PolyMesh) -> None:
    (tmp_path / "box.obj").mkdir()
    with pytest.raises(FormatError, match="could not be written"):
        write_mesh(packed, tmp_path / "box.obj")
    assert not [p for p in tmp_path.iterdir() if p.suffix == ".part"]


BAD = {
    "empty.obj": b"", "binary.obj": bytes(range(256)), "words.obj": b"v one two three\nf 1 2 3\n", "zero.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 0 1 2\n",
    "range.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 4\n", "nan.obj": b"v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n",
    "points.obj": b"v 0 0 0\n", "texture.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nf 1/1 2/5 3/1\n", "x.ply": b"plywood", "y.off": b"OFF\n9 9 9\n",
    "z.stl": b"solid x\nvertex 0 0\n", "w.stl": b"\0" * 84, "g.glb": b"glTF\2\0\0\0\0\0\0\0", "g.gltf": b"{", "huge.ply":
    b"ply\nformat binary_little_endian 1.0\nelement vertex 999999999\nproperty float x\nproperty float y\nproperty float z\nend_header\n",
}  # fmt: skip


@pytest.mark.parametrize("name", BAD)
def test_bad_files_get_one_sentence(name: str, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(BAD[name])
    with pytest.raises(FormatError) as caught:
        read_mesh(tmp_path / name)
    text = str(caught.value)
    assert text.endswith(".") and name in text and "\n" not in text and len(text) < 200


@given(st.sampled_from(["spot.ply", "box.obj", "box.glb", "ball.stl"]), st.integers(0, 2**31), st.integers(1, 12))
@settings(max_examples=60, deadline=None, derandomize=True)
def test_damaged_files_give_an_error_or_a_mesh(name: str, seed: int, count: int) -> None:
    data = bytearray(_whole(name))
    rng = np.random.default_rng(seed)
    for place in rng.integers(0, len(data), count):
        data[place] = rng.integers(0, 256)
    if seed % 3 == 0:
        data = data[: int(rng.integers(0, len(data)))]
    folder = DATA.parent / ".damaged"
    folder.mkdir(exist_ok=True)
    path = folder / name
    path.write_bytes(bytes(data))
    try:
        mesh = read_mesh(path)
        assert mesh.n_faces > 0 and np.isfinite(mesh.points).all() and mesh.corners.max() < mesh.n_points
    except FormatError as error:
        assert str(error).endswith(".")
    finally:
        path.unlink()
        folder.rmdir()


_files: dict[str, bytes] = {}


def _whole(name: str) -> bytes:
    if name not in _files:
        if name == "spot.ply":
            _files[name] = (DATA / name).read_bytes()
        elif name == "ball.stl":
            _files[name] = trimesh.creation.icosphere(1).export(file_type="stl")
        else:
            kind = name.split(".")[1]
            _files[name] = (
                trimesh.creation.box().export(file_type=kind)
                if kind == "glb"
                else trimesh.creation.box().export(file_type="obj").encode()
            )
    return _files[name]


def test_glb_has_the_very_texture_place_of_every_point(tmp_path: Path) -> None:
    """Section 3.7.2.1 (Meshes, overview of attributes): u to the right, v downwards from the upper left. Read off the file
    by hand, point by point."""
    sheet = grid(3, 2)
    sheet = sheet.with_uv(sheet.points[sheet.corners][:, :2] / [4, 5] + 0.1)
    write_mesh(sheet, tmp_path / "a.glb")
    data = (tmp_path / "a.glb").read_bytes()
    size = int.from_bytes(data[12:16], "little")
    table, blob = json.loads(data[20 : 20 + size]), data[28 + size :]

    def values(name: str, wide: int) -> np.ndarray:
        accessor = table["accessors"][table["meshes"][0]["primitives"][0]["attributes"][name]]
        view = table["bufferViews"][accessor["bufferView"]]
        return np.frombuffer(blob, "<f4", accessor["count"] * wide, view.get("byteOffset", 0)).reshape(-1, wide)

    places, uv = values("POSITION", 3), values("TEXCOORD_0", 2)
    wanted = places[:, :2] / [4, 5] + 0.1
    assert np.abs(uv - np.stack([wanted[:, 0], 1 - wanted[:, 1]], axis=1)).max() < 1e-6
