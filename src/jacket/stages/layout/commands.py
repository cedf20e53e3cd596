"""Commands of the Layout stage: packing, density, sheets, and what is known of islands."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jacket.commands.common import has_uvs
from jacket.commands.host import Host, Run
from jacket.commands.model import Command
from jacket.core.derive import islands_of
from jacket.core.uv.identity import IslandRecord, numbers_by_label
from jacket.document.edits import sheets, uvs
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.stages.layout.arranging import COMMANDS as ARRANGING
from jacket.stages.layout.packing import good_enough, pack_on_enough, pack_sheets
from jacket.stages.layout.twinning import COMMANDS as TWINNING
from jacket.stages.layout.weighing import COMMANDS as WEIGHING

# ---- islands -------------------------------------------------------------------------------------------------------


def on_islands(state: State) -> bool:
    """Something is held that lies on numbered islands."""
    return bool(uvs.held_islands(state))


def _name_island(host: Host) -> None:
    jacket, numbers = host.document.open_jacket(), uvs.held_islands(host.document.state)
    if len(numbers) != 1:
        raise JacketError("Hold something on one island to name it.")
    record = jacket.island(numbers[0])
    if record is None:
        return
    name = host.ask_text("Name the island", "Its name", record.name)
    if name is not None and name.strip() != record.name:
        uvs.rename_island(host.document, record.id, name)


def _group_islands(host: Host) -> None:
    numbers = uvs.held_islands(host.document.state)
    name = host.ask_text("Group the held islands", "Name of the group, empty for none", "")
    if name is not None:
        uvs.change_islands(host.document, f"group {len(numbers)} islands", numbers, lambda r: replace(r, group=name.strip()))


def _marking(step: str, on: bool, field: str) -> Run:
    """A command that sets a mark of the held islands, or takes it away where all of them have it."""

    def run(host: Host) -> None:
        state = host.document.state
        numbers = uvs.held_islands(state)
        rows = [r for r in (state.jacket.islands if state.jacket is not None else ()) if r.id in numbers]
        value = not all(getattr(r, field) for r in rows) if on else False

        def change(record: IslandRecord) -> IslandRecord:
            return replace(record, **{field: value})  # type: ignore[arg-type]

        uvs.change_islands(host.document, step if value else f"un{step}", numbers, change)

    return run


def _hold_left(host: Host) -> None:
    """Hold all islands that are not done yet."""
    jacket = host.document.require_jacket()
    islands = islands_of(jacket.mesh, host.document.state.sheets)
    numbers = numbers_by_label(jacket.mesh, islands.labels, islands.count)
    left = [r.id for r in jacket.islands if not r.done and r.id in numbers]
    if not left:
        raise JacketError("All islands are done.")
    host.document.hold("faces", np.flatnonzero(np.isin(numbers[islands.labels], left)))
    host.say(f"{len(left)} islands are not done yet.")


def _lock_done(host: Host) -> None:
    """Lock all islands that are done, so that packing leaves them."""
    rows = tuple(r.id for r in host.document.open_jacket().islands if r.done and not r.lock)
    if not rows:
        raise JacketError("No island is done that is not locked already.")
    uvs.change_islands(host.document, "lock what is done", rows, lambda r: replace(r, lock=True))


# ---- sheets --------------------------------------------------------------------------------------------------------


def several_sheets(state: State) -> bool:
    """There are two sheets or more."""
    return len(state.sheets) > 1


def _always(state: State) -> bool:
    return True


def _rename_sheet(host: Host) -> None:
    state = host.document.state
    name = (host.ask_text("Rename the sheet", "Its name", state.sheet.name) or "").strip()
    if name and name != state.sheet.name:
        sheets.change_sheet(host.document, state.sheets.index(state.sheet), name=name)


def _remove_sheet(host: Host) -> None:
    sheets.remove_sheet(host.document, host.document.state.sheets.index(host.document.state.sheet))


def _next_sheet(host: Host) -> None:
    state = host.document.state
    sheets.choose_sheet(host.document, (state.sheets.index(state.sheet) + 1) % len(state.sheets))


COMMANDS = (
    Command("pack", "Pack the sheets", "layout place islands arrange", "", has_uvs, pack_sheets, waits=True),
    Command("pack-on-enough", "Pack on as many sheets as it takes", "layout density udim tiles", "", has_uvs, pack_on_enough, waits=True),
    Command("good-enough", "Good enough: take the packing so far", "layout stop finish", "", _always, good_enough),
    Command("name-island", "Name the island…", "island rename label", "", on_islands, _name_island),
    Command("group-islands", "Group the held islands…", "island set together", "", on_islands, _group_islands),
    Command("lock-islands", "Lock or unlock the held islands", "island keep place pack", "", on_islands, _marking("lock islands", True, "lock")),
    Command("done-islands", "Mark the held islands as done", "island finished tick", "", on_islands, _marking("mark islands as done", True, "done")),
    Command("layout-picture", "Save the layout as a picture…", "png svg export paint template", "", has_uvs, lambda h: h.save_picture()),
    Command("hold-left", "Hold what is not done", "islands finished rest left", "", has_uvs, _hold_left),
    Command("lock-done", "Lock what is done", "islands finished keep", "", has_uvs, _lock_done),
    Command("add-sheet", "Add a sheet", "udim tile texture new", "", _always, lambda h: sheets.add_sheet(h.document)),
    Command("rename-sheet", "Rename the sheet…", "udim tile texture name", "", _always, _rename_sheet),
    Command("remove-sheet", "Remove the sheet", "udim tile texture delete", "", several_sheets, _remove_sheet),
    Command("next-sheet", "Work on the next sheet", "udim tile texture switch", "", several_sheets, _next_sheet),
    *ARRANGING, *TWINNING, *WEIGHING,
)  # fmt: skip
