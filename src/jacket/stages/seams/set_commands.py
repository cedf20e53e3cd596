"""Seam sets: kept under names, tried on, put on, added, taken off, renamed, forgotten."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from jacket.commands.common import has_cuts
from jacket.commands.host import Host
from jacket.commands.model import Command
from jacket.core.seams.kept import set_names
from jacket.document.document import Document
from jacket.document.edits import seams
from jacket.document.state import State
from jacket.errors import JacketError


def has_sets(state: State) -> bool:
    """Seam sets are kept on the active layer."""
    return state.jacket is not None and bool(set_names(state.jacket.mesh))


def chosen_set(host: Host) -> str:
    """The set that is tried on, or the only one there is. Raises JacketError where neither is so."""
    names = set_names(host.document.require_jacket().mesh)
    if host.display.tried in names:
        return host.display.tried
    if len(names) == 1:
        return names[0]
    raise JacketError("Click a seam set to try it on first; then it can be put on, added or taken off.")


def _keep(host: Host) -> None:
    mesh = host.document.require_jacket().mesh
    name = host.ask_text("Keep the seams", "A name for what is cut now", seams.free_set_name(mesh, "As cut"))
    if name is not None and name.strip():
        seams.keep_set(host.document, name.strip())


def _on_chosen(change: Callable[[Document, str], None], off: bool = True) -> Callable[[Host], None]:
    def run(host: Host) -> None:
        change(host.document, chosen_set(host))
        if off:
            host.show(replace(host.display, tried=""))

    return run


def _rename(host: Host) -> None:
    old = chosen_set(host)
    name = (host.ask_text("Rename the seam set", "Its name", old) or "").strip()
    if name and name != old:
        seams.rename_set(host.document, old, name)
        if host.display.tried == old:
            host.show(replace(host.display, tried=name))


class _Blink:
    """Between what is cut and the set that was looked at last; with none yet, through them in turn."""

    def __init__(self) -> None:
        self.last = ""

    def __call__(self, host: Host) -> None:
        names = set_names(host.document.require_jacket().mesh)
        if host.display.tried:
            self.last = host.display.tried
            host.show(replace(host.display, tried=""))
            return
        host.show(replace(host.display, tried=self.last if self.last in names else names[0]))


COMMANDS = (
    Command("keep-seams", "Keep these seams…", "seam set save name store", "", has_cuts, _keep),
    Command("put-on-seams", "Put the seam set on", "seam set use apply", "", has_sets, _on_chosen(seams.put_set_on)),
    Command("add-seams", "Add the seam set to the cuts", "seam set join union", "", has_sets, _on_chosen(seams.join_set)),
    Command("take-off-seams", "Take the seam set off the cuts", "seam set subtract sew", "", has_sets, _on_chosen(seams.take_set_off)),
    Command("rename-seams", "Rename the seam set…", "seam set name", "", has_sets, _rename),
    Command("forget-seams", "Forget the seam set", "seam set remove delete", "", has_sets, _on_chosen(seams.remove_set)),
    Command("blink-seams", "Blink between cuts and seam set", "seam set compare try", "J", has_sets, _Blink()),
)  # fmt: skip
