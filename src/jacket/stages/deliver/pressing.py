"""What the card and the commands do with decals: choose a picture, lay it on from the view, change the one that was touched."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from jacket.commands.host import Host
from jacket.core.bake.decals import Decal, frame_across, unit_vector
from jacket.core.mesh.nodes import as_place
from jacket.document.edits.decals import change_decal, decal_of, drop_decal, lay_decal, raise_decal
from jacket.errors import JacketError
from jacket.formats.deliver.laid import checked_stencil
from jacket.stages.deliver.tools.decal import RIGHT, UP, form_spot

FILLS = 0.4
"""Share of the distance from the eye that a picture laid on from the view is high."""


def choose_stencil(host: Host) -> None:
    """Ask for the picture that Decal lays on. Raises FormatError where it is none."""
    path = host.choose_picture("a decal")
    if path:
        take_stencil(host, path)


def take_stencil(host: Host, path: str) -> None:
    """Take a picture in hand. Raises FormatError where it is none."""
    checked_stencil(Path(path))
    host.tool_settings.picture = path
    host.show(replace(host.display, lit=True))
    host.say(f"{Path(path).name} is in hand; click on the form to lay it on.")


def lay_from_view(host: Host) -> None:
    """Lay the picture in hand on as if thrown from where one looks from, over all that is seen."""
    if not host.tool_settings.picture:
        raise JacketError("There is no picture in hand; choose one on the card of Decal first.")
    path = Path(host.tool_settings.picture)
    wide, high = checked_stencil(path).size
    eye, target = (np.array(v) for v in host.looks_from())
    back = unit_vector(eye - target)
    spot = form_spot(host.document.state.looked_at, eye, -back)
    if spot is None:
        raise JacketError("Nothing of the form lies in the middle of the view; turn or shift it there first.")
    far = float(np.linalg.norm(eye - spot.place))
    height = FILLS * far * min(1.0, high / wide)
    size = spot.layer.mesh.diagonal
    right, up = frame_across(back, UP, RIGHT)
    decal = Decal(0, path.stem[:60], str(path), host.tool_settings.decal_role, as_place(spot.place), right, up, height * wide / high, height,
                  min(size, 0.999 * far), far)  # fmt: skip
    with host.document.transaction(f"lay {decal.name} on"):
        host.tool_settings.decal = lay_decal(host.document, spot.layer.id, decal)
    host.show(replace(host.display, lit=True))
    host.say(f"{decal.name} lies on what is seen from here; it stays so from wherever one looks later.")


def chosen_decal(host: Host) -> tuple[int, Decal]:
    """The layer and the decal that was touched last. Raises JacketError where there is none."""
    layer = host.document.require_jacket()
    if host.tool_settings.decal < 0:
        raise JacketError("Touch a decal with the tool Decal first.")
    return layer.id, decal_of(host.document, layer.id, host.tool_settings.decal)


def set_decal(host: Host, **changes: Any) -> None:
    """Change the decal that was touched last."""
    layer, decal = chosen_decal(host)
    change_decal(host.document, layer, decal.id, **changes)


def turn_decal(host: Host, degrees: float) -> None:
    """Turn the chosen decal about its middle."""
    layer, decal = chosen_decal(host)
    new = decal.turned(degrees)
    change_decal(host.document, layer, decal.id, "turn a decal", right=new.right, up=new.up)


def mirror_decal(host: Host) -> None:
    """The picture of the chosen decal the other way round."""
    _, decal = chosen_decal(host)
    set_decal(host, step="mirror a decal", width=-decal.width)


def top_decal(host: Host) -> None:
    """The chosen decal above all others."""
    layer, decal = chosen_decal(host)
    raise_decal(host.document, layer, decal.id)


def take_off(host: Host) -> None:
    """Take the chosen decal off."""
    layer, decal = chosen_decal(host)
    drop_decal(host.document, layer, decal.id)
