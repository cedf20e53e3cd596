"""What is found out beside the window for the views alone."""

from __future__ import annotations

from dataclasses import replace

import pytest

from jacket.core import derive
from jacket.qt.app import settle
from jacket.qt.window import Window


def test_the_cage_of_a_large_layer_is_found_beside_the_window(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    """Until it is known no hull is drawn; then it is, without anybody asking again."""
    monkeypatch.setattr(derive, "AT_ONCE", 0)
    window.show_stage("deliver")
    settle(window, 30)
    window.program.show(replace(window.display, lit=False, map=""))
    settle(window, 30)
    without = len(window.form.scene.layers)
    window.program.show(replace(window.display, cage=True))
    assert len(window.form.scene.layers) == without
    assert settle(window, 30)
    assert len(window.form.scene.layers) == without + 1
    mesh, source = window.document.require_jacket().mesh, window.document.state.source
    assert source is not None and derive.known_cage_reach(mesh, source.mesh) is not None
