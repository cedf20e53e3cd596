"""Seam sets: ways to cut a mesh that are kept on it under names, as marks that every edit carries along."""

from __future__ import annotations

from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.uv.sets import cut_flags
from jacket.errors import EditRefused

PREFIX = "seams:"


def set_names(mesh: PolyMesh) -> list[str]:
    """Names of the kept seam sets, in order of their making."""
    return [n[len(PREFIX) :] for n in mesh.marks if n.startswith(PREFIX)]


def set_flags(mesh: PolyMesh, name: str) -> Bools:
    """(E,) edges of a seam set. Raises EditRefused where there is none of that name."""
    _need(mesh, name)
    return mesh.topology.edge_flags(mesh.mark(PREFIX + name))


def is_on(mesh: PolyMesh, name: str) -> bool:
    """Whether the mesh is cut just as a seam set says."""
    return bool((set_flags(mesh, name) == cut_flags(mesh)).all())


def with_set(mesh: PolyMesh, name: str, pairs: Ints) -> PolyMesh:
    """The mesh with edges, as point pairs (S, 2), kept under a name; an older set of that name takes them. Raises
    EditRefused where the name is empty."""
    name = name.strip()
    if not name:
        raise EditRefused("A seam set needs a name; type one.")
    return mesh.with_mark(PREFIX + name, pairs)


def set_renamed(mesh: PolyMesh, old: str, name: str) -> PolyMesh:
    """The mesh with a seam set under another name, in its old place. Raises EditRefused where that is taken or empty."""
    _need(mesh, old)
    name = name.strip()
    if not name:
        raise EditRefused("A seam set needs a name; type one.")
    if name != old and name in set_names(mesh):
        raise EditRefused(f"There is a seam set {name} already; choose another name.")
    return mesh.with_(marks={PREFIX + name if n == PREFIX + old else n: v for n, v in mesh.marks.items()})


def without_set(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh without a seam set; its cuts stay."""
    _need(mesh, name)
    return mesh.with_(marks={n: v for n, v in mesh.marks.items() if n != PREFIX + name})


def put_on(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh cut as a seam set says and nowhere else."""
    return mesh.with_cuts(mesh.topology.edge_points[set_flags(mesh, name)])


def joined_in(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh cut where a seam set says, beside where it is cut already."""
    return mesh.with_cuts(mesh.topology.edge_points[set_flags(mesh, name) | cut_flags(mesh)])


def taken_off(mesh: PolyMesh, name: str) -> PolyMesh:
    """The mesh no longer cut where a seam set says."""
    return mesh.with_cuts(mesh.topology.edge_points[cut_flags(mesh) & ~set_flags(mesh, name)])


def _need(mesh: PolyMesh, name: str) -> None:
    if name not in set_names(mesh):
        raise EditRefused(f"There is no seam set {name} any more; choose one of those in the card.")
