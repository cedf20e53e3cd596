"""Progress and figures on a terminal."""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path
from typing import Any

from jacket import __version__
from jacket.formats.atomic import write_bytes
from jacket.formats.report import report_bytes
from jacket.progress import Progress, silent


def terminal_progress(quiet: bool) -> Progress:
    """A line that rewrites itself on a terminal; nothing when quiet or when output goes to a file."""
    if quiet or not sys.stderr.isatty():
        return silent
    last = [-1, ""]

    def show(fraction: float, what: str) -> None:
        step = int(fraction * 100)
        if [step, what] == last:
            return
        last[:] = [step, what]
        bar = "▪" * (step // 5) + "·" * (20 - step // 5)
        print(f"\r{bar} {step:3d} %  {what:<48.48}", end="\n" if step >= 100 else "", file=sys.stderr, flush=True)

    return show


def write_report(path: str | None, data: dict[str, Any]) -> None:
    """Write a report where one was asked for."""
    if path:
        write_bytes(Path(path), report_bytes(data))


def print_table(rows: list[tuple[str, str]]) -> None:
    """Two columns on standard output."""
    width = max((len(r[0]) for r in rows), default=0)
    for label, value in rows:
        print(f"{label:<{width}}  {value}")


def base_report(verb: str, options: argparse.Namespace, start: float) -> dict[str, Any]:
    """What every report begins with."""
    return {"jacket": __version__, "verb": verb, "input": options.input, "seed": options.seed,
            "seconds": round(time.perf_counter() - start, 3)}  # fmt: skip


def say(options: argparse.Namespace, line: str) -> None:
    """A line on standard output unless all is to be quiet."""
    if not options.quiet:
        print(line)
