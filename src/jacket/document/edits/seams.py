"""Seam sets and sight lines of the document as steps."""

from __future__ import annotations

from dataclasses import replace

from jacket.core.mesh.polymesh import Ints, PolyMesh
from jacket.core.seams import kept
from jacket.core.seams.sight import Sight
from jacket.document.document import Document
from jacket.document.state import free_name
from jacket.errors import JacketError

Place = tuple[float, float, float]

# ---- seam sets -----------------------------------------------------------------------------------------------------


def free_set_name(mesh: PolyMesh, like: str) -> str:
    """A name that no seam set has yet."""
    return free_name(set(kept.set_names(mesh)), like)


def with_suggested(mesh: PolyMesh, pairs: Ints, name: str) -> tuple[PolyMesh, str]:
    """The mesh with a suggestion kept as a seam set, and its name. What is cut now is kept as a set of its own beside it,
    unless it is one already; where nothing is cut the suggestion is put on."""
    name = free_set_name(mesh, name)
    if len(mesh.cuts) == 0:
        return kept.with_set(mesh, name, pairs).with_cuts(pairs), name
    if not any(kept.is_on(mesh, known) for known in kept.set_names(mesh)):
        mesh = kept.with_set(mesh, free_set_name(mesh, "As cut"), mesh.cuts)
    return kept.with_set(mesh, name, pairs), name


def keep_set(document: Document, name: str) -> None:
    """Keep the present cuts under a name."""
    mesh = document.open_jacket().mesh
    document.edit_jacket(f"keep the seams {name}", kept.with_set(mesh, name, mesh.cuts), document.state.held)


def put_set_on(document: Document, name: str) -> None:
    """Cut as a set says and nowhere else."""
    _edit(document, f"put on the seams {name}", kept.put_on(document.open_jacket().mesh, name))


def join_set(document: Document, name: str) -> None:
    """Cut where a set says too."""
    _edit(document, f"add the seams {name}", kept.joined_in(document.open_jacket().mesh, name))


def take_set_off(document: Document, name: str) -> None:
    """Sew where a set says."""
    _edit(document, f"take off the seams {name}", kept.taken_off(document.open_jacket().mesh, name))


def rename_set(document: Document, old: str, name: str) -> None:
    """Another name for a set."""
    _edit(document, f"rename the seams {old}", kept.set_renamed(document.open_jacket().mesh, old, name))


def remove_set(document: Document, name: str) -> None:
    """Forget a set; the cuts stay."""
    _edit(document, f"forget the seams {name}", kept.without_set(document.open_jacket().mesh, name))


def _edit(document: Document, step: str, mesh: PolyMesh) -> None:
    document.edit_jacket(step, mesh, document.state.held)


# ---- sight lines ---------------------------------------------------------------------------------------------------

_NAMES = {"eye": "View", "ring": "Turntable", "around": "All around"}


def add_sight(document: Document, kind: str, eye: Place, target: Place, name: str = "") -> Sight:
    """Save a view that matters, under a name or the usual one of its kind."""
    s = document.state
    sight = Sight(s.next_id, free_name({v.name for v in s.sights}, name or _NAMES[kind]), kind, eye, target)
    document.apply("save a sight line", s.with_(sights=(*s.sights, sight), next_id=s.next_id + 1))
    return sight


def change_sight(document: Document, sight_id: int, step: str, **changes: object) -> None:
    """Change a sight line's name or weight. Raises JacketError where it is gone."""
    s = document.state
    if not any(v.id == sight_id for v in s.sights):
        raise JacketError("That sight line is gone; save a new one.")
    rows = tuple(replace(v, **changes) if v.id == sight_id else v for v in s.sights)  # type: ignore[arg-type]
    document.apply(step, s.with_(sights=rows))


def remove_sight(document: Document, sight_id: int) -> None:
    """Forget a sight line."""
    s = document.state
    document.apply("forget a sight line", s.with_(sights=tuple(v for v in s.sights if v.id != sight_id)))
