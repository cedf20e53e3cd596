"""`jacket`: verbs go to the command line, anything else opens the window."""

from __future__ import annotations

import ctypes
import difflib
import os
import sys
from pathlib import Path


def main() -> int:
    """Decide by the first word, so that the command line never loads Qt."""
    from jacket.cli.stopping import INTERRUPTS, say_stopped

    first = sys.argv[1] if len(sys.argv) > 1 else ""
    INTERRUPTS.listen()
    try:
        from jacket.cli.verbs import VERBS

        if first in VERBS or first in ("-h", "--help", "--version"):
            from jacket.cli.main import main as command_line

            code = command_line()
            INTERRUPTS.deaf()
            return code
    except KeyboardInterrupt:
        return say_stopped()
    INTERRUPTS.usual()
    wrong = neither_verb_nor_file(first, tuple(VERBS)) or no_window()
    if wrong:
        print(f"jacket: {wrong}", file=sys.stderr)
        return 2
    try:
        from jacket.qt.app import main as window
    except ImportError as error:
        print(f"jacket: the window cannot open, since something is missing: {error}.", file=sys.stderr)
        return 2
    return window()


def neither_verb_nor_file(word: str, verbs: tuple[str, ...]) -> str:
    """A sentence where the first word is no option, no verb and nothing on disk; else ""."""
    if not word or word == "demo" or word.startswith("-") or Path(word).suffix or os.sep in word or Path(word).exists():
        return ""
    near = difflib.get_close_matches(word, verbs, 1)
    hint = f"did you mean '{near[0]}'?" if near else f"verbs are {', '.join(verbs)}."
    return f"there is no verb and no file '{word}'; {hint}"


def no_window() -> str:
    """A sentence where there is no screen to open a window on, which Qt would answer with a signal; else ""."""
    if not sys.platform.startswith("linux") or os.environ.get("WAYLAND_DISPLAY"):
        return ""
    if os.environ.get("QT_QPA_PLATFORM", "xcb").split(":")[0] != "xcb":
        return ""
    display = os.environ.get("DISPLAY", "")
    if not display:
        return "there is no screen to open a window on (DISPLAY is not set); 'jacket --help' lists what works without one."
    try:
        xcb = ctypes.CDLL("libxcb.so.1")
    except OSError:
        return "the window cannot open, since libxcb is missing; type: sudo apt-get install libxcb-cursor0."
    xcb.xcb_connect.restype = ctypes.c_void_p
    xcb.xcb_connection_has_error.argtypes = xcb.xcb_disconnect.argtypes = [ctypes.c_void_p]
    connection = xcb.xcb_connect(None, None)
    failed = bool(xcb.xcb_connection_has_error(connection))
    xcb.xcb_disconnect(connection)
    return f"the screen '{display}' cannot be reached; check DISPLAY and whether it admits this user." if failed else ""


if __name__ == "__main__":
    sys.exit(main())
