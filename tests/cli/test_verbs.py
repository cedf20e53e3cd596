"""The command line as a user types it."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from jacket.cli import main as command_line
from jacket.cli import source_verbs, stopping
from jacket.cli.main import main
from jacket.core.seams.cuts import uv_border_pairs
from jacket.core.uv.sets import island_labels
from jacket.formats.mesh.registry import read_mesh, write_mesh
from tests.conftest import DATA, cube, icosphere, torus

SPOT = str(DATA / "spot.ply")


def test_the_whole_job_on_spot(tmp_path: Path) -> None:
    report = tmp_path / "r.json"
    code = main(["run", SPOT, str(tmp_path / "out"), "--quads", "1500", "--size", "1024", "--margin", "8", "--steps", "5", "--quiet", "--report", str(report)])
    figures = json.loads(report.read_text())
    levels = {c["id"]: c["level"] for c in figures["checks"]}
    assert code == 0 and figures["ready"], levels
    assert figures["quads"]["not_quads"] == 0 and figures["quads"]["nonmanifold_edges"] == 0
    assert figures["quads"]["gap_out_mean"] < 0.5 and figures["stretch"]["dirichlet"] < 1.25
    assert (
        figures["stretch"]["unmapped_faces"] == 0
        and levels["overlap"] == levels["flipped"] == levels["margin"] == "good"
    )
    mesh = read_mesh(tmp_path / "out" / "spot.obj")
    assert mesh.is_quads and np.isfinite(mesh.uv).all()
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == [
        "spot-layout.png", "spot-report.json", "spot.glb", "spot.html", "spot.mtl", "spot.obj"]  # fmt: skip


def test_step_by_step_through_files(tmp_path: Path) -> None:
    """remesh → unwrap → pack → deliver, each reading what the one before wrote."""
    source, a, b, c = (str(tmp_path / f"{k}.obj") for k in ("source", *"abc"))
    write_mesh(torus(48, 24), Path(source))
    assert main(["remesh", source, a, "--quads", "400", "--quiet"]) == 0
    assert main(["unwrap", a, b, "--seams", "auto", "--quiet", "--report", str(tmp_path / "u.json")]) == 0
    assert json.loads((tmp_path / "u.json").read_text())["stretch"]["dirichlet"] < 1.2
    assert main(["pack", b, c, "--size", "512", "--margin", "4", "--steps", "5", "--quiet"]) == 0
    assert main(["deliver", c, str(tmp_path / "out"), "--source", source, "--size", "512", "--margin", "4", "--quiet"]) == 0
    again = str(tmp_path / "again.obj")
    assert main(["unwrap", c, again, "--quiet"]) == 0  # --seams keep reads the cuts back from the file
    one, two = read_mesh(c), read_mesh(again)
    labels = [island_labels(m.with_cuts(uv_border_pairs(m, m.uv)))[0] for m in (one, two)]
    assert labels[0] == labels[1]


def test_inspect_tells_and_writes_json(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["inspect", SPOT, "--json", "--quiet"]) == 0
    health = json.loads(capsys.readouterr().out)["health"]
    assert health["triangles"] == 5856 and health["euler"] == 2 and health["sound"]


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["inspect", "/nowhere/x.obj"], "no file"), (["inspect", "/tmp"], "ending"), (["run", SPOT, "OUT", "--quads", "3"], "12 to 500,000"),
        (["remesh", SPOT, "x.off", "--quads", "100"], "cannot be written"), (["pack", SPOT, "OUT.obj"], "no UVs"),
        (["unwrap", SPOT, "OUT.obj"], "--seams auto"), (["run", SPOT, "OUT", "--quads", "300", "--size", "5"], "out of range"),
        (["run", SPOT], "--help"), (["knit"], "--help"), (["unwrap", SPOT, "OUT.obj", "--seams", "angle", "--angle", "179"], "could open flat"),
    ],
)  # fmt: skip
def test_bad_usage_is_one_sentence_and_code_2(
    words: list[str], says: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    words = [w.replace("OUT", str(tmp_path / "out")) for w in words]
    assert main([*words, "--quiet"] if words[0] in ("inspect", "run", "remesh", "pack", "unwrap") else words) == 2
    error = capsys.readouterr().err
    assert says in error and error.startswith("jacket: ") and error.count("\n") == 1
    assert not list(tmp_path.iterdir())  # nothing half-written


def test_a_failed_check_is_code_1(tmp_path: Path) -> None:
    box = cube().with_uv(np.tile([[0, 0], [1, 0], [1, 1], [0, 1.0]], (6, 1)))
    write_mesh(box, tmp_path / "box.obj")
    assert main(["deliver", str(tmp_path / "box.obj"), str(tmp_path / "out"), "--quiet"]) == 1


def test_the_command_line_loads_neither_qt_nor_opengl() -> None:
    """core, document, tools, formats and cli work where Qt and OpenGL are absent."""
    code = (
        "import sys\n"
        "class No:\n"
        "    def find_spec(self, name, path=None, target=None):\n"
        "        if name.split('.')[0] in ('PySide6', 'moderngl', 'shiboken6'): raise ImportError(name)\n"
        "sys.meta_path.insert(0, No())\n"
        "import jacket.cli.main, jacket.program, jacket.stages.all, jacket.formats.project.records, jacket.core.derive\n"
        "sys.exit(jacket.cli.main.main(['inspect', sys.argv[1], '--quiet']))\n"
    )
    done = subprocess.run([sys.executable, "-c", code, SPOT], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0 and "5,856" in done.stdout, done.stderr


def test_stopping_leaves_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write_mesh(icosphere(3), tmp_path / "ball.ply")
    from jacket.cli import verbs

    def interrupted(*arguments: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(verbs, "remesh_job", interrupted)
    assert main(["remesh", str(tmp_path / "ball.ply"), str(tmp_path / "out.obj"), "--quads", "100", "--quiet"]) == 130
    assert not (tmp_path / "out.obj").exists()


def test_an_interrupt_that_comes_out_as_another_error_is_one_sentence_too(monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Numba's compiled code gives an interrupt back as a SystemError, libraries give it back as they like."""
    interrupts = stopping.Interrupts()
    for module in (stopping, command_line):
        monkeypatch.setattr(module, "INTERRUPTS", interrupts)
    write_mesh(cube(), tmp_path / "c.obj")

    def broken(*_: object, **__: object) -> None:
        raise SystemError("returned a result with an exception set")

    monkeypatch.setattr(source_verbs, "examine", broken)
    with pytest.raises(SystemError):
        main(["inspect", str(tmp_path / "c.obj")])
    with pytest.raises(KeyboardInterrupt):
        interrupts._heard(2, None)
    assert main(["inspect", str(tmp_path / "c.obj")]) == 130 and "stopped; nothing was written" in capsys.readouterr().err
