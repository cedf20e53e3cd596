"""Makes what ships: the three sources as PLY and the demo project. `./dev demo-files` runs it."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import pack
from jacket.core.mesh.edits import faces_removed
from jacket.core.mesh.geometry import face_centres
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.seams.kept import with_set
from jacket.core.seams.suggest import suggest_seams
from jacket.core.seams.work import SuggestSettings
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet
from jacket.demo.forms import barnacled_bollard, porthole_latch, whelk_lantern
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from jacket.formats.mesh.ply import write_ply
from jacket.formats.project.records import save_project

FONTS = Path(__file__).resolve().parent.parent / "assets" / "fonts"
DEMO_SHEETS = (Sheet(width=2048, height=2048, margin=16.0),)


def demo_state(source: PolyMesh) -> State:
    """The whelk lantern with its jacket partly done: open at the top, cut, flat, packed."""
    jacket = automatic_quads(source, AutoSettings(quads=1900)).mesh
    height = face_centres(jacket)[:, 1]
    partly = faces_removed(jacket, np.flatnonzero(height > 1.12)).mesh
    labels = face_parts(partly)[1]
    partly = faces_removed(partly, np.flatnonzero(labels != np.bincount(labels).argmax())).mesh
    few, true = suggest_seams(partly).cuts, suggest_seams(partly, SuggestSettings(stretch=1.02)).cuts
    cut = with_set(with_set(partly, "Suggested, few", few), "Suggested, true", true).with_cuts(true)
    flat, _ = unwrap(cut)
    done = flat.with_uv(pack(Islands.of(flat, DEMO_SHEETS)).uv)
    state = State(
        sources=(SourceObject(1, "Whelk lantern", source),),
        jackets=(JacketObject(2, "Shell", done),),
        active=2, sheets=DEMO_SHEETS, next_id=3,
    )  # fmt: skip
    return with_island_numbers(State(), state)


def name_plate() -> Image.Image:
    """An enamel plate of the lantern works, to be laid on as a decal: 512 × 256, clear past its rounded corners."""
    image = Image.new("RGBA", (512, 256), (0, 0, 0, 0))
    draw = ImageDraw.Draw(image)
    draw.rounded_rectangle((6, 6, 505, 249), 40, fill=(124, 45, 58, 255), outline=(244, 240, 232, 255), width=10)
    for text, height, size, colour in (("SALTMARSH", 104, 64, (244, 240, 232, 255)), ("LAMPS  No. 7", 180, 46, (227, 167, 18, 255))):
        font = ImageFont.truetype(str(FONTS / "DejaVuSerif-Bold.ttf"), size)
        draw.text((256, height), text, font=font, anchor="mm", fill=colour)
    return image


def main(folder: str) -> None:
    """Write everything into a folder."""
    target = Path(folder)
    name_plate().save(target / "name-plate.png", optimize=True)
    whelk = whelk_lantern()
    for name, mesh in (
        ("whelk-lantern", whelk),
        ("barnacled-bollard", barnacled_bollard()),
        ("porthole-latch", porthole_latch()),
    ):
        # Single precision halves the files and is what sculpting programs write.
        write_ply(
            mesh.with_points(mesh.points.astype(np.float32).astype(np.float64)), target / f"{name}.ply", np.float32
        )
    save_project(demo_state(whelk), target / "whelk-lantern.jacket")


if __name__ == "__main__":
    main(sys.argv[1])
