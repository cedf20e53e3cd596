"""The state of a document: immutable records, so that undo is keeping the earlier one."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.decals import Decal
from jacket.core.mesh.nodes import BARE, Nodes
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.steering import Guide, Paint
from jacket.core.seams.sight import Sight
from jacket.core.source.rebuild import joined
from jacket.core.uv.identity import IslandRecord
from jacket.core.uv.sheets import ONE_SHEET, Sheet, Sheets

STAGES = ("source", "topology", "seams", "flatten", "layout", "deliver")


@dataclass(frozen=True, eq=False)
class SourceObject:
    """A dense mesh.

    placing   (4, 4) how it was moved since it came from its file; a newer file is moved alike
    stamp     time (ns) and size of the file it came from
    locked    mending and placing are refused
    """

    id: int
    name: str
    mesh: PolyMesh
    path: str = ""
    visible: bool = True
    locked: bool = False
    placing: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))
    stamp: tuple[int, int] = (0, 0)

    @property
    def was_placed(self) -> bool:
        """Whether it was moved since it came."""
        return not np.array_equal(self.placing, np.eye(4))


@dataclass(frozen=True, eq=False)
class JacketObject:
    """A light mesh: a layer of the jacket. Tools leave locked ones alone.

    islands      what is known of the islands of all its UV sets, by the number on their faces
    next_island  the number that the next new island gets
    pictures     of one's own: what each stands for, and its file
    dense        maps are baked from it, as from a source, and it does not go out
    nodes        its pivot, and empty nodes about it
    coarser_of   the id of the layer that it is a coarser level of detail of, −1 for none: it goes out beside it and takes its maps
    decals       pictures that lie on it, the lowest first
    """

    id: int
    name: str
    mesh: PolyMesh
    visible: bool = True
    locked: bool = False
    islands: tuple[IslandRecord, ...] = ()
    next_island: int = 1
    pictures: tuple[tuple[str, str], ...] = ()
    dense: bool = False
    nodes: Nodes = BARE
    coarser_of: int = -1
    decals: tuple[Decal, ...] = ()

    def island(self, number: int) -> IslandRecord | None:
        """The record of an island by its number; None where there is none."""
        return next((r for r in self.islands if r.id == number), None)


T = TypeVar("T", SourceObject, JacketObject)


@dataclass(frozen=True, eq=False)
class Trial:
    """An automatic result that is not taken yet, with its settings and figures."""

    id: int
    name: str
    mesh: PolyMesh
    settings: dict[str, Any] = field(default_factory=dict)
    figures: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class Held:
    """What is selected on the active jacket: element ids of one kind, and of other kinds beside it in `also`;
    `last` is the element of the first kind that was held last, which Tidy levels to and paths start from."""

    kind: str = "faces"
    ids: NDArray[np.signedinteger] = field(default_factory=lambda: np.zeros(0, np.int32))
    also: tuple[Held, ...] = ()
    last: int = -1

    def __len__(self) -> int:
        return len(self.ids) + sum(len(h.ids) for h in self.also)

    @property
    def parts(self) -> tuple[Held, ...]:
        """What is held, a kind each."""
        return tuple(h for h in (self, *self.also) if len(h.ids))

    def of(self, kind: str) -> NDArray[np.signedinteger]:
        """The held elements of a kind."""
        return next((h.ids for h in self.parts if h.kind == kind), np.zeros(0, np.int32))

    @staticmethod
    def together(parts: dict[str, NDArray[np.signedinteger]], kind: str = "", last: int = -1) -> Held:
        """Elements by kind; `kind` comes first where some of it are held."""
        rows = [Held(k, np.unique(np.asarray(ids, np.int32))) for k, ids in parts.items() if len(ids)]
        rows.sort(key=lambda h: h.kind != kind)
        if not rows:
            return Held()
        keep = last if len(rows[0].ids) and last in rows[0].ids else int(rows[0].ids[-1])
        return Held(rows[0].kind, rows[0].ids, tuple(rows[1:]), keep)


@lru_cache(maxsize=2)
def _together(sources: tuple[SourceObject, ...]) -> SourceObject:
    """Several sources as one, for measuring and picking."""
    return SourceObject(sources[0].id, " + ".join(s.name for s in sources), joined([s.mesh for s in sources]))


@dataclass(frozen=True, eq=False)
class State:
    """Everything that undo brings back."""

    sources: tuple[SourceObject, ...] = ()
    jackets: tuple[JacketObject, ...] = ()
    trials: tuple[Trial, ...] = ()
    active: int = -1
    mirror: str = ""
    sheets: Sheets = ONE_SHEET
    active_sheet: int = 0
    held: Held = Held()
    active_source: int = -1
    picked: Held = Held()
    guides: tuple[Guide, ...] = ()
    paint: Paint | None = None
    shown_trial: int = -1
    sights: tuple[Sight, ...] = ()
    next_id: int = 1

    @property
    def jacket(self) -> JacketObject | None:
        """The jacket that is worked on."""
        return next((j for j in self.jackets if j.id == self.active), None)

    @property
    def sheet(self) -> Sheet:
        """The sheet that is worked on."""
        return self.sheets[min(self.active_sheet, len(self.sheets) - 1)]

    @property
    def source(self) -> SourceObject | None:
        """What jackets are fitted to: the visible source, several visible ones as one, or the first of all."""
        visible = tuple(s for s in self.sources if s.visible)
        if len(visible) > 1:
            return _together(visible)
        return visible[0] if visible else (self.sources[0] if self.sources else None)

    @property
    def chosen_source(self) -> SourceObject | None:
        """The one source that mending and placing work on."""
        named = next((s for s in self.sources if s.id == self.active_source), None)
        return named or next((s for s in self.sources if s.visible), self.sources[0] if self.sources else None)

    @property
    def outgoing(self) -> tuple[JacketObject, ...]:
        """The layers that are baked onto and delivered: visible ones with faces, dense ones excepted."""
        return tuple(j for j in self.jackets if j.visible and j.mesh.n_faces and not j.dense)

    @property
    def baked_onto(self) -> tuple[JacketObject, ...]:
        """Those of them that get maps of their own: coarser levels take the maps of the finest."""
        ids = {j.id for j in self.outgoing}
        return tuple(j for j in self.outgoing if j.coarser_of not in ids)

    def levels(self, layer_id: int) -> tuple[JacketObject, ...]:
        """A layer that goes out and its coarser levels, the finest first; only itself where it has none."""
        finest = next((j for j in self.outgoing if j.id == layer_id), None)
        if finest is None:
            return ()
        rest = sorted((j for j in self.outgoing if j.coarser_of == layer_id and j.id != layer_id), key=lambda j: -j.mesh.n_faces)
        return (finest, *rest)

    @property
    def looked_at(self) -> tuple[JacketObject, ...]:
        """The layers that are shown as a game shows them: of levels of detail one, the active one or else the finest."""
        out = []
        for finest in self.baked_onto:
            rows = self.levels(finest.id)
            out.append(next((j for j in rows if j.id == self.active), finest))
        return tuple(out)

    @property
    def going_names(self) -> dict[int, str]:
        """What the layers that go out are called in files, by their ids: levels of detail after their finest, with a number
        from 0 (common practice)."""
        out = {j.id: j.name for j in self.outgoing}
        for finest in self.baked_onto:
            rows = self.levels(finest.id)
            if len(rows) > 1:
                out |= {j.id: f"{finest.name}_LOD{k}" for k, j in enumerate(rows)}
        return out

    @property
    def trial(self) -> Trial | None:
        """The trial that is looked at: the chosen one, or the last made."""
        named = next((t for t in self.trials if t.id == self.shown_trial), None)
        return named or (self.trials[-1] if self.trials else None)

    def with_source(self, source: SourceObject) -> State:
        """A source of the same id replaced; faces picked on it are let go where its faces changed."""
        old = next((s for s in self.sources if s.id == source.id), None)
        same = old is not None and old.mesh.corners is source.mesh.corners
        sources = tuple(source if s.id == source.id else s for s in self.sources)
        return replace(self, sources=sources, picked=self.picked if same else Held())

    def with_(self, **changes: Any) -> State:
        """A copy with some fields replaced."""
        return replace(self, **changes)

    def with_jacket_mesh(self, mesh: PolyMesh, held: Held | None = None) -> State:
        """The active jacket's mesh replaced; what was held is let go unless given anew."""
        return self.with_layer_mesh(self.active, mesh, held)

    def with_layer_mesh(self, layer_id: int, mesh: PolyMesh, held: Held | None = None) -> State:
        """The mesh of a layer replaced by its id; what was held of it is let go unless given anew."""
        jackets = tuple(replace(j, mesh=mesh) if j.id == layer_id else j for j in self.jackets)
        if layer_id != self.active:
            return replace(self, jackets=jackets)
        return replace(self, jackets=jackets, held=held if held is not None else self._still_held(mesh))

    def seen_like(self, other: State) -> State:
        """This state with everything shown and hidden as in another one: undo does not bring back what one looks at."""
        shown = {s.id: s.visible for s in other.sources} | {j.id: j.visible for j in other.jackets}

        def like(thing: T) -> T:
            visible = shown.get(thing.id, thing.visible)
            return thing if visible == thing.visible else replace(thing, visible=visible)

        sources, jackets = tuple(map(like, self.sources)), tuple(map(like, self.jackets))
        same = all(a is b for a, b in zip((*sources, *jackets), (*self.sources, *self.jackets), strict=True))
        return self if same else replace(self, sources=sources, jackets=jackets)

    def _still_held(self, mesh: PolyMesh) -> Held:
        old = self.jacket
        if old is None or len(self.held) == 0:
            return self.held
        same = old.mesh.corners is mesh.corners or np.array_equal(old.mesh.corners, mesh.corners)
        return self.held if same and old.mesh.n_points == mesh.n_points else Held()


def own_pictures(state: State) -> dict[str, str]:
    """Pictures of one's own of all visible layers by what they stand for; the active layer's count first."""
    rows = sorted((j for j in state.jackets if j.visible), key=lambda j: j.id != state.active)
    out: dict[str, str] = {}
    for j in rows:
        for role, path in j.pictures:
            out.setdefault(role, path)
    return out


def free_name(taken: set[str], name: str) -> str:
    """A name that is not taken: the name itself, or with the first number from 2 that makes it free."""
    k, free = 2, name
    while free in taken:
        free, k = f"{name} {k}", k + 1
    return free
