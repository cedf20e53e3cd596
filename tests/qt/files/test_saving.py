"""Saving beside the window, and recovery that is kept until the work is safe."""

from __future__ import annotations

import os
import time
from pathlib import Path

import numpy as np
import pytest

from jacket.core.mesh.edits import points_moved
from jacket.document.state import State
from jacket.formats.project.records import load_project
from jacket.qt import app
from jacket.qt.app import settle
from jacket.qt.files import keeping, saving
from jacket.qt.window import Window


def move(window: Window, z: float) -> None:
    mesh = window.document.require_jacket().mesh
    window.document.edit_jacket("move", points_moved(mesh, [0], [[0, 0, z]]))


def slow(monkeypatch: pytest.MonkeyPatch) -> list[Path]:
    """Saving takes a moment; the paths in the order in which they were begun."""
    begun: list[Path] = []
    real = saving.save_project

    def save(state: State, path: Path) -> None:
        begun.append(path)
        time.sleep(0.15)
        real(state, path)

    monkeypatch.setattr(saving, "save_project", save)
    return begun


def test_what_is_saved_is_what_was_there_and_work_goes_on(window: Window, tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    begun = slow(monkeypatch)
    saver = window.filing.saver
    move(window, 1.0)
    saver.save(str(tmp_path / "a.jacket"))
    move(window, 2.0)  # while it is being written
    assert saver.busy and saver.wait(10)
    assert load_project(tmp_path / "a.jacket").jackets[0].mesh.points[0, 2] == 1.0
    assert window.document.dirty and len(begun) == 1  # the second step is not on disk yet
    saver.save(str(tmp_path / "a.jacket"))
    assert saver.wait(10) and not window.document.dirty
    assert load_project(tmp_path / "a.jacket").jackets[0].mesh.points[0, 2] == 2.0


def test_wishes_to_save_meanwhile_come_to_one_more(window: Window, tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    begun = slow(monkeypatch)
    saver = window.filing.saver
    for k in range(5):
        move(window, float(k))
        saver.save(str(tmp_path / "a.jacket"))
    assert saver.wait(10) and len(begun) == 2
    assert load_project(tmp_path / "a.jacket").jackets[0].mesh.points[0, 2] == 4.0 and not window.document.dirty


def test_what_cannot_be_saved_is_said_and_stays_unsaved(window: Window, tmp_path: Path) -> None:
    move(window, 1.0)
    (tmp_path / "file").write_text("x")
    window.filing.saver.save(str(tmp_path / "file" / "a.jacket"))
    assert not window.filing.saver.wait(10)
    assert window.document.dirty and "a.jacket" in window.strip.hint.text()


def test_a_second_crash_within_a_minute_loses_nothing(window: Window, tmp_path: Path) -> None:
    """A recovery that was taken up stays on disk until its work is saved or given up."""
    move(window, 7.0)
    assert window.keeper.keep()
    window.keeper.wait()
    dead = window.keeper.file.with_name("999999998.jacket")
    window.keeper.file.rename(dead)
    window.keeper.file.with_suffix(".json").rename(dead.with_suffix(".json"))
    app.take_recovery(window, dead)
    assert settle(window, 30) and window.document.dirty
    # The window dies again before anything was written: the file is still there.
    assert dead in keeping.left_behind() and keeping.recover(dead)[0].jackets[0].mesh.points[0, 2] == 7.0
    window.filing.saver.save(str(tmp_path / "safe.jacket"))
    assert window.filing.saver.wait(10)
    assert settle(window, 30)
    assert dead not in keeping.left_behind() and not dead.with_suffix(".json").exists()


def test_files_of_running_windows_are_left_alone(window: Window) -> None:
    move(window, 1.0)
    assert window.keeper.keep() and not window.keeper.keep()  # nothing new since
    window.keeper.wait()
    assert window.keeper.file.stem == str(os.getpid()) and keeping.left_behind() == []
    assert np.allclose(load_project(window.keeper.file).jackets[0].mesh.points[0], [0, 0, 1])
    window.keeper.clear()
    assert not window.keeper.file.exists()
