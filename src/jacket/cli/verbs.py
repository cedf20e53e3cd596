"""What each verb takes and does."""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from jacket.cli.deliver_verbs import (
    add_bake,
    add_deliver,
    add_intake,
    bake_verb,
    deliver_verb,
    failed,
    guard_folder,
    intake_verb,
    told,
)
from jacket.cli.layout_verbs import (
    add_pack,
    add_picture,
    add_search,
    add_sheet,
    pack_verb,
    picture_verb,
    search_wanted,
    sheets_wanted,
)
from jacket.cli.numbers import number, ranged, whole
from jacket.cli.source_verbs import add_inspect, add_prepare, add_refit, checked_output, inspect, prepare, refit_verb
from jacket.cli.terminal import base_report, say, terminal_progress, write_report
from jacket.core.checks.layout import flatten_checks, seam_checks
from jacket.core.checks.topology import uncovered
from jacket.core.derive import sky_of
from jacket.core.flatten.stretch import measure_stretch
from jacket.core.quads.auto import MOST_QUADS
from jacket.core.quads.figures import measure_quads
from jacket.core.quads.settings import AutoSettings
from jacket.core.seams.measure import seam_figures
from jacket.core.space.bvh import Bvh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import cut_flags
from jacket.errors import MeshError
from jacket.formats.curves import read_guides, read_spots
from jacket.formats.deliver.profiles import PROFILES
from jacket.formats.mesh.registry import read_mesh, write_mesh
from jacket.jobs.deliver import DeliverLayer, DeliverSettings
from jacket.jobs.deliver import deliver as deliver_job
from jacket.jobs.remesh import RemeshSettings
from jacket.jobs.remesh import remesh as remesh_job
from jacket.jobs.run import RunSettings, whole_job
from jacket.jobs.seams import LONGEST, MOST, STRETCH, WAYS, SeamSettings, seams
from jacket.jobs.unwind import UnwindSettings, unwind
from jacket.jobs.unwrap import unwrap

Options = argparse.Namespace


def _input(parser: argparse.ArgumentParser, output: bool = True) -> None:
    parser.add_argument("input", metavar="IN")
    if output:
        parser.add_argument("output", metavar="OUT")


# ---- remesh ----------------------------------------------------------------------------------


def _add_flow(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--sharp", type=number(1, 180), default=38.0, metavar="DEGREES",
                        help="edges that turn by more are creases, where little else turns beside them: 1 to 180 (38)")  # fmt: skip
    parser.add_argument("--rows", type=number(0, 100), default=75.0, metavar="PERCENT",
                        help="how much rows are made to close, against steps that are even: 0 to 100 (75)")  # fmt: skip


def _add_mirror(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--mirror", choices=("x", "y", "z"), default="", help="both sides of this plane alike, exactly")


def _add_auto(parser: argparse.ArgumentParser) -> None:
    _add_flow(parser)
    parser.add_argument("--quads", type=whole(12, MOST_QUADS), default=0, metavar="N",
                        help=f"how many quads are wanted, {ranged(12, MOST_QUADS)}")  # fmt: skip


def _add_remesh(parser: argparse.ArgumentParser) -> None:
    _input(parser)
    _add_auto(parser)
    parser.add_argument("--edge", type=number(1e-12, 1e12), default=0.0, metavar="LENGTH",
                        help=f"a wanted length of edges instead, {ranged(1e-12, 1e12)} and no more than {MOST_QUADS:,} quads")  # fmt: skip
    parser.add_argument("--gap", type=number(1e-4, 50), default=0.0, metavar="PERCENT",
                        help="the largest gap to the source instead, in %% of its diagonal, 0.0001 to 50")  # fmt: skip
    _add_mirror(parser)
    parser.add_argument("--across", action="store_true", help="with --mirror: a row of quads across the plane")
    parser.add_argument(
        "--form", type=number(0, 100), default=60.0, metavar="PERCENT", help="how much closer in bends, 0 to 100 (60)"
    )
    parser.add_argument("--crease-length", type=number(0, 1e6), default=8.0, metavar="QUADS",
                        help="creases shorter than so many quads are left out, 0 to 1,000,000 (8)")  # fmt: skip
    parser.add_argument(
        "--guides", metavar="FILE", help="JSON: a list of curves of 3D points; {points, soft, closed} too"
    )
    parser.add_argument("--as-is", action="store_true", help="mend nothing of a torn scan and lay no skin over it; keep its holes")
    parser.add_argument("--density", metavar="FILE", help="JSON: a list of {point, radius, factor}")


def _remesh_settings(options: Options) -> RemeshSettings:
    edge, most = getattr(options, "edge", 0.0), getattr(options, "gap", 0.0)
    if not options.quads and not edge and not most:
        raise MeshError("Say how many quads are wanted with --quads N (remesh also takes --edge or --gap).")
    auto = AutoSettings(
        quads=options.quads or 1000, sharp=options.sharp, form=0.01 * getattr(options, "form", 60.0),
        shortest=getattr(options, "crease_length", 8.0), across=getattr(options, "across", False),
        edge=0.0 if options.quads else edge, mirror=getattr(options, "mirror", ""),
        guides=read_guides(getattr(options, "guides", None)), spots=read_spots(getattr(options, "density", None)),
        skin=not getattr(options, "as_is", False), rows=0.01 * options.rows,
    )  # fmt: skip
    return RemeshSettings(auto, 0.0 if options.quads or edge else most).checked()


def remesh(options: Options) -> int:
    """cover a dense mesh with quads"""
    start = time.perf_counter()
    output, settings = checked_output(options), _remesh_settings(options)
    source = read_mesh(options.input)
    result = remesh_job(source, settings, terminal_progress(options.quiet))
    write_mesh(result.mesh, output)
    figures, checks = result.figures, [uncovered(result.mesh, source, finished=True)]
    write_report(options.report, {
        **base_report("remesh", options, start), "quads": figures.as_dict(),
        "field_singularities": result.field_singularities, "notes": list(result.notes),
        "checks": [c.as_dict() for c in checks],
    })  # fmt: skip
    for note in result.notes:
        say(options, note)
    say(options, f"{figures.quads:,} quads, {figures.irregular_percent:.1f} % irregular points, "
                  f"mean gap {figures.gap_out_mean:.3f} %, left uncovered {figures.gap_in_largest:.2f} % at most, longest ring "
                  f"{figures.longest_ring:.0f} % → {output}")  # fmt: skip
    return failed(options, [("", c) for c in checks if c.level == "wrong"])


# ---- unwind ----------------------------------------------------------------------------------


def _add_unwind(parser: argparse.ArgumentParser) -> None:
    _input(parser)
    parser.add_argument("--over", metavar="SOURCE", required=True, help="the dense mesh that the quads lie on")
    _add_flow(parser)
    _add_mirror(parser)


def unwind_verb(options: Options) -> int:
    """make the rows of a jacket close"""
    start = time.perf_counter()
    output = checked_output(options, options.over)
    jacket, source = read_mesh(options.input), read_mesh(options.over)
    surface = Bvh.build(source.points, source.triangle_points)
    settings = UnwindSettings(0.01 * options.rows, options.sharp, options.mirror)
    mesh, told = unwind(jacket, surface, settings, None, terminal_progress(options.quiet))
    write_mesh(mesh, output)
    figures = measure_quads(mesh, source, surface)
    write_report(options.report, {**base_report("unwind", options, start), "quads": figures.as_dict(), "notes": [told]})
    say(options, f"{told} → {output}")
    return 0


# ---- unwrap ----------------------------------------------------------------------------------


def _add_unwrap(parser: argparse.ArgumentParser) -> None:
    _input(parser)
    parser.add_argument("--seams", choices=WAYS, default="keep",
                        help="keep the file's UV cuts, suggest new ones, or cut above an angle")  # fmt: skip
    parser.add_argument("--angle", type=number(0, 180), default=60.0, metavar="DEGREES", help="for --seams angle, 0 to 180 (60)")
    _add_suggest(parser)
    _add_mirror(parser)


def _add_suggest(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--islands", type=whole(*MOST), default=SeamSettings.most, metavar="N",
                        help=f"suggested seams: islands wanted at most of a connected piece, {ranged(*MOST)} ({SeamSettings.most})")  # fmt: skip
    parser.add_argument("--stretch", type=number(*STRETCH), default=SeamSettings.stretch, metavar="S",
                        help=f"suggested seams: largest mean stretch of an island, {ranged(*STRETCH)} ({SeamSettings.stretch})")  # fmt: skip
    parser.add_argument("--longest", type=number(*LONGEST), default=SeamSettings.longest, metavar="L",
                        help=f"suggested seams: sides of a well filled sheet that a strip may be long, {ranged(*LONGEST)} ({SeamSettings.longest})")  # fmt: skip


def unwrap_verb(options: Options) -> int:
    """lay a mesh flat along its seams"""
    start = time.perf_counter()
    output, progress = checked_output(options), terminal_progress(options.quiet)
    settings = replace(_seam_settings(options), how=options.seams, angle=options.angle).checked()
    mesh = seams(read_mesh(options.input), settings, progress)
    done = unwrap(mesh, progress=progress)
    flat, bad = done.mesh, done.failed
    write_mesh(flat, output)
    stretch = measure_stretch(flat, Islands.of(flat).places)
    checks = seam_checks(flat) + flatten_checks(flat, figures=stretch)
    write_report(options.report, {
        **base_report("unwrap", options, start), "stretch": stretch.as_dict(),
        "seams": seam_figures(flat, cut_flags(flat), sky_of(flat)).as_dict(),
        "problems": [i.problem for i in bad], "checks": [c.as_dict() for c in checks],
    })  # fmt: skip
    for island in bad:
        say(options, f"{len(island.faces)} faces stay unmapped: {island.problem}")
    say(options, f"{stretch.islands} islands, mean stretch {stretch.dirichlet:.3f} → {output}")
    return 1 if bad else 0


# ---- run -------------------------------------------------------------------------------------


def _add_run(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("input", metavar="IN")
    parser.add_argument("output", metavar="OUTDIR")
    _add_auto(parser)
    _add_mirror(parser)
    _add_suggest(parser)
    add_sheet(parser)
    add_search(parser)
    parser.add_argument("--profile", choices=sorted(PROFILES), default="y-up-metres")


def run(options: Options) -> int:
    """the whole job: quads, seams, flat islands, sheets, files"""
    start = time.perf_counter()
    settings = RunSettings(_remesh_settings(options), _seam_settings(options), search_wanted(options), sheets_wanted(options)).checked()
    guard_folder(options)
    progress = terminal_progress(options.quiet)
    stem = Path(options.input).stem
    result = whole_job(read_mesh(options.input), settings, progress)
    report = {**base_report("run", options, start), **result.figures}
    done = deliver_job([DeliverLayer(stem, result.mesh)], Path(options.output),
                       DeliverSettings(options.profile, settings.sheets, stem, options.force), report=report,
                       checks={stem: result.checks})  # fmt: skip
    code = told(options, done)
    for note in result.auto.notes:
        say(options, note)
    f = result.figures
    say(options, f"{f['quads']['quads']:,} quads, {f['stretch']['islands']} islands, stretch "
                  f"{f['stretch']['dirichlet']:.3f}, {100 * f['sheet']['use']:.0f} % of the sheet")  # fmt: skip
    progress(1.0, "done")
    return code


def _seam_settings(options: Options) -> SeamSettings:
    return SeamSettings("auto", most=options.islands, stretch=options.stretch, mirror=options.mirror, longest=options.longest)


VERBS: dict[str, tuple[Callable[[argparse.ArgumentParser], None], Callable[[Options], int]]] = {
    "inspect": (add_inspect, inspect),
    "prepare": (add_prepare, prepare),
    "remesh": (_add_remesh, remesh),
    "unwind": (_add_unwind, unwind_verb),
    "unwrap": (_add_unwrap, unwrap_verb),
    "pack": (add_pack, pack_verb),
    "picture": (add_picture, picture_verb),
    "refit": (add_refit, refit_verb),
    "bake": (add_bake, bake_verb),
    "deliver": (add_deliver, deliver_verb),
    "intake": (add_intake, intake_verb),
    "run": (_add_run, run),
}
