"""Baking as a whole: layers and sources by name, several sheets, what is taken over from the last time."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from jacket.core.bake.bake import BakeOptions
from jacket.core.bake.points import sky_at_points
from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sheets import Sheet
from jacket.errors import MeshError
from jacket.jobs.bake import WAYS, BakeLayer, BakeSettings, bake, covered_twice, pairs_in, stem_of
from tests.core.bake.forms import ball, boxed

QUICK = BakeSettings(("height",), options=BakeOptions(samples=1, rays=4))
SHEETS = (Sheet(width=64, height=64, margin=1.0),)


def test_names_without_their_tails() -> None:
    assert [stem_of(n) for n in ("Lid_low", "lid_HIGH", "lid", "lid-hp", "Low", "a_b_dense")] == ["lid", "lid", "lid", "lid", "low", "a_b"]


def test_each_layer_is_baked_from_the_source_of_its_name() -> None:
    """Two layers in one place and two balls around them, one within, one without: by name each finds its own, all together the
    nearer wins everywhere; the second lies on a sheet of its own."""
    one = boxed(4, True)
    two = one.with_uv(one.uv + [1.0, 0.0])
    sheets = (*SHEETS, Sheet("two", tile=1002, width=64, height=32, margin=1.0))
    layers = [BakeLayer("in_low", one), BakeLayer("out_low", two)]
    sources = [BakeLayer("in_high", ball(24, 0.9)), BakeLayer("out_high", ball(24, 1.2))]
    named = bake(layers, sources, sheets, replace(QUICK, by_name=True, reach=15.0))
    heights = [float(np.median(s.maps["height"].pixels[s.state > 0])) for s in named.sheets]
    assert heights == [pytest.approx(-0.08, abs=0.03), pytest.approx(0.22, abs=0.03)]
    assert [s.state.shape for s in named.sheets] == [(64, 64), (32, 64)]
    together = bake(layers, sources, sheets, replace(QUICK, reach=15.0))
    assert [float(np.median(s.maps["height"].pixels[s.state > 0])) for s in together.sheets] == pytest.approx([heights[0]] * 2, abs=0.01)
    with pytest.raises(MeshError, match="No source is named like other"):
        bake([BakeLayer("other", one)], sources, sheets, replace(QUICK, by_name=True))


def test_sources_left_out_sizes_and_bad_settings() -> None:
    box, sources = BakeLayer("box", boxed(4, True)), [BakeLayer("a", ball(16)), BakeLayer("b", ball(16, 0.9))]
    done = bake([box], sources, SHEETS, replace(QUICK, left_out=("b",), size=32))
    assert done.sheets[0].state.shape == (32, 32) and done.of("height") is not None and done.of("normal") is None
    with pytest.raises(MeshError, match="no source to bake from"):
        bake([box], sources, SHEETS, replace(QUICK, left_out=("a", "b")))
    with pytest.raises(MeshError, match="no UVs"):
        bake([BakeLayer("bare", ball(4))], sources, SHEETS, QUICK)
    for change, says in (({"maps": ()}, "No map"), ({"size": 9}, "out of range"), ({"reach": 200.0}, "0 to 100"), ({"options": BakeOptions(samples=9)}, "out of range"),
                         ({"options": BakeOptions(rays=0)}, "out of range"), ({"options": BakeOptions(padding=-7)}, "padding")):  # fmt: skip
        with pytest.raises(MeshError, match=says):
            bake([box], sources, SHEETS, replace(QUICK, **change))


def test_pairs_of_names_and_groups_left_out() -> None:
    """A layer that is paired is baked from that source alone; a group that is left out is as if it were not there."""
    box = BakeLayer("box", boxed(4, True))
    near, far = ball(24, 0.9), ball(24, 1.2)
    sources = [BakeLayer("near", near), BakeLayer("far", far)]

    def height(sources: list[BakeLayer], **changes: object) -> float:
        done = bake([box], sources, SHEETS, replace(QUICK, reach=15.0, **changes)).sheets[0]  # type: ignore[arg-type]
        return float(np.median(done.maps["height"].pixels[done.state > 0]))

    free = height(sources)
    assert height(sources, pairs=(("box", "far"),)) == pytest.approx(height([sources[1]]), abs=1e-6)
    assert height(sources, pairs=(("other", "far"),)) == pytest.approx(free, abs=1e-6)
    with pytest.raises(MeshError, match="no source called none"):
        height(sources, pairs=(("box", "none"),))
    assert pairs_in(" a=b ,c = d,") == (("a", "b"), ("c", "d"))
    for text in ("a", "=b", "a=", "a b"):
        with pytest.raises(MeshError, match="no pair"):
            pairs_in(text)
    whole = PolyMesh.from_faces(np.concatenate([near.points, far.points]), np.concatenate([near.triangle_points, far.triangle_points + near.n_points]))
    group = np.repeat(np.array([0, 1], np.int32), [near.n_faces, far.n_faces])
    both = [BakeLayer("scan", whole.with_(face_data={"group": group}, groups=("inner", "outer")))]
    assert height(both) == pytest.approx(free, abs=1e-6)
    assert height(both, left_out=("inner",)) == pytest.approx(height([sources[1]]), abs=1e-6)
    with pytest.raises(MeshError, match="no source to bake from"):
        height(both, left_out=("inner", "outer"))


def test_islands_over_others_are_told_with_their_share() -> None:
    box = boxed(4, True)
    assert covered_twice([BakeLayer("box", box)], SHEETS[0]) < 0.002
    # One of six islands of one size laid over another: a sixth of what is covered is covered twice.
    over = box.uv.copy()
    over[: 4 * 16] = over[4 * 16 : 8 * 16]
    laid = BakeLayer("box", box.with_uv(over))
    assert covered_twice([laid], SHEETS[0]) == pytest.approx(1 / 6, abs=0.005)
    notes = bake([laid], [BakeLayer("ball", ball(8))], SHEETS, QUICK).notes
    assert any("17 % of the islands" in n and "pack them apart" in n for n in notes)


def test_the_light_gradient_comes_from_where_it_is_said_to() -> None:
    """On the unit ball light from a direction is half of one plus the place along it (Lambert wrapped around)."""
    box, sheets = BakeLayer("box", boxed(8, True)), (Sheet(width=128, height=128, margin=1.0),)
    options = BakeOptions(samples=1, rays=1, sun=WAYS["right"])
    done = bake([box], [BakeLayer("ball", ball(32))], sheets, replace(QUICK, maps=("light", "position"), options=options)).sheets[0]
    on = done.state > 0
    assert done.maps["light"].shares()[on][:, 0] == pytest.approx((1 + done.maps["position"].pixels[on][:, 0]) / 2, abs=0.01)


def test_materials_of_the_source_are_part_of_what_maps_follow_from() -> None:
    """Other materials on the same form: the map of them is baked again, and only where something changed."""
    form, box = ball(8), BakeLayer("box", boxed(3, True))
    looks = (Material("a"), Material("b"))
    one, two = (form.with_(face_data={"material": np.full(form.n_faces, k, np.int32)}, materials=looks) for k in (0, 1))
    settings = replace(QUICK, maps=("id-material",))
    first = bake([box], [BakeLayer("s", one)], SHEETS, settings)
    again = bake([box], [BakeLayer("s", one)], SHEETS, settings, before=first)
    other = bake([box], [BakeLayer("s", two)], SHEETS, settings, before=first)
    assert again.of("id-material") is first.of("id-material")
    assert not np.array_equal(other.sheets[0].maps["id-material"].pixels, first.sheets[0].maps["id-material"].pixels)


def test_what_is_known_at_points_is_kept_until_the_source_or_its_options_change(monkeypatch: pytest.MonkeyPatch) -> None:
    """Another jacket, another size: occlusion is not cast again; other rays or another source: it is."""
    calls: list[int] = []

    def counted(dense, rays, *rest):  # type: ignore[no-untyped-def]
        calls.append(rays)
        return sky_at_points(dense, rays, *rest)

    monkeypatch.setattr("jacket.core.bake.bake.sky_at_points", counted)
    sources, settings = [BakeLayer("ball", ball(12))], replace(QUICK, maps=("occlusion",))
    for jacket, size in ((boxed(3, True), 32), (boxed(4, True), 32), (boxed(4, True), 48)):
        bake([BakeLayer("box", jacket)], sources, SHEETS, replace(settings, size=size))
    assert calls == [4]
    bake([BakeLayer("box", boxed(3, True))], sources, SHEETS, replace(settings, options=BakeOptions(samples=1, rays=5)))
    bake([BakeLayer("box", boxed(3, True))], [BakeLayer("ball", ball(12))], SHEETS, settings)
    assert calls == [4, 5, 4]


def test_the_same_input_bakes_to_the_same_bits() -> None:
    box = BakeLayer("box", boxed(4, False))
    settings = BakeSettings(("normal", "occlusion", "height", "curvature", "bent", "thickness"), reach=30.0, options=BakeOptions(rays=8))
    one, two = (bake([box], [BakeLayer("ball", ball(24))], SHEETS, settings) for _ in range(2))
    assert all(np.array_equal(one.sheets[0].maps[k].pixels, two.sheets[0].maps[k].pixels) for k in settings.maps)
    assert one.figures()["sheets"][0]["maps"] == sorted(settings.maps)
