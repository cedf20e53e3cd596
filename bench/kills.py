"""Kills while a project is saved and while work is kept aside: `python -m bench kills [COUNT]`.

A process that saves, or keeps work aside, without a pause is killed at a random moment; what it had saved before has to
open, the last step or the one before it has to be in it, and nothing half written may be left.
"""

from __future__ import annotations

import os
import random
import signal
import tempfile
import time
from pathlib import Path

from bench.odd_meshes import ball
from jacket.core.mesh.edits import points_moved
from jacket.document.document import Document
from jacket.document.state import JacketObject, State
from jacket.errors import FormatError
from jacket.formats.atomic import sweep
from jacket.formats.project.records import load_project, save_project
from jacket.qt.files import keeping


def _state(step: int) -> State:
    mesh = points_moved(ball(60, 90), [0], [[float(step), 0, 0]])
    return State(jackets=(JacketObject(1, "j", mesh),), active=1, next_id=2)


def _saving(target: Path, told: int) -> None:
    """Save step after step, and tell each that is on disk."""
    for step in range(1, 10_000):
        save_project(_state(step), target)
        os.write(told, step.to_bytes(4, "little"))


def _keeping(told: int) -> None:
    """Keep step after step aside, as autosave does."""
    document = Document()
    keeper = keeping.Keeper(document)
    for step in range(1, 10_000):
        document.state = _state(step)
        keeper._kept = None
        keeper.keep()
        keeper.wait()
        os.write(told, step.to_bytes(4, "little"))


def run(count: int = 500) -> int:
    """Kill so many times, half of them while saving; how many times something was lost or left."""
    rng, bad = random.Random(3), 0
    _state(1)
    with tempfile.TemporaryDirectory() as name:
        os.environ["JACKET_HOME"] = f"{name}/home"
        target = Path(name) / "work" / "a.jacket"
        for k in range(count):
            read, write = os.pipe()
            child = os.fork()
            if child == 0:
                try:
                    _saving(target, write) if k % 2 else _keeping(write)
                finally:
                    os._exit(0)
            os.close(write)
            first = os.read(read, 4)  # something is on disk
            time.sleep(rng.uniform(0, 0.06))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            rest = b""
            while piece := os.read(read, 4096):
                rest += piece
            os.close(read)
            last = int.from_bytes((first + rest)[-4:], "little")
            bad += not _whole(target if k % 2 else None, last)
    print(f"  {count} kills while saving and keeping aside, {bad} of them lost or left something")
    return bad


def _whole(target: Path | None, last: int) -> bool:
    """Whether what was written last, or what came after it, is there whole and nothing lies beside it."""
    rows = keeping.left_behind() if target is None else []
    file = target or (rows[0].file if rows else None)
    if file is None:
        return False
    try:
        step = int(load_project(file).jackets[0].mesh.points[0, 0])
    except FormatError:
        return False
    # Between the moment a file gets its name and the one it takes its place a kill can leave it; the next write sweeps.
    sweep(file.parent)
    parts = list(file.parent.glob(".jacket-*.part"))
    for kept in rows:
        keeping.forget(kept.file)
    # The next may be in place before it could be told.
    good = step in (last, last + 1) and not parts
    if not good:
        print(f"    {file.name}: step {step}, told {last}, beside it {[p.name for p in parts]}")
    return good
