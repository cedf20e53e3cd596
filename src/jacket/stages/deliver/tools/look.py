"""Look turns the light about the form, and wipes between the light mesh and the dense one."""

from __future__ import annotations

from jacket.tools.base import Tool
from jacket.tools.events import Ghost, Pointer

NEAR = 8.0
"""Pixels from the wipe within which it is taken."""


class Look(Tool):
    """A drag turns the light while the form stands still; a drag at the wipe moves it."""

    id, label, stage, key = "look", "Look", "deliver", "V"
    legend = (("drag", "turn the light about the form"), ("drag the line", "wipe between light and dense"),
              ("Ctrl+wheel", "move the wipe"))  # fmt: skip
    actions = ("next-lamps", "wipe")
    _from: float | None = None
    _wiping = False

    @property
    def busy(self) -> bool:
        """Whether the light or the wipe is being moved."""
        return self._from is not None

    def hover(self, pointer: Pointer) -> None:
        """Say so over the wipe."""
        self.ghost = Ghost(what="Wipe: light | dense", how="drag") if self._over(pointer) else Ghost()

    def _over(self, pointer: Pointer) -> bool:
        return pointer.form is not None and self.settings.wipe < 1.0 and abs(pointer.x - self.settings.wipe * pointer.form.width) < NEAR

    def press(self, pointer: Pointer) -> None:
        """Take the light, or the wipe."""
        if pointer.form is not None:
            self._from, self._wiping = pointer.x, self._over(pointer)

    def move(self, pointer: Pointer) -> None:
        """Half a degree a pixel; the wipe goes with the pointer."""
        if self._from is None or pointer.form is None:
            return
        if self._wiping:
            self.settings.wipe = min(max(pointer.x / pointer.form.width, 0.02), 1.0)
        else:
            self.settings.lamp_turn = (self.settings.lamp_turn + 0.5 * (pointer.x - self._from)) % 360.0
        self._from = pointer.x
        self.ghost = Ghost(what="Wipe: light | dense" if self._wiping else f"Light at {self.settings.lamp_turn:.0f}°")

    def release(self, pointer: Pointer) -> None:
        """Let it stand."""
        self._from = None

    def ctrl_wheel(self, steps: float, pointer: Pointer) -> bool:
        """Move the wipe."""
        self.settings.wipe = min(max(self.settings.wipe + 0.03 * steps, 0.02), 1.0)
        self.ghost = Ghost(what=f"Light {100 * self.settings.wipe:.0f} %, dense beside it")
        return True

    def cancel(self) -> bool:
        """Let the light stand where it is."""
        had, self._from = self.busy, None
        self.ghost = Ghost()
        return had
