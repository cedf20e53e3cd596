"""A short run of bench/hostile.py, and the program started by hand where it cannot work."""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from pathlib import Path

import pytest

from bench import hostile
from bench.hostile import Line, faults, prepared, sums
from bench.odd_meshes import MESHES
from jacket.__main__ import neither_verb_nor_file
from jacket.cli.main import main
from jacket.cli.numbers import number, whole
from jacket.formats.mesh.registry import read_mesh, write_mesh
from tests.conftest import cube, icosphere


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return prepared(tmp_path_factory.mktemp("hostile"))


def test_no_line_writes_over_what_it_reads(folder: Path) -> None:
    before = sums(folder)
    for line in hostile._overwriting():
        assert faults(line, folder, before) == [], line.arguments
        before = sums(folder)


def test_numbers_and_files_that_make_no_sense_are_refused_in_one_sentence(folder: Path) -> None:
    before = sums(folder)
    for line in [*list(hostile._numbers())[::17], *list(hostile._files())[::3]]:
        assert faults(line, folder, before) == [], line.arguments


@pytest.mark.parametrize("name", ["tetrahedron", "half_flipped", "slivers", "repeated", "moebius", "single", "huge"])
def test_odd_meshes_are_covered_or_it_is_said(name: str, folder: Path) -> None:
    """Measured with SciPy's tree, not with our own check."""
    for quads in ("12", "400"):
        line = Line(("remesh", f"{name}.ply", "o.obj", "--quads", quads))
        assert faults(line, folder, sums(folder)) == []
        share = hostile.uncovered_share(folder / f"{name}.ply", folder / "o.obj")
        mesh = read_mesh(folder / "o.obj")
        assert share < 0.05 and abs(mesh.n_faces / int(quads) - 1) < 0.35 and mesh.is_quads


def test_all_of_many_parts_are_covered_and_a_hollow_stays_one(tmp_path: Path) -> None:
    write_mesh(MESHES["many_parts"](), tmp_path / "many.ply")
    assert main(["remesh", str(tmp_path / "many.ply"), str(tmp_path / "o.obj"), "--quads", "400", "--quiet"]) == 0
    assert hostile.uncovered_share(tmp_path / "many.ply", tmp_path / "o.obj") < 0.01
    write_mesh(MESHES["shell"](), tmp_path / "shell.ply")
    assert main(["prepare", str(tmp_path / "shell.ply"), str(tmp_path / "s.ply"), "--turn-outward", "--quiet"]) == 0
    assert (read_mesh(tmp_path / "s.ply").corners == read_mesh(tmp_path / "shell.ply").corners).all()


def test_what_stays_uncovered_is_a_failed_check(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A jacket over one of two balls: half of the source is bare."""
    ball = icosphere(3)
    write_mesh(ball, tmp_path / "one.obj")
    from jacket.core.mesh.pieces import put_side_by_side

    write_mesh(put_side_by_side([ball, ball.with_points(ball.points + 5.0)]), tmp_path / "two.ply")
    out = str(tmp_path / "out")
    assert main(["deliver", str(tmp_path / "one.obj"), out, "--source", str(tmp_path / "two.ply")]) == 1
    assert "Uncovered 50 % of source" in capsys.readouterr().out


def started(*arguments: str, **environment: str) -> tuple[int, str]:
    """Exit code and standard error of the program as its users start it."""
    settings = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    done = subprocess.run([sys.executable, "-m", "jacket", *arguments], capture_output=True, text=True, timeout=60,
                          env={**settings, **environment})  # fmt: skip
    return done.returncode, done.stderr


def test_without_a_screen_and_with_a_wrong_verb_there_is_a_sentence_not_a_signal(tmp_path: Path) -> None:
    for arguments, environment, says in (
        ((), {}, "no screen"), (("demo",), {"DISPLAY": ":987"}, "cannot be reached"), (("remsh", "a", "b"), {}, "did you mean 'remesh'"),
    ):  # fmt: skip
        code, error = started(*arguments, **environment)
        assert code == 2 and says in error and error.startswith("jacket: ") and error.count("\n") == 1, error
    assert "verbs are run, pack." in neither_verb_nor_file("knit", ("run", "pack"))
    assert neither_verb_nor_file(str(tmp_path), ("run", "pack")) == ""


def test_ranges_stand_in_the_help(capsys: pytest.CaptureFixture[str]) -> None:
    for verb in ("remesh", "run", "pack", "prepare", "unwrap"):
        assert main([verb, "--help"]) == 0
    said = " ".join(capsys.readouterr().out.split())
    for words in ("12 to 500,000", "1 to 180", "0.0001 to 50", "16 to 16384", "1 to 100", "0 to 180", "4 or more"):
        assert words in said


def test_a_project_that_a_window_holds_is_not_refitted_over(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    from jacket.document.state import JacketObject, SourceObject, State
    from jacket.formats.project.claim import claim
    from jacket.formats.project.records import save_project

    state = State((SourceObject(1, "ball", icosphere(2)),), (JacketObject(2, "box", cube()),), active=2, next_id=3)
    save_project(state, tmp_path / "a.jacket")
    write_mesh(icosphere(3), tmp_path / "new.ply")
    held = claim(tmp_path / "b.jacket")
    words = ["refit", str(tmp_path / "a.jacket"), str(tmp_path / "new.ply"), str(tmp_path / "b.jacket"), "--quiet"]
    assert main(words) == 2 and "open in another window" in capsys.readouterr().err
    held.let_go()
    assert main(words) == 0 and (tmp_path / "b.jacket").exists()


def test_numbers_end_where_their_range_says() -> None:
    read, count = number(0.5, 2.0), whole(3, 1200)
    assert [read(t) for t in ("0.5", "2", "1e0")] == [0.5, 2.0, 1.0] and [count(t) for t in ("3", "1200")] == [3, 1200]
    for reader, told, texts in ((read, "0.5 to 2", ("0.49", "2.01", "-1", "inf", "nan", "1_0", "")), (count, "3 to 1,200", ("2", "1201", "3.5", "1_0"))):
        for text in texts:
            with pytest.raises(argparse.ArgumentTypeError, match=told):
                reader(text)
