"""`jacket`: verbs go to the command line, anything else opens the window."""

from __future__ import annotations

import sys


def main() -> int:
    """Decide by the first word, so that the command line never loads Qt."""
    from jacket.cli.verbs import VERBS

    first = sys.argv[1] if len(sys.argv) > 1 else ""
    if first in VERBS or first in ("-h", "--help", "--version"):
        from jacket.cli.main import main as command_line

        return command_line()
    from jacket.qt.app import main as window

    return window()


if __name__ == "__main__":
    sys.exit(main())
