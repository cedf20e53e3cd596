"""The one tree of errors that Jacket raises on purpose.

Every message is a sentence for a person: what was wrong and what to do about it.
"""


class JacketError(Exception):
    """Base of all errors with a sentence fit to be shown."""


class MeshError(JacketError):
    """The arrays of a mesh contradict each other, or an operation does not fit it."""


class FormatError(JacketError):
    """A file could not be read or written."""


class WouldOverwrite(FormatError):
    """A delivery would replace files that Jacket did not write as they are now."""


class EditRefused(JacketError):
    """An edit would leave the mesh worse than sound; nothing was changed."""


class SolveError(JacketError):
    """A linear system could not be solved, with the reason in plain words."""


class Cancelled(JacketError):
    """The user stopped a long piece of work."""

    def __init__(self) -> None:
        super().__init__("Stopped before it was finished; nothing was changed.")
