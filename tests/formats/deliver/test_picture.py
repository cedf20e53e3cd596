"""Layout pictures: the SVG read by a general XML reader has the geometry of the islands, the PNG their colours."""

from __future__ import annotations

import io
import re
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
import shapely
from PIL import Image

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.errors import MeshError
from jacket.formats.deliver.picture import PictureSettings, layout_png, layout_svg, reduced
from jacket.jobs.pack import sheets_of
from jacket.jobs.picture import layout_pictures

SVG = "{http://www.w3.org/2000/svg}"


def rings(path: str) -> list[shapely.Polygon]:
    """The closed rings of an SVG path of M, L and Z."""
    parts = [np.array(re.findall(r"(-?[\d.]+),(-?[\d.]+)", p), float) for p in path.split("Z") if p.strip()]
    return [shapely.Polygon(p) for p in parts]


def test_an_svg_has_the_same_islands_edges_and_outlines(packed: PolyMesh) -> None:
    sheets = sheets_of(400, margin=4)
    islands = Islands.of(packed, sheets)
    tree = ElementTree.fromstring(layout_svg([(packed, {1: 'Lip & "rim"'})], sheets))
    assert tree.attrib["viewBox"] == "0 0 400 400"
    groups = list(tree.iter(f"{SVG}g"))
    assert len(groups) == islands.count
    faces = [shapely.Polygon(packed.uv[a:b] * [400, -400] + [0, 400]) for a, b in zip(packed.starts[:-1], packed.starts[1:], strict=True)]
    drawn = [ring for g in groups for p in g.iter(f"{SVG}path") if p.get("class") == "fill" for ring in rings(p.get("d", ""))]
    assert len(drawn) == packed.n_faces
    assert sum(a.area for a in drawn) == pytest.approx(sum(f.area for f in faces), rel=1e-4)
    tree_of = shapely.STRtree(faces)
    for ring in drawn:
        near = faces[tree_of.nearest(ring.centroid)]
        assert ring.symmetric_difference(near).area < 0.03
    for g, k in zip(groups, range(islands.count), strict=True):
        outline = next(p for p in g.iter(f"{SVG}path") if p.get("class") == "outline")
        assert outline.get("d", "").count("M") == len(islands.outline_corners(k))
    names = {g.get("data-name") for g in groups}
    assert names <= {"", 'Lip & "rim"'}


def test_a_png_is_as_large_as_asked_transparent_where_asked_and_in_the_chosen_colours(packed: PolyMesh) -> None:
    sheets = sheets_of(200, 100, margin=2)
    settings = PictureSettings(3, "", "plain", "#102030", "", 1.0, "#ff0000", 2.0, "")
    image = Image.open(io.BytesIO(layout_png([(packed, None)], sheets, settings=settings)))
    assert image.size == (600, 300) and image.mode == "RGBA"
    data = np.asarray(image).reshape(-1, 4)
    assert (data[:, 3] == 0).any()
    full = data[data[:, 3] == 255]
    assert (full[:, :3] == [16, 32, 48]).all(axis=1).mean() > 0.5 and (full[:, :3] == [255, 0, 0]).all(axis=1).any()
    covered = (data[:, 3] > 127).mean()
    assert covered == pytest.approx(Islands.of(packed, sheets).use(), abs=0.07)


def test_a_picture_reduced_in_bands_is_as_pillow_makes_it_at_once() -> None:
    # Middling greys: where the filter swings over what a byte holds, the order of across and down would show.
    pixels = np.random.default_rng(3).integers(64, 192, (700, 600, 4), np.uint8)
    pixels[..., 3] = 255
    image = Image.fromarray(pixels, "RGBA")
    whole = np.asarray(image.resize((300, 350), Image.Resampling.LANCZOS)).astype(int)
    assert np.abs(np.asarray(reduced(image, 2)) - whole).max() <= 1


@pytest.mark.parametrize("change", [{"times": 0}, {"ground": "red"}, {"fill": "stripes"}, {"seam_width": 99.0}])
def test_settings_that_make_no_sense_are_a_sentence(change: dict[str, object]) -> None:
    with pytest.raises(MeshError, match=r"choose|type"):
        PictureSettings(**change).checked()  # type: ignore[arg-type]


def test_each_sheet_gets_a_file_and_other_endings_a_sentence(packed: PolyMesh, tmp_path: Path) -> None:
    paths = layout_pictures([(packed, None)], tmp_path / "a.svg", sheets_of(200, count=2))
    assert [p.name for p in paths] == ["a.1001.svg", "a.1002.svg"] and all(p.exists() for p in paths)
    with pytest.raises(MeshError, match=r"\.png or \.svg"):
        layout_pictures([(packed, None)], tmp_path / "a.gif")
    with pytest.raises(MeshError, match="flat"):
        layout_pictures([(PolyMesh.from_faces(packed.points, packed.corners.reshape(-1, 4)), None)], tmp_path / "b.png")
