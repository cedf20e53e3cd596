"""Baking and delivering from the command line, read back by others."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import numpy as np
import OpenEXR
import pygltflib
import pytest
import trimesh
from PIL import Image

from jacket.cli.main import main
from jacket.core.uv.sheets import Sheet
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.formats.mesh.registry import write_mesh
from jacket.formats.project.records import save_project
from tests.core.bake.forms import ball, boxed
from tests.core.bake.test_decals import lying


@pytest.fixture
def pair(tmp_path: Path) -> tuple[str, str]:
    """A box with UVs as OBJ, and the ball in it as PLY."""
    write_mesh(boxed(4, False), tmp_path / "box.obj")
    write_mesh(ball(24), tmp_path / "ball.ply")
    return str(tmp_path / "box.obj"), str(tmp_path / "ball.ply")


def test_bake_writes_maps_of_every_depth(pair: tuple[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Read back by Pillow, by trimesh's reader of pictures and by OpenEXR itself."""
    box, dense = pair
    base = ["bake", box, str(tmp_path / "o"), "--source", dense, "--size", "64", "--cage", "30", "--samples", "1", "--rays", "8"]
    assert main([*base, "--maps", "all", "--report", str(tmp_path / "r.json")]) == 0
    told = json.loads((tmp_path / "r.json").read_text())
    assert len(told["files"]) == 16 and told["sheets"][0]["missed"] == 0
    assert told["sheets"][0]["legends"]["id-part"] == {"ball": [255, 46, 46]}
    assert told["sheets"][0]["ranges"]["height"][0] == -told["sheets"][0]["ranges"]["height"][1] < 0
    normal = np.asarray(Image.open(tmp_path / "o" / "box-normal.png"))
    assert normal.shape == (64, 64, 3) and normal[..., 2].min() > 100
    assert main([*base, "--maps", "position,height", "--bits", "32"]) == 0
    with OpenEXR.File(str(tmp_path / "o" / "box-position.exr"), separate_channels=True) as file:
        place = np.stack([file.channels()[c].pixels for c in "RGB"], axis=-1)
    on = np.abs(place).sum(axis=2) > 0
    assert np.abs(np.linalg.norm(place[on], axis=1) - 1).max() < 0.01
    assert "units" in capsys.readouterr().out


def test_green_points_down_when_asked_and_sixteen_bits_are_sixteen(pair: tuple[str, str], tmp_path: Path) -> None:
    box, dense = pair
    base = ["bake", box, "--source", dense, "--size", "64", "--cage", "30", "--samples", "1", "--maps", "normal", "--quiet"]
    for name, more in (("up", []), ("down", ["--green", "down"]), ("deep", ["--bits", "16"])):
        assert main([*base[:2], str(tmp_path / name), *base[2:], *more]) == 0
    up, down = (np.asarray(Image.open(tmp_path / n / "box-normal.png")).astype(int) for n in ("up", "down"))
    assert np.abs(up[..., 1] + down[..., 1] - 255).max() <= 1 and (up[..., [0, 2]] == down[..., [0, 2]]).all()
    assert up[..., 1].max() > 140
    # Pillow reads RGB of sixteen bits down to eight, so the header (W3C PNG, 11.2.1) is looked at, and the bytes by hand.
    data = (tmp_path / "deep" / "box-normal.png").read_bytes()
    assert data[24] == 16 and data[25] == 2
    assert (np.abs(_sixteen(data) / 257 - up).max()) <= 0.51


def _sixteen(data: bytes) -> np.ndarray:
    """A PNG of sixteen bits as the standard describes it (filter Up only), read without our writer."""
    import zlib

    width, height = int.from_bytes(data[16:20], "big"), int.from_bytes(data[20:24], "big")
    at, packed = 8, b""
    while at < len(data):
        size, kind = int.from_bytes(data[at : at + 4], "big"), data[at + 4 : at + 8]
        packed += data[at + 8 : at + 8 + size] if kind == b"IDAT" else b""
        at += 12 + size
    rows = np.frombuffer(zlib.decompress(packed), np.uint8).reshape(height, -1)
    assert set(rows[:, 0].tolist()) == {2}
    return np.cumsum(rows[:, 1:], axis=0, dtype=np.uint8).reshape(height, width, 3, 2).astype(int) @ [256, 1]


def test_a_delivery_with_maps_is_read_by_others(pair: tuple[str, str], tmp_path: Path) -> None:
    """pygltflib and trimesh read the GLB with its tangents and pictures; the OBJ has normals; packed channels and gamma are
    what they should be."""
    box, dense = pair
    out = tmp_path / "o"
    line = ["deliver", box, str(out), "--source", dense, "--bake", "--profile", "z-up-centimetres", "--size", "64", "--margin", "1",
            "--map-size", "64", "--cage", "30", "--rays", "8", "--quiet"]  # fmt: skip
    main(line)
    gltf = pygltflib.GLTF2().load(str(out / "box.glb"))
    attributes = gltf.meshes[0].primitives[0].attributes
    assert attributes.TANGENT is not None and attributes.NORMAL is not None
    assert gltf.materials[0].normalTexture is not None and gltf.materials[0].occlusionTexture is not None
    assert len(trimesh.load(out / "box.glb", force="mesh").faces) == 192
    text = (out / "box.obj").read_text().splitlines()
    assert sum(x.startswith("vn ") for x in text) > 0 and all("//" not in x and x.count("/") == 6 for x in text if x.startswith("f "))
    assert len([x for x in text if x.startswith("f ")]) == 192
    up = np.array([[float(w) for w in x.split()[1:4]] for x in text if x.startswith("v ")])
    assert up.max() == pytest.approx(100.0)
    surface = np.asarray(Image.open(out / "box-surface.png"))
    assert (surface[..., 1] == round(0.8 * 255)).all() and (surface[..., 2] == 0).all() and surface[..., 0].max() > 240
    assert "norm box-normal.png" in (out / "box.mtl").read_text() and "<h2>Checks" in (out / "box.html").read_text()


def test_only_what_changed_is_written_and_nothing_of_others_lost(
    pair: tuple[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    box, _ = pair
    out = tmp_path / "o"
    line = ["deliver", box, str(out), "--size", "64", "--margin", "1", "--quiet"]
    main(line)
    before = {p.name: p.stat().st_mtime_ns for p in out.iterdir()}
    main(line)
    after = {p.name: p.stat().st_mtime_ns for p in out.iterdir()}
    # The report says how long it took, which may come out the same.
    assert {n for n in before if before[n] != after[n]} <= {"box-report.json"} and set(before) == set(after)
    (out / "box.mtl").write_text("mine\n")
    capsys.readouterr()
    assert main(line) == 2 and "box.mtl" in capsys.readouterr().err
    assert (out / "box.mtl").read_text() == "mine\n"
    main([*line, "--force"])
    assert (out / "box.mtl").read_text() != "mine\n"


def test_the_gltf_validator_has_nothing_to_say(pair: tuple[str, str], tmp_path: Path) -> None:
    """Khronos's validator (npm gltf-validator), where node and the registry are reached."""
    npm, node = shutil.which("npm"), shutil.which("node")
    if npm is None or node is None:
        pytest.skip("no node here")
    got = subprocess.run([npm, "install", "--silent", "--prefix", str(tmp_path), "gltf-validator@2.0.0-dev.3.10"], capture_output=True, timeout=100)
    if got.returncode:
        pytest.skip("the registry of npm is not reached")
    box, dense = pair
    main(["deliver", box, str(tmp_path / "o"), "--source", dense, "--bake", "--size", "64", "--margin", "1", "--cage", "30", "--rays", "8", "--quiet"])
    script = ("const v=require('gltf-validator'),f=require('fs');v.validateBytes(new Uint8Array(f.readFileSync(process.argv[1])))"
              ".then(r=>console.log(JSON.stringify(r.issues)))")  # fmt: skip
    done = subprocess.run([node, "-e", script, str(tmp_path / "o" / "box.glb")], cwd=tmp_path, capture_output=True, text=True, timeout=100)
    told = json.loads(done.stdout)
    assert told["numErrors"] == told["numWarnings"] == told["numInfos"] == told["numHints"] == 0, told["messages"]


@pytest.mark.parametrize(
    ("words", "says"),
    [(["--maps", "sheen"], "no map called"), (["--bits", "9"], "8, 16 or 32"), ([], "no source"), (["--maps", ""], "No map is chosen"),
     (["--by-name", "--source", "BALL"], "No source is named like")],
)  # fmt: skip
def test_bad_baking_is_one_sentence(
    pair: tuple[str, str], words: list[str], says: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    box, dense = pair
    more = [] if words in ([], ["--by-name", "--source", "BALL"]) else ["--source", dense]
    assert main(["bake", box, str(tmp_path / "o"), *more, *[w.replace("BALL", dense) for w in words], "--quiet"]) == 2
    error = capsys.readouterr().err
    assert says in error and error.count("\n") == 1
    assert not (tmp_path / "o").exists()


def test_intake_of_a_delivery_with_a_picture_of_both(pair: tuple[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    box, dense = pair
    out, picture = tmp_path / "o", tmp_path / "seen.png"
    assert main(["deliver", box, str(out), "--source", dense, "--bake", "normal", "--map-size", "128", "--samples", "1", "--cage", "30", "--quiet"]) in (0, 1)
    base = ["intake", str(out), "--report", str(tmp_path / "r.json"), "--picture"]
    code = main([*base, str(picture), "--source", dense])
    told = json.loads((tmp_path / "r.json").read_text())
    assert code == (1 if any(f["level"] == "wrong" for f in told["findings"]) else 0)
    assert "From four sides" in capsys.readouterr().out and 0 < told["views"]["mean"] < 25
    # A cube's silhouette against a ball's: from four sides they differ by what lies between a square-ish and a round outline.
    assert 0.1 < told["views"]["outline"] < 0.6
    pixels = np.asarray(Image.open(picture))
    assert pixels.shape == (1200, 900, 3) and pixels.std() > 20
    for wrong, says in ((["--picture", "x.png"], "name that with --source"), (["--picture", "x.jpg", "--source", dense], "has to be a .png")):
        assert main(["intake", str(out), *wrong]) == 2
        assert says in capsys.readouterr().err


def test_baking_from_a_side_and_by_pairs(pair: tuple[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    box, dense = pair
    base = ["bake", box, str(tmp_path / "o"), "--source", dense, "--size", "64", "--cage", "30", "--samples", "1", "--maps", "light", "--force"]
    seen = []
    for side in ("left", "right"):
        assert main([*base, "--light-from", side, "--pair", "box=ball"]) == 0
        seen.append(np.asarray(Image.open(tmp_path / "o" / "box-light.png")).astype(int))
    on = seen[0] > 0
    # Light from the other side: what the one has over the middle the other has below it.
    assert np.abs((seen[0] + seen[1])[on & (seen[1] > 0)] - 255).max() <= 2
    assert main([*base, "--pair", "box"]) == 2 and "no pair" in capsys.readouterr().err


def test_decals_of_a_project_are_baked_in_and_a_lost_picture_is_said(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Pillow finds the red of the decal in a map that nothing else makes; --bare leaves it out."""
    picture = tmp_path / "plate.png"
    Image.new("RGB", (8, 8), (200, 30, 60)).save(picture)
    laid = lying(2.0, 2.0, place=(0.0, 0.0, 1.0), reach=3.0, path=str(picture))
    state = State((SourceObject(1, "ball", ball(16)),), (JacketObject(2, "box", boxed(4, True), decals=(laid,)),), active=2, next_id=3,
                  sheets=(Sheet(width=64, height=64, margin=2.0),))  # fmt: skip
    save_project(with_island_numbers(State(), state), tmp_path / "p.jacket")
    base = ["bake", str(tmp_path / "p.jacket"), str(tmp_path / "o"), "--maps", "normal", "--samples", "1", "--cage", "30", "--quiet"]
    assert main(base) == 0
    colour = np.asarray(Image.open(tmp_path / "o" / "p-colour.png")).astype(int)
    assert 0.02 < (np.abs(colour - (200, 30, 60)).max(axis=2) <= 1).mean() < 0.5
    assert main([*base[:2], str(tmp_path / "bare"), *base[3:], "--bare"]) == 0
    assert [f.name for f in (tmp_path / "bare").iterdir()] == ["p-normal.png"]
    picture.unlink()
    assert main(base) == 2
    assert "plate.png of a decal is not there" in capsys.readouterr().err
