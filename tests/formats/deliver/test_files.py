"""What is delivered: profiles, complete and whole files, every layer."""

from __future__ import annotations

import io
import json
import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PIL import Image
from scipy.spatial import cKDTree

from jacket.core.mesh.geometry import volume
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.errors import FormatError
from jacket.formats.deliver.files import delivery_bytes, write_delivery
from jacket.formats.deliver.profiles import PROFILES, in_profile
from jacket.formats.mesh.registry import read_mesh
from jacket.jobs.pack import sheets_of
from tests.conftest import cube, grid


def test_profiles_turn_and_scale_without_mirroring() -> None:
    box = cube()
    for profile in PROFILES.values():
        turned = in_profile(box, profile)
        assert volume(turned) == pytest.approx(profile.scale**3)
        up = turned.points[np.argmax(box.points[:, 1])] - turned.points[np.argmin(box.points[:, 1])]
        assert up["xyz".index(profile.up)] == pytest.approx(profile.scale)


def test_a_delivery_is_complete(tmp_path: Path, packed: PolyMesh) -> None:
    paths = write_delivery(
        tmp_path / "out", delivery_bytes([("box", packed, None)], "my box!", "y-up-metres", sheets_of(2048))
    )
    assert sorted(p.name for p in paths) == [
        "my_box_-layout.png",
        "my_box_-report.json",
        "my_box_.glb",
        "my_box_.mtl",
        "my_box_.obj",
    ]
    assert "mtllib my_box_.mtl" in (tmp_path / "out" / "my_box_.obj").read_text()
    picture = Image.open(tmp_path / "out" / "my_box_-layout.png")
    ink = np.asarray(picture.convert("RGB")).reshape(-1, 3)
    assert picture.size == (2048, 2048) and (np.abs(ink - [244, 240, 232]).max(axis=1) > 3).mean() == pytest.approx(
        Islands.of(packed).use(), abs=0.02)  # fmt: skip
    (tmp_path / "file").write_text("x")
    with pytest.raises(FormatError, match="name a folder"):
        write_delivery(tmp_path / "file", {"a": b""})


def test_every_layer_is_delivered_with_its_name(tmp_path: Path, packed: PolyMesh) -> None:
    """One group a layer in the OBJ, one node a layer in the GLB; trimesh reads both."""
    layers = [("body", packed, None), ("lid of 2", grid(2), None)]
    write_delivery(tmp_path, delivery_bytes(layers, "thing", "y-up-metres", sheets_of(256, margin=4), b"{}"))
    text = (tmp_path / "thing.obj").read_text()
    groups = [line for line in text.splitlines() if line.startswith(("g ", "o "))]
    assert any("body" in g for g in groups) and any("lid" in g for g in groups)
    faces = [line for line in text.splitlines() if line.startswith("f ")]
    assert len(faces) == packed.n_faces + 4
    assert all("/" in f for f in faces[: packed.n_faces]) and not any(
        "//" not in f and "/" in f for f in faces[packed.n_faces :]
    )
    scene = trimesh.load(tmp_path / "thing.glb")
    assert sorted(len(g.faces) for g in scene.geometry.values()) == [8, 12]
    data = (tmp_path / "thing.glb").read_bytes()
    told = json.loads(data[20 : 20 + struct.unpack("<I", data[12:16])[0]])
    assert [n["name"] for n in told["nodes"] if "mesh" in n] == ["body", "lid of 2"]


def test_a_corner_without_a_place_does_not_take_all_the_others_along(packed: PolyMesh, tmp_path: Path) -> None:
    uv = packed.uv.copy()
    uv[0] = np.nan
    (tmp_path / "a.glb").write_bytes(delivery_bytes([("x", packed.with_uv(uv), None)], "a", "y-up-metres")["a.glb"])
    read = read_mesh(tmp_path / "a.glb")
    # V runs down in glTF and up in the sheet; the reader turns it back, so the places are those of before.
    mine, theirs = (np.unique(u[np.isfinite(u).all(axis=1)], axis=0) for u in (uv, read.uv))
    assert cKDTree(theirs).query(mine)[0].max() < 1e-6


def test_each_sheet_has_its_picture(packed: PolyMesh) -> None:
    files = delivery_bytes([("x", packed, None)], "a", "y-up-metres", sheets_of(128, 64, 2.0, 2))
    assert {n for n in files if n.endswith(".png")} == {"a-layout-1001.png", "a-layout-1002.png"}
    assert Image.open(io.BytesIO(files["a-layout-1002.png"])).size == (128, 64)
