"""Hand tools through the real window, and the start."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication

from bench.data import finer, spot
from jacket.core.mesh.walks import ring_edges
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.qt.app import make_app, settle
from jacket.qt.window import Window
from jacket.settings import Settings
from jacket.stages.topology.tools.drafted import with_loop


def _spread(seconds: list[float]) -> str:
    ms = np.array(seconds) * 1000
    return f"median {np.median(ms):.1f} ms, 95th percentile {np.percentile(ms, 95):.1f} ms ({len(ms)} times)"


def run() -> None:
    """A jacket of 5,000 quads over spot at 94,000 triangles."""
    os.environ.setdefault("JACKET_HOME", tempfile.mkdtemp())
    make_app(["bench"])
    source = finer(spot(), 2)
    jacket = automatic_quads(source, AutoSettings(quads=5000)).mesh
    state = State((SourceObject(1, "spot", source),), (JacketObject(2, "jacket", jacket),), active=2, next_id=3)
    window = Window(Document(state), Settings())
    window.show()
    window.frame(True)
    settle(window, 120)
    print(f"  {jacket.n_faces:,} quads")
    _tools(window)
    _turning(window)


def _pointer(window: Window, x: float, y: float):  # type: ignore[no-untyped-def]
    return window.form.pointer(QPointF(x, y), Qt.KeyboardModifier.NoModifier)


def _timed(
    repeat: int, prepare: Callable[[int], None], act: Callable[[int], None], after: Callable[[], None]
) -> list[float]:
    out = []
    for k in range(repeat):
        prepare(k)
        start = time.perf_counter()
        act(k)
        out.append(time.perf_counter() - start)
        after()
    return out


def _painted(window: Window) -> None:
    """Until the form view has drawn and the window has been put together again."""
    before = window.form.frames
    window.form.update()
    while window.form.frames == before:
        QApplication.processEvents()


def _tools(window: Window) -> None:
    tool, form, document = window.tool, window.form, window.document
    rng = np.random.default_rng(1)
    spots = [(form.width() / 2 + rng.uniform(-90, 90), form.height() / 2 + rng.uniform(-60, 120)) for _ in range(120)]

    def paint() -> None:
        _painted(window)

    hover = _timed(120, lambda k: None, lambda k: tool.hover(_pointer(window, *spots[k])), lambda: None)
    print(f"  hover, tool alone: {_spread(hover[5:])}")
    shown = _timed(
        60,
        lambda k: None,
        lambda k: (tool.hover(_pointer(window, *spots[k])), form.refresh_ghost(), _painted(window)),
        lambda: None,
    )
    print(f"  hover to ghost painted: {_spread(shown[5:])}")
    mesh = document.require_jacket().mesh
    at = form.camera.project(mesh.points)
    front = [
        int(p)
        for p in np.argsort(np.hypot(at[:, 0] - form.width() / 2, at[:, 1] - form.height() / 2))[:400]
        if at[p, 2] < form.camera.distance
    ]

    def grab(k: int) -> None:
        x, y = at[front[k % len(front)], :2]
        tool.hover(_pointer(window, x, y))
        tool.press(_pointer(window, x, y))

    def shift(k: int) -> None:
        x, y = at[front[k % len(front)], :2]
        tool.move(_pointer(window, x + 5, y + 3))

    edit_only = _timed(30, grab, shift, tool.cancel)
    print(f"  point move, edit and scene: {_spread(edit_only[3:])}")
    painted = _timed(30, grab, lambda k: (shift(k), paint()), tool.cancel)
    print(f"  point move to both views painted: {_spread(painted[3:])}")
    edges = [e for e in range(0, mesh.topology.n_edges, 7) if len(ring_edges(mesh, e)) < 260][:30]

    def loop(k: int) -> None:
        document.edit_jacket("insert a loop", with_loop(document.state, mesh, edges[k], 0.5))  # type: ignore[attr-defined]
        paint()

    loops = _timed(len(edges), lambda k: None, loop, lambda: document.undo())
    print(f"  loop insert to painted: {_spread(loops[3:])}")

    def undo(k: int) -> None:
        document.undo()
        paint()

    undone = _timed(
        20,
        lambda k: document.edit_jacket("insert a loop", with_loop(document.state, mesh, edges[k % len(edges)], 0.5)),
        undo,
        lambda: None,
    )  # type: ignore[attr-defined]
    print(f"  undo to painted: {_spread(undone[3:])}")


def _turning(window: Window) -> None:
    form = window.form

    def turn(k: int) -> None:
        form.drag_camera("turn", 6, 1)
        form._camera_moved()
        _painted(window)

    print(f"  turning, a frame: {_spread(_timed(30, lambda k: None, turn, lambda: None)[3:])}")
    form.moving = False
    form.renderer.base_key = None
    print(
        f"  settling to the full source, a frame: {_spread(_timed(5, lambda k: setattr(form.renderer, 'base_key', None), lambda k: _painted(window), lambda: None))}"
    )


def start() -> None:
    """From nothing to the settled window with the demo, its picture taken (kernels compiled before)."""
    with tempfile.TemporaryDirectory() as folder:
        for _ in range(3):
            begin = time.perf_counter()
            command = [sys.executable, "-m", "jacket", "demo", "--shot", f"{folder}/shot.png"]
            subprocess.run(command, check=True, env={**os.environ, "JACKET_HOME": folder})
            print(f"  demo open, settled, photographed: {time.perf_counter() - begin:.1f} s")
