"""Ctrl+C at any moment: one sentence, exit code 130, wherever the work was just then."""

from __future__ import annotations

import os
import signal
import sys
from types import FrameType

STOPPED = 130
SENTENCE = "\njacket: stopped; nothing was written.\n"


class Interrupts:
    """Remembers that the user has interrupted: inside compiled code and libraries the interrupt comes out as errors of
    other kinds, and then the sentence is the same."""

    def __init__(self) -> None:
        self.came = False

    def listen(self) -> None:
        """From now on; only the main thread of a process may."""
        try:
            signal.signal(signal.SIGINT, self._heard)
        except ValueError:
            return

    def deaf(self) -> None:
        """The work is done: nothing is left that could be stopped."""
        try:
            signal.signal(signal.SIGINT, signal.SIG_IGN)
        except ValueError:
            return

    def usual(self) -> None:
        """As Python does by itself."""
        signal.signal(signal.SIGINT, signal.default_int_handler)

    def _heard(self, number: int, frame: FrameType | None) -> None:
        if self.came:
            # Once more: whatever holds it up is not waited for. What is written goes to its place whole or not at all.
            os.write(2, SENTENCE.encode())
            os._exit(STOPPED)
        self.came = True
        raise KeyboardInterrupt


INTERRUPTS = Interrupts()


def say_stopped() -> int:
    """The sentence; the exit code."""
    sys.stderr.write(SENTENCE)
    return STOPPED
