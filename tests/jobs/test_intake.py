"""Every classic fault of a hand-over, put into a delivery one by one, is named by the intake."""

from __future__ import annotations

import io
import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pygltflib
import pytest
from PIL import Image

from jacket.core.bake.bake import BakeOptions
from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError
from jacket.formats.deliver.profiles import PROFILES
from jacket.jobs.bake import BakeLayer, BakeSettings, bake
from jacket.jobs.deliver import DeliverLayer, DeliverSettings, deliver
from jacket.jobs.intake import take_in
from jacket.jobs.pack import sheets_of
from jacket.jobs.taken import Taken
from tests.core.bake.forms import ball, boxed


def bumpy() -> PolyMesh:
    """A ball with bumps that have no mirror plane, so that every turn and flip shows; not round, so that axes show."""
    mesh = ball(48)
    p = mesh.points
    wave = 1 + 0.03 * np.sin(9 * p[:, 0] + 2) * np.sin(7 * p[:, 1] + 1) * np.cos(8 * p[:, 2])
    return mesh.with_points(p * wave[:, None] * (1.0, 1.6, 0.7) + (0.0, 0.3, 0.1))


@pytest.fixture(scope="module")
def source() -> BakeLayer:
    return BakeLayer("bumps", bumpy())


@pytest.fixture(scope="module")
def folders(source: BakeLayer, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """A delivery for each shipped profile."""
    box = boxed(6, True)
    jacket = box.with_points(box.points * (1.0, 1.6, 0.7) + (0.0, 0.3, 0.1))
    sheets, out = sheets_of(256, margin=2), {}
    made = bake([BakeLayer("box", jacket)], [source], sheets, BakeSettings(("normal", "occlusion"), options=BakeOptions(rays=8)))
    for name in PROFILES:
        out[name] = tmp_path_factory.mktemp(name)
        deliver([DeliverLayer("box", jacket)], out[name], DeliverSettings(name, sheets, "box"), bake=made)
    return out


@pytest.mark.parametrize("profile", sorted(PROFILES))
def test_what_every_shipped_profile_delivers_has_nothing_wrong(profile: str, folders: dict[str, Path], source: BakeLayer) -> None:
    """The excess over the floor is at most .1 degrees."""
    taken = take_in(folders[profile], [source])
    assert [f.sentence for f in taken.findings if f.level == "wrong"] == []
    assert taken.excess is not None and taken.excess <= 0.1 and taken.bare is not None and taken.bare > 5
    assert {"obj-axes", "size", "place", "tangents-agree"} <= {f.id for f in taken.findings}


def _glb(folder: Path, change: Callable[[Any, bytearray], None]) -> None:
    path = folder / "box.glb"
    gltf = pygltflib.GLTF2().load(str(path))
    blob = bytearray(gltf.binary_blob())
    change(gltf, blob)
    gltf.set_binary_blob(bytes(blob))
    gltf.save_binary(str(path))


def _values(gltf: Any, blob: bytearray, name: str) -> np.ndarray:
    """The numbers of an attribute, to be changed in place."""
    accessor = gltf.accessors[getattr(gltf.meshes[0].primitives[0].attributes, name)]
    view = gltf.bufferViews[accessor.bufferView]
    wide = {"VEC2": 2, "VEC3": 3, "VEC4": 4}[accessor.type]
    return np.frombuffer(blob, "<f4", accessor.count * wide, view.byteOffset or 0).reshape(-1, wide)


def _picture(change: Callable[[np.ndarray], np.ndarray]) -> Callable[[Any, bytearray], None]:
    """Put another picture of normals into a GLB, at its end."""

    def run(gltf: Any, blob: bytearray) -> None:
        view = gltf.bufferViews[gltf.images[gltf.textures[gltf.materials[0].normalTexture.index].source].bufferView]
        data = bytes(blob[view.byteOffset : view.byteOffset + view.byteLength])
        pixels = change(np.asarray(Image.open(io.BytesIO(data))).copy())
        out = io.BytesIO()
        Image.fromarray(pixels).save(out, "PNG")
        view.byteOffset, view.byteLength = len(blob), len(out.getvalue())
        blob += out.getvalue() + bytes(-len(out.getvalue()) % 4)
        gltf.buffers[0].byteLength = len(blob)

    return run


def _green(pixels: np.ndarray) -> np.ndarray:
    pixels[..., 1] = 255 - pixels[..., 1]
    return pixels


def _darker(pixels: np.ndarray) -> np.ndarray:
    """Taken for sRGB and turned to linear light (IEC 61966-2-1)."""
    x = pixels / 255.0
    return np.rint(255 * np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)).astype(np.uint8)


def _at(name: str, change: Callable[[np.ndarray], None]) -> Callable[[Any, bytearray], None]:
    return lambda gltf, blob: change(_values(gltf, blob, name))


def _flip_v(v: np.ndarray) -> None:
    v[:, 1] = 1 - v[:, 1]


def _sign(v: np.ndarray) -> None:
    v[:, 3] *= -1


def _larger(v: np.ndarray) -> None:
    v *= 100


def _on_its_back(v: np.ndarray) -> None:
    v[:] = np.stack([v[:, 0], -v[:, 2], v[:, 1]], axis=1)


def _bare(gltf: Any, blob: bytearray) -> None:
    gltf.meshes[0].primitives[0].attributes.NORMAL = None


def _other_diagonals(gltf: Any, blob: bytearray) -> None:
    accessor = gltf.accessors[gltf.meshes[0].primitives[0].indices]
    view = gltf.bufferViews[accessor.bufferView]
    t = np.frombuffer(blob, "<u4", accessor.count, view.byteOffset or 0).reshape(-1, 2, 3)
    for pair in t:
        one, other = set(pair[0].tolist()), set(pair[1].tolist())
        a, c = sorted(one & other)
        (b,), (d,) = one - {a, c}, other - {a, c}
        cyclic = pair[0].tolist()
        if cyclic[(cyclic.index(a) + 1) % 3] == b:
            pair[:] = [[b, d, a], [d, b, c]]
        else:
            pair[:] = [[d, b, a], [b, d, c]]


FAULTS: dict[str, tuple[Callable[[Any, bytearray], None], str]] = {
    "green": (_picture(_green), "green"), "v": (_at("TEXCOORD_0", _flip_v), "v"), "sign": (_at("TANGENT", _sign), "tangent-sign"),
    "gamma": (_picture(_darker), "gamma"), "scale": (_at("POSITION", _larger), "scale"), "axes": (_at("POSITION", _on_its_back), "axes"),
    "normals remade": (_bare, "normals-remade"), "diagonals": (_other_diagonals, "diagonals"),
}  # fmt: skip


@pytest.mark.parametrize("fault", sorted(FAULTS))
def test_every_fault_is_named(fault: str, folders: dict[str, Path], source: BakeLayer, tmp_path: Path) -> None:
    change, named = FAULTS[fault]
    folder = shutil.copytree(folders["y-up-metres"], tmp_path / "o")
    _glb(folder, change)
    wrong = [f for f in take_in(folder, [source]).findings if f.level == "wrong"]
    assert named in {f.id for f in wrong}, [f.sentence for f in wrong]
    assert all(f.sentence.endswith(".") and len(f.sentence) < 200 for f in wrong)


def test_faults_beside_the_glb_are_named(folders: dict[str, Path], source: BakeLayer, tmp_path: Path) -> None:
    """A picture gone, one with its green turned, an OBJ of another unit, one that lies on its back, one without normals."""

    def named(name: str, change: Callable[[Path], None]) -> set[str]:
        folder = shutil.copytree(folders["y-up-metres"], tmp_path / name)
        change(folder)
        return {f.id for f in take_in(folder, [source]).findings if f.level != "good"}

    def turn_green(folder: Path) -> None:
        path = folder / "box-normal.png"
        Image.fromarray(_green(np.asarray(Image.open(path)).copy())).save(path)

    def rewrite(turn: Callable[[list[float]], list[float]]) -> Callable[[Path], None]:
        def run(folder: Path) -> None:
            rows = (folder / "box.obj").read_text().splitlines()
            rows = [f"v {' '.join(map(str, turn([float(w) for w in r.split()[1:]])))}" if r.startswith("v ") else r for r in rows]
            (folder / "box.obj").write_text("\n".join(rows))

        return run

    assert "missing" in named("gone", lambda f: (f / "box-normal.png").unlink())
    assert "green-beside" in named("green", turn_green)
    assert "obj-scale" in named("unit", rewrite(lambda p: [100 * x for x in p]))
    assert "obj-axes" in named("back", rewrite(lambda p: [p[0], -p[2], p[1]]))
    assert "obj-normals" in named("bare", lambda f: (f / "box.obj").write_text(
        "\n".join(r for r in (f / "box.obj").read_text().splitlines() if not r.startswith("vn "))))  # fmt: skip


def test_holes_at_mips_are_told_by_their_level(source: BakeLayer, tmp_path: Path) -> None:
    """Without padding what lies between islands shows at the first levels, padded over the whole sheet at none."""
    box = boxed(6, True)
    jacket = box.with_points(box.points * (1.0, 1.6, 0.7) + (0.0, 0.3, 0.1))
    levels = {}
    dark = np.tile(np.array([60, 20, 10, 255], np.uint8), (source.mesh.n_points, 1))
    source = BakeLayer("dark", source.mesh.with_(point_data={"colour": dark}))
    for padding in (0, -1):
        made = bake([BakeLayer("box", jacket)], [source], sheets_of(256, margin=2), BakeSettings(("normal", "colour"), options=BakeOptions(1, padding=padding)))
        deliver([DeliverLayer("box", jacket)], tmp_path / str(padding), DeliverSettings("y-up-metres", sheets_of(256, margin=2), "box"), bake=made)
        levels[padding] = next(f for f in take_in(tmp_path / str(padding), [source]).findings if f.id == "mips")
    assert levels[0].level != "good" and levels[0].number <= 3 and levels[-1].level == "good"


def test_without_a_source_or_a_delivery_there_is_a_sentence(folders: dict[str, Path], tmp_path: Path) -> None:
    taken = take_in(folders["z-up-centimetres"])
    assert isinstance(taken, Taken) and taken.error is None and "whole" in taken.told()
    with pytest.raises(FormatError, match="no folder"):
        take_in(tmp_path / "nowhere")
    with pytest.raises(FormatError, match="holds no delivery"):
        take_in(tmp_path)
    (tmp_path / "a-report.json").write_text(json.dumps({}))
    (tmp_path / "a.glb").write_bytes(b"glTF, but not really")
    with pytest.raises(FormatError, match="cannot be read as glTF"):
        take_in(tmp_path)
