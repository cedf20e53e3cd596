"""Short seeded runs of the hunts in `bench/`: damaged files of every kind, kills while a project is written."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from bench.files import MEMORY, SECONDS, Readers, all_damage, bombs, manifests, seeds
from jacket.errors import FormatError
from jacket.formats.project.records import load_project, save_project


def test_damaged_files_end_in_something_sound_or_in_a_sentence(tmp_path: Path) -> None:
    """Within two seconds and 200 megabytes, in a process that lives on."""
    readers, tally = Readers(), {"sound": 0, "sentence": 0}
    for name, data in seeds().items():
        (tmp_path / name).write_bytes(data)
        assert readers.read(tmp_path / name)[0] == "sound"
    try:
        for name, data in all_damage(300, seed=11, rows=1_000_000):
            path = tmp_path / name
            path.write_bytes(data)
            outcome, seconds, memory = readers.read(path)
            assert outcome in tally, f"{name}: {outcome}"
            # A machine with other work may be slower; ten times as slow it is not.
            assert seconds < 10 * SECONDS and memory < MEMORY, f"{name}: {seconds:.1f} s, {memory / 1e6:.0f} MB"
            tally[outcome] += 1
    finally:
        readers.close()
    assert min(tally.values()) > 40


def test_bombs_and_wild_manifests_are_sentences(tmp_path: Path) -> None:
    sound = seeds()["j.jacket"]
    for name, data in bombs(sound, 500_000):
        (tmp_path / name).write_bytes(data)
        with pytest.raises(FormatError) as caught:
            load_project(tmp_path / name)
        assert str(caught.value).endswith("."), name
    for name, data in manifests(sound, 60, seed=5):
        (tmp_path / name).write_bytes(data)
        try:
            load_project(tmp_path / name)
        except FormatError as error:
            assert str(error).endswith("."), name


WRITER = """
import os
import sys
from pathlib import Path
from jacket.document.state import JacketObject, State
from jacket.formats.project.records import save_project
from tests.conftest import icosphere
state = State(jackets=(JacketObject(1, "j", icosphere(4)),), active=1, next_id=2)
for _ in sys.stdin:
    child = os.fork()
    if child == 0:
        print(os.getpid(), flush=True)
        while True:
            save_project(state, Path(sys.argv[1]))
    os.waitpid(child, 0)
    print("gone", flush=True)
"""


def test_a_kill_while_a_project_is_written_leaves_a_whole_one_and_nothing_beside_it(tmp_path: Path) -> None:
    target = tmp_path / "a.jacket"
    # One process reads the program in, those that are killed come from it.
    with subprocess.Popen([sys.executable, "-c", WRITER, str(target)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
                          bufsize=1, env={**os.environ, "PYTHONPATH": "."}) as writers:  # fmt: skip
        assert writers.stdin is not None and writers.stdout is not None
        for k in range(8):
            writers.stdin.write("\n")
            writer = int(writers.stdout.readline())
            time.sleep(0.15 + 0.037 * k)
            os.kill(writer, signal.SIGKILL)
            assert writers.stdout.readline() == "gone\n"
            assert load_project(target).jackets[0].mesh.n_faces == 5120
            # Killed between two steps of the system a part may be left; the next write sweeps it away.
            assert [p.name for p in tmp_path.iterdir() if not p.name.endswith(".part")] == ["a.jacket"]
    save_project(load_project(target), target)
    assert [p.name for p in tmp_path.iterdir()] == ["a.jacket"]
