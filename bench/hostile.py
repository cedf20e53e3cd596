"""Hostile command lines: `python -m bench hostile`.

Each runs in a process of its own. It has to end within its time and memory, with a code that means something, with one
sentence where it refuses, with nothing written over what it reads, and never with good news about a result that leaves
much of the source uncovered.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import itertools
import json
import multiprocessing
import resource
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from bench.odd_meshes import MESHES, ball
from jacket.formats.mesh.registry import read_mesh, write_mesh

SECONDS = 240
MEMORY = 8 << 30


@dataclass(frozen=True)
class Line:
    """Arguments; whether the program has to refuse them (None where either will do)."""

    arguments: tuple[str, ...]
    refused: bool | None = None


NUMBERS = ("nan", "inf", "-inf", "-1", "0", "1e-320", "1e308", "999999999999", "1e-9", "0.5", "", "x", "1_0", "0x10", "1,5",
           "9" * 400)  # fmt: skip
"""What people and scripts type where a number is wanted."""


def make_inputs(folder: Path) -> None:
    """The files that the lines name."""
    for name, make in MESHES.items():
        write_mesh(make(), folder / f"{name}.ply")
    write_mesh(ball(), folder / "ball.obj")
    write_mesh(ball(), folder / "ball.glb")
    (folder / "huge308.obj").write_text("v 0 0 0\nv 1e308 0 0\nv 0 1e308 0\nf 1 2 3\n")
    (folder / "nan.obj").write_text("v 0 0 0\nv nan 0 0\nv 0 1 0\nf 1 2 3\n")
    (folder / "empty.obj").write_text("")
    (folder / "text.obj").write_text("hello\n")
    (folder / "cloud.obj").write_text("v 0 0 0\nv 1 0 0\n")
    (folder / "bad.jacket").write_bytes(b"PK\x03\x04 no")
    (folder / "bad.json").write_text("{")
    (folder / "guides.json").write_text(json.dumps([[[0, 0, 1], [0, 1, 0]]]))
    (folder / "wild.json").write_text(json.dumps([[[1e300, 0, 1], [0, 1e300, 0]]]))
    (folder / "spots.json").write_text(json.dumps([{"point": [0, 0, 1], "radius": 1e300, "factor": 4}]))
    (folder / "folder.obj").mkdir()


def lines() -> Iterator[Line]:
    """Every line, the most telling first."""
    yield from _overwriting()
    yield from _numbers()
    yield from _files()
    yield from _meshes()


def _overwriting() -> Iterator[Line]:
    for row in (("prepare", "ball.obj", "ball.obj"), ("remesh", "ball.ply", "./ball.ply", "--quads", "60"),
                ("unwrap", "ball.obj", "../in/ball.obj"), ("deliver", "ball.obj", "."), ("run", "ball.obj", ".", "--quads", "60"),
                ("deliver", "ball.glb", "."), ("refit", "ball.ply", "ball.obj", "ball.ply"),
                ("refit", "ball.ply", "ball.obj", "ball.obj"), ("inspect", "ball.ply", "--report", "ball.ply"),
                ("remesh", "ball.ply", "o1.obj", "--quads", "60", "--report", "o1.obj"),
                ("remesh", "ball.ply", "o2.obj", "--quads", "60", "--report", "o2.mtl"),
                ("prepare", "ball.obj", "o3.ply", "--report", "ball.mtl"), ("prepare", "ball.ply", "ball.obj", "--report", "ball.ply"),
                ("run", "ball.ply", "out", "--quads", "60", "--report", "out/ball.obj"), ("pack", "linked.obj", "ball.obj"),
                ("deliver", "ball.ply", "out", "--source", "ball.ply", "--report", "ball.ply")):  # fmt: skip
        yield Line(row, True)
    yield Line(("prepare", "copy.ply", "copy.ply", "--ground", "--force"), False)


def _numbers() -> Iterator[Line]:
    options = {
        "remesh ball.ply o.obj": ("--quads", "--edge", "--gap", "--sharp", "--form", "--crease-length"),
        "prepare ball.ply o.obj": ("--weld", "--keep", "--close-holes", "--smooth", "--reduce", "--scale", "--sharp"),
        "pack ball.obj o.obj": ("--size", "--margin", "--sheets"),
        "unwrap ball.ply o.obj --seams angle": ("--angle", "--seed"),
        "bake linked.obj out --source ball.ply": ("--map-size", "--samples", "--rays", "--cage", "--cage-in", "--far", "--padding", "--bits"),
    }
    for start, names in options.items():
        for name, value in itertools.product(names, NUMBERS):
            tail = ("--quads", "60") if start.startswith("remesh") and name not in ("--quads", "--edge", "--gap") else ()
            yield Line((*start.split(), *tail, name, value))


def _files() -> Iterator[Line]:
    for name in ("huge308.obj", "nan.obj", "empty.obj", "text.obj", "cloud.obj", "folder.obj", "bad.jacket", "missing.ply",
                 "bad.json", "n" * 300 + ".obj", "/dev/null", "/proc/self/mem"):  # fmt: skip
        yield Line(("inspect", name), True)
        yield Line(("run", name, "out", "--quads", "60"), True)
    for row in (("deliver", "bad.jacket", "out"), ("refit", "bad.jacket", "ball.ply", "o.jacket"),
                ("remesh", "ball.ply", "o.off", "--quads", "60"), ("remesh", "ball.ply", "missing/\x01.xyz", "--quads", "60"),
                ("remesh", "ball.ply", "n" * 300 + ".obj", "--quads", "60"), ("remesh", "ball.ply", "o.obj", "--quads", "60", "--guides", "bad.json"),
                ("remesh", "ball.ply", "o.obj", "--quads", "60", "--density", "missing.json"), ("run", "ball.ply", "ball.obj", "--quads", "60"),
                ("remesh", "ball.ply"), ("remesh",), ("fly",), (), ("run", "ball.ply", "out"), ("--nothing",),
                ("bake", "ball.ply", "out", "--source", "ball.ply"), ("bake", "linked.obj", "ball.obj", "--source", "ball.ply"),
                ("deliver", "linked.obj", "out", "--profile", "bad.json"), ("deliver", "linked.obj", "out", "--profile", "missing.toml"),
                ("intake", "."), ("intake", "missing"), ("intake", "ball.ply"),
                ("pack", "ball.ply", "o.obj"), ("unwrap", "ball.ply", "o.obj"), ("deliver", "ball.ply", "ball.ply")):  # fmt: skip
        yield Line(row, True)
    yield Line(("remesh", "ball.ply", "o.obj", "--quads", "60", "--guides", "wild.json"))
    yield Line(("remesh", "ball.ply", "o.obj", "--quads", "60", "--density", "spots.json"))
    yield Line(("remesh", "ball.ply", "o.obj", "--quads", "60", "--guides", "guides.json"), False)


def _meshes() -> Iterator[Line]:
    for name in MESHES:
        file = f"{name}.ply"
        yield Line(("inspect", file, "--json", "--crossings", "--mirror"))
        yield Line(("remesh", file, "o.obj", "--quads", "12"))
        yield Line(("remesh", file, "o.obj", "--quads", "400"))
        yield Line(("remesh", file, "o.obj", "--quads", "200", "--mirror", "x"))
        yield Line(("unwrap", file, "o.obj", "--seams", "auto"))
        yield Line(("unwrap", file, "o.obj", "--seams", "angle"))
        yield Line(("run", file, "out", "--quads", "200", "--size", "256", "--margin", "2"))
        yield Line(("prepare", file, "o.obj", "--mend", "--weld", "0.3", "--close-holes", "all"))
        yield Line(("refit", "ball.obj", file, "o.obj"))
        yield Line(("bake", "linked.obj", "out", "--source", file, "--maps", "all", "--map-size", "32", "--rays", "4", "--size", "64"))
        yield Line(("deliver", file, "out", "--bake", "all", "--source", file, "--map-size", "32", "--rays", "4", "--size", "64"))


def _child(pipe: Any, arguments: tuple[str, ...], folder: str) -> None:
    import os

    os.chdir(folder)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    from jacket.cli.main import main

    out, errors = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(errors):
        try:
            code: Any = main(list(arguments))
        except BaseException as error:
            code = f"{type(error).__name__}: {error}"
    pipe.send((code, out.getvalue(), errors.getvalue()))


def tried(line: Line, folder: Path) -> tuple[Any, str, str, float]:
    """(exit code or what went wrong, standard output, standard error, seconds) of a line run in a folder."""
    context = multiprocessing.get_context("fork")
    mine, theirs = context.Pipe()
    start = time.perf_counter()
    process = context.Process(target=_child, args=(theirs, line.arguments, str(folder)), daemon=True)
    process.start()
    theirs.close()
    result: tuple[Any, str, str] = ("no answer in time", "", "")
    if mine.poll(SECONDS):
        try:
            result = mine.recv()
        except EOFError:
            process.join()
            result = (f"ended by signal {-(process.exitcode or 0)}", "", "")
    else:
        process.kill()
    process.join()
    return (*result, time.perf_counter() - start)


def faults(line: Line, folder: Path, before: dict[str, str]) -> list[str]:
    """Run a line in a folder whose files had these sums; what is wrong with how it went."""
    code, _, errors, _ = tried(line, folder)
    out = []
    if code not in (0, 1, 2):
        return [f"{code}"]
    if "Traceback" in errors:
        out.append("a traceback")
    if code == 2 and not (errors.startswith("jacket: ") and errors.count("\n") == 1 and errors.rstrip().endswith((".", "?"))):
        out.append(f"no sentence: {errors[-300:]!r}")
    if line.refused is not None and line.refused != (code == 2):
        out.append(f"{'not refused' if line.refused else 'refused'}: {code} {errors.strip()[:120]}")
    if "--force" not in line.arguments:
        out += [f"{name} was changed" for name, was in before.items() if sums(folder).get(name) != was]
    if code == 0 and line.arguments[0] in ("remesh", "run"):
        share = uncovered_share(folder / line.arguments[1], _result(folder, line))
        if share > 0.12:
            out.append(f"good news with {100 * share:.0f} % uncovered")
    return out


def _result(folder: Path, line: Line) -> Path:
    target = folder / line.arguments[2]
    return target if line.arguments[0] == "remesh" else target / f"{Path(line.arguments[1]).stem}.obj"


def uncovered_share(source: Path, jacket: Path) -> float:
    """Share of a source's area farther from all of many samples of a jacket than 5 % of the source's diagonal and than half
    the side of a square of the jacket's mean face; by SciPy's tree, not by ours."""
    dense, light = read_mesh(source), read_mesh(jacket)
    size = np.linalg.norm(np.ptp(dense.points, axis=0))
    if not size > 0:
        return 0.0
    a, b, c = (light.points[light.triangle_points[:, k]] / size for k in range(3))
    step = float(np.sqrt(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / light.n_faces))
    mine, theirs = (_samples(m.points / size, m.triangle_points, n) for m, n in ((dense, 2000), (light, 40_000)))
    return float((cKDTree(theirs).query(mine)[0] > max(0.05, 0.5 * step)).mean())


def _samples(points: np.ndarray, triangles: np.ndarray, count: int) -> np.ndarray:
    a, b, c = (points[triangles[:, k]] for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    rng = np.random.default_rng(0)
    at = rng.choice(len(area), count, p=area / area.sum())
    u, v = rng.random((2, count, 1))
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    return np.asarray(a[at] + u * (b[at] - a[at]) + v * (c[at] - a[at]))


def sums(folder: Path) -> dict[str, str]:
    """Checksums of the inputs, by name."""
    return {p.name: hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.iterdir()) if p.is_file() and p.name[0] != "o"}


def prepared(where: Path) -> Path:
    """A folder with all inputs."""
    folder = where / "in"
    folder.mkdir()
    make_inputs(folder)
    (folder / "linked.obj").symlink_to(folder / "ball.obj")
    (folder / "copy.ply").write_bytes((folder / "ball.ply").read_bytes())
    return folder


def run(only: str = "", every: int = 1) -> int:
    """Run all lines, or every n-th, and tell which went wrong; how many faults there were."""
    bad = count = 0
    slowest = (0.0, "")
    with tempfile.TemporaryDirectory() as name:
        folder = prepared(Path(name))
        before = sums(folder)
        for line in list(lines())[::every]:
            text = " ".join(a if len(a) < 40 else f"{a[:20]}…" for a in line.arguments)
            if only and only not in text:
                continue
            start = time.perf_counter()
            found = faults(line, folder, before)
            slowest = max(slowest, (time.perf_counter() - start, text))
            count += 1
            for fault in found:
                bad += 1
                print(f"    jacket {text}: {fault}", flush=True)
            before = sums(folder)
    print(f"  {count} command lines, {bad} faults; slowest {slowest[0]:.1f} s ({slowest[1]})", flush=True)
    return bad
