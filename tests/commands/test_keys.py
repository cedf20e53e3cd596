"""Every command can be found, and every key means one thing."""

from __future__ import annotations

import pytest

from jacket.commands.general import registry_of
from jacket.commands.keys import clashes
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.stages.all import STAGES
from tests.conftest import grid


def sheet_document(n: int = 6, mirror: str = "") -> Document:
    """An n × n grid about the origin over a flat source, seen straight on."""
    points = grid(n).points - [n / 2, n / 2, 0]
    jacket = grid(n).with_points(points * 0.3)
    ground = grid(20)
    source = PolyMesh.from_faces((ground.points - [10, 10, 0]) * 0.2, ground.triangle_points)
    return Document(
        State((SourceObject(1, "s", source),), (JacketObject(2, "j", jacket),), active=2, mirror=mirror, next_id=3)
    )


def test_every_command_has_words_and_keys_are_used_once() -> None:
    commands = registry_of(STAGES)
    assert all(c.label and c.words for c in commands) and clashes(STAGES, commands) == []
    with pytest.raises(JacketError, match="two commands"):
        commands.add(commands["undo"])
    full = sheet_document().state
    assert commands.search("seam suggest", full)[0].id == "suggest-seams"
    assert "take-trial" not in [c.id for c in commands.search("", full)]
