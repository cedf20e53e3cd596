"""Files are written whole or not at all, and nothing of what they were is lost."""

from __future__ import annotations

import errno
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from jacket.errors import FormatError
from jacket.formats import atomic
from jacket.formats.atomic import beside, read_bytes, write_bytes, write_pieces


def test_a_link_stays_a_link_and_permissions_stay(tmp_path: Path) -> None:
    """open(2), rename(2): replacing the name of a link would replace the link itself."""
    real = tmp_path / "shelf" / "real.jacket"
    real.parent.mkdir()
    real.write_bytes(b"old")
    real.chmod(0o600)
    link = tmp_path / "link.jacket"
    link.symlink_to(real)
    write_bytes(link, b"new")
    assert link.is_symlink() and real.read_bytes() == b"new" and real.stat().st_mode & 0o777 == 0o600
    dangling = tmp_path / "to-nowhere.jacket"
    dangling.symlink_to(tmp_path / "made.jacket")
    write_bytes(dangling, b"x")
    assert dangling.is_symlink() and (tmp_path / "made.jacket").read_bytes() == b"x"


def test_a_new_file_gets_the_usual_permissions(tmp_path: Path) -> None:
    before = os.umask(0o027)
    try:
        write_bytes(tmp_path / "a", b"1")
    finally:
        os.umask(before)
    assert (tmp_path / "a").stat().st_mode & 0o777 == 0o640


@pytest.mark.parametrize("nameless", [True, False])
def test_a_failure_or_a_kill_leaves_what_was_there_and_no_rest(
    tmp_path: Path, nameless: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = tmp_path / "a.jacket"
    target.write_bytes(b"good")
    if not nameless:

        def refuse(folder: Path, aside: Path) -> tuple[int, bool]:
            return os.open(aside, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600), False

        monkeypatch.setattr(atomic, "_opened", refuse)

    def pieces():  # type: ignore[no-untyped-def]
        yield b"half"
        raise OSError(errno.ENOSPC, "No space left on device")

    with pytest.raises(FormatError, match=r"a\.jacket could not be written .*no space left"):
        write_pieces(target, pieces())
    assert target.read_bytes() == b"good" and [p.name for p in tmp_path.iterdir()] == ["a.jacket"]


def test_what_a_kill_left_is_swept_and_what_is_being_written_is_not(tmp_path: Path) -> None:
    """With named parts, as on file systems without nameless files."""
    script = (
        "import os, sys, time\nfrom pathlib import Path\nfrom jacket.formats import atomic\n"
        "atomic._opened = lambda f, a: (os.open(a, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600), False)\n"
        "def pieces():\n    yield b'half'\n    print('ready', flush=True)\n    time.sleep(60)\n"
        "atomic.write_pieces(Path(sys.argv[1]), pieces())\n"
    )
    command = [sys.executable, "-c", script, str(tmp_path / "a")]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as writer:
        assert writer.stdout is not None and writer.stdout.readline() == "ready\n"
        write_bytes(tmp_path / "b", b"1")
        assert len(list(tmp_path.glob(".jacket-*.part"))) == 1
        writer.send_signal(signal.SIGKILL)
        writer.wait()
    write_bytes(tmp_path / "b", b"2")
    assert [p.name for p in tmp_path.iterdir()] == ["b"]


def test_long_names_are_written_and_longer_ones_are_a_sentence(tmp_path: Path) -> None:
    """255 bytes is the longest name of the usual file systems (linux/limits.h)."""
    write_bytes(tmp_path / ("n" * 248 + ".jacket"), b"1")
    with pytest.raises(FormatError, match="file name too long"):
        write_bytes(tmp_path / ("n" * 256 + ".jacket"), b"1")
    for act in (lambda p: write_bytes(p, b"1"), read_bytes):
        with pytest.raises(FormatError, match="no file name can"):
            act(tmp_path / "a\0b.jacket")
    with pytest.raises(FormatError, match="makes no sense"):
        beside(tmp_path / "a.gltf", "x\0y.bin")


def test_what_is_no_file_is_neither_replaced_nor_waited_for(tmp_path: Path) -> None:
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    start = time.monotonic()
    with pytest.raises(FormatError, match="no file but"):
        read_bytes(pipe)
    assert time.monotonic() - start < 5
    reader = os.open(pipe, os.O_RDONLY | os.O_NONBLOCK)
    write_bytes(pipe, b"through")
    assert os.read(reader, 100) == b"through" and pipe.is_fifo()
    os.close(reader)
    with pytest.raises(FormatError, match="is a directory"):
        write_bytes(tmp_path, b"1")


def test_a_file_larger_than_the_memory_is_refused_before_it_is_read(tmp_path: Path) -> None:
    sparse = tmp_path / "huge.obj"
    with sparse.open("wb") as file:
        file.truncate(1 << 42)
    with pytest.raises(FormatError, match="larger than the memory"):
        read_bytes(sparse)
