"""Islands that stay themselves: the larger piece keeps the number and with it name, group, lock and twin."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from jacket.core.mesh import edits
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges, sew_edges
from jacket.core.uv.identity import island_numbers, numbered, proposed_names
from jacket.core.uv.sets import island_labels
from jacket.document.document import Document
from jacket.document.edits import layers, uvs
from jacket.document.state import JacketObject, State
from jacket.formats.project.records import load_project, save_project
from jacket.jobs.unwrap import unwrap
from tests.conftest import cube, grid, torus


def column(mesh: PolyMesh, n: int, x: int) -> np.ndarray:
    """Edges of an n × n grid along x = const."""
    return np.array([mesh.topology.find_edge(j * (n + 1) + x, (j + 1) * (n + 1) + x) for j in range(n)])


def over(mesh: PolyMesh) -> Document:
    return Document(State((), (JacketObject(1, "j", mesh),), active=1, next_id=2))


def names(document: Document) -> dict[int, str]:
    return {r.id: r.name for r in document.require_jacket().islands}


def test_the_larger_piece_keeps_the_number() -> None:
    mesh = grid(8).with_cuts([])
    mesh, first = numbered(mesh, 1)
    assert first.tolist() == [1]
    cut, _ = numbered(cut_edges(mesh, column(mesh, 8, 3)), 2)
    on = island_numbers(cut)
    assert on is not None and (on.reshape(8, 8)[:, 3:] == 1).all() and (on.reshape(8, 8)[:, :3] == 2).all()
    sewn, numbers = numbered(sew_edges(cut, column(mesh, 8, 3)), 3)
    assert numbers.tolist() == [1] and (island_numbers(sewn) == 1).all()


def test_numbers_through_cutting_sewing_flattening_and_undo() -> None:
    document = over(grid(8))
    mesh = document.require_jacket().mesh
    document.edit_jacket("cut", cut_edges(mesh, column(mesh, 8, 3)))
    (big, small) = sorted(
        names(document), key=lambda n: -int((island_numbers(document.require_jacket().mesh) == n).sum())
    )
    uvs.rename_island(document, big, "Shield")
    uvs.change_islands(document, "lock", (big,), lambda r: replace(r, lock=True, group="front", done=True, twin=small))
    kept = document.require_jacket().island(big)
    document.edit_jacket("flatten", unwrap(document.require_jacket().mesh).mesh)
    assert document.require_jacket().island(big) == kept
    document.edit_jacket("cut again", cut_edges(document.require_jacket().mesh, column(mesh, 8, 7)))
    assert document.require_jacket().island(big) == kept and len(names(document)) == 3
    document.undo()
    document.undo()
    assert names(document)[big] == "Shield"
    document.redo()
    assert document.require_jacket().island(big) == kept
    document.edit_jacket("fewer faces", edits.faces_removed(document.require_jacket().mesh, [7, 15]).mesh)
    assert document.require_jacket().island(big) == kept


def test_records_come_back_from_a_file(tmp_path: Path) -> None:
    document = over(cut_edges(cube(), np.arange(12)))
    document.edit_jacket("flatten", unwrap(document.require_jacket().mesh).mesh)
    first = document.require_jacket().islands[0]
    uvs.change_islands(document, "group", (first.id,), lambda r: replace(r, group="lid", done=True))
    save_project(document.state, tmp_path / "a.jacket")
    again = load_project(tmp_path / "a.jacket")
    assert again.jacket is not None and again.jacket.islands == document.require_jacket().islands
    assert again.jacket.next_island == document.require_jacket().next_island


def test_a_box_is_named_by_its_sides_and_a_torus_by_its_rings() -> None:
    document = over(cube())
    document.edit_jacket("cut", cut_edges(cube(), np.arange(12)))
    assert sorted(names(document).values()) == ["Back", "Bottom", "Front", "Left", "Right", "Top"]
    mesh = document.require_jacket().mesh
    numbers = island_numbers(mesh)
    top = next(n for n, name in names(document).items() if name == "Top")
    face = int(np.flatnonzero(numbers == top)[0])
    assert (mesh.points[mesh.face(face)][:, 1] == 1).all()  # Y up, as in glTF 2.0, section 3.4
    ring = torus(24, 8)
    flags = (ring.topology.edge_points // 8 % 12 == 0).all(axis=1)
    cut = cut_edges(ring, np.flatnonzero(flags))
    count, labels = island_labels(cut)
    assert count == 2 and "ring" in proposed_names(cut, [np.flatnonzero(labels == 0)])[0]


def test_several_sets_and_joined_layers_never_share_a_number() -> None:
    document = over(cut_edges(cube(), np.arange(12)))
    document.edit_jacket("flatten", unwrap(document.require_jacket().mesh).mesh)
    uvs.copy_set(document, "second")
    mesh = document.require_jacket().mesh
    a, b = island_numbers(mesh, mesh.uv_sets[0]), island_numbers(mesh, "second")
    assert a is not None and b is not None and not set(a.tolist()) & set(b.tolist())
    assert len(document.require_jacket().islands) == 12
    layers.copy_layer(document)
    layers.join_layers(document)
    joined = document.require_jacket()
    assert len({r.id for r in joined.islands}) == len(joined.islands) == len({r.name for r in joined.islands})
