"""Sewing what need not be cut: in which order it is asked, what is asked again, scraps, and that all is laid anew before it counts."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.descent import FULL_STEPS
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Bools, PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams import cutting, joining
from jacket.core.seams.cloth import unwatched
from jacket.core.seams.laying import QUICK
from jacket.core.seams.networks import sharp_network
from jacket.core.seams.suggest import suggest_seams
from jacket.core.seams.tailor import Tailor
from jacket.core.seams.work import Limits, SuggestSettings, Way, Work
from jacket.progress import silent
from tests.conftest import icosphere


def strip(long: int) -> PolyMesh:
    """Unit squares in a row."""
    x = np.repeat(np.arange(long + 1.0), 2)
    points = np.stack([x, np.tile([0.0, 1.0], long + 1), np.zeros(len(x))], axis=1)
    first = 2 * np.arange(long)[:, None]
    return PolyMesh.from_faces(points, first + np.array([0, 2, 3, 1]))


def across(mesh: PolyMesh, *at: float) -> Bools:
    """(E,) edges across a strip at some places."""
    ends = mesh.points[mesh.topology.edge_points][:, :, 0]
    return np.isin(ends, at).all(axis=1)


def work_on(mesh: PolyMesh, cut: Bools) -> Work:
    """A piece under the scissors, cut so."""
    tailor = Tailor(mesh, edge_lengths(mesh), None, unwatched)
    tailor.cut = cut.copy()
    limits = Limits(1.05, 1.7, 0.68)
    return Work(tailor, SuggestSettings(), limits, silent, limits, rings=np.zeros(mesh.topology.n_edges, bool))


def test_what_was_refused_is_asked_again_once_others_are_sewn(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of four seams across a strip one may only be closed when no other is left: all are closed in the end, and one that never may stays."""
    mesh = strip(10)
    work, last = work_on(mesh, across(mesh, 2, 4, 6, 8)), np.flatnonzero(across(mesh, 4))
    judge = joining.unsewn

    def particular(work, chain, steps=QUICK):  # type: ignore[no-untyped-def]
        return None if last[0] in chain and work.tailor.cut.sum() > 1 else judge(work, chain, steps)

    monkeypatch.setattr(joining, "unsewn", particular)
    joining.sew(work)
    assert not work.tailor.cut.any()
    work = work_on(mesh, across(mesh, 2, 4, 6, 8))
    work.tailor.keep |= across(mesh, 4)
    joining.sew(work)
    assert np.array_equal(work.tailor.cut, across(mesh, 4))


def test_scraps_are_joined_even_where_a_ring_cut_them_off_and_larger_parts_are_not() -> None:
    """One square of 150 at the end of a strip is under a hundredth of it, half a strip or one of three is not; a kept cut stays whatever
    it cuts off."""
    mesh = strip(150)
    work = work_on(mesh, across(mesh, 75, 149))
    work.rings = work.tailor.cut.copy()
    joining.sew(work)
    assert work.tailor.cut.sum() == 2
    joining.sew_scraps(work)
    assert np.array_equal(work.tailor.cut, across(mesh, 75))
    kept = work_on(mesh, across(mesh, 149))
    kept.tailor.keep |= kept.tailor.cut
    for work in (kept, work_on(strip(3), across(strip(3), 1))):
        joining.sew_scraps(work)
        assert work.tailor.cut.sum() == 1


def test_short_chains_of_many_are_asked_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of twenty seams of one edge each across a strip the one that is refused first stays; of ten it is asked again."""
    mesh = strip(44)
    asked: list[int] = []
    judge = joining.unsewn

    def particular(work, chain, steps=QUICK):  # type: ignore[no-untyped-def]
        first = not asked
        asked.append(len(chain))
        return None if first and len(chain) == 1 else judge(work, chain, steps)

    monkeypatch.setattr(joining, "unsewn", particular)
    monkeypatch.setattr(joining, "ABREAST", 1)
    work = work_on(mesh, across(mesh, *np.arange(2.0, 42.0, 2)))
    joining.sew(work)
    assert work.tailor.cut.sum() == 1
    asked.clear()
    few = work_on(mesh, across(mesh, *np.arange(2.0, 22.0, 2)))
    joining.sew(few)
    assert not few.tailor.cut.any()


def test_between_parts_that_are_known_nothing_is_asked_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of four parts of a strip three are known as they are: only the seam beside the fourth is asked, and what it joins is new."""
    mesh = strip(8)
    work = work_on(mesh, across(mesh, 2) | across(mesh, 4) | across(mesh, 6))
    parts, asked = work.tailor.parts(), list[int]()
    monkeypatch.setattr(joining, "unsewn", lambda work, chain, *steps: asked.append(int(chain[0])))
    joining.sew(work, parts[:3])
    assert asked == np.flatnonzero(across(mesh, 6)).tolist()
    joining.sew(work, parts)
    assert len(asked) == 1
    joining.sew(work)
    assert len(asked) == 4


def test_what_opens_only_from_where_it_lay_is_cut_once_more(monkeypatch: pytest.MonkeyPatch) -> None:
    """Flatten lays anew: in full every part is laid from nowhere, and what a late cut changes is looked at again."""
    fresh: list[bool] = []
    lay, open_all = Tailor.lay, cutting._open_all
    passes: list[int] = []

    def told(self, faces, steps, cut=None, afresh=False):  # type: ignore[no-untyped-def]
        if steps == FULL_STEPS:
            fresh.append(afresh)
        return lay(self, faces, steps, cut, afresh)

    def opening(work, steps):  # type: ignore[no-untyped-def]
        done = open_all(work, steps)
        if steps == FULL_STEPS:
            passes.append(len(work.tailor.parts()))
            if len(passes) == 1:
                largest = max(work.tailor.parts(), key=len)
                work.tailor.commit(work.tailor.halvings(largest)[0])
        return done

    monkeypatch.setattr(Tailor, "lay", told)
    monkeypatch.setattr(cutting, "_open_all", opening)
    suggest_seams(split_to_quads(icosphere(2)))
    # One more at the end, where what it is worth is told from what is known.
    assert len(passes) == 2 and passes[1] == passes[0] + 1 and fresh.count(False) <= passes[1]
    assert sum(fresh) >= passes[0] + 2


def test_a_form_that_is_sewn_whole_is_laid_in_full_all_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    """A strip bent sharply into many walls opens in one piece: nothing is cut in the end, and one pass in full still says that it opens."""
    flat = strip(6)
    bent = flat.with_points(flat.points + [0, 0, 1] * (flat.points[:, :1] % 2))
    steps: list[int] = []
    open_all = cutting._open_all
    monkeypatch.setattr(cutting, "_open_all", lambda work, count: steps.append(count) or open_all(work, count))
    work = work_on(bent, np.zeros(bent.topology.n_edges, bool))
    nothing = np.zeros(bent.topology.n_edges, bool)
    assert cutting.cut_one_way(work, Way(sharp_network(bent)), nothing) is not None
    assert not work.tailor.cut.any() and steps == [QUICK, FULL_STEPS]
