"""Trials of the document as steps: kept, taken, thrown away; and which one is looked at."""

from __future__ import annotations

from typing import Any

from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.state import Held, JacketObject, Trial
from jacket.errors import JacketError


def add_trial(document: Document, mesh: PolyMesh, settings: dict[str, Any], figures: dict[str, Any]) -> Trial:
    """Keep an automatic result beside the jacket."""
    s = document.state
    number = len(s.trials) + 1
    trial = Trial(s.next_id, f"Trial {number}", mesh, settings, figures)
    document.apply("make a trial", s.with_(trials=(*s.trials, trial), next_id=s.next_id + 1,
                                        shown_trial=trial.id))  # fmt: skip
    return trial


def take_trial(document: Document, trial_id: int) -> None:
    """Make a trial the jacket: it joins what is drawn when the jacket is empty, else replaces it."""
    s = document.state
    trial = next((t for t in s.trials if t.id == trial_id), None)
    if trial is None:
        raise JacketError("That trial is gone; make a new one.")
    state = s.with_(trials=tuple(t for t in s.trials if t.id != trial_id))
    if s.jacket is None:
        jacket = JacketObject(s.next_id, "Jacket", trial.mesh)
        state = state.with_(jackets=(*s.jackets, jacket), active=jacket.id, next_id=s.next_id + 1, held=Held())
    else:
        document.open_jacket()
        state = state.with_jacket_mesh(trial.mesh, Held())
    document.apply(f"take {trial.name}", state)


def choose_trial(document: Document, trial_id: int) -> None:
    """Look at another trial; no step of its own."""
    document.amend(document.state.with_(shown_trial=trial_id))


def drop_trial(document: Document, trial_id: int) -> None:
    """Throw a trial away."""
    s = document.state
    document.apply("throw a trial away", s.with_(trials=tuple(t for t in s.trials if t.id != trial_id)))
