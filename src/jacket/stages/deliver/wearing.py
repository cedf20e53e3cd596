"""The maps that layers wear: baked ones, in their place pictures of one's own, and decals on them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from jacket.core.bake.made import Bake
from jacket.core.bake.maps import Baked
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.store import STORE
from jacket.core.uv.sheets import Sheet
from jacket.document.state import JacketObject, State, own_pictures
from jacket.formats.deliver.laid import decal_stamps, with_decals
from jacket.formats.deliver.own import fitted, own_stamps, with_own

HASTY = 1024
"""Pixels of the longer side at which maps are shown while a decal is dragged."""
_WORN: dict[object, tuple[object, Bake]] = {}
"""The last maps of each set of layers, under what they follow from."""
MOST_KEPT = 8


def skin_follows(mesh: PolyMesh) -> tuple[object, ...]:
    """What the triangles of a skin follow from."""
    return tuple(mesh.aspect(a) for a in ("points", "faces", "uv", "marks", "cuts"))


def dressed(baked: Bake | None, layer: JacketObject, state: State, hasty: bool = False) -> Bake | None:
    """The maps of a layer with its own pictures in place of baked ones and its decals on them; the same object while nothing
    of them changes. `hasty` takes smaller maps where there are decals."""
    if not layer.pictures and not layer.decals:
        return baked
    return _worn(baked, dict(layer.pictures), (layer,) if layer.decals else (), state, hasty)


def whole_look(baked: Bake | None, state: State, hasty: bool = False) -> Bake | None:
    """The maps of all layers with their own pictures and decals, as they are delivered."""
    layers, own = tuple(j for j in state.baked_onto if j.decals), own_pictures(state)
    return _worn(baked, own, layers, state, hasty) if layers or own else baked


def state_has_decals(state: State) -> bool:
    """Whether pictures lie on a layer that is shown as in a game."""
    return any(j.decals for j in state.looked_at)


def _worn(baked: Bake | None, own: dict[str, str], layers: tuple[JacketObject, ...], state: State, hasty: bool) -> Bake:
    hasty = hasty and bool(layers)
    who = (tuple(j.id for j in layers), tuple(own.items()), hasty)
    key: tuple[Any, ...] = (baked, own_stamps(own), state.sheets, tuple((*skin_follows(j.mesh), decal_stamps(j.decals)) for j in layers))
    known = _WORN.get(who)
    if known is None or known[0] != key:
        worn = with_own(baked.sheets if baked is not None else (), own, state.sheets)
        sheets = state.sheets
        if hasty:
            worn = tuple(replace(s, maps={k: _small(m) for k, m in s.maps.items()}) for s in worn)
            sheets = tuple(replace(s, width=max(s.width // _times(s), 1), height=max(s.height // _times(s), 1)) for s in sheets)
        made = with_decals(worn, [(j.mesh, j.decals) for j in layers], sheets)
        while len(_WORN) >= MOST_KEPT and who not in _WORN:
            del _WORN[next(iter(_WORN))]
        known = _WORN[who] = (key, replace(baked or Bake(), sheets=made))
    return known[1]


def _times(sheet: Sheet) -> int:
    return max(-(-max(sheet.width, sheet.height) // HASTY), 1)


def _small(baked: Baked) -> Baked:
    """A map at most as large as hasty ones are, kept as long as it is."""
    height, width = baked.pixels.shape[:2]
    times = -(-max(width, height) // HASTY)
    if times <= 1:
        return baked
    made: Baked = STORE.get((baked,), "small", lambda: fitted(baked, (max(width // times, 1), max(height // times, 1))))
    return made

