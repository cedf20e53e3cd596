"""Pictures of one's own: chosen, refused, kept in the project, packed into channels, seen again when they change on disk."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from jacket.core.bake.maps import Baked
from jacket.errors import JacketError
from jacket.formats.deliver.own import fitted, on_tile, with_own
from jacket.formats.project.records import load_project, save_project
from jacket.qt.scene.lit import pictures_of
from jacket.stages.deliver.commands import deliver_to
from jacket.stages.deliver.wearing import dressed
from tests.stages.deliver.test_deliver_stage import program


def painted(path: Path, value: object, size: tuple[int, int] = (64, 32), mode: str = "RGB") -> str:
    Image.new(mode, size, value).save(path)
    return str(path)


def test_own_pictures_are_packed_into_the_channels_of_a_profile(tmp_path: Path) -> None:
    """Roughness and metal go to green and blue beside a baked occlusion, whatever their own sizes; gamma is left alone."""
    p = program(profile="z-up-centimetres", maps="occlusion")
    p.do("bake")
    for role, value in (("roughness", 77), ("metal", 200)):
        p.front.filing.picture = painted(tmp_path / f"{role}.png", value, mode="L")
        p.do(f"own-{role}")
    p.front.filing.picture = painted(tmp_path / "paint.png", (200, 30, 60))
    p.do("own-colour")
    deliver_to(p, tmp_path / "out", "thing")
    surface = np.asarray(Image.open(tmp_path / "out" / "thing-surface.png"))
    assert surface.shape == (128, 128, 3) and (surface[..., 1] == 77).all() and (surface[..., 2] == 200).all()
    assert surface[..., 0].max() > 240
    assert (np.asarray(Image.open(tmp_path / "out" / "thing-colour.png")) == (200, 30, 60)).all()
    save_project(p.document.state, tmp_path / "a.jacket")
    assert load_project(tmp_path / "a.jacket").jackets[0].pictures == p.document.state.jackets[0].pictures
    p.do("drop-own")
    assert not p.document.state.jackets[0].pictures
    p.document.undo()
    assert len(p.document.state.jackets[0].pictures) == 3


def test_what_is_no_picture_is_refused_and_nothing_chosen_changes_nothing(tmp_path: Path) -> None:
    p = program()
    p.do("own-colour")
    assert not p.document.state.jackets[0].pictures
    (tmp_path / "text.png").write_text("not a picture")
    p.front.filing.picture = str(tmp_path / "text.png")
    with pytest.raises(JacketError, match="no picture that can be read"):
        p.do("own-colour")
    p.front.filing.picture = str(tmp_path / "gone.png")
    with pytest.raises(JacketError, match="no file"):
        p.do("own-normal")
    assert not p.document.state.jackets[0].pictures


def test_a_picture_that_changes_on_disk_is_seen_again(tmp_path: Path) -> None:
    p = program()
    path = tmp_path / "paint.png"
    p.front.filing.picture = painted(path, (10, 20, 30))
    p.do("own-colour")
    layer = p.document.require_jacket()

    def seen() -> tuple[int, ...]:
        made = dressed(None, layer, p.document.state)
        assert made is not None
        shown = pictures_of(made.sheets[0], "lit").colour
        assert shown is not None
        return tuple(int(x) for x in shown[0, 0])

    assert seen() == (10, 20, 30)
    assert dressed(None, layer, p.document.state) is dressed(None, layer, p.document.state)
    painted(path, (90, 80, 70))
    os.utime(path, ns=(1, 1))
    assert seen() == (90, 80, 70)
    path.unlink()
    assert with_own((), dict(layer.pictures), p.document.state.sheets)[0].maps == {}


def test_tiles_have_their_own_files_and_sizes_are_fitted(tmp_path: Path) -> None:
    first, second = (painted(tmp_path / f"paint.{t}.png", t % 255, mode="L") for t in (1001, 1002))
    assert on_tile(first, 1002) == second and on_tile(first, 1003) == first and on_tile(second, 1001) == second
    small = fitted(Baked("metal", np.array([[[0], [255]]], np.uint8)), (4, 2))
    assert small.pixels.shape == (2, 4, 1) and small.pixels[0, 0, 0] == 0 and small.pixels[0, 3, 0] == 255
