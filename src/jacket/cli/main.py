"""`jacket VERB …`: parse, run, report; exit codes 0, 1, 2 and 130."""

from __future__ import annotations

import argparse
import sys
import warnings
from collections.abc import Sequence

import numpy as np

from jacket import __version__
from jacket.cli import verbs
from jacket.cli.numbers import whole
from jacket.cli.stopping import INTERRUPTS, say_stopped
from jacket.errors import Cancelled, JacketError

DONE, CHECK_FAILED, BAD_INPUT = 0, 1, 2


class _Parser(argparse.ArgumentParser):
    """Usage errors as one sentence and exit code 2."""

    def error(self, message: str) -> None:  # type: ignore[override]
        self.exit(BAD_INPUT, f"jacket: {message}; see 'jacket {self.prog.split(' ', 1)[-1]} --help'.\n")


def build_parser() -> argparse.ArgumentParser:
    """The parser of every verb."""
    parser = _Parser(
        prog="jacket", description="An all-quad mesh fitted over a dense one, unwrapped, packed, delivered."
    )
    parser.add_argument("--version", action="version", version=f"jacket {__version__}")
    verb = parser.add_subparsers(dest="verb", required=True, parser_class=_Parser, metavar="VERB")
    common = _Parser(add_help=False)
    common.add_argument("--report", metavar="FILE.json", help="write figures and checks as JSON")
    common.add_argument("--quiet", action="store_true", help="no progress")
    common.add_argument("--force", action="store_true", help="write over the files that are read, where that is meant")
    common.add_argument("--seed", type=whole(0, 2**63 - 1), default=0, help="of the search for a tighter packing; nothing else hangs on chance (0)")
    for name, (add, run) in verbs.VERBS.items():
        sub = verb.add_parser(name, parents=[common], help=run.__doc__, description=run.__doc__)
        add(sub)
        sub.set_defaults(run=run)
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one verb; returns the exit code."""
    try:
        options = build_parser().parse_args(arguments)
    except SystemExit as stop:
        return int(stop.code or 0)
    # Warnings of libraries about numbers help nobody at a prompt; what matters of them is checked and said.
    np.seterr(all="ignore")
    warnings.simplefilter("ignore", RuntimeWarning)
    try:
        return int(options.run(options))
    except (KeyboardInterrupt, Cancelled):
        return say_stopped()
    except JacketError as error:
        if INTERRUPTS.came:
            return say_stopped()
        print(f"jacket: {error}", file=sys.stderr)
        return BAD_INPUT
    except Exception:
        if INTERRUPTS.came:
            return say_stopped()
        raise


if __name__ == "__main__":
    sys.exit(main())
