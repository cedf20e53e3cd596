"""Cut, Sew and Hold on seams, driven by plain events."""

from __future__ import annotations

from jacket.stages.seams.tools.cut import Cut, Sew
from jacket.tools.base import ToolSettings
from jacket.tools.holding import Hold
from tests.hands import at, click, mesh_of, sheet_document


def test_hold_and_cut_and_sew() -> None:
    document = sheet_document(6)
    hold = Hold(document, ToolSettings())
    click(hold, 0.15, 0.0, shift=True)
    assert document.state.held.kind == "edges" and len(document.state.held) == 6 and not document.history.done
    cut, sew = Cut(document, ToolSettings()), Sew(document, ToolSettings())
    click(cut, 0.15, 0.0, shift=True)
    assert len(mesh_of(document).cuts) == 6
    click(sew, 0.15, 0.0)
    assert len(mesh_of(document).cuts) == 5
    click(cut, -0.6, -0.6)
    cut.hover(at(-0.6, 0.6))
    assert cut.ghost.what == "Cut the path" and len(cut.ghost.lines) == 4
    click(cut, -0.6, 0.6)
    assert len(mesh_of(document).cuts) == 9
    assert [s.name for s in document.history.done] == ["cut the loop", "sew the edge", "cut the path"]
