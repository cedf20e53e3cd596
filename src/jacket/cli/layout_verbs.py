"""The verbs of the layout: packing, and the layout as a picture."""

from __future__ import annotations

import argparse
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from jacket.cli.numbers import number, whole
from jacket.cli.outputs import guard
from jacket.cli.source_verbs import checked_output
from jacket.cli.terminal import base_report, say, terminal_progress, write_report
from jacket.core.checks.layout import layout_checks
from jacket.core.checks.model import Check
from jacket.core.layout.pack import TURNS, PackSettings
from jacket.core.layout.pieces import Bonds
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_as_mapped
from jacket.core.uv.identity import island_numbers
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheets
from jacket.document.state import State
from jacket.errors import MeshError
from jacket.formats.deliver.picture import FILLS, PictureSettings
from jacket.formats.mesh.registry import read_mesh, write_mesh
from jacket.formats.project.claim import claim
from jacket.formats.project.records import load_project, save_project
from jacket.jobs.pack import MOST_SHEETS, Packed, PackLayer, pack_at_density, pack_together, sheets_of, stack_twins
from jacket.jobs.picture import guide_curves, layout_pictures, picture_paths
from jacket.jobs.run import sheet_figures

Options = argparse.Namespace
PROJECT = ".jacket"


# ---- sheets ------------------------------------------------------------------------------------------------------------


def add_sheet(parser: argparse.ArgumentParser) -> None:
    """Options of the sheets that islands are laid on."""
    parser.add_argument("--size", default="1024", metavar="PX", help="sheet size in pixels, 16 to 16384, as 1024 or 2048x1024 (1024)")
    parser.add_argument("--margin", type=number(0, 2048), default=8.0, metavar="PX",
                        help="pixels between islands, 0 to an eighth of the sheet (8)")
    parser.add_argument("--mip", type=whole(0, 12), default=0, metavar="LEVEL",
                        help="mip level at which the margin still has so many pixels, 0 to 12 (0)")
    parser.add_argument("--edge", type=number(0, 2048), default=None, metavar="PX", help="pixels to the sheet's edge (as --margin)")
    parser.add_argument("--sheets", type=whole(1, MOST_SHEETS), default=1, metavar="N",
                        help=f"spread over so many sheets, 1 to {MOST_SHEETS} (1)")  # fmt: skip


def sheets_wanted(options: Options) -> Sheets:
    """The sheets that were typed. Raises MeshError where they make no sense."""
    try:
        width, _, height = str(options.size).lower().partition("x")
        return sheets_of(int(width), int(height) if height else 0, options.margin, options.sheets, options.mip, options.edge)
    except ValueError:
        raise MeshError(f"A sheet size of '{options.size[:40]}' makes no sense; type 1024 or 2048x1024.") from None


def add_search(parser: argparse.ArgumentParser) -> None:
    """Options of how islands are packed."""
    parser.add_argument("--turn", choices=tuple(TURNS), default="upright",
                        help="how islands may turn: freely but for those with straight sides, which stand along the sheet (upright), "
                             "all freely, by quarters or not at all")  # fmt: skip
    parser.add_argument("--mirrored", action="store_true", help="islands may be laid on their face")
    parser.add_argument("--steps", type=whole(0, 1_000_000), default=40, metavar="N",
                        help="rounds of the search, 0 to 1,000,000; with a seed they give the same result every time (40)")
    parser.add_argument("--seconds", type=number(0.1, 86_400), default=None, metavar="S",
                        help="pack for so long instead, 0.1 to 86,400, whatever the steps")  # fmt: skip


def search_wanted(options: Options) -> PackSettings:
    """How islands are to be packed."""
    timed = options.seconds is not None
    return PackSettings(
        options.turn, options.mirrored, options.sheets > 1, steps=10**9 if timed else options.steps,
        seconds=options.seconds if timed else np.inf, seed=options.seed or 1,
    )  # fmt: skip


# ---- pack --------------------------------------------------------------------------------------------------------------


def add_pack(parser: argparse.ArgumentParser) -> None:
    """Options of pack."""
    parser.add_argument("input", metavar="IN", help="a mesh with UVs, or a project whose visible layers share its sheets")
    parser.add_argument("output", metavar="OUT")
    add_sheet(parser)
    add_search(parser)
    parser.add_argument("--density", type=number(1e-6, 1e9), default=None, metavar="PX_PER_UNIT",
                        help="keep this texel density; on as many sheets as it takes where --sheets is not given")  # fmt: skip
    parser.add_argument("--keep-sizes", action="store_true", help="keep the sizes of islands against one another")
    parser.add_argument("--stack", nargs="?", type=number(0.01, 20), const=1.0, default=None, metavar="PERCENT",
                        help="lay islands of one shape on one another; they may differ by so much of their size (1)")  # fmt: skip


def pack_verb(options: Options) -> int:
    """lay islands on sheets at one texel density"""
    start = time.perf_counter()
    progress = terminal_progress(options.quiet)
    project = Path(options.input).suffix.lower() == PROJECT
    output, state = _output(options, project), None
    sheets = sheets_wanted(options)
    if project:
        state = load_project(Path(options.input))
        sheets = state.sheets
        layers = [PackLayer(j.mesh, j.islands) for j in state.jackets if _mapped(j.mesh) and j.visible]
        if not layers:
            raise MeshError("No visible layer of the project has UVs to pack; flatten one in the window first.")
    else:
        mesh = read_mesh(options.input)
        if mesh.uv is None:
            raise MeshError("The file has no UVs to pack; run 'jacket unwrap' on it first.")
        layers = [PackLayer(cut_as_mapped(mesh))]
    if options.stack is not None:
        layers = [replace(x, mesh=m, stacks=s) for x, (m, s) in ((x, stack_twins(x.mesh, options.stack / 100)) for x in layers)]
    settings = replace(search_wanted(options), density=options.density, even=not options.keep_sizes)
    if options.density is not None and options.sheets == 1 and not project:
        done = pack_at_density(layers, sheets[0], settings, progress)
    else:
        done = pack_together(layers, sheets, settings, progress)
    if state is not None:
        _save(state, done, output)
    else:
        write_mesh(done.mesh, output)
    return _told(options, layers, done, output, start)


def _mapped(mesh: PolyMesh) -> bool:
    return mesh.uv is not None and bool(np.isfinite(mesh.uv).any())


def _output(options: Options, project: bool) -> Path:
    """What is going to be written, refused before any work where it must not be."""
    output = Path(options.output)
    if not project:
        return checked_output(options)
    if output.suffix.lower() != PROJECT:
        raise MeshError(f"A project that is packed is written as a project; name {output.stem}{PROJECT} instead.")
    guard([options.input], [output], options.report, options.force)
    return output


def _save(state: State, done: Packed, output: Path) -> None:
    meshes = iter(done.meshes)
    jackets = tuple(replace(j, mesh=next(meshes)) if _mapped(j.mesh) and j.visible else j for j in state.jackets)
    held = claim(output)
    try:
        save_project(state.with_(jackets=jackets), output)
    finally:
        held.let_go()


def _told(options: Options, layers: list[PackLayer], done: Packed, output: Path, start: float) -> int:
    sheets, result = done.sheets, done.result
    checks: list[Check] = []
    for layer, mesh in zip(layers, done.meshes, strict=True):
        islands = Islands.of(mesh, sheets)
        stacks = layer.stacks if layer.stacks is not None else Bonds.of(islands, island_numbers(mesh), layer.records).stack
        checks += layout_checks(mesh, sheets, islands, stacks)
    write_report(options.report, {
        **base_report("pack", options, start), "use": result.use, "density": result.density, "steps": result.steps,
        "sheets": sheet_figures(sheets, result.uses), "checks": [c.as_dict() for c in checks],
    })  # fmt: skip
    used = ", ".join(f"{100 * u:.1f} %" for u in result.uses)
    say(options, f"{used} of the sheet{'s' if len(sheets) > 1 else ''} used, {result.density:.1f} px per unit → {output}")
    return 0


# ---- picture -----------------------------------------------------------------------------------------------------------


def add_picture(parser: argparse.ArgumentParser) -> None:
    """Options of picture."""
    usual = PictureSettings()
    parser.add_argument("input", metavar="IN", help="a mesh with UVs, or a project whose visible layers are drawn")
    parser.add_argument("output", metavar="OUT", help=".png or .svg; of several sheets each gets its tile in its name")
    parser.add_argument("--size", default="1024", metavar="PX", help="sheet size in pixels of a mesh, as 1024 or 2048x1024 (1024)")
    parser.add_argument("--sheets", type=whole(1, MOST_SHEETS), default=1, metavar="N", help="sheets of a mesh, 1 to 100 (1)")
    parser.add_argument("--times", type=whole(1, 16), default=1, metavar="N", help="so many times the sheet's size, 1 to 16 (1)")
    parser.add_argument("--ground", default=usual.ground, metavar="COLOUR", help=f"as #rrggbb, or none for transparent ({usual.ground})")
    parser.add_argument("--fill", choices=FILLS, default=usual.fill, help="how islands are filled")
    for name, what in (("seams", "outlines"), ("lines", "edges of quads"), ("names", "names"), ("curves", "guides")):
        parser.add_argument(f"--{name}", default=getattr(usual, name), metavar="COLOUR", help=f"of {what}, as #rrggbb, or none")
    parser.add_argument("--seam-width", type=number(0, 64), default=usual.seam_width, metavar="PX", help="0 to 64 (2)")
    parser.add_argument("--line-width", type=number(0, 64), default=usual.line_width, metavar="PX", help="0 to 64 (1)")


def picture_verb(options: Options) -> int:
    """draw the layout of every sheet as a picture to paint on"""
    start = time.perf_counter()

    def colour(name: str) -> str:
        value = str(getattr(options, name))
        return "" if value.lower() == "none" else value

    settings = PictureSettings(
        options.times, colour("ground"), options.fill, lines=colour("lines"), line_width=options.line_width,
        seams=colour("seams"), seam_width=options.seam_width, names=colour("names"), curves=colour("curves"),
    ).checked()  # fmt: skip
    path = Path(options.output)
    if Path(options.input).suffix.lower() == PROJECT:
        state = load_project(Path(options.input))
        layers = [(j.mesh, {r.id: r.name for r in j.islands}) for j in state.jackets if j.visible]
        sheets, curves = state.sheets, guide_curves(state)
    else:
        layers, sheets = [(read_mesh(options.input), {})], sheets_wanted(argparse.Namespace(
            size=options.size, margin=0.0, sheets=options.sheets, mip=0, edge=None))  # fmt: skip
        curves = []
    guard([options.input], picture_paths(path, sheets), options.report, options.force)
    paths = layout_pictures(layers, path, sheets, settings, terminal_progress(options.quiet), curves)
    write_report(options.report, {**base_report("picture", options, start), "files": [str(p) for p in paths]})
    for file in paths:
        say(options, f"wrote {file}")
    return 0
