"""USD: text, binary or packed with its pictures, by the libraries of OpenUSD (the extra `usd`), which are imported late."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np

from jacket.core.mesh.nodes import BARE, ORIGIN, Nodes
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.shading import corner_normals
from jacket.errors import FormatError
from jacket.formats.deliver.profiles import Profile, in_profile, turned

KINDS = ("usda", "usdc", "usdz")


def usd_library() -> Any:
    """OpenUSD's modules. Raises FormatError with a sentence where they are not installed."""
    try:
        from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, UsdUtils, Vt
    except ImportError:
        raise FormatError("USD needs usd-core, which is not installed; type: pip install 'jacket[usd]', or choose a profile without USD.") from None
    return Gf, Sdf, Usd, UsdGeom, UsdShade, UsdUtils, Vt


def usd_files(
    layers: Sequence[tuple[str, PolyMesh]], stem: str, profile: Profile, pictures: Mapping[str, tuple[bytes, str]], kinds: Sequence[str],
    nodes: Mapping[str, Nodes] = MappingProxyType({}),
) -> dict[str, bytes]:  # fmt: skip
    """Layers as USD files by name: quads as they are, with normals and UVs of corners and one material that refers to the
    pictures beside it; pivots and sockets as transforms. The library writes to paths only, so a folder is made for it."""
    usd = usd_library()
    out = {}
    with tempfile.TemporaryDirectory() as folder:
        for name, (data, _) in pictures.items():
            (Path(folder) / name).write_bytes(data)
        for kind in ("usda", "usdc") if "usdz" not in kinds else ("usda", "usdc", "usdz"):
            if kind not in kinds and not (kind == "usdc" and "usdz" in kinds):
                continue
            path = Path(folder) / f"{stem}.{kind}"
            if kind == "usdz":
                if not usd[5].CreateNewUsdzPackage(str(Path(folder) / f"{stem}.usdc"), str(path)):
                    raise FormatError(f"{path.name} could not be packed; deliver usdc instead.")
            else:
                _stage(usd, path, layers, stem, profile, pictures, nodes)
            if kind in kinds:
                out[path.name] = path.read_bytes()
    return out


def _token(name: str) -> str:
    """A name as USD allows it: letters, digits and underscores, not beginning with a digit."""
    word = "".join(c if c.isascii() and (c.isalnum() or c == "_") else "_" for c in name) or "mesh"
    return word if not word[0].isdigit() else f"_{word}"


def free_token(taken: set[str], name: str) -> str:
    """A name as USD allows it that is not taken."""
    word, k = _token(name), 2
    while word in taken:
        word, k = f"{_token(name)}_{k}", k + 1
    return word


def _stage(usd: Any, path: Path, layers: Sequence[tuple[str, PolyMesh]], stem: str, profile: Profile, pictures: Mapping[str, tuple[bytes, str]],
           nodes: Mapping[str, Nodes]) -> None:  # fmt: skip
    Gf, _, Usd, UsdGeom, UsdShade, _, _ = usd
    stage = Usd.Stage.CreateNew(str(path))
    root = UsdGeom.Xform.Define(stage, f"/{_token(stem)}")
    stage.SetDefaultPrim(root.GetPrim())
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z if profile.up == "z" else UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0 / profile.scale)
    material = _material(usd, stage, f"/{_token(stem)}/Look", pictures)
    taken: set[str] = {"Look"}

    def path_of(title: str) -> str:
        word = free_token(taken, title)
        taken.add(word)
        return f"/{_token(stem)}/{word}"

    def placed(place: Any) -> Any:
        return Gf.Vec3d(*(turned(np.array([place], float), profile)[0] * profile.scale).tolist())

    for title, mesh in layers:
        about = nodes.get(title, BARE)
        made = _mesh(usd, stage, path_of(title), mesh.with_points(mesh.points - np.array(about.pivot)), profile)
        if about.pivot != ORIGIN:
            made.AddTranslateOp().Set(placed(about.pivot))
        UsdShade.MaterialBindingAPI.Apply(made.GetPrim()).Bind(material)
        for socket in about.sockets:
            node = UsdGeom.Xform.Define(stage, path_of(socket.name))
            node.AddTranslateOp().Set(placed(socket.place))
            x, y, z, w = replace(socket, towards=tuple(turned(np.array([socket.towards]), profile)[0].tolist())).quaternion()
            node.AddOrientOp().Set(Gf.Quatf(w, x, y, z))
    stage.GetRootLayer().Save()


def _mesh(usd: Any, stage: Any, where: str, mesh: PolyMesh, profile: Profile) -> Any:
    _, Sdf, _, UsdGeom, _, _, Vt = usd
    placed = in_profile(mesh, profile)
    made = UsdGeom.Mesh.Define(stage, where)
    made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(placed.points.astype(np.float32)))
    made.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(mesh.sizes.astype(np.int32)))
    made.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.ascontiguousarray(mesh.corners, np.int32)))
    made.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    made.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(turned(corner_normals(mesh), profile).astype(np.float32)))
    made.SetNormalsInterpolation(UsdGeom.Tokens.faceVarying)
    low, high = placed.box
    made.CreateExtentAttr(Vt.Vec3fArray.FromNumpy(np.stack([low, high]).astype(np.float32)))
    if mesh.uv is not None and np.isfinite(mesh.uv).any():
        st = UsdGeom.PrimvarsAPI(made).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
        st.Set(Vt.Vec2fArray.FromNumpy(np.nan_to_num(mesh.uv).astype(np.float32)))
    return made


def _material(usd: Any, stage: Any, where: str, pictures: Mapping[str, tuple[bytes, str]]) -> Any:
    """A preview surface (UsdPreviewSurface specification 2.6) over the pictures: colours as sRGB, all others raw, normals
    brought from 0..1 to −1..1."""
    Gf, Sdf, _, _, UsdShade, _, _ = usd
    material = UsdShade.Material.Define(stage, where)
    shader = UsdShade.Shader.Define(stage, f"{where}/Surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(0.8)
    shader.CreateInput("metallic", Sdf.ValueTypeNames.Float).Set(0.0)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    reader = UsdShade.Shader.Define(stage, f"{where}/Places")
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
    places = reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)

    def texture(word: str, file: str, raw: bool) -> Any:
        made = UsdShade.Shader.Define(stage, f"{where}/{word}")
        made.CreateIdAttr("UsdUVTexture")
        made.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(f"./{file}")
        made.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(places)
        made.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set("raw" if raw else "sRGB")
        return made

    first = {what: name for name, (_, what) in reversed(list(pictures.items())) if name.endswith(".png")}
    if "colour" in first:
        out = texture("Colour", first["colour"], False).CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
        shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(out)
    if "normal" in first:
        made = texture("Normal", first["normal"], True)
        made.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(2.0, 2.0, 2.0, 1.0))
        made.CreateInput("bias", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(-1.0, -1.0, -1.0, 0.0))
        shader.CreateInput("normal", Sdf.ValueTypeNames.Normal3f).ConnectToSource(made.CreateOutput("rgb", Sdf.ValueTypeNames.Float3))
    if "occlusion" in first:
        made = texture("Occlusion", first["occlusion"], True)
        shader.CreateInput("occlusion", Sdf.ValueTypeNames.Float).ConnectToSource(made.CreateOutput("r", Sdf.ValueTypeNames.Float))
        if "surface" in first["occlusion"]:
            for word, channel in (("roughness", "g"), ("metallic", "b")):
                shader.GetInput(word).ConnectToSource(made.CreateOutput(channel, Sdf.ValueTypeNames.Float))
    return material
