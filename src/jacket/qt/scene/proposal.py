"""What a mend would touch."""

from __future__ import annotations

from jacket.commands.host import Proposal
from jacket.qt.scene.rows import SHOWN_TRIANGLES, triangle_rows
from jacket.qt.theme import Palette, rgb
from jacket.render.scene import Layer, line_rows


def proposal_layers(proposal: Proposal, palette: Palette, pull: float) -> list[Layer]:
    """What a mend would touch: what goes in the accent, what comes in moss, what it is about as light lines."""
    mend = proposal.mend
    lines = mend.lines[:: max(1, len(mend.lines) // SHOWN_TRIANGLES)]
    layers = []
    if len(mend.goes):
        layers.append(Layer(triangle_rows(mend.goes, rgb(palette.accent, 0.8)), pull=pull))
    if len(mend.comes):
        layers.append(
            Layer(triangle_rows(mend.comes, rgb("#8fc7a2", 1.0)), pull=0.2 * pull, wire=rgb(palette.good, 0.5))
        )
    if len(lines):
        layers.append(Layer(lines=line_rows(lines, rgb("#fbf9f4"), 2.0), pull=pull * 1.3))
    return layers
