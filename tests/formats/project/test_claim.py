"""Who holds a project: one window at a time, and nobody once its process is gone."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from jacket.formats.project.claim import Holder, InUse, claim, holder, lock_file


def test_one_holds_it_and_says_who_until_it_lets_go(tmp_path: Path) -> None:
    path = tmp_path / "a.jacket"
    mine = claim(path)
    with pytest.raises(InUse, match=r"a\.jacket is open in another window \(.+, since \d\d:\d\d\)") as caught:
        claim(path)
    assert caught.value.holder == holder(path) and abs(caught.value.holder.since - time.time()) < 60
    link = tmp_path / "link.jacket"
    link.symlink_to(path)
    with pytest.raises(InUse):
        claim(link)  # the same project by another name
    mine.let_go()
    mine.let_go()
    assert not lock_file(path).exists()
    claim(link).let_go()


def test_a_killed_window_holds_nothing(tmp_path: Path) -> None:
    """The lock is the system's (flock(2)): it ends with the process, and the file it leaves is taken over."""
    path = tmp_path / "a.jacket"
    script = ("import sys, time\nfrom pathlib import Path\nfrom jacket.formats.project.claim import claim\n"
              "held = claim(Path(sys.argv[1]))\nprint('held', flush=True)\ntime.sleep(60)\n")  # fmt: skip
    with subprocess.Popen([sys.executable, "-c", script, str(path)], stdout=subprocess.PIPE, text=True) as other:
        assert other.stdout is not None and other.stdout.readline() == "held\n"
        with pytest.raises(InUse):
            claim(path)
        other.send_signal(signal.SIGKILL)
        other.wait()
    assert lock_file(path).exists()
    claim(path).let_go()
    assert list(tmp_path.iterdir()) == []


def test_where_no_lock_can_be_kept_it_is_held_in_name(tmp_path: Path) -> None:
    claim(tmp_path / "missing" / "a.jacket").let_go()
    long = tmp_path / ("n" * 248 + ".jacket")
    first = claim(long)
    with pytest.raises(InUse):
        claim(long)
    first.let_go()
    lock_file(tmp_path / "b.jacket").write_text("nonsense")
    assert holder(tmp_path / "b.jacket") is None
    claim(tmp_path / "b.jacket").let_go()


def test_it_is_told_from_where_and_since_when() -> None:
    there = Holder("anna", "another-desk", time.time() - 3 * 86_400)
    assert there.said.startswith("anna on another-desk, since ") and ":" in there.said
