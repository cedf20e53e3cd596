"""Sheets of the document as steps: added, changed, removed; and the one that is worked on."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from jacket.core.uv.sheets import checked_sheets, free_tile
from jacket.document.document import Document
from jacket.document.state import free_name
from jacket.errors import JacketError


def change_sheet(document: Document, index: int, **changes: Any) -> None:
    """Another name, tile, size or margin for a sheet. Raises MeshError where the sheets would make no sense."""
    sheets = document.state.sheets
    new = tuple(replace(s, **changes) if k == index else s for k, s in enumerate(sheets))
    if new != sheets:
        document.apply("change the sheet", document.state.with_(sheets=checked_sheets(new)))


def add_sheet(document: Document) -> None:
    """One sheet more, like the present one, on the next free tile; it is worked on from now on."""
    state = document.state
    name = free_name({s.name for s in state.sheets}, "Sheet")
    sheets = (*state.sheets, replace(state.sheet, name=name, tile=free_tile(state.sheets)))
    document.apply("add a sheet", state.with_(sheets=checked_sheets(sheets), active_sheet=len(sheets) - 1))


def remove_sheet(document: Document, index: int) -> None:
    """Take a sheet away; islands on it stay where they are, on no sheet."""
    state = document.state
    if len(state.sheets) == 1:
        raise JacketError("One sheet has to stay; change its size instead.")
    rest = tuple(s for k, s in enumerate(state.sheets) if k != index)
    document.apply(f"remove {state.sheets[index].name}", state.with_(sheets=rest, active_sheet=max(index - 1, 0)))


def choose_sheet(document: Document, index: int) -> None:
    """Work on another sheet from now on; no step of its own."""
    if index != document.state.active_sheet:
        document.amend(document.state.with_(active_sheet=index))
