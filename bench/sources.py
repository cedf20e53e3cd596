"""Opening and turning millions of triangles in the real window."""

from __future__ import annotations

import gc
import os
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import numpy as np


def child(path: str) -> None:
    """Open one file in a window of its own and print what was measured."""
    os.environ["JACKET_HOME"] = tempfile.mkdtemp()
    from PySide6.QtCore import QPointF, Qt, QTimer
    from PySide6.QtWidgets import QApplication

    from jacket.document.edits import sources as sources_steps
    from jacket.qt.app import make_app, make_window, settle
    from jacket.settings import Settings

    make_app(["bench"])
    window = make_window(Settings())
    window.show()
    window.show_stage("source")
    settle(window)
    # Compiled kernels are loaded once a run; that is no part of opening a file.
    window.filing.open_path(Path(path).with_name("latch.ply"))
    settle(window)
    sources_steps.remove_source(window.document, window.document.state.sources[0].id)
    settle(window)
    window.form.frames_with_source = 0
    last, gaps = [time.perf_counter()], []

    def tick() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer(interval=2)
    timer.timeout.connect(tick)

    def measured(what: str, until, limit: float = 200.0) -> float:  # type: ignore[no-untyped-def]
        gaps.clear()
        start = last[0] = time.perf_counter()
        while not until() and time.perf_counter() - start < limit:
            QApplication.processEvents()
            time.sleep(0.001)
        seconds = time.perf_counter() - start
        worst = np.sort(gaps)[::-1][:3] * 1000 if gaps else np.zeros(1)
        print(
            f"    {what}: {seconds:.2f} s; longest pauses of the window {', '.join(f'{g:.0f}' for g in worst)} ms",
            flush=True,
        )
        return seconds

    timer.start()
    held = _rss()
    window.filing.open_path(Path(path))
    measured("to the first picture", lambda: window.document.state.sources and window.form.frames_with_source > 0)
    count = len(window.document.state.sources[0].mesh.triangle_points)

    def whole() -> bool:
        return window.form.scene.base[0].triangles == count and not window.form.unfinished and not window.form.moving

    measured("to the full picture", whole)
    measured("to health and checks", lambda: window.settled)
    mesh = window.document.state.sources[0].mesh
    size = mesh.points.nbytes + mesh.corners.nbytes + mesh.starts.nbytes
    print(f"    memory held afterwards {(_rss() - held) / 1e6:.0f} MB, peak {(_peak() - held) / 1e6:.0f} MB "
          f"({size / 1e6:.0f} MB of arrays)")  # fmt: skip
    frames = []
    for _ in range(30):
        begin, before = time.perf_counter(), window.form.frames
        window.form.drag_camera("turn", 6, 1)
        window.form._camera_moved()
        while window.form.frames == before:
            QApplication.processEvents()
        frames.append(time.perf_counter() - begin)
    light = window.form.scene.lights[0][0].triangles
    print(f"    a frame while turning ({light:,} triangles): median {np.median(frames) * 1000:.0f} ms, "
          f"95th percentile {np.percentile(frames, 95) * 1000:.0f} ms")  # fmt: skip
    measured("settling to the full mesh", lambda: not window.form.unfinished and not window.form.moving)
    tool = window.tools["gauge"]
    picks = []
    for k in range(60):
        pointer = window.form.pointer(QPointF(280 + 2 * k, 330 + k), Qt.KeyboardModifier.NoModifier)
        begin = time.perf_counter()
        tool.hover(pointer)
        picks.append(time.perf_counter() - begin)
    print(f"    a pick on the full mesh: median {np.median(picks[5:]) * 1000:.2f} ms")
    timer.stop()
    window.document.mark_saved("x")
    window.close()


def _rss() -> int:
    return int(Path("/proc/self/status").read_text().split("VmRSS:")[1].split()[0]) * 1024


def _peak() -> int:
    return int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) * 1024


def stopping(path: str) -> None:
    """How soon reading stops when it is told to, and what stays in memory."""
    from jacket.errors import Cancelled
    from jacket.formats.mesh.registry import read_mesh

    stop = threading.Event()
    asked = [0.0]

    def progress(fraction: float, what: str) -> None:
        if stop.is_set():
            raise Cancelled

    def ask() -> None:
        time.sleep(0.25)
        asked[0] = time.perf_counter()
        stop.set()

    before, late = _rss(), -1.0
    threading.Thread(target=ask).start()
    try:
        read_mesh(path, progress)
    except Cancelled:
        late = time.perf_counter() - asked[0]
    gc.collect()
    held = (_rss() - before) / 1e6
    said = f"stopped after {late * 1000:.0f} ms" if late >= 0 else "ended before it was stopped"
    print(f"    {Path(path).suffix}: {said}; {held:.0f} MB more than before")


def run() -> None:
    """About one and six million triangles."""
    from bench.data import demo, finer, spot
    from bench.reading import _files

    for name, files in (("porthole latch, 0.96 million", _files("latch", lambda: finer(demo("porthole-latch"), 2))),
                        ("spot, 6.0 million", _files("spot6", lambda: finer(spot(), 5)))):  # fmt: skip
        print(f"  {name}")
        for ending in ("ply",):
            subprocess.run([sys.executable, "-m", "bench.sources", str(files[ending])], check=False)
    for ending in ("ply", "stl", "obj", "glb"):
        stopping(str(files[ending]))


if __name__ == "__main__":
    child(sys.argv[1])
