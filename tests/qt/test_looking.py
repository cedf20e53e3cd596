"""What is found out beside the window for the views alone."""

from __future__ import annotations

import threading
from dataclasses import replace
from typing import Any

import pytest

from jacket.core import derive
from jacket.qt.app import settle
from jacket.qt.scene import source
from jacket.qt.window import Window


def test_the_cage_of_a_large_layer_is_found_beside_the_window(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    """Until it is known no hull is drawn; then it is, without anybody asking again."""
    monkeypatch.setattr(derive, "AT_ONCE", 0)
    window.show_stage("deliver")
    settle(window, 30)
    window.program.show(replace(window.display, lit=False, map=""))
    settle(window, 30)
    without = len(window.form.scene.layers)
    looked, found_reach = threading.Event(), derive.found_reach

    def waiting(*arguments: Any) -> Any:
        assert looked.wait(30)
        return found_reach(*arguments)

    monkeypatch.setattr(derive, "found_reach", waiting)
    window.program.show(replace(window.display, cage=True))
    assert len(window.form.scene.layers) == without
    looked.set()
    assert settle(window, 30)
    assert len(window.form.scene.layers) == without + 1
    mesh, over = window.document.require_jacket().mesh, window.document.state.source
    assert over is not None and derive.known_cage_reach(mesh, over.mesh) is not None


def test_a_source_is_coloured_by_heat_beside_the_window(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    """The mirror difference of a ball is shown once its colours are there; making them is no work of the window's own thread."""
    made: list[bool] = []
    tints = source.heat_tints

    def seen(*arguments: Any) -> Any:
        made.append(threading.current_thread() is threading.main_thread())
        return tints(*arguments)

    monkeypatch.setattr(source, "heat_tints", seen)
    window.show_stage("source")
    window.program.measure_mirror("x")
    assert settle(window, 30) and window.display.heat is not None
    assert made and not any(made)
    assert window.display.heat.values.max() < 1.0, "a ball is its own mirror image"
