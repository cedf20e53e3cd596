"""What source files bring along, what they may not do, and damaged files, against other readers and the
published descriptions."""

from __future__ import annotations

import base64
import io
import json
import struct
import time
from pathlib import Path

import numpy as np
import plyfile
import pytest
import trimesh
from PIL import Image

from jacket.core.mesh.geometry import volume
from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.tone import to_linear, to_screen
from jacket.errors import Cancelled, FormatError
from jacket.formats.mesh.registry import read_mesh, write_mesh
from tests.conftest import cube, grid, icosphere


def png(colour: tuple[int, int, int] = (200, 30, 20)) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (4, 4), colour).save(out, "PNG")
    return out.getvalue()


def dressed() -> PolyMesh:
    """A box with UVs, point colours, two materials (one with a picture) and two groups."""
    box = cube()
    rng = np.random.default_rng(5)
    return box.with_(
        corner_data={"uv:uv": rng.random((box.n_corners, 2))},
        uv_sets=("uv",),
        active_uv="uv",
        point_data={
            "colour": np.concatenate([rng.integers(0, 256, (8, 3)), np.full((8, 1), 255)], axis=1).astype(np.uint8)
        },
        face_data={"material": np.array([0, 0, 1, 1, 0, 1], np.int32), "group": np.array([0, 1, 1, 1, 0, 0], np.int32)},
        materials=(Material("brass", (0.8, 0.6, 0.2, 1.0)), Material("glass", (0.5, 0.7, 0.9, 0.25), png())),
        groups=("lid", "body"),
    )


@pytest.mark.parametrize("ending", [".obj", ".ply", ".glb"])
def test_everything_a_format_has_survives(ending: str, tmp_path: Path) -> None:
    """OBJ keeps polygons, UVs, groups, materials, pictures and colours; PLY colours and UVs; glTF all but polygons."""
    mesh = dressed()
    write_mesh(mesh, tmp_path / f"box{ending}")
    back = read_mesh(tmp_path / f"box{ending}")
    same = np.linalg.norm(back.points[:, None] - mesh.points, axis=2).argmin(axis=1)
    assert np.abs(back.point_data["colour"].astype(int) - mesh.point_data["colour"][same]).max() <= 1
    if ending != ".glb":
        assert np.array_equal(back.corners, mesh.corners) and np.allclose(back.uv, mesh.uv, atol=1e-7)
    else:
        assert back.n_faces == 12 and volume(back) == pytest.approx(1.0)
        assert np.allclose(
            np.sort(back.uv[:, 0].round(5)), np.sort(mesh.uv[mesh.triangles.ravel(), 0].round(5)), atol=0.5
        )
    if ending == ".ply":
        return
    names = [m.name for m in back.materials]
    assert names == ["brass", "glass"] and back.materials[1].picture == png() and not back.materials[0].picture
    for got, wanted in zip(back.materials, mesh.materials, strict=True):
        assert np.allclose(got.colour, wanted.colour, atol=0.01)
    share = np.bincount(back.face_data["material"], minlength=2) / back.n_faces
    assert share.tolist() == [0.5, 0.5]
    if ending == ".obj":
        assert back.groups == ("lid", "body") and np.array_equal(back.face_data["group"], mesh.face_data["group"])


def test_obj_groups_materials_and_colours_as_others_write_them(tmp_path: Path) -> None:
    """Appendix B1: g, o and usemtl hold until the next one; map options come before the file name."""
    (tmp_path / "maps").mkdir()
    (tmp_path / "maps" / "skin.png").write_bytes(png())
    (tmp_path / "m.mtl").write_text(
        "newmtl a b\nKd .1 .2 .3\nd 0.5\nmap_Kd -s 2 2 1 -o 0 0 0 -clamp on maps/skin.png\nnewmtl c\nmap_Kd ../out.png\n"
    )
    text = "mtllib m.mtl\nv 0 0 0 1 0 0\nv 1 0 0 0 1 0\nv 0 1 0 0 0 1\nv 1 1 0 1 1 1\no thing\nusemtl a b\nf 1 2 3\ng rim\nf 2 4 3\nusemtl c\nf 1 2 4\nusemtl gone\nf 1 3 4\n"
    (tmp_path / "a.obj").write_text(text)
    mesh = read_mesh(tmp_path / "a.obj")
    assert mesh.groups == ("thing", "rim") and mesh.face_data["group"].tolist() == [0, 1, 1, 1]
    assert [m.name for m in mesh.materials] == ["a b", "c", "gone"] and mesh.face_data["material"].tolist() == [
        0,
        0,
        1,
        2,
    ]
    assert mesh.materials[0].colour == (0.1, 0.2, 0.3, 0.5) and mesh.materials[0].picture == png()
    assert "outside its own folder" in mesh.materials[1].left_out and not mesh.materials[1].picture
    assert mesh.point_data["colour"][:3, :3].tolist() == [[255, 0, 0], [0, 255, 0], [0, 0, 255]]


def test_references_out_of_the_folder_are_refused(tmp_path: Path) -> None:
    inner = tmp_path / "in"
    inner.mkdir()
    (tmp_path / "secret.bin").write_bytes(np.zeros(9, "<f4").tobytes())
    (inner / "link.bin").symlink_to(tmp_path / "secret.bin")
    for uri in ("../secret.bin", "%2e%2e/secret.bin", str(tmp_path / "secret.bin"), "link.bin"):
        gltf = {"asset": {"version": "2.0"}, "buffers": [{"uri": uri, "byteLength": 36}], "bufferViews": [{"buffer": 0, "byteLength": 36}],
                "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
                "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}], "nodes": [{"mesh": 0}], "scenes": [{"nodes": [0]}]}  # fmt: skip
        (inner / "a.gltf").write_text(json.dumps(gltf))
        with pytest.raises(FormatError, match="outside its own folder"):
            read_mesh(inner / "a.gltf")
    (inner / "b.obj").write_text("mtllib ../x.mtl\nusemtl a\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    with pytest.raises(FormatError, match="outside its own folder"):
        read_mesh(inner / "b.obj")


# ---- PLY (Turk 1994) -----------------------------------------------------------------------------------


@pytest.mark.parametrize("order", ["=", "<", ">"])
@pytest.mark.parametrize("shuffled", [False, True])
def test_ply_of_any_order_and_types(order: str, shuffled: bool, tmp_path: Path) -> None:
    """Mixed polygons, doubles, odd property orders, lists before scalars, as plyfile writes them."""
    mesh = PolyMesh.from_faces(np.random.default_rng(1).normal(size=(5, 3)), [[0, 1, 2, 3], [0, 1, 4], [1, 2, 4, 3, 0]])
    names = ["x", "y", "z", "nx", "red", "green", "blue"]
    if shuffled:
        names = names[::-1]
    kinds = {"nx": "f8", "red": "u1", "green": "u1", "blue": "u1"}
    vertex = np.zeros(5, [(n, kinds.get(n, "f8" if shuffled else "f4")) for n in names])
    for k, axis in enumerate("xyz"):
        vertex[axis] = mesh.points[:, k]
    vertex["red"] = [1, 2, 3, 4, 5]
    face = np.zeros(3, [("flags", "u2"), ("vertex_index", object), ("quality", "f4")])
    for f in range(3):
        face["vertex_index"][f] = mesh.face(f).astype("u4" if shuffled else "i2")
    extra = np.zeros(2, [("a", "i4"), ("list", object)])
    for k in range(2):
        extra["list"][k] = np.arange(k + 1, dtype="f8")
    elements = [plyfile.PlyElement.describe(vertex, "vertex"), plyfile.PlyElement.describe(extra, "other"),
                plyfile.PlyElement.describe(face, "face", len_types={"vertex_index": "i4"},
                                            val_types={"vertex_index": "u4" if shuffled else "i2"})]  # fmt: skip
    plyfile.PlyData(elements, text=order == "=", byte_order=order).write(str(tmp_path / "a.ply"))
    back = read_mesh(tmp_path / "a.ply")
    assert back.sizes.tolist() == [4, 3, 5] and np.array_equal(back.corners, mesh.corners)
    assert np.allclose(back.points, mesh.points, atol=0 if shuffled and order != "=" else 1e-6)
    assert back.point_data["colour"][:, 0].tolist() == [1, 2, 3, 4, 5]


def test_ply_strips_and_pictures(tmp_path: Path) -> None:
    """Triangle strips as old scans have them: −1 ends one, every second triangle turns round."""
    strip = [0, 1, 2, 3, -1, 3, 2, 4]
    head = "ply\nformat ascii 1.0\ncomment TextureFile skin.png\nelement vertex 5\nproperty float x\nproperty float y\nproperty float z\nproperty float s\nproperty float t\nelement tristrips 1\nproperty list int int vertex_indices\nend_header\n"
    body = "0 0 0 0 0\n1 0 0 1 0\n0 1 0 0 1\n1 1 0 1 1\n1 2 0 1 2\n" + f"{len(strip)} {' '.join(map(str, strip))}\n"
    (tmp_path / "s.ply").write_text(head + body)
    (tmp_path / "skin.png").write_bytes(png())
    mesh = read_mesh(tmp_path / "s.ply")
    assert mesh.corners.reshape(-1, 3).tolist() == [[0, 1, 2], [2, 1, 3], [3, 2, 4]]
    assert np.allclose(mesh.uv, mesh.points[mesh.corners, :2]) and mesh.materials[0].picture == png()


@pytest.mark.parametrize("ending", ["ply", "stl"])
def test_large_files_read_through_a_buffer_are_the_same(ending: str, tmp_path: Path) -> None:
    """Over one megabyte a plain file is streamed; the general reader gives the same mesh (trimesh agrees)."""
    ball = icosphere(6)
    trimesh.Trimesh(ball.points, ball.triangle_points, process=False).export(tmp_path / f"ball.{ending}")
    data = bytearray((tmp_path / f"ball.{ending}").read_bytes())
    assert len(data) > 1_000_000
    from jacket.formats.mesh import ply, stl

    streamed = read_mesh(tmp_path / f"ball.{ending}")
    plain = (ply.read_ply if ending == "ply" else stl.read_stl)(data, tmp_path / "x")
    assert np.array_equal(streamed.points, plain.points) and np.array_equal(streamed.corners, plain.corners)
    assert streamed.n_points == ball.n_points and volume(streamed) == pytest.approx(volume(ball), rel=1e-6)
    if ending == "ply":  # an index out of range is left to the general reader, which says so
        data[-4:] = struct.pack("<i", 10**8)
        (tmp_path / "bad.ply").write_bytes(data)
        with pytest.raises(FormatError, match="refers to point"):
            read_mesh(tmp_path / "bad.ply")


# ---- glTF 2.0 ------------------------------------------------------------------------------------------


def gltf_of(points: np.ndarray, indices: list[int] | None, mode: int, **primitive: object) -> dict:
    blob = points.astype("<f4").tobytes() + np.array(indices or [], "<u2").tobytes()
    views = [
        {"buffer": 0, "byteLength": points.size * 4},
        {"buffer": 0, "byteOffset": points.size * 4, "byteLength": 2 * len(indices or [])},
    ]
    accessors = [{"bufferView": 0, "componentType": 5126, "count": len(points), "type": "VEC3"},
                 {"bufferView": 1, "componentType": 5123, "count": len(indices or []), "type": "SCALAR"}]  # fmt: skip
    part = {"attributes": {"POSITION": 0}, "mode": mode, **({"indices": 1} if indices else {}), **primitive}
    return {"asset": {"version": "2.0"}, "buffers": [{"byteLength": len(blob), "uri": "data:application/octet-stream;base64," + base64.b64encode(blob).decode()}],
            "bufferViews": views, "accessors": accessors, "meshes": [{"primitives": [part]}], "nodes": [{"mesh": 0, "name": "n"}], "scenes": [{"nodes": [0]}], "scene": 0}  # fmt: skip


def opened(gltf: dict, tmp_path: Path) -> PolyMesh:
    (tmp_path / "a.gltf").write_text(json.dumps(gltf))
    return read_mesh(tmp_path / "a.gltf")


def test_gltf_strips_fans_and_mirrored_nodes(tmp_path: Path) -> None:
    """Sections 3.7.2.1 (topology types: p_i = {v_i, v_(i+1+i%2), v_(i+2−i%2)}; fans {v_(i+1), v_(i+2), v_0}) and
    3.7.4 (a negative determinant turns the winding round)."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0], [0, 2, 0]], float)
    strip = opened(gltf_of(points, [0, 1, 2, 3, 4], 5), tmp_path)
    wanted = [{0: (0, 1, 2), 1: (1, 3, 2), 2: (2, 3, 4)}[i] for i in range(3)]

    def cycle(row: list[int]) -> tuple[int, ...]:
        k = row.index(min(row))
        return tuple(row[k:] + row[:k])

    assert [cycle(r) for r in strip.corners.reshape(-1, 3).tolist()] == [cycle(list(w)) for w in wanted]
    fan = opened(gltf_of(points, [0, 1, 3, 2], 6), tmp_path)
    assert [cycle(r) for r in fan.corners.reshape(-1, 3).tolist()] == [(0, 1, 3), (0, 3, 2)]
    lines = gltf_of(points, [0, 1], 1)
    with pytest.raises(FormatError, match="no triangles"):
        opened(lines, tmp_path)
    mirrored = gltf_of(points, [0, 1, 2], 4)
    mirrored["nodes"][0]["scale"] = [-1, 1, 1]
    assert cycle(opened(mirrored, tmp_path).corners.tolist()) == (0, 2, 1)


def test_gltf_sparse_normalised_and_interleaved_arrays(tmp_path: Path) -> None:
    """Sections 3.6.2.2 (c / (2ⁿ − 1)), 3.6.2.3 (sparse) and 3.6.2.1 (byteStride)."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], float)
    gltf = gltf_of(points, [0, 1, 2], 4)
    patch = np.array([1], "<u2").tobytes() + b"\0\0" + np.array([5, 6, 7], "<f4").tobytes()
    gltf["buffers"].append({"byteLength": len(patch), "uri": "data:;base64," + base64.b64encode(patch).decode()})
    gltf["bufferViews"] += [{"buffer": 1, "byteLength": 2}, {"buffer": 1, "byteOffset": 4, "byteLength": 12}]
    gltf["accessors"][0]["sparse"] = {
        "count": 1,
        "indices": {"bufferView": 2, "componentType": 5123},
        "values": {"bufferView": 3},
    }
    assert opened(gltf, tmp_path).points[1].tolist() == [5, 6, 7]
    inter = np.zeros(3, [("p", "<f4", 3), ("uv", "<u2", 2)])
    inter["p"], inter["uv"] = points, [[0, 0], [65535, 0], [0, 65535]]
    gltf = gltf_of(points, [0, 1, 2], 4)
    gltf["buffers"].append({"byteLength": 48, "uri": "data:;base64," + base64.b64encode(inter.tobytes()).decode()})
    gltf["bufferViews"].append({"buffer": 1, "byteLength": 48, "byteStride": 16})
    gltf["accessors"] += [{"bufferView": 2, "componentType": 5126, "count": 3, "type": "VEC3"},
                          {"bufferView": 2, "byteOffset": 12, "componentType": 5123, "normalized": True, "count": 3, "type": "VEC2"}]  # fmt: skip
    gltf["meshes"][0]["primitives"][0]["attributes"] = {"POSITION": 2, "TEXCOORD_0": 3}
    mesh = opened(gltf, tmp_path)
    assert np.array_equal(mesh.points, points) and mesh.uv.tolist() == [[0, 1], [1, 1], [0, 0]]


def test_gltf_nodes_circles_compression_and_versions(tmp_path: Path) -> None:
    """Sections 3.5.2 (strict trees), 3.12 (required extensions), 3.2 (version)."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], float)
    gltf = gltf_of(points, [0, 1, 2], 4)
    gltf["nodes"] = [{"children": [1], "translation": [0, 0, 5]}, {"mesh": 0, "name": "a", "rotation": [0, 0, 0.7071067811865476, 0.7071067811865476]},
                     {"mesh": 0, "name": "b"}]  # fmt: skip
    gltf["scenes"] = [{"nodes": [0, 2]}]
    mesh = opened(gltf, tmp_path)
    assert mesh.groups == ("a", "b") and mesh.face_data["group"].tolist() == [0, 1]
    assert np.allclose(mesh.points[1], [0, 1, 5], atol=1e-7)
    for change, words in (
        ({"nodes": [{"children": [0], "mesh": 0}]}, "circle"),
        ({"extensionsRequired": ["KHR_draco_mesh_compression"]}, "without compression"),
        ({"asset": {"version": "1.0"}}, "not glTF 2.0"),
        ({"scenes": [{"nodes": [7]}]}, "damaged"),
    ):
        with pytest.raises(FormatError, match=words):
            opened({**gltf_of(points, [0, 1, 2], 4), **change}, tmp_path)


def test_colours_run_through_linear_light_and_back() -> None:
    """IEC 61966-2-1: half the screen value is 21.4 % of the light."""
    assert to_linear(np.array([0.5]))[0] == pytest.approx(0.21404, abs=1e-5)
    values = np.linspace(0, 1, 256)
    assert np.allclose(to_screen(to_linear(values)), values, atol=1e-6)


# ---- stopping, claims, damage --------------------------------------------------------------------------


@pytest.mark.parametrize("ending", [".obj", ".ply", ".stl", ".glb", ".off"])
def test_reading_can_be_stopped_at_every_report(ending: str, tmp_path: Path) -> None:
    ball = icosphere(6)
    trimesh.Trimesh(ball.points, ball.triangle_points, process=False).export(tmp_path / f"b{ending}")
    seen: list[float] = []
    read_mesh(tmp_path / f"b{ending}", lambda f, w: seen.append(f))
    assert seen == sorted(seen) and seen[-1] == 1.0 and len(seen) >= 3
    for stop in range(len(seen)):
        left = [stop]

        def progress(fraction: float, what: str, left: list[int] = left) -> None:
            left[0] -= 1
            if left[0] < 0:
                raise Cancelled

        with pytest.raises(Cancelled):
            read_mesh(tmp_path / f"b{ending}", progress)


def test_claims_are_checked_before_memory_is_taken(tmp_path: Path) -> None:
    """Files of a few bytes that promise billions: refused at once, by a sentence."""
    claims = {
        "a.ply": b"ply\nformat ascii 1.0\nelement vertex 4000000000\nproperty float x\nproperty float y\nproperty float z\nend_header\n0 0 0\n",
        "b.ply": b"ply\nformat binary_little_endian 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list int int vertex_indices\nend_header\n"
        + bytes(36) + struct.pack("<i", 2**31 - 1),
        "c.off": b"OFF\n2000000000 2000000000 0\n0 0 0\n",
        "d.stl": bytes(80) + struct.pack("<I", 2**32 - 1) + bytes(50),
        "e.glb": b"glTF" + struct.pack("<III", 2, 2**32 - 1, 2**32 - 1) + b"JSON" + b"{}",
    }  # fmt: skip
    sparse = gltf_of(np.zeros((3, 3)), [0, 1, 2], 4)
    sparse["accessors"][0] = {
        "componentType": 5126,
        "count": 10**12,
        "type": "VEC3",
        "sparse": {"count": 1, "indices": {"bufferView": 1, "componentType": 5123}, "values": {"bufferView": 0}},
    }
    claims["f.gltf"] = json.dumps(sparse).encode()
    for name, data in claims.items():
        (tmp_path / name).write_bytes(data)
        start = time.perf_counter()
        with pytest.raises(FormatError) as caught:
            read_mesh(tmp_path / name)
        assert str(caught.value).endswith(".") and time.perf_counter() - start < 5, name


def test_off_with_colours_and_comments(tmp_path: Path) -> None:
    """Geomview's manual: COFF points carry r g b a, a face's colour follows its corners."""
    (tmp_path / "a.off").write_text(
        "COFF # a comment\n4 2 0\n0 0 0 1 0 0 1\n1 0 0 0 1 0 1 # x\n\n0 1 0 0 0 1 1\n1 1 0 1 1 1 .5\n3 0 1 2 0.5 0.5 0.5\n4 0 1 3 2\n"
    )
    mesh = read_mesh(tmp_path / "a.off")
    assert mesh.sizes.tolist() == [3, 4] and mesh.point_data["colour"][:3].tolist() == [
        [255, 0, 0, 255],
        [0, 255, 0, 255],
        [0, 0, 255, 255],
    ]
    assert mesh.point_data["colour"][3].tolist() == [255, 255, 255, 128]
    (tmp_path / "b.off").write_text("NOFF\n3 1 0\n0 0 0 0 0 1\n1 0 0 0 0 1\n0 1 0 0 0 1\n3 0 1 2\n")
    assert read_mesh(tmp_path / "b.off").points[2].tolist() == [0, 1, 0]
    (tmp_path / "c.off").write_bytes(b"OFF BINARY\n" + bytes(40))
    with pytest.raises(FormatError, match="binary"):
        read_mesh(tmp_path / "c.off")


def test_grid_is_still_a_grid() -> None:
    """The linear-time connectivity pairs half-edges as sorting them would (NumPy's unique over point pairs)."""
    for mesh in (grid(5), icosphere(2), cube()):
        topology = mesh.topology
        head = mesh.corners[topology.next]
        pairs = np.sort(np.stack([mesh.corners, head], axis=1), axis=1)
        unique, inverse, counts = np.unique(pairs, axis=0, return_inverse=True, return_counts=True)
        assert np.array_equal(topology.edge_points, unique) and np.array_equal(topology.edge_uses, counts)
        assert np.array_equal(topology.edge, inverse.ravel())
        inner = topology.twin >= 0
        assert np.array_equal(topology.twin[topology.twin[inner]], np.flatnonzero(inner))
