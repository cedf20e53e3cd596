"""The ground of the program: choosing, hovering, dragging, undoing and saving on large jackets, in the real window."""

from __future__ import annotations

import gc
import os
import resource
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication

from bench.parts import torus
from jacket.core.mesh.edits import points_moved
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.store import STORE
from jacket.core.uv.sets import piece_labels
from jacket.document.document import Document
from jacket.document.history import History
from jacket.document.state import JacketObject, SourceObject, State
from jacket.jobs.pack import sheets_of
from jacket.jobs.unwrap import unwrap
from jacket.qt.app import make_app, settle
from jacket.qt.window import Window
from jacket.settings import Settings


def quads(n: int, m: int) -> PolyMesh:
    """n × m quads on a torus of radii 1 and 0.4 about the z axis."""
    u = np.repeat(np.arange(n), m) * 2 * np.pi / n
    v = np.tile(np.arange(m), n) * 2 * np.pi / m
    r = 1.0 + 0.4 * np.cos(v)
    points = np.stack([r * np.cos(u), r * np.sin(u), 0.4 * np.sin(v)], axis=1)
    i, j = np.divmod(np.arange(n * m), m)
    a, b = i * m, (i + 1) % n * m
    ring = np.stack([a + j, b + j, b + (j + 1) % m, a + (j + 1) % m], axis=1)
    return PolyMesh.from_faces(points, ring)


def cut_open(mesh: PolyMesh, n: int, m: int, bands: int = 8) -> PolyMesh:
    """The torus cut into strips and round, laid flat."""
    flags = np.zeros(mesh.topology.n_edges, bool)
    ends = mesh.topology.edge_points
    i, j = ends // m, ends % m
    flags |= (j == 0).all(axis=1)
    for k in range(bands):
        flags |= (i == k * n // bands).all(axis=1)
    cut = cut_edges(mesh, np.flatnonzero(flags))
    assert piece_labels(cut)[0] == bands
    return unwrap(cut, sheets=sheets_of(1024)).mesh


def _window(jacket: PolyMesh, source: PolyMesh, stage: str) -> Window:
    os.environ.setdefault("JACKET_HOME", tempfile.mkdtemp())
    make_app(["bench"])
    state = State((SourceObject(1, "s", source),), (JacketObject(2, "j", jacket),), active=2, next_id=3)
    window = Window(Document(state), Settings())
    window.show()
    window.show_stage(stage)
    window.frame(True)
    settle(window, 300)
    return window


def _told(what: str, seconds: list[float], asked: str) -> None:
    ms = np.array(seconds) * 1000
    print(f"  {what}: median {np.median(ms):.2f} ms, 95 % {np.percentile(ms, 95):.2f} ms (asked {asked})")


def _timed(count: int, act: Callable[[int], None]) -> list[float]:
    out = []
    for k in range(count):
        start = time.perf_counter()
        act(k)
        out.append(time.perf_counter() - start)
    return out


def _rss() -> float:
    gc.collect()
    with Path("/proc/self/statm").open() as file:
        return int(file.read().split()[1]) * resource.getpagesize() / 1e6


def run() -> None:
    """Everything the house promises."""
    n, m = 250, 200
    jacket = cut_open(quads(n, m), n, m)
    source = torus(1.0, 0.4, 950, 475)
    window = _window(jacket, source, "seams")
    print(f"  {jacket.n_faces:,} quads over {source.n_faces:,} triangles")
    _choosing(window)
    _flat_picks(window)
    _saving(window)
    _closed(window)
    _cutting()
    _placing()
    _history()


def _choosing(window: Window) -> None:
    document = window.document
    rng = np.random.default_rng(1)
    faces = rng.integers(0, document.require_jacket().mesh.n_faces, 60)
    document.hold("faces", [0])
    _told("a face chosen, in both scenes", _timed(60, lambda k: document.hold("faces", [faces[k]])), "10 ms")


def _flat_picks(window: Window) -> None:
    from jacket.tools.events import Pointer
    from jacket.tools.pick import pick_flat

    mesh, camera = window.document.require_jacket().mesh, window.flat.camera
    rng = np.random.default_rng(2)
    at = rng.uniform(0, [camera.width, camera.height], (200, 2))
    pointers = [Pointer(float(x), float(y), flat=camera) for x, y in at]
    pick_flat(mesh, pointers[0], 9.0)
    _told("a pick in the flat view", _timed(200, lambda k: pick_flat(mesh, pointers[k], 9.0) and None), "1 ms")


def _saving(window: Window) -> None:
    """How long the window does not answer while a project is saved, and how long saving takes."""
    path = str(Path(tempfile.mkdtemp()) / "big.jacket")
    settle(window, 500)
    for what in ("first", "again, one point moved"):
        longest, start = 0.0, time.perf_counter()
        window.filing.saver.save(path)
        while window.filing.saver.busy:
            before = time.perf_counter()
            QApplication.processEvents()
            longest = max(longest, time.perf_counter() - before)
            time.sleep(0.001)
        whole = time.perf_counter() - start
        print(f"  saving, {what}: {whole:.2f} s beside the window, which answers within {1000 * longest:.0f} ms (asked 50)")
        mesh = window.document.require_jacket().mesh
        window.document.edit_jacket("move", points_moved(mesh, [3], mesh.points[[3]] + 0.001))
        settle(window, 500)


def _closed(window: Window) -> None:
    from PySide6.QtWidgets import QMessageBox

    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
    window.close()
    window.deleteLater()
    QApplication.processEvents()


def _cutting() -> None:
    n, m = 150, 150
    mesh = quads(n, m)
    window = _window(mesh, torus(1.0, 0.4, 300, 150), "seams")
    window.take_tool("cut")
    tool, camera = window.tool, window.form.camera
    at = camera.project(mesh.points)[:, :2]
    seen = np.flatnonzero((mesh.points[:, 2] > 0.1) & (at > 30).all(axis=1) & (at < [camera.width - 30, camera.height - 30]).all(axis=1))
    rng = np.random.default_rng(3)
    spots = seen[rng.integers(0, len(seen), 120)]

    def pointer(p: int):  # type: ignore[no-untyped-def]
        return window.form.pointer(QPointF(*at[p]), Qt.KeyboardModifier.NoModifier)

    tool.hover(pointer(spots[0]))
    tool.press(pointer(spots[0]))
    tool.hover(pointer(spots[1]))
    _told(f"hovering with Cut from an anchor ({mesh.n_faces:,} quads)", _timed(110, lambda k: tool.hover(pointer(spots[k + 5]))), "8 ms")
    _closed(window)


def _placing() -> None:
    n, m = 200, 100
    window = _window(cut_open(quads(n, m), n, m), torus(1.0, 0.4, 300, 150), "layout")
    window.take_tool("place")
    flat, tool = window.flat, window.tool
    uv = window.document.require_jacket().mesh.uv
    middle = flat.camera.project(uv[:4].mean(axis=0))[0]

    def pointer(dx: float, dy: float):  # type: ignore[no-untyped-def]
        return flat.pointer(QPointF(middle[0] + dx, middle[1] + dy), Qt.KeyboardModifier.NoModifier)

    tool.hover(pointer(0, 0))
    tool.press(pointer(0, 0))
    for k in range(50):
        tool.move(pointer(k % 7, k % 5))
        QApplication.processEvents()
    before = _rss()

    def drag(k: int) -> None:
        tool.move(pointer(20 * np.sin(k / 9), 20 * np.cos(k / 7)))

    seconds = []
    for k in range(100):
        seconds += _timed(20, lambda i, k=k: drag(20 * k + i))
        QApplication.processEvents()
    grown = _rss() - before
    tool.release(pointer(5, 5))
    print(f"  2,000 Place drags on {n * m:,} quads: memory grows by {grown:.0f} MB (asked under 50), {len(STORE)} results kept")
    _told("a Place drag without drawing", seconds, "33 ms")
    _closed(window)


def _history() -> None:
    n, m = 250, 200
    mesh = cut_open(quads(n, m), n, m)
    document = Document(State((), (JacketObject(2, "j", mesh),), active=2, next_id=3))
    document.history = History(budget=512 << 20)
    rng = np.random.default_rng(4)
    before, start = _rss(), time.perf_counter()
    for k in range(500):
        now = document.require_jacket().mesh
        ids = rng.integers(0, now.n_points, 50)
        document.edit_jacket(f"edit {k}", points_moved(now, ids, now.points[ids] * 1.0001))
    used = document.history.bytes(document.state) / 1e6
    print(f"  500 edits of {mesh.n_faces:,} quads: history holds {used:.0f} MB of its 537, {document.history.let_go} old steps let go, "
          f"memory grew by {_rss() - before:.0f} MB, {(time.perf_counter() - start) / 500 * 1000:.1f} ms each")  # fmt: skip


