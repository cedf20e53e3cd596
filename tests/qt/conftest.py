"""The real window over a ball and a box, for the tests of the window."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.qt.app import make_app, settle
from jacket.qt.window import Window
from jacket.settings import Settings
from tests.conftest import cube, gone, icosphere


@pytest.fixture
def window(qtbot) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    make_app(["test"])
    state = State((SourceObject(1, "ball", icosphere(3)),), (JacketObject(2, "box", cube()),), active=2, next_id=3)
    made = Window(Document(state), Settings())
    made.show()
    qtbot.waitExposed(made)
    made.frame(True)
    assert settle(made, 60)
    yield made
    gone(made)
