"""The verbs of the delivery: baking, delivering, taking in."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from jacket.cli.layout_verbs import PROJECT, add_sheet, sheets_wanted
from jacket.cli.numbers import number, ranged, whole
from jacket.cli.outputs import guard
from jacket.cli.terminal import base_report, say, terminal_progress, write_report
from jacket.core.bake.bake import BakeOptions
from jacket.core.bake.made import Bake
from jacket.core.bake.maps import ALL_MAPS, MAPS
from jacket.core.checks.model import Check
from jacket.core.seams.cuts import cut_as_mapped
from jacket.core.space.bvh import Bvh
from jacket.core.uv.sheets import Sheets
from jacket.document.state import own_pictures
from jacket.errors import MeshError
from jacket.formats.atomic import write_bytes
from jacket.formats.deliver.files import delivery_names, name_of
from jacket.formats.deliver.laid import lacking_pictures, with_decals
from jacket.formats.deliver.maps import map_bytes, png_bytes
from jacket.formats.deliver.profiles import PROFILES, profile_named
from jacket.formats.mesh.registry import read_mesh
from jacket.formats.project.records import load_project
from jacket.jobs.bake import MOST_SIZE, WAYS, BakeLayer, BakeSettings, bake, pairs_in
from jacket.jobs.deliver import Delivered, DeliverLayer, DeliverSettings, layers_of
from jacket.jobs.deliver import deliver as deliver_job
from jacket.jobs.intake import take_in

Options = argparse.Namespace


# ---- what goes in ------------------------------------------------------------------------------------------------------


def _layers(options: Options) -> tuple[list[DeliverLayer], list[BakeLayer], Sheets, dict[str, str]]:
    """Layers, sources, sheets and one's own pictures that were named: of a project its visible layers and sources."""
    sources = [BakeLayer(Path(p).stem, read_mesh(p)) for p in options.source or ()]
    if Path(options.input).suffix.lower() == PROJECT:
        state = load_project(Path(options.input))
        layers = layers_of(state)
        dense = [BakeLayer(j.name, j.mesh) for j in state.jackets if j.visible and j.dense]
        return layers, sources or [*(BakeLayer(s.name, s.mesh) for s in state.sources if s.visible), *dense], state.sheets, own_pictures(state)
    mesh = cut_as_mapped(read_mesh(options.input))
    return [DeliverLayer(Path(options.input).stem, mesh)], sources, sheets_wanted(options), {}


def add_baking(parser: argparse.ArgumentParser) -> None:
    """Options of how maps are baked."""
    usual = BakeOptions()
    parser.add_argument("--map-size", type=whole(16, MOST_SIZE), default=0, metavar="PX",
                        help=f"pixels of the longer side of maps, {ranged(16, MOST_SIZE)} (as the sheet)")
    parser.add_argument("--samples", type=whole(1, 4), default=usual.samples, metavar="N", help="rays a texel are the square of it, 1 to 4 (2)")
    parser.add_argument("--rays", type=whole(1, 4096), default=usual.rays, metavar="N", help="rays a point for occlusion and thickness, 1 to 4,096 (64)")
    parser.add_argument("--cage", type=number(0, 100), default=0.0, metavar="PERCENT",
                        help="how far rays go outwards, in %% of the jacket's diagonal, 0 to 100; 0 for what the gap says (0)")
    parser.add_argument("--cage-in", type=number(0, 100), default=0.0, metavar="PERCENT", help="how far inwards, 0 to 100; 0 for as far (0)")
    parser.add_argument("--ground", action="store_true", help="occlusion: a plane under everything covers the sky")
    parser.add_argument("--alone", action="store_true", help="occlusion: each source covers only itself")
    parser.add_argument("--far", type=number(0, 1000), default=0.0, metavar="PERCENT",
                        help="occlusion: only what is nearer than this share of the diagonal covers, 0 to 1,000; 0 for all (0)")
    parser.add_argument("--padding", type=whole(-1, MOST_SIZE), default=usual.padding, metavar="PX",
                        help="texels that islands are carried on, -1 for the whole sheet (16)")
    parser.add_argument("--by-name", action="store_true", help="bake each layer only from sources of its name")
    parser.add_argument("--leave-out", action="append", default=[], metavar="NAME", help="bake nothing from this source or group; may be repeated")
    parser.add_argument("--pair", action="append", default=[], metavar="LAYER=SOURCE", help="bake this layer from this source alone; may be repeated")
    parser.add_argument("--light-from", choices=tuple(WAYS), default="above", help="where the light of the gradient map comes from (above)")


def baking_wanted(options: Options, maps: tuple[str, ...]) -> BakeSettings:
    """How maps are to be baked. Raises MeshError where something makes no sense."""
    rays = BakeOptions(options.samples, options.rays, options.ground, options.alone, 0.01 * options.far, sun=WAYS[options.light_from], padding=options.padding)
    return BakeSettings(maps, options.map_size, options.cage, options.cage_in, options.by_name, tuple(options.leave_out), rays, pairs_in(",".join(options.pair))).checked()


def _named_maps(text: str) -> tuple[str, ...]:
    names = tuple(dict.fromkeys(w.strip() for w in text.split(",") if w.strip()))
    if names == ("all",):
        return tuple(MAPS)
    return names


def _add_sources(parser: argparse.ArgumentParser, what: str) -> None:
    parser.add_argument("--source", action="append", metavar="IN", help=f"the dense mesh, {what}; may be repeated")


# ---- bake --------------------------------------------------------------------------------------------------------------


def add_bake(parser: argparse.ArgumentParser) -> None:
    """Options of bake."""
    parser.add_argument("input", metavar="IN", help="a mesh with UVs, or a project whose visible layers are meant")
    parser.add_argument("output", metavar="OUTDIR")
    _add_sources(parser, "to bake from")
    parser.add_argument("--maps", default="normal,occlusion", metavar="NAMES", help=f"of {', '.join(MAPS)}, with commas, or all (normal,occlusion)")
    parser.add_argument("--bits", type=whole(8, 32), default=8, metavar="N", help="bits a channel: 8, 16, or 32 for EXR (8)")
    parser.add_argument("--green", choices=("up", "down"), default="up", help="where green of tangent normals points (up)")
    parser.add_argument("--bare", action="store_true", help="leave the decals of a project off the maps")
    add_sheet(parser)
    add_baking(parser)


def bake_verb(options: Options) -> int:
    """bake what the dense mesh knows into maps"""
    start = time.perf_counter()
    settings = baking_wanted(options, _named_maps(options.maps))
    if options.bits not in (8, 16, 32):
        raise MeshError(f"Maps have 8, 16 or 32 bits a channel, not {options.bits}; choose one of them.")
    folder = Path(options.output)
    if folder.is_file():
        raise MeshError(f"{folder} is a file; name a folder for the maps.")
    layers, sources, sheets, _ = _layers(options)
    if not options.bare:
        lacking = [p for x in layers for p in lacking_pictures(x.decals)]
        if lacking:
            raise MeshError(f"The picture {Path(lacking[0]).name} of a decal is not there or no picture; put it back, or add --bare.")
    ending = ".exr" if options.bits == 32 else ".png"
    name = name_of(Path(options.input).stem)
    laid = [(x.mesh, x.decals) for x in layers if x.decals and not options.bare]
    kinds = dict.fromkeys([*settings.maps, *(d.role for _, decals in laid for d in decals if d.shown)])
    paths = {(s.tile, k): folder / f"{name}{f'-{s.tile}' if len(sheets) > 1 else ''}-{k}{ending}" for s in sheets for k in kinds}
    guard([options.input, *(options.source or ())], paths.values(), options.report, options.force)
    done = bake([BakeLayer(x.name, x.mesh) for x in layers if not x.level_of], sources, sheets, settings, terminal_progress(options.quiet))
    written = []
    for sheet in with_decals(done.sheets, laid, sheets):
        for kind, baked in sheet.maps.items():
            path = paths[sheet.sheet.tile, kind]
            write_bytes(path, map_bytes(baked, options.bits, ending, options.green == "down"))
            written.append(str(path))
            say(options, f"wrote {path}{_range(baked.low, baked.high) if ALL_MAPS[kind].whole else ''}")
    write_report(options.report, {**base_report("bake", options, start), **done.figures(), "files": written})
    for note in done.notes:
        say(options, note)
    return 0


def _range(low: float, high: float) -> str:
    return f", {low:.6g} to {high:.6g} units"


# ---- deliver -----------------------------------------------------------------------------------------------------------


def add_deliver(parser: argparse.ArgumentParser) -> None:
    """Options of deliver."""
    parser.add_argument("input", metavar="IN", help="a mesh, or a project whose visible layers are meant")
    parser.add_argument("output", metavar="OUTDIR")
    parser.add_argument("--profile", default="y-up-metres", metavar="NAME", help=f"{', '.join(sorted(PROFILES))}, or a .toml file (y-up-metres)")
    _add_sources(parser, "to measure gaps against and to bake from")
    parser.add_argument("--bake", nargs="?", const="", default=None, metavar="NAMES",
                        help="bake these maps too; without names those that the profile has pictures of")  # fmt: skip
    add_sheet(parser)
    add_baking(parser)


def deliver_verb(options: Options) -> int:
    """check a finished jacket and write the files of a profile"""
    start = time.perf_counter()
    profile = profile_named(options.profile)
    guard_folder(options, *(options.source or ()))
    layers, sources, sheets, own = _layers(options)
    made: Bake | None = None
    if options.bake is not None:
        maps = _named_maps(options.bake) or tuple(m for m in profile.maps if m != "colour" or _coloured(sources))
        made = bake([BakeLayer(x.name, x.mesh) for x in layers if not x.level_of], sources, sheets, baking_wanted(options, maps), terminal_progress(options.quiet))
    source = sources[0].mesh if sources else None
    surface = Bvh.build(source.points, source.triangle_points) if source is not None else None
    report = base_report("deliver", options, start)
    settings = DeliverSettings(options.profile, sheets, Path(options.input).stem, options.force)
    done = deliver_job(layers, Path(options.output), settings, source, surface, report, terminal_progress(options.quiet), bake=made, own=own)
    return told(options, done)


# ---- intake ------------------------------------------------------------------------------------------------------------


def add_intake(parser: argparse.ArgumentParser) -> None:
    """Options of intake."""
    parser.add_argument("input", metavar="DIR", help="the folder that was delivered to")
    _add_sources(parser, "to compare with")
    parser.add_argument("--picture", metavar="OUT.png", help="write both as seen from four sides: dense, delivered, degrees apart (white 0, red 20)")


def intake_verb(options: Options) -> int:
    """read a delivery back as its receiver would and say what would go wrong there"""
    start = time.perf_counter()
    if options.picture and not options.source:
        raise MeshError("A picture shows the delivery beside the dense mesh; name that with --source.")
    if options.picture and Path(options.picture).suffix.lower() != ".png":
        raise MeshError(f"The picture {options.picture} has to be a .png; name it so.")
    guard([*(options.source or ()), *_inside(Path(options.input))], [Path(options.picture)] if options.picture else [], options.report, options.force)
    sources = [BakeLayer(Path(p).stem, read_mesh(p)) for p in options.source or ()]
    taken = take_in(Path(options.input), sources, terminal_progress(options.quiet))
    write_report(options.report, {**base_report("intake", options, start), **taken.as_dict()})
    if options.picture and taken.views is not None:
        write_bytes(Path(options.picture), png_bytes(taken.views.picture))
        say(options, f"wrote {options.picture}")
    marks = {"good": "fine", "look": "look", "wrong": "wrong"}
    for finding in sorted(taken.findings, key=lambda f: f.level != "wrong"):
        say(options, f"{marks[finding.level]}: {finding.sentence}")
    say(options, taken.told()[:1].upper() + taken.told()[1:])
    return 1 if any(f.level == "wrong" for f in taken.findings) else 0


def _inside(folder: Path) -> list[str]:
    return [str(p) for p in folder.iterdir() if p.is_file()] if folder.is_dir() else []


def _coloured(sources: list[BakeLayer]) -> bool:
    return any("colour" in s.mesh.point_data or any(m.picture for m in s.mesh.materials) for s in sources)


def guard_folder(options: Options, *also: str | None) -> None:
    """Before any work: nothing of a delivery may fall on what it is made from."""
    folder = Path(options.output)
    names = delivery_names(Path(options.input).stem)
    stem = names[0][:-4]
    inside = [p for e in ("png", "exr", "ply", "stl", "html") for p in folder.glob(f"{stem}*.{e}")] if folder.is_dir() else []
    guard([options.input, *also], [*(folder / n for n in names), *inside], options.report, options.force)


def told(options: Options, done: Delivered) -> int:
    """Say what was written and which checks failed; the exit code."""
    write_report(options.report, done.report)
    for path in done.paths:
        say(options, f"wrote {path}")
    several = len(done.checks) > 1
    return failed(options, [(layer if several else "", check) for layer, check in done.wrong])


def failed(options: Options, wrong: list[tuple[str, Check]]) -> int:
    """Tell which checks failed, by the name of a layer where there is one; the exit code."""
    for layer, check in wrong:
        say(options, f"check failed: {check.label} {check.value}{f' of {layer}' if layer else ''}")
    return 1 if wrong else 0
