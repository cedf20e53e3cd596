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
    for name, data in bombs(sound, 3_000_000):
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
import sys
from pathlib import Path
from bench.files import seeds
from jacket.document.state import JacketObject, State
from jacket.formats.mesh.registry import read_mesh
from jacket.formats.project.records import save_project
from tests.conftest import icosphere
state = State(jackets=(JacketObject(1, "j", icosphere(4)),), active=1, next_id=2)
print("ready", flush=True)
while True:
    save_project(state, Path(sys.argv[1]))
"""


def test_a_kill_while_a_project_is_written_leaves_a_whole_one_and_nothing_beside_it(tmp_path: Path) -> None:
    target = tmp_path / "a.jacket"
    for k in range(8):
        with subprocess.Popen([sys.executable, "-c", WRITER, str(target)], stdout=subprocess.PIPE, text=True,
                              env={**os.environ, "PYTHONPATH": "."}) as writer:  # fmt: skip
            assert writer.stdout is not None and writer.stdout.readline() == "ready\n"
            time.sleep(0.15 + 0.037 * k)
            writer.send_signal(signal.SIGKILL)
        assert load_project(target).jackets[0].mesh.n_faces == 5120
        # Killed between two steps of the system a part may be left; the next write sweeps it away.
        assert [p.name for p in tmp_path.iterdir() if not p.name.endswith(".part")] == ["a.jacket"]
    save_project(load_project(target), target)
    assert [p.name for p in tmp_path.iterdir()] == ["a.jacket"]
