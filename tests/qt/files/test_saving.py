"""Saving beside the window, and recovery that is kept until the work is safe."""

from __future__ import annotations

import getpass
import os
import shutil
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QMessageBox

from jacket.core.mesh.edits import points_moved
from jacket.document.state import State
from jacket.formats.project.claim import InUse, claim, lock_file
from jacket.formats.project.records import load_project, save_project
from jacket.qt.app import settle
from jacket.qt.files import keeping, saving
from jacket.qt.window import Window


@pytest.fixture(autouse=True)
def nothing_kept(window: Window) -> None:
    """No test finds what another left."""
    shutil.rmtree(window.keeper.folder, ignore_errors=True)


def move(window: Window, z: float) -> None:
    mesh = window.document.require_jacket().mesh
    window.document.edit_jacket("move", points_moved(mesh, [0], [[0, 0, z]]))


def slow(monkeypatch: pytest.MonkeyPatch) -> list[Path]:
    """Saving takes a moment; the paths in the order in which they were begun."""
    begun: list[Path] = []
    real = saving.save_project

    def save(state: State, path: Path, maps: object) -> None:
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


def left_alone(window: Window, name: str) -> Path:
    """The kept work of a window as if that window had been killed: nobody holds its lock."""
    assert window.keeper.keep()
    window.keeper.wait()
    dead = window.keeper.file.with_name(f"{name}.jacket")
    for ending in (".jacket", ".json", ".png"):
        window.keeper.file.with_suffix(ending).rename(dead.with_suffix(ending))
    return dead


def test_a_second_crash_within_a_minute_loses_nothing(window: Window, tmp_path: Path) -> None:
    """A recovery that was taken up stays on disk until its work is saved or given up."""
    move(window, 7.0)
    dead = left_alone(window, "999999998")
    window.document.mark_saved("")
    (kept,) = keeping.left_behind()
    assert kept.file == dead and kept.holds == "1 source, 1 layer of 6 faces" and QImage(str(kept.picture)).width() > 100
    window.recovering.take(kept)
    assert settle(window, 30) and window.document.dirty
    # The window dies again before anything was written: the file is still there, though it is not offered to this one.
    assert [k.file for k in keeping.left_behind()] == [dead] and window.recovering.waiting() == []
    assert keeping.recover(kept).jackets[0].mesh.points[0, 2] == 7.0
    window.filing.saver.save(str(tmp_path / "safe.jacket"))
    assert window.filing.saver.wait(10)
    assert settle(window, 30)
    assert keeping.left_behind() == [] and list(dead.parent.glob("999999998.*")) == []


def test_files_of_running_windows_are_left_alone(window: Window) -> None:
    """By their lock (flock(2)): a process number that came back for another program means nothing."""
    move(window, 1.0)
    assert window.keeper.keep() and not window.keeper.keep()  # nothing new since
    window.keeper.wait()
    assert window.keeper.file.exists() and keeping.left_behind() == []
    assert np.allclose(load_project(window.keeper.file).jackets[0].mesh.points[0], [0, 0, 1])
    window.keeper.clear()
    assert list(window.keeper.folder.iterdir()) == []
    move(window, 2.0)
    dead = left_alone(window, str(os.getpid()))
    window.keeper.clear()
    assert [k.file for k in keeping.left_behind()] == [dead]


def test_all_kept_work_is_listed_and_a_damaged_piece_blocks_none(window: Window) -> None:
    for k in range(3):
        move(window, float(k + 1))
        dead = left_alone(window, f"99999999{k}")
        os.utime(dead, (1000.0 + k, 1000.0 + k))
    (dead.parent / "999999991.jacket").write_bytes(b"PK nothing")
    os.utime(dead.parent / "999999991.jacket", (5000.0, 5000.0))
    window.document.mark_saved("")
    window.recovering.offer(quietly=False)
    dialog = window.recovering.dialog
    assert dialog is not None and dialog.isVisible() and dialog.list.count() == 3
    assert [k.file.stem[-1] for k in dialog.rows] == ["1", "2", "0"]  # the newest first
    dialog.back.click()  # the damaged one
    assert settle(window, 30) and "damaged" in window.strip.hint.text() and not window.document.dirty
    window.recovering.show()
    dialog = window.recovering.dialog
    assert dialog is not None and dialog.list.count() == 3
    dialog.drop.click()  # given up on purpose
    assert dialog.list.count() == 2 and not (dead.parent / "999999991.jacket").exists()
    dialog.list.setCurrentRow(1)
    dialog.back.click()
    assert settle(window, 30) and window.document.dirty
    assert window.document.require_jacket().mesh.points[0, 2] == 1.0
    assert [k.file.stem[-1] for k in window.recovering.waiting()] == ["2"]


def test_files_that_are_named_at_the_start_lose_no_kept_work(window: Window, tmp_path: Path) -> None:
    move(window, 4.0)
    dead = left_alone(window, "999999990")
    window.filing.saver.save(str(tmp_path / "a.jacket"))
    assert window.filing.saver.wait(10) and settle(window, 30)
    window.filing.open_paths([tmp_path / "a.jacket"])
    window.recovering.offer(quietly=True)
    assert window.recovering.dialog is None and "Kept work" in window.strip.hint.text()
    assert settle(window, 30) and window.close()
    assert [k.file for k in keeping.left_behind()] == [dead]


def answer(window: Window, monkeypatch: pytest.MonkeyPatch, button: Any) -> list[str]:
    """Questions are answered with one button; what was asked."""
    asked: list[str] = []
    monkeypatch.setattr(window.filing, "ask_to_leave", lambda: asked.append("leave") or button)
    monkeypatch.setattr(window.filing, "ask_elsewhere", lambda why, over: asked.append(why) or button)
    return asked


def test_edits_made_while_a_project_loads_are_asked_about(window: Window, tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    save_project(State(), tmp_path / "other.jacket")
    asked = answer(window, monkeypatch, QMessageBox.StandardButton.Cancel)
    window.filing.open_path(tmp_path / "other.jacket")
    move(window, 3.0)
    assert settle(window, 30)
    assert asked == ["leave"] and window.document.require_jacket().mesh.points[0, 2] == 3.0 and window.document.dirty
    # What is held is no work: it opens without a question.
    window.document.mark_saved("")
    window.filing.open_path(tmp_path / "other.jacket")
    window.document.hold("points", [1])
    assert settle(window, 30) and asked == ["leave"] and window.document.state.jackets == ()


def test_a_project_open_in_another_window_is_not_saved_over(window: Window, tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "shared.jacket"
    save_project(window.document.state, path)
    before = path.read_bytes()
    other = claim(path)
    window.filing.open_path(path)
    assert settle(window, 30) and "open in another window" in window.strip.hint.text()
    move(window, 1.0)
    asked = answer(window, monkeypatch, QMessageBox.StandardButton.Cancel)
    assert not window.filing.save(False) and path.read_bytes() == before and window.document.dirty
    assert getpass.getuser() in asked[0] and "since" in asked[0]
    # A copy can be saved instead, and is this window's own from then on.
    answer(window, monkeypatch, QMessageBox.StandardButton.Save)
    monkeypatch.setattr(window.filing, "ask_name", lambda: str(tmp_path / "copy.jacket"))
    assert window.filing.save(False) and window.filing.saver.wait(10)
    assert path.read_bytes() == before and load_project(tmp_path / "copy.jacket").jackets[0].mesh.points[0, 2] == 1.0
    with pytest.raises(InUse):
        claim(tmp_path / "copy.jacket")
    other.let_go()
    assert not lock_file(path).exists()
    window.document.mark_saved(window.document.path)
    window.close()
    claim(tmp_path / "copy.jacket").let_go()


def test_a_project_changed_by_somebody_else_is_asked_about(window: Window, tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "a.jacket"
    asked = answer(window, monkeypatch, QMessageBox.StandardButton.Cancel)
    move(window, 1.0)
    window.filing.saver.save(str(path))
    assert window.filing.saver.wait(10)
    move(window, 2.0)
    assert window.filing.save(False) and window.filing.saver.wait(10) and asked == []
    save_project(State(), path)
    move(window, 3.0)
    assert not window.filing.save(False) and "changed by somebody else" in asked[0] and load_project(path).jackets == ()
    answer(window, monkeypatch, QMessageBox.StandardButton.Discard)
    assert window.filing.save(False) and window.filing.saver.wait(10)
    assert load_project(path).jackets[0].mesh.points[0, 2] == 3.0


def test_a_refused_save_elsewhere_leaves_this_windows_project_held(window: Window, tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    mine, theirs = tmp_path / "mine.jacket", tmp_path / "theirs.jacket"
    window.filing.saver.save(str(mine))
    assert window.filing.saver.wait(10) and settle(window, 30)
    window.filing.claims.against(str(mine))
    save_project(window.document.state, theirs)
    other = claim(theirs)
    answer(window, monkeypatch, QMessageBox.StandardButton.Cancel)
    monkeypatch.setattr(window.filing, "ask_name", lambda: str(theirs))
    move(window, 1.0)
    assert not window.filing.save(True)
    with pytest.raises(InUse):
        claim(mine)
    other.let_go()
    # Nor is it forgotten what the project looked like: who changes it meanwhile is asked about.
    save_project(State(), mine)
    asked = answer(window, monkeypatch, QMessageBox.StandardButton.Cancel)
    assert not window.filing.save(False) and "changed by somebody else" in asked[0]


def test_kept_work_knows_whether_its_project_changed_meanwhile(window: Window, tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "a.jacket"
    window.filing.saver.save(str(path))
    assert window.filing.saver.wait(10) and settle(window, 30)
    move(window, 4.0)
    left_alone(window, "999999997")
    window.document.mark_saved("")
    window.filing.claims.let_go()
    save_project(State(), path)
    (kept,) = keeping.left_behind()
    assert kept.path == str(path) and kept.stamp != (0, 0)
    window.recovering.take(kept)
    assert settle(window, 30)
    asked = answer(window, monkeypatch, QMessageBox.StandardButton.Cancel)
    assert not window.filing.save(False) and "changed by somebody else" in asked[0] and load_project(path).jackets == ()
