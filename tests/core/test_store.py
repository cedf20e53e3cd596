"""The store of derived results: nothing keeps a mesh alive, nothing is found for another object."""

from __future__ import annotations

import gc
import threading
import weakref

import numpy as np
import pytest

from jacket.core import derive
from jacket.core.mesh.edits import points_moved
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges
from jacket.core.source.symmetry import Plane
from jacket.core.store import STORE, Store, array_bytes
from jacket.jobs.unwrap import unwrap
from jacket.progress import silent
from tests.conftest import cube, icosphere


def flat_cube() -> PolyMesh:
    return unwrap(cut_edges(cube(), np.arange(12))).mesh


BALL = icosphere(1)
PLANE = Plane(np.array([1.0, 0, 0]), 0.0)
DERIVED = [
    ("surface", derive.surface_of), ("health", derive.health_of), ("parts", derive.parts_of),
    ("light", lambda m: derive.light_of(m, 100)), ("as light as it is", lambda m: derive.light_of(m, 10**9)),
    ("mirror difference", lambda m: derive.mirror_difference(m, PLANE)),
    ("crossings", lambda m: derive.count_crossings(m, silent)), ("islands", derive.islands_of),
    ("stretch figures", derive.stretch_figures), ("normals", derive.normals_of),
    ("ways", lambda m: derive.ways_from(m, 0)), ("gap", lambda m: derive.gap_of(m, BALL)), ("rings", derive.rings_of),
    ("sky", derive.sky_of), ("turning", derive.turning_of),
    ("lying", lambda m: derive.lying_at(m, np.array([0]))),
    ("figures of a set", lambda m: derive.set_figures_of(m, np.zeros(m.topology.n_edges, bool), ())),
]  # fmt: skip


@pytest.mark.parametrize("make", [d[1] for d in DERIVED], ids=[d[0] for d in DERIVED])
@pytest.mark.parametrize("mesh", [flat_cube, lambda: icosphere(2)], ids=["jacket", "source"])
def test_results_go_with_their_mesh(make, mesh) -> None:  # type: ignore[no-untyped-def]
    made = mesh()
    STORE.clear()
    first = make(made)
    assert make(made) is first
    watch = weakref.ref(made)
    del made, first
    gc.collect()
    assert watch() is None and len(STORE) <= 1  # the surface that a gap is measured to stays


def test_meshes_that_share_what_a_result_came_from_share_it() -> None:
    mesh = flat_cube()
    derive.surface_of(mesh), derive.stretch_of(mesh)
    moved = points_moved(mesh, [0], mesh.points[[0]] * 1.5)
    other_colour = mesh.with_(point_data={"colour": np.zeros((8, 4), np.uint8)})
    assert derive.surface_of(other_colour) is derive.surface_of(mesh)
    assert derive.surface_of(moved) is not derive.surface_of(mesh)
    assert derive.stretch_of(other_colour) is derive.stretch_of(mesh)
    assert derive.islands_of(mesh.with_uv(mesh.uv * 0.5)) is not derive.islands_of(mesh)


def test_a_thing_at_the_place_of_another_is_another() -> None:
    """An id comes back for other objects: the store must never take one for the other."""
    store = Store(1 << 20)
    seen = set()
    for k in range(200):
        thing = np.full(3, k)
        seen.add(id(thing))
        assert store.get((thing,), "value", lambda k=k: k) == k  # type: ignore[misc]
        del thing
    assert len(seen) < 200  # places did come back
    gc.collect()
    assert len(store) == 0 and store.size == 0


def test_what_was_not_used_for_longest_goes_first() -> None:
    things = [np.zeros(1) for _ in range(4)]
    store = Store(3000)
    for k in range(3):
        store.get((things[k],), "a", lambda: np.zeros(125))
    assert store.size == 3000
    store.get((things[0],), "a", lambda: np.ones(125))  # used again: now the second is the oldest
    store.get((things[3],), "a", lambda: np.zeros(125))
    assert [store.peek((t,), "a") is not None for t in things] == [True, False, True, True]
    store.get((things[1],), "huge", lambda: np.zeros(1000))  # over the budget alone: kept, everything else goes
    assert store.size == 8000 and len(store) == 1


def test_threads_wait_for_one_another_and_a_failure_is_made_again() -> None:
    store, thing, made = Store(1 << 20), np.zeros(1), []

    looked = threading.Event()

    def slow() -> int:
        looked.wait(60)
        made.append(1)
        return 7

    out: list[int] = []
    threads = [threading.Thread(target=lambda: out.append(store.get((thing,), "x", slow))) for _ in range(6)]
    [t.start() for t in threads]
    assert store.peek((thing,), "x") is None  # peeking never waits
    looked.set()
    [t.join() for t in threads]
    assert out == [7] * 6 and made == [1]
    with pytest.raises(ZeroDivisionError):
        store.get((thing,), "y", lambda: 1 // 0)
    assert store.get((thing,), "y", lambda: 2) == 2


def test_arrays_are_counted_once() -> None:
    a = np.zeros(100)
    assert array_bytes({"x": a, "y": [a, (a, np.zeros(3, np.int32))], "z": b"abc"}) == 800 + 12 + 3
