"""Islands that stay themselves: numbers on faces that outlast edits, cutting, sewing and flattening, and names for them.

The number lies on the faces as a channel of the UV set, so edits carry it. Where an island fell apart the larger piece
keeps the number, where islands grew together the largest one's number stays.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.geometry import face_areas, face_centres, face_normals
from jacket.core.mesh.polymesh import ISLAND, Floats, Ints, PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.uv.chart import chart_of
from jacket.core.uv.sets import island_labels


@dataclass(frozen=True)
class IslandRecord:
    """What is known of an island besides its faces.

    id     the number on its faces
    group  name of the group it belongs to, "" for none
    lock   whether packing leaves it where it is
    done   whether the artist has marked it as finished
    twin   number of the island it is stacked on, 0 for none
    weigh  factor of its texel density against that of the others
    """

    id: int
    name: str
    group: str = ""
    lock: bool = False
    done: bool = False
    twin: int = 0
    weigh: float = 1.0


def island_numbers(mesh: PolyMesh, name: str = "") -> Ints | None:
    """(F,) the lasting number of each face's island in a UV set, 0 for none; None where they have not been numbered."""
    return mesh.face_data.get(ISLAND + (name or mesh.active_uv))


def numbers_by_label(mesh: PolyMesh, labels: Ints, count: int) -> Ints:
    """(count,) the lasting number of each island by its label, 0 for none."""
    numbers, out = island_numbers(mesh), np.zeros(count, np.int64)
    if numbers is not None:
        out[labels] = numbers
    return out


def numbered(mesh: PolyMesh, first: int, taken: Collection[int] = (), name: str = "") -> tuple[PolyMesh, Ints]:
    """The mesh with every island of a UV set numbered, and (count,) the number of each label of `island_labels`.

    first   the number that the first new island gets, the next ones count on
    taken   numbers of other UV sets, which this one may not have
    """
    name = name or mesh.active_uv
    count, labels = island_labels(mesh, name)
    old = island_numbers(mesh, name)
    numbers = np.zeros(count, np.int32)
    if old is not None and count:
        numbers = _kept(np.asarray(old), labels, count, face_areas(mesh), taken)
    fresh = np.flatnonzero(numbers == 0)
    numbers[fresh] = first + np.arange(len(fresh))
    on_faces = numbers[labels].astype(np.int32)
    if old is not None and np.array_equal(old, on_faces):
        return mesh, numbers
    return mesh.with_(face_data={**mesh.face_data, ISLAND + name: on_faces}), numbers


def _kept(old: Ints, labels: Ints, count: int, area: Floats, taken: Collection[int]) -> Ints:
    """(count,) numbers that islands keep, 0 for none: each number goes to the island that has most of its area, each
    island takes the number of which it has most."""
    numbers = np.zeros(count, np.int32)
    known = (old > 0) & ~np.isin(old, list(taken))
    if not known.any():
        return numbers
    # Pairs as one number each: sorting rows takes twenty times as long.
    packed, inverse = np.unique(old[known].astype(np.int64) * count + labels[known], return_inverse=True)
    pairs = np.stack(np.divmod(packed, count), axis=1)
    # A thousandth of a face breaks ties of faces without area.
    weight = np.bincount(inverse.ravel(), area[known] + 1e-3 * float(area.mean()) + 1e-300)
    order = np.lexsort((pairs[:, 1], pairs[:, 0], -weight))
    used: set[int] = set()
    for number, label in pairs[order].tolist():
        if number not in used:
            # The largest piece has the number, or has a better one and the number goes with it.
            used.add(number)
            if numbers[label] == 0:
                numbers[label] = number
    return numbers


# ---- names ---------------------------------------------------------------------------------------------------------

_SIDES = ("Right", "Left", "Top", "Bottom", "Front", "Back")
"""Y up, +Z towards the viewer, sides as the viewer sees them (common practice)."""


def proposed_names(mesh: PolyMesh, islands: Sequence[Ints]) -> list[str]:
    """A name for each island (its faces) by where it looks and sits: Front, Left, Top ring, Bottom cap, Body …"""
    area, normals, centres = face_areas(mesh), face_normals(mesh), face_centres(mesh)
    return [_proposed(mesh, faces, area, normals, centres) for faces in islands]


def _proposed(mesh: PolyMesh, faces: Ints, area: Floats, normals: Floats, centres: Floats) -> str:
    own, whole = area[faces], max(float(area.sum()), 1e-300)
    total = max(float(own.sum()), 1e-300)
    way = own @ normals[faces] / total
    low, high = mesh.box
    off = (own @ centres[faces] / total - (low + high) / 2) / np.maximum(high - low, 1e-300)
    coherent = float(np.linalg.norm(way))
    # Cuts inside do not count: a ring laid open is a ring.
    form = chart_of(mesh, faces, np.zeros(mesh.topology.n_edges, bool))
    loops, euler = len(form.border), euler_characteristic(form.mesh)
    if coherent > 0.35:
        side = _side(way)
    elif np.abs(off).max() > 0.12:
        side = _side(off)
    else:
        side = ""
    if loops >= 2 and euler == 0 and coherent < 0.9:
        return f"{side} ring".strip().capitalize()
    if loops == 0 or (not side and total > 0.3 * whole):
        return "Body"
    if coherent > 0.5 and abs(float(off[int(np.argmax(np.abs(way)))])) > 0.4 and total < 0.15 * whole:
        return f"{side} cap".strip().capitalize()
    return side or "Part"


def _side(way: Floats) -> str:
    axis = int(np.argmax(np.abs(way)))
    return _SIDES[2 * axis + (0 if way[axis] >= 0 else 1)]
