"""Packing and drawing the layout from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from jacket.cli.main import main
from jacket.core.layout.margins import least_margin
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, State
from jacket.formats.mesh.registry import read_mesh, write_mesh
from jacket.formats.project.records import load_project, save_project
from jacket.jobs.pack import sheets_of
from tests.core.layout.test_search import circle, flat, square


@pytest.fixture
def mesh_file(tmp_path: Path) -> Path:
    mesh = flat(*[square(1.0)] * 3, square(2.0), circle(20), circle(20) * 0.5)
    for k in range(6):
        mesh = mesh.with_uv(np.where((mesh.face_of_corner == k)[:, None], np.asarray(mesh.uv) * 30 + [0.15 * k + 0.05, 0.1], mesh.uv))
    write_mesh(mesh, tmp_path / "in.obj")
    return tmp_path / "in.obj"


def packed(path: Path, *words: str) -> dict[str, object]:
    out = path.with_name("out.obj")
    assert main(["pack", str(path), str(out), "--quiet", "--report", str(path.with_name("r.json")), *words]) == 0
    found: dict[str, object] = json.loads(path.with_name("r.json").read_text())
    return found


def test_steps_and_seed_give_the_same_file_and_margins_count_at_their_level(mesh_file: Path) -> None:
    words = ("--size", "512x256", "--margin", "2", "--mip", "1", "--edge", "1", "--steps", "4", "--seed", "7")
    first = packed(mesh_file, *words)
    one = mesh_file.with_name("out.obj").read_bytes()
    assert packed(mesh_file, *words)["use"] == first["use"] and mesh_file.with_name("out.obj").read_bytes() == one
    sheets = sheets_of(512, 256, 2, mip=1, edge=1)
    least = least_margin(Islands.of(read_mesh(mesh_file.with_name("out.obj")), sheets)).pixels
    assert 2.0 - 1e-3 <= least < 4.5
    timed = packed(mesh_file, "--seconds", "0.5", "--turn", "quarter", "--mirrored")
    assert timed["steps"] > 0  # type: ignore[operator]


def test_a_density_takes_as_many_sheets_as_it_needs_and_twins_are_stacked(mesh_file: Path, capsys: pytest.CaptureFixture[str]) -> None:
    many = packed(mesh_file, "--density", "300", "--size", "900", "--steps", "2")
    assert len(many["sheets"]) >= 2 and many["density"] == pytest.approx(300)  # type: ignore[arg-type]
    stacked = packed(mesh_file, "--stack", "--steps", "2")
    uv = np.asarray(read_mesh(mesh_file.with_name("out.obj")).uv)
    assert np.abs(uv[:4] - uv[4:8]).max() < 1e-6 and np.abs(uv[:4] - uv[8:12]).max() < 1e-6
    levels = {c["id"]: c["level"] for c in stacked["checks"]}  # type: ignore[attr-defined]
    assert levels["overlap"] == levels["margin"] == "good"
    out = str(mesh_file.with_name("out.obj"))
    for words, sentence in ((("--density", "90000"), "too large"), (("--margin", "100", "--mip", "3"), "too much"),
                            (("--density", "2000", "--sheets", "2"), "do not fit")):  # fmt: skip
        assert main(["pack", str(mesh_file), out, "--quiet", "--steps", "2", *words]) == 2
        assert sentence in capsys.readouterr().err


def test_layers_of_a_project_share_its_sheets_and_pictures_are_drawn(tmp_path: Path) -> None:
    layers = (JacketObject(1, "a", flat(*[square(1.0)] * 3)), JacketObject(2, "b", flat(circle(16), square(2.0))))
    state = State((), layers, active=1, next_id=3, sheets=(Sheet(width=256, height=256, margin=3.0),))
    save_project(with_island_numbers(State(), state), tmp_path / "p.jacket")
    assert main(["pack", str(tmp_path / "p.jacket"), str(tmp_path / "q.jacket"), "--steps", "3", "--quiet"]) == 0
    done = load_project(tmp_path / "q.jacket")
    uv = np.concatenate([np.asarray(j.mesh.uv) for j in done.jackets])
    assert uv.min() >= 3 / 256 - 1e-9 and uv.max() <= 1 - 3 / 256 + 1e-9
    assert [r.name for j in done.jackets for r in j.islands] == [r.name for j in load_project(tmp_path / "p.jacket").jackets for r in j.islands]
    assert main(["pack", str(tmp_path / "p.jacket"), str(tmp_path / "q.obj"), "--quiet"]) == 2
    for name in ("q.png", "q.svg"):
        assert main(["picture", str(tmp_path / "q.jacket"), str(tmp_path / name), "--quiet", "--ground", "none"]) == 0
        assert (tmp_path / name).stat().st_size > 500
    assert main(["picture", str(tmp_path / "q.jacket"), str(tmp_path / "q.png"), "--lines", "blue", "--quiet"]) == 2
    assert main(["picture", str(tmp_path / "q.jacket"), str(tmp_path / "q.tif"), "--quiet"]) == 2
