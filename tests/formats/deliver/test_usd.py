"""USD read back by OpenUSD itself, where it is installed."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from jacket.errors import FormatError
from jacket.formats.deliver.files import delivery_bytes, write_delivery
from jacket.formats.deliver.profiles import PROFILES
from jacket.jobs.bake import BakeLayer, BakeSettings, bake
from jacket.jobs.pack import sheets_of
from tests.core.bake.forms import ball, boxed


def test_without_the_library_there_is_a_sentence(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(sys.modules, "pxr", None)
    with pytest.raises(FormatError, match="usd-core"):
        delivery_bytes([("x", boxed(1, False), None)], "a", replace(PROFILES["y-up-metres"], files=("usda",)))


@pytest.mark.parametrize("profile", sorted(PROFILES))
def test_quads_normals_uvs_and_pictures_are_read_back(profile: str, tmp_path: Path) -> None:
    pxr = pytest.importorskip("pxr")
    from pxr import Usd, UsdGeom, UsdShade, UsdValidation

    assert pxr
    box, sheets = boxed(3, True), sheets_of(64, margin=1)
    made = bake([BakeLayer("box", box)], [BakeLayer("ball", ball(12))], sheets, BakeSettings(("normal", "occlusion")))
    receiver = replace(PROFILES[profile], files=("usda", "usdc", "usdz", "glb"))
    write_delivery(tmp_path, delivery_bytes([("box", box, None)], "box", receiver, sheets, maps=[(s.sheet, s.maps) for s in made.sheets]))
    for kind in ("usda", "usdc", "usdz"):
        stage = Usd.Stage.Open(str(tmp_path / f"box.{kind}"))
        mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/box/box"))
        assert list(mesh.GetFaceVertexCountsAttr().Get()) == [4] * 54
        assert len(mesh.GetNormalsAttr().Get()) == 216 and mesh.GetNormalsInterpolation() == "faceVarying"
        st = np.array(UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st").Get())
        assert np.abs(st - box.uv).max() < 1e-6
        points = np.array(mesh.GetPointsAttr().Get())
        assert points.max() == pytest.approx(receiver.scale * box.points.max(), rel=1e-4)
        assert UsdGeom.GetStageUpAxis(stage).lower() == receiver.up
        assert UsdGeom.GetStageMetersPerUnit(stage) * receiver.scale == pytest.approx(1.0)
        normal = UsdShade.Shader(stage.GetPrimAtPath("/box/Look/Normal"))
        assert normal.GetInput("sourceColorSpace").Get() == "raw"
        assert tuple(normal.GetInput("bias").Get()) == (-1.0, -1.0, -1.0, 0.0)
        assert ("usd" in normal.GetInput("file").Get().path) == (receiver.green == "down")
        errors = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators()).Validate(stage)
        assert [e.GetMessage() for e in errors] == []
