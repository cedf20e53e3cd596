"""Decals of layers, as steps: laid on, moved and changed, put in another order, taken away."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from jacket.core.bake.decals import LAID, Decal
from jacket.document.document import Document
from jacket.document.edits.layers import layer_of
from jacket.errors import JacketError

MOST_DECALS = 200


def decal_of(document: Document, layer_id: int, decal_id: int) -> Decal:
    """A decal of a layer by its id; raises a sentence when it is gone."""
    found = next((d for d in layer_of(document.state, layer_id).decals if d.id == decal_id), None)
    if found is None:
        raise JacketError("That decal is gone meanwhile; nothing was changed.")
    return found


def _put(document: Document, step: str, layer_id: int, decals: tuple[Decal, ...]) -> None:
    s = document.state
    layer = layer_of(s, layer_id)
    if layer.locked:
        raise JacketError(f"{layer.name} is locked; unlock it on the bench first.")
    document.apply(step, s.with_(jackets=tuple(replace(j, decals=decals) if j.id == layer_id else j for j in s.jackets)))


def lay_decal(document: Document, layer_id: int, decal: Decal) -> int:
    """One decal more, above the others; its id. Raises JacketError where it makes no sense or there are many."""
    layer = layer_of(document.state, layer_id)
    if decal.role not in LAID:
        raise JacketError(f"A decal cannot lie in {decal.role[:40]}; choose one of {', '.join(LAID)}.")
    if len(layer.decals) >= MOST_DECALS:
        raise JacketError(f"{layer.name} has {MOST_DECALS} decals already; take one off first.")
    laid = replace(decal, id=max((d.id for d in layer.decals), default=0) + 1)
    _put(document, f"lay {decal.name} on", layer_id, (*layer.decals, laid))
    return laid.id


def change_decal(document: Document, layer_id: int, decal_id: int, step: str = "change a decal", **changes: Any) -> None:
    """A decal with some of its fields replaced."""
    new = replace(decal_of(document, layer_id, decal_id), **changes)
    layer = layer_of(document.state, layer_id)
    _put(document, step, layer_id, tuple(new if d.id == decal_id else d for d in layer.decals))


def drop_decal(document: Document, layer_id: int, decal_id: int) -> None:
    """Take a decal off."""
    gone = decal_of(document, layer_id, decal_id)
    layer = layer_of(document.state, layer_id)
    _put(document, f"take {gone.name} off", layer_id, tuple(d for d in layer.decals if d.id != decal_id))


def raise_decal(document: Document, layer_id: int, decal_id: int) -> None:
    """Let a decal lie above all others."""
    top = decal_of(document, layer_id, decal_id)
    layer = layer_of(document.state, layer_id)
    _put(document, f"{top.name} above all", layer_id, (*(d for d in layer.decals if d.id != decal_id), top))
