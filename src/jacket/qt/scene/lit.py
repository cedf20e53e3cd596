"""The jacket as a game shows it: baked maps on the form and under the islands, lit by lamps."""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from jacket.commands.display import Display
from jacket.core.bake.handed import Handed, handed
from jacket.core.bake.made import Bake, SheetMaps
from jacket.core.bake.maps import Baked
from jacket.core.derive import AT_ONCE
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.store import STORE
from jacket.core.uv.sheets import Sheet
from jacket.document.state import State
from jacket.formats.deliver.own import fitted
from jacket.render.skins import LAMPS, SKIN_WIDTH, Lamps, Pictures, Skin
from jacket.stages.deliver.wearing import dressed, skin_follows, state_has_decals, whole_look

Bytes = NDArray[np.uint8]
_PICTURES: WeakKeyDictionary[SheetMaps, dict[str, Pictures]] = WeakKeyDictionary()
_ROUGH = 0.8


def lamps_of(display: Display, turn: float) -> Lamps:
    """The place that is chosen, turned by degrees."""
    return LAMPS.get(display.lamps, LAMPS["overcast"]).turned(turn)


def handed_of(mesh: PolyMesh) -> Handed:
    """What a mesh is handed over as, kept."""
    detached = mesh.detached()
    return STORE.get(skin_follows(mesh), "handed", lambda: handed(detached))


def is_handed(mesh: PolyMesh) -> bool:
    """Whether a skin of a mesh can be made within a moment: it is small, or what it is made of is kept."""
    return mesh.n_faces < AT_ONCE or STORE.peek(skin_follows(mesh), "skin rows") is not None


def make_ready(mesh: PolyMesh) -> None:
    """Make what a skin needs and keep it; for the background."""
    given = handed_of(mesh)
    STORE.get(skin_follows(mesh), "skin rows", lambda: skin_rows(mesh, given))


def three(pixels: Bytes) -> Bytes:
    """(H, W, 3) of pixels of one or three channels."""
    return np.ascontiguousarray(np.broadcast_to(pixels, (*pixels.shape[:2], 3))) if pixels.shape[2] == 1 else pixels


def pictures_of(maps: SheetMaps, shown: str) -> Pictures:
    """The pictures of a sheet for lighting ("lit"), or one map alone as the colour picture; kept for as long as the maps."""
    known = _PICTURES.setdefault(maps, {})
    if shown not in known:
        known[shown] = _lit_pictures(maps) if shown == "lit" else Pictures(three(eight_of(maps.maps[shown])) if shown in maps.maps else None)
    return known[shown]


def eight_of(baked: Baked) -> Bytes:
    """A map in eight bits, kept as long as it is: of maps under a decal that moves only one is another."""
    made: Bytes = STORE.get((baked,), "eight bits", baked.eight)
    return made


def _lit_pictures(maps: SheetMaps) -> Pictures:
    def eight(kind: str) -> Bytes | None:
        baked = maps.maps.get(kind)
        return None if baked is None else eight_of(baked)

    there = {k: maps.maps[k] for k in ("occlusion", "roughness", "metal") if k in maps.maps}
    surface = STORE.get(tuple(there.values()), ("surface", *there), lambda: _surface(there)) if there else None
    holes = eight("opacity")
    return Pictures(eight("colour"), eight("normal"), surface, three(holes) if holes is not None else None)


def _surface(there: dict[str, Baked]) -> Bytes:
    """Occlusion, roughness and metal in one picture, at the size of the first."""
    height, width = next(iter(there.values())).pixels.shape[:2]
    surface = np.empty((height, width, 3), np.uint8)
    for k, (kind, plain) in enumerate((("occlusion", 255), ("roughness", round(255 * _ROUGH)), ("metal", 0))):
        surface[..., k] = eight_of(fitted(there[kind], (width, height)))[..., 0] if kind in there else plain
    return surface


def skins_of(mesh: PolyMesh, sheets: tuple[Sheet, ...], baked: Bake | None, display: Display) -> list[Skin]:
    """The triangles of a layer, a skin for each sheet and one for what lies on none."""
    given = handed_of(mesh)
    rows = STORE.get(skin_follows(mesh), "skin rows", lambda: skin_rows(mesh, given))
    on = sheets_of_triangles(given, sheets)
    maps = {s.sheet.tile: s for s in baked.sheets} if baked is not None else {}
    shown = display.map or "lit"
    out = []
    for k in (*range(len(sheets)), -1):
        mine = np.flatnonzero(on == k)
        if len(mine) == 0:
            continue
        part = rows if len(mine) == len(on) else rows.reshape(-1, 3, SKIN_WIDTH)[mine].reshape(-1, SKIN_WIDTH)
        known = maps.get(sheets[k].tile) if k >= 0 else None
        pictures = pictures_of(known, shown) if known is not None else Pictures()
        if k >= 0 and len(sheets) > 1:
            part = part.copy()
            part[:, 10:] -= sheets[k].origin
        out.append(Skin(part, pictures, shown == "lit" or pictures.colour is None))
    return out


def skin_rows(mesh: PolyMesh, given: Handed) -> NDArray[np.float32]:
    """(3T, 12) rows of what a mesh is handed over as."""
    rows = np.zeros((len(given.corner), SKIN_WIDTH), np.float32)
    rows[:, :3] = mesh.points[mesh.corners[given.corner]]
    rows[:, 3:6] = given.normals
    rows[:, 6:10] = given.tangents if given.tangents is not None else (1.0, 0.0, 0.0, 1.0)
    if given.uv is not None:
        rows[:, 10:] = given.uv
    return np.ascontiguousarray(rows[given.triangles.ravel()])


def sheets_of_triangles(given: Handed, sheets: tuple[Sheet, ...]) -> NDArray[np.int32]:
    """(T,) the sheet each triangle lies on, −1 for none."""
    out = np.full(len(given.triangles), -1, np.int32)
    if given.uv is not None:
        tile = np.floor(given.uv[given.triangles].mean(axis=1))
        for k, sheet in enumerate(sheets):
            out[(tile == sheet.origin).all(axis=1)] = k
    return out


def lit_skins(state: State, baked: Bake | None, display: Display, hasty: bool = False) -> list[Skin]:
    """Skins of all visible layers, each with its own pictures in place of baked maps."""
    return [s for j in state.looked_at if is_handed(j.mesh)
            for s in skins_of(j.mesh, state.sheets, dressed(baked, j, state, hasty), display)]  # fmt: skip


def sheet_skins(state: State, baked: Bake | None, display: Display, hasty: bool = False) -> list[Skin]:
    """Each sheet as a picture of a map, for the flat view."""
    out = []
    shown = whole_look(baked, state, hasty)
    for maps in shown.sheets if shown is not None else ():
        best = next((k for k in (display.map, "colour" if state_has_decals(state) else "normal", "normal", *maps.maps) if k in maps.maps), "")
        pictures = pictures_of(maps, best)
        if pictures.colour is not None:
            out.append(Skin(_square(maps.sheet.origin), pictures, lit=False))
    return out


def _square(origin: Floats) -> NDArray[np.float32]:
    corner = np.array([[0, 0], [1, 0], [1, 1], [0, 0], [1, 1], [0, 1]], np.float32)
    rows = np.zeros((6, SKIN_WIDTH), np.float32)
    rows[:, :2], rows[:, 5], rows[:, 10:] = corner + origin, 1.0, corner
    return rows
