"""What each verb takes and does."""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from jacket.cli.source_verbs import add_inspect, add_prepare, add_refit, checked_output, inspect, prepare, refit_verb
from jacket.cli.terminal import base_report, plain, report_bytes, say, terminal_progress, write_report
from jacket.core.checks.layout import flatten_checks, layout_checks, seam_checks
from jacket.core.checks.model import Check
from jacket.core.flatten.stretch import measure_stretch
from jacket.core.flatten.unwrap import unwrap
from jacket.core.job import delivery_checks, whole_job
from jacket.core.layout.islands import Islands
from jacket.core.layout.pack import PackSettings, pack
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads, quads_within_gap
from jacket.core.seams.cuts import cut_edges, sharp_edges, uv_border_pairs
from jacket.core.seams.suggest import suggest_seams
from jacket.core.space.bvh import Bvh
from jacket.errors import MeshError
from jacket.formats.curves import read_guides, read_spots
from jacket.formats.deliver import PROFILES, deliver_files
from jacket.formats.registry import read_mesh, write_mesh

Options = argparse.Namespace


def _input(parser: argparse.ArgumentParser, output: bool = True) -> None:
    parser.add_argument("input", metavar="IN")
    if output:
        parser.add_argument("output", metavar="OUT")


# ---- remesh ----------------------------------------------------------------------------------


def _add_auto(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--quads", type=int, default=0, metavar="N", help="how many quads are wanted")
    parser.add_argument("--sharp", type=float, default=38.0, metavar="DEGREES", help="creases above this angle (38)")


def _add_remesh(parser: argparse.ArgumentParser) -> None:
    _input(parser)
    _add_auto(parser)
    parser.add_argument("--edge", type=float, default=0.0, metavar="LENGTH", help="a wanted length of edges instead")
    parser.add_argument("--gap", type=float, default=0.0, metavar="PERCENT",
                        help="the largest gap to the source instead, in %% of its diagonal")  # fmt: skip
    parser.add_argument("--mirror", choices=("x", "y", "z"), default="", help="both sides of this plane alike, exactly")
    parser.add_argument("--across", action="store_true", help="with --mirror: a row of quads across the plane")
    parser.add_argument(
        "--form", type=float, default=60.0, metavar="PERCENT", help="how much closer in bends, 0 to 100 (60)"
    )
    parser.add_argument("--crease-length", type=float, default=8.0, metavar="QUADS",
                        help="creases shorter than so many quads are left out (8)")  # fmt: skip
    parser.add_argument(
        "--guides", metavar="FILE", help="JSON: a list of curves of 3D points; {points, soft, closed} too"
    )
    parser.add_argument("--as-is", action="store_true", help="lay no closed skin over a torn scan; keep its holes")
    parser.add_argument("--density", metavar="FILE", help="JSON: a list of {point, radius, factor}")


def _auto_settings(options: Options) -> AutoSettings:
    edge, most = getattr(options, "edge", 0.0), getattr(options, "gap", 0.0)
    if edge < 0 or most < 0:
        raise MeshError("A length of edges or a largest gap has to be over 0.")
    if not options.quads and not edge and not most:
        raise MeshError("Say how many quads are wanted with --quads N (remesh also takes --edge or --gap).")
    if options.quads and options.quads < 12:
        raise MeshError(f"{options.quads} quads cannot cover a form; ask for 12 or more.")
    if not 0 < options.sharp <= 180:
        raise MeshError(f"A sharp angle of {options.sharp:g}° makes no sense; give 1 to 180.")
    form, shortest = getattr(options, "form", 60.0), getattr(options, "crease_length", 8.0)
    if not (0 <= form <= 100 and 0 <= shortest < 1e6):
        raise MeshError("Closer in bends goes from 0 to 100 %, the least length of creases from 0 quads up.")
    return AutoSettings(
        quads=options.quads or 1000, sharp=options.sharp, form=0.01 * form, shortest=shortest,
        across=getattr(options, "across", False), edge=0.0 if options.quads else edge,
        mirror=getattr(options, "mirror", ""), guides=read_guides(getattr(options, "guides", None)),
        spots=read_spots(getattr(options, "density", None)), skin=not getattr(options, "as_is", False),
    )  # fmt: skip


def remesh(options: Options) -> int:
    """cover a dense mesh with quads"""
    start = time.perf_counter()
    output, settings = checked_output(options.output), _auto_settings(options)
    progress = terminal_progress(options.quiet)
    source = read_mesh(options.input)
    if options.gap > 0 and not options.quads and not options.edge:
        result = quads_within_gap(source, settings, options.gap, progress)
    else:
        result = automatic_quads(source, settings, progress)
    write_mesh(result.mesh, output)
    figures = result.figures
    write_report(options.report, {
        **base_report("remesh", options, start), "quads": figures.as_dict(),
        "field_singularities": result.field_singularities, "notes": list(result.notes),
    })  # fmt: skip
    for note in result.notes:
        say(options, note)
    say(options, f"{figures.quads:,} quads, {figures.irregular_percent:.1f} % irregular points, "
                  f"mean gap {figures.gap_out_mean:.3f} % → {output}")  # fmt: skip
    return 0


# ---- unwrap ----------------------------------------------------------------------------------


def _add_unwrap(parser: argparse.ArgumentParser) -> None:
    _input(parser)
    parser.add_argument("--seams", choices=("keep", "auto", "angle"), default="keep",
                        help="keep the file's UV cuts, suggest new ones, or cut above an angle")  # fmt: skip
    parser.add_argument("--angle", type=float, default=60.0, metavar="DEGREES", help="for --seams angle (60)")


def unwrap_verb(options: Options) -> int:
    """lay a mesh flat along its seams"""
    start = time.perf_counter()
    output, progress = checked_output(options.output), terminal_progress(options.quiet)
    mesh = _with_seams(read_mesh(options.input), options.seams, options.angle)
    flat, islands = unwrap(mesh, progress=progress)
    bad = [i for i in islands if not i.flat]
    if len(bad) == len(islands):
        raise MeshError(f"No island could open flat: {bad[0].problem} Try --seams auto.")
    write_mesh(flat, output)
    assert flat.uv is not None
    stretch = measure_stretch(flat, flat.uv)
    checks = seam_checks(flat) + flatten_checks(flat, stretch)
    write_report(options.report, {
        **base_report("unwrap", options, start), "stretch": stretch.as_dict(),
        "problems": [i.problem for i in bad], "checks": [c.as_dict() for c in checks],
    })  # fmt: skip
    for island in bad:
        say(options, f"{len(island.faces)} faces stay unmapped: {island.problem}")
    say(options, f"{stretch.islands} islands, mean stretch {stretch.dirichlet:.3f} → {output}")
    return 1 if bad else 0


def _with_seams(mesh: PolyMesh, how: str, angle: float) -> PolyMesh:
    if how == "auto":
        return suggest_seams(mesh)
    if how == "angle":
        return cut_edges(mesh.with_mark("seam", np.zeros((0, 2))), sharp_edges(mesh, angle))
    if mesh.uv is None:
        raise MeshError("The file has no UVs whose cuts could be kept; use --seams auto or --seams angle.")
    return mesh.with_mark("seam", uv_border_pairs(mesh, mesh.uv))


# ---- pack ------------------------------------------------------------------------------------


def _add_sheet(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--size", type=int, default=1024, metavar="PX", help="sheet size in pixels (1024)")
    parser.add_argument("--margin", type=float, default=8.0, metavar="PX", help="pixels between islands (8)")
    parser.add_argument("--turn", choices=("free", "quarter", "none"), default="free", help="how islands may turn")


def _add_pack(parser: argparse.ArgumentParser) -> None:
    _input(parser)
    _add_sheet(parser)


def _pack_settings(options: Options) -> PackSettings:
    return PackSettings(options.size, options.margin, options.turn)


def pack_verb(options: Options) -> int:
    """lay islands on a sheet at one texel density"""
    start = time.perf_counter()
    output, progress = checked_output(options.output), terminal_progress(options.quiet)
    mesh = read_mesh(options.input)
    if mesh.uv is None:
        raise MeshError("The file has no UVs to pack; run 'jacket unwrap' on it first.")
    mesh = mesh.with_mark("seam", uv_border_pairs(mesh, mesh.uv))
    result = pack(Islands.of(mesh), _pack_settings(options), progress)
    packed = mesh.with_uv(result.uv)
    write_mesh(packed, output)
    checks = layout_checks(packed, options.size, options.margin)
    write_report(options.report, {
        **base_report("pack", options, start), "use": result.use, "density": result.density,
        "checks": [c.as_dict() for c in checks],
    })  # fmt: skip
    say(options, f"{100 * result.use:.1f} % of the sheet used, {result.density:.1f} px per unit → {output}")
    return 0


# ---- deliver ---------------------------------------------------------------------------------


def _add_deliver(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("input", metavar="IN")
    parser.add_argument("output", metavar="OUTDIR")
    parser.add_argument("--profile", choices=sorted(PROFILES), default="y-up-metres")
    parser.add_argument("--source", metavar="IN", help="the dense mesh, to measure gaps against")
    parser.add_argument("--size", type=int, default=1024, metavar="PX", help="sheet size in pixels (1024)")
    parser.add_argument("--margin", type=float, default=8.0, metavar="PX", help="margin the checks ask for (8)")


def deliver(options: Options) -> int:
    """check a finished jacket and write the files of a profile"""
    start = time.perf_counter()
    mesh = read_mesh(options.input)
    if mesh.uv is not None:
        mesh = mesh.with_mark("seam", uv_border_pairs(mesh, mesh.uv))
    source = read_mesh(options.source) if options.source else None
    surface = Bvh.build(source.points, source.triangle_points) if source is not None else None
    checks = delivery_checks(mesh, source, surface, options.size, options.margin)
    report = {**base_report("deliver", options, start), "profile": options.profile}
    return _finish(options, mesh, checks, report, Path(options.input).stem)


def _finish(options: Options, mesh: PolyMesh, checks: list[Check], report: dict[str, Any], stem: str) -> int:
    wrong = [c for c in checks if c.level == "wrong"]
    report = {**report, "checks": [c.as_dict() for c in checks], "ready": not wrong}
    written = deliver_files(
        mesh, Path(options.output), stem, options.profile, options.size, report_bytes(plain(report))
    )
    write_report(options.report, report)
    for path in written:
        say(options, f"wrote {path}")
    for check in wrong:
        say(options, f"check failed: {check.label} {check.value}")
    return 1 if wrong else 0


# ---- run -------------------------------------------------------------------------------------


def _add_run(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("input", metavar="IN")
    parser.add_argument("output", metavar="OUTDIR")
    _add_auto(parser)
    _add_sheet(parser)
    parser.add_argument("--profile", choices=sorted(PROFILES), default="y-up-metres")


def run(options: Options) -> int:
    """the whole job: quads, seams, flat islands, sheet, files"""
    start = time.perf_counter()
    auto, sheet = _auto_settings(options), _pack_settings(options)
    progress = terminal_progress(options.quiet)
    source = read_mesh(options.input)
    result = whole_job(source, auto, sheet, progress)
    report = {**base_report("run", options, start), "profile": options.profile, **result.figures}
    code = _finish(options, result.mesh, result.checks, report, Path(options.input).stem)
    for note in result.auto.notes:
        say(options, note)
    f = result.figures
    say(options, f"{f['quads']['quads']:,} quads, {f['stretch']['islands']} islands, stretch "
                  f"{f['stretch']['dirichlet']:.3f}, {100 * f['sheet']['use']:.0f} % of the sheet")  # fmt: skip
    progress(1.0, "done")
    return code


VERBS: dict[str, tuple[Callable[[argparse.ArgumentParser], None], Callable[[Options], int]]] = {
    "inspect": (add_inspect, inspect),
    "prepare": (add_prepare, prepare),
    "remesh": (_add_remesh, remesh),
    "unwrap": (_add_unwrap, unwrap_verb),
    "pack": (_add_pack, pack_verb),
    "refit": (add_refit, refit_verb),
    "deliver": (_add_deliver, deliver),
    "run": (_add_run, run),
}
