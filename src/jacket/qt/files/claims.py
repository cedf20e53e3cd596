"""Which project file this window holds, and whether it may be written to."""

from __future__ import annotations

from pathlib import Path

from jacket.formats.project.claim import Claim, InUse, claim
from jacket.stages.source.reading import Stamp, stamp_of


class Claims:
    """The claim on the present project and what its file looked like when it was last read or written here."""

    def __init__(self) -> None:
        self._claim: Claim | None = None
        self._stamp: tuple[str, Stamp] = ("", (0, 0))

    def take(self, path: str, stamp: Stamp | None = None) -> str:
        """Hold another project from now on, or none for "", whose file was as `stamp` says; what speaks against it, or ""."""
        if path:
            self._stamp = (path, stamp if stamp is not None else stamp_of(path))
        if self._claim is not None and path and self._claim.path == Path(path):
            return ""
        if self._claim is not None:
            self._claim.let_go()
            self._claim = None
        try:
            self._claim = claim(Path(path)) if path else None
        except InUse as error:
            return str(error)
        return ""

    def saved(self, path: str) -> None:
        """The file was written here just now."""
        self._stamp = (path, stamp_of(path))

    def against(self, path: str) -> str:
        """Hold a project to save it there; why that is not possible, or "". What was held is let go of only where it is."""
        if self._claim is not None and self._claim.path == Path(path):
            return ""
        try:
            new = claim(Path(path))
        except InUse as error:
            return str(error)
        if self._claim is not None:
            self._claim.let_go()
        self._claim, self._stamp = new, (path, self._stamp[1] if self._stamp[0] == path else (0, 0))
        return ""

    @property
    def stamp(self) -> Stamp:
        """What the file of the present project looked like when it was last read or written here."""
        return self._stamp[1]

    def changed(self, path: str) -> bool:
        """Whether somebody else wrote the file since it was read or written here."""
        known, now = self._stamp[1], stamp_of(path)
        return self._stamp[0] == path and known != (0, 0) and now not in ((0, 0), known)

    def let_go(self) -> None:
        """Hold nothing any more."""
        self.take("")
