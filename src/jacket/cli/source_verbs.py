"""The verbs of the Source stage: inspect, prepare, refit."""

from __future__ import annotations

import argparse
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from jacket.cli.numbers import number, whole
from jacket.cli.outputs import guard, mesh_files
from jacket.cli.terminal import base_report, print_table, say, terminal_progress, write_report
from jacket.core.checks.source import source_checks
from jacket.core.fit.refit import Refit, refit
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source import placing
from jacket.core.source.crossings import crossing_pairs
from jacket.core.source.health import Health, examine, welded_copy
from jacket.core.source.symmetry import axis_plane, difference, find_plane
from jacket.core.space.bvh import Bvh
from jacket.document.state import State
from jacket.errors import FormatError, MeshError
from jacket.formats.mesh.registry import format_of, read_mesh, write_mesh
from jacket.formats.project.claim import claim
from jacket.formats.project.records import load_project, save_project
from jacket.formats.report import plain, report_bytes
from jacket.jobs.mend import MendSettings
from jacket.jobs.prepare import PrepareSettings
from jacket.jobs.prepare import prepare as prepare_job
from jacket.jobs.refit import refit_all
from jacket.progress import Progress

Options = argparse.Namespace


def checked_output(options: Options, *also: str | None) -> Path:
    """The mesh that is going to be written. Refuses one that cannot be or must not be, before any work is done."""
    path = Path(options.output)
    if format_of(path).write is None:
        raise FormatError(f"{path.name} cannot be written; choose .obj, .ply, .stl or .glb.")
    guard([options.input, *also], mesh_files(path), options.report, options.force)
    return path


# ---- inspect -------------------------------------------------------------------------------------------


def add_inspect(parser: argparse.ArgumentParser) -> None:
    """Options of inspect."""
    parser.add_argument("input", metavar="IN")
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")
    parser.add_argument("--crossings", action="store_true", help="count self-intersections too")
    parser.add_argument("--mirror", action="store_true", help="measure the mirror planes and look for the best one")


def inspect(options: Options) -> int:
    """what is in a mesh and what is wrong with it"""
    start = time.perf_counter()
    progress = terminal_progress(options.quiet or options.json)
    guard([options.input], [], options.report, options.force)
    mesh = read_mesh(options.input, progress)
    health = examine(mesh)
    crossings, extra = None, dict[str, Any]()
    if options.crossings:
        joined = welded_copy(mesh)
        crossings = crossing_pairs(Bvh.build(joined.points, joined.triangle_points), progress)
        extra["self_intersections"] = len(crossings)
    if options.mirror:
        extra["mirror"] = _mirror(mesh, progress)
    checks = source_checks(health, crossings)
    report = {**base_report("inspect", options, start), "health": health.as_dict(), **extra,
              "materials": [m.name for m in mesh.materials], "groups": list(mesh.groups),
              "checks": [c.as_dict() for c in checks]}  # fmt: skip
    write_report(options.report, report)
    if options.json:
        print(report_bytes(plain(report)).decode(), end="")
        return 0
    print_table(_rows(health, extra))
    return 0


def _mirror(mesh: PolyMesh, progress: Progress) -> dict[str, Any]:
    surface = Bvh.build(mesh.points, mesh.triangle_points)
    out: dict[str, Any] = {}
    for axis in "xyz":
        far = difference(mesh, surface, axis_plane(axis))
        out[axis] = {"mean_percent": far.mean(), "largest_percent": far.max()}
    best = find_plane(mesh, surface, progress)
    out["best"] = {"normal": best.normal.tolist(), "offset": best.offset, "mean_percent": best.mean}
    return out


def _rows(health: Health, extra: dict[str, Any]) -> list[tuple[str, str]]:
    holes = ", ".join(f"{p:.4g}" for p in health.border_perimeters[:5])
    parts = ", ".join(f"{n:,}" for n in health.part_faces[:5])
    rows = [
        ("triangles", f"{health.triangles:,} in {health.faces:,} faces over {health.points:,} points"),
        ("size", " × ".join(f"{s:.4g}" for s in health.size)),
        ("area, volume", f"{health.area:.5g}, {'open' if health.volume is None else f'{health.volume:.5g}'}"),
        ("seems to stand along", health.up or "no flat foot"),
        ("borders", f"{health.borders}" + (f" ({holes} long)" if holes else "")),
        ("loose parts", f"{health.parts} ({parts} faces)"),
        ("non-manifold edges, points", f"{health.nonmanifold_edges}, {health.nonmanifold_points}"),
        ("uneven winding, inside out", f"{health.winding_edges} edges, {health.inside_out_parts} parts"),
        ("duplicate faces", str(health.duplicate_faces)),
        ("faces without area", str(health.degenerate_faces)),
        ("spikes, stray points", f"{health.spikes}, {health.strays}"),
        ("density spread", f"{health.density_spread:.1f} ×"),
        ("Euler characteristic", str(health.euler)),
        ("materials, groups", f"{health.materials}, {health.groups}"),
    ]
    if "self_intersections" in extra:
        rows.append(("self-intersections", f"{extra['self_intersections']:,} pairs"))
    if "mirror" in extra:
        best = extra["mirror"]["best"]
        normal = ", ".join(f"{v:.3f}" for v in best["normal"])
        rows.append(("best mirror plane", f"({normal}) at {best['offset']:.4g}, {best['mean_percent']:.2f} % off"))
    rows += [("left out", reason) for reason in health.left_out[:3]]
    return [*rows, ("sound", "yes" if health.sound else "no")]


# ---- prepare -------------------------------------------------------------------------------------------


def add_prepare(parser: argparse.ArgumentParser) -> None:
    """Options of prepare; they are carried out in the order of the help."""
    parser.add_argument("input", metavar="IN")
    parser.add_argument("output", metavar="OUT")
    parser.add_argument("--mend", action="store_true", help="the same as --drop-repeats --split --turn-outward")
    parser.add_argument("--weld", type=number(0, 1e12), metavar="LENGTH",
                        help="join points closer than this, 0 for those at one place")
    parser.add_argument("--drop-repeats", action="store_true", help="drop faces that repeat others or have no area")
    parser.add_argument("--split", action="store_true", help="come apart where the surface is not manifold")
    parser.add_argument("--keep", type=whole(1, 10**9), metavar="N", help="keep the N largest loose parts, 1 or more")
    parser.add_argument("--turn-outward", action="store_true", help="make winding even and outward")
    parser.add_argument("--close-holes", metavar="LENGTH", help="close holes up to this perimeter, or 'all'")
    parser.add_argument("--smooth", type=whole(1, 1000), metavar="ROUNDS", help="smooth noise over so many rounds, 1 to 1,000")
    parser.add_argument("--sharp", type=number(0, 180), default=45.0, metavar="DEGREES", help="edges --smooth keeps, 0 to 180 (45)")
    parser.add_argument("--reduce", type=whole(4, 10**9), metavar="N", help="reduce to N triangles, 4 or more")
    parser.add_argument("--unit", choices=sorted(placing.UNITS), help="what a length of 1 means in the file")
    parser.add_argument("--scale", type=number(1e-9, 1e9), metavar="FACTOR", help="scale about the origin, 1e-9 to 1e9")
    parser.add_argument("--up", choices=placing.UP_AXES, help="which axis is up in the file; Y afterwards")
    parser.add_argument("--stand-flat", action="store_true", help="stand on the largest flat part")
    parser.add_argument("--mirror-to-x", action="store_true", help="find the mirror plane and make it the X plane")
    parser.add_argument("--ground", action="store_true", help="put the lowest point on the ground")
    parser.add_argument("--centre", action="store_true", help="put the middle over the origin")


def prepare(options: Options) -> int:
    """mend a source, set it upright and to size"""
    start = time.perf_counter()
    output, progress = checked_output(options), terminal_progress(options.quiet)
    settings = _prepare_settings(options).checked()
    mesh = read_mesh(options.input, progress)
    before = examine(mesh)
    done = prepare_job(mesh, settings, progress)
    for sentence in done.said:
        say(options, f"{sentence}.")
    write_mesh(done.mesh, output)
    after = examine(done.mesh)
    write_report(options.report, {
        **base_report("prepare", options, start), "steps": list(done.said), "matrix": done.matrix.tolist(),
        "before": before.as_dict(), "after": after.as_dict(),
    })  # fmt: skip
    say(options, f"{after.triangles:,} triangles, {after.borders} holes, {after.parts} "
                 f"part{'' if after.parts == 1 else 's'} → {output}")  # fmt: skip
    return 0


def _longest(typed: str | None) -> float:
    if typed is None or typed == "all":
        return 0.0 if typed is None else np.inf
    try:
        return float(typed)
    except ValueError:
        raise MeshError(f"A perimeter of '{typed}' makes no sense; type a number or 'all'.") from None


def _prepare_settings(options: Options) -> PrepareSettings:
    """What was asked for."""
    wanted = {
        "weld-points": options.weld is not None,
        "drop-repeats": options.mend or options.drop_repeats,
        "split-nonmanifold": options.mend or options.split,
        "keep-largest": options.keep is not None,
        "turn-outward": options.mend or options.turn_outward,
        "close-holes": options.close_holes is not None,
        "smooth-noise": options.smooth is not None,
        "reduce": options.reduce is not None,
    }
    usual = MendSettings()
    mending = MendSettings(
        keep=usual.keep if options.keep is None else options.keep, hole=_longest(options.close_holes),
        weld=usual.weld if options.weld is None else max(options.weld, 1e-300) if options.weld >= 0 else options.weld,
        rounds=usual.rounds if options.smooth is None else options.smooth, sharp=options.sharp,
        reduce=usual.reduce if options.reduce is None else options.reduce,
    )  # fmt: skip
    return PrepareSettings(
        frozenset(k for k, on in wanted.items() if on), mending, options.unit or "",
        0.0 if options.scale is None else options.scale or np.nan, options.up or "", options.stand_flat,
        options.mirror_to_x, options.ground, options.centre,
    )  # fmt: skip


# ---- refit ---------------------------------------------------------------------------------------------


def add_refit(parser: argparse.ArgumentParser) -> None:
    """Options of refit."""
    parser.add_argument("jacket", metavar="JACKET", help="a mesh, or a project whose jackets and source are meant")
    parser.add_argument("input", metavar="NEW_SOURCE")
    parser.add_argument("output", metavar="OUT", help="a mesh, or a project where JACKET is one")
    parser.add_argument(
        "--old", metavar="OLD_SOURCE", help="the source it was made for; lifted points stay lifted then"
    )


def refit_verb(options: Options) -> int:
    """fit a jacket to a new version of its source; quads, seams and UVs stay"""
    start = time.perf_counter()
    progress = terminal_progress(options.quiet)
    project = Path(options.jacket).suffix.lower() == ".jacket"
    if project != (Path(options.output).suffix.lower() == ".jacket"):
        raise FormatError("A project is refitted to a project and a mesh to a mesh; change the ending of the output.")
    if project:
        guard([options.jacket, options.input], [Path(options.output)], options.report, options.force)
        results = _refit_project(options, progress)
    else:
        output = checked_output(options, options.jacket, options.old)
        jacket, new = read_mesh(options.jacket), read_mesh(options.input)
        old = read_mesh(options.old) if options.old else None
        result = refit(jacket, _surface(new), new.diagonal, _surface(old) if old is not None else None, progress)
        write_mesh(result.mesh, output)
        results = [result]
    moved = np.concatenate([r.moved for r in results]) if results else np.zeros(1)
    poor = [r.mesh.points[p].tolist() for r in results for p in r.poor]
    write_report(options.report, {
        **base_report("refit", options, start), "moved_percent": {"mean": moved.mean(), "largest": moved.max()},
        "poor": [{"point": int(p), "at": r.mesh.points[p].tolist()} for r in results for p in r.poor],
    })  # fmt: skip
    say(options, f"moved by {moved.mean():.2f} % of the diagonal on average, {moved.max():.2f} % at most; "
                 f"{len(poor)} points refitted badly → {options.output}")  # fmt: skip
    return 0


def _surface(mesh: PolyMesh) -> Bvh:
    return Bvh.build(mesh.points, mesh.triangle_points)


def _refit_project(options: Options, progress: Progress) -> list[Refit]:
    """Swap the project's source for the new one, moved as the old one was, and refit its jackets."""
    state: State = load_project(Path(options.jacket))
    source = state.chosen_source
    if source is None:
        raise MeshError("The project has no source that could be swapped.")
    new = placing.placed(read_mesh(options.input), source.placing)
    done = refit_all({j.id: j.mesh for j in state.jackets}, new, _surface(new), _surface(source.mesh), progress)
    jackets = tuple(replace(j, mesh=done.jackets.get(j.id, j.mesh)) for j in state.jackets)
    path = Path(options.input).resolve()
    status = path.stat()
    fresh = replace(source, mesh=new, path=str(path), stamp=(status.st_mtime_ns, status.st_size))
    held = claim(Path(options.output))
    try:
        save_project(state.with_source(fresh).with_(jackets=jackets), Path(options.output))
    finally:
        held.let_go()
    return list(done.results.values())
