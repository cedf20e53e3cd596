"""Cards of what waits for a decision: a newer file, a proposal, a trial."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton

from jacket.document.edits import trials
from jacket.document.state import SourceObject, State
from jacket.qt.cards.base import Card, Desk, soft


def _answers(card: Card, desk: Desk, answers: tuple[tuple[str, str, str], ...]) -> None:
    line = QHBoxLayout()
    for command_id, text, name in answers:
        button = QPushButton(text)
        button.setObjectName(name)
        line.addWidget(desk.tie(button, command_id))
    card.column.addLayout(line)


class ProposalCard(Card):
    """What a mend would do, with its two answers."""

    name = "proposal"

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk

    def fill(self) -> None:
        """Seen while something is proposed."""
        proposal = self.desk.program.proposal
        self.clear()
        self.setVisible(proposal is not None)
        if proposal is not None:
            self.title.setText(proposal.name[:1].upper() + proposal.name[1:])
            text = QLabel(proposal.mend.said + ".")
            text.setWordWrap(True)
            self.column.addWidget(text)
            _answers(self, self.desk, (("take-proposal", "Do it", "main"), ("leave-proposal", "Leave it", "")))


class NewerCard(Card):
    """A newer file on disk, with its two answers."""

    name = "newer"

    def __init__(self, desk: Desk, leave: Callable[[], None]) -> None:
        super().__init__("Newer on disk")
        self.desk, self.leave = desk, leave

    def fill(self, source: SourceObject | None) -> None:
        """Seen while there is one."""
        self.clear()
        self.setVisible(source is not None)
        if source is None:
            return
        text = QLabel(f"{Path(source.path).name} was saved again. Taking it keeps quads, seams and UVs and refits the layers "
                      f"that lie on {source.name}.")  # fmt: skip
        text.setWordWrap(True)
        self.column.addWidget(text)
        line = QHBoxLayout()
        take, leave = QPushButton("Take the new one"), QPushButton("Not this one")
        take.setObjectName("main")
        line.addWidget(self.desk.tie(take, "take-new-file"))
        leave.clicked.connect(self.leave)
        line.addWidget(leave)
        self.column.addLayout(line)


class TrialCard(Card):
    """The trial that is looked at, with its figures, the others beside it, and what can be done with it."""

    name = "trial"

    def __init__(self, desk: Desk) -> None:
        super().__init__("Trial")
        self.desk = desk
        self._key: Any = None

    def fill(self) -> None:
        """Seen in the Topology stage while there is a trial."""
        program = self.desk.program
        state, stage = program.document.state, program.stage.id
        key = (stage, state.shown_trial, tuple(t.id for t in state.trials))
        if key == self._key:
            return
        self._key = key
        self.clear()
        trial = state.trial
        self.setVisible(trial is not None and stage == "topology")
        if trial is None:
            return
        self.title.setText(trial.name)
        self.right.setText(f"{len(state.trials)} kept" if len(state.trials) > 1 else "not taken yet")
        self.row("Quads", f"{trial.mesh.n_faces:,} of {trial.settings.get('quads', 0):,} wanted")
        self._figures(trial.figures)
        self._others(state)
        line = QHBoxLayout()
        for command_id, name in (("take-trial", "main"), ("drop-trial", "")):
            button = QPushButton("Take" if name else "Throw away")
            button.setObjectName(name)
            line.addWidget(self.desk.tie(button, command_id))
        self.column.addLayout(line)

    def _figures(self, f: dict[str, Any]) -> None:
        if not f:
            return
        self.row("Irregular points", f"{f.get('irregular_percent', 0):.1f} %")
        self.row("Corner, mean / least", f"{f.get('jacobian_mean', 0):.3f} / {f.get('jacobian_least', 0):.2f}")
        self.row("Gap, mean / largest", f"{f.get('gap_out_mean', 0):.2f} / {f.get('gap_out_largest', 0):.2f} %")
        # The way back from the source says what is left out: horns and fingers that a gap does not see.
        left = f.get("gap_in_largest", 0.0)
        value = self.row("Left uncovered, most", f"{left:.2f} %")
        if left > 2.0:
            value.setObjectName("wrong")
        if "longest_ring" in f:
            value = self.row("Longest ring, own crossings", f"{f['longest_ring']:.0f} / {f['crossed_by_itself']:.0f} %")
            value.setToolTip("The longest ring of edges in % of all crossings, and quads that one ring crosses both ways. Rows that "
                             "close keep both under 10 %.")  # fmt: skip
            if f["longest_ring"] > 20.0:
                value.setObjectName("wrong")
        if "seconds" in f:
            self.row("Took", f"{f['seconds']:.1f} s")
        for note in f.get("notes", ()):
            self.column.addWidget(soft(note))

    def _others(self, state: State) -> None:
        desk = self.desk
        for trial in state.trials if len(state.trials) > 1 else ():
            f = trial.figures
            row = QPushButton()
            row.setObjectName("chosen" if state.trial is trial else "row")
            row.setAccessibleName(trial.name)
            row.setToolTip("Click to look at this trial; B goes to the next one.")
            line = QHBoxLayout(row)
            line.setContentsMargins(6, 0, 6, 0)
            worst = max(f.get("gap_out_largest", 0.0), f.get("gap_in_largest", 0.0))
            line.addWidget(QLabel(trial.name))
            line.addStretch(1)
            line.addWidget(soft(f"{trial.mesh.n_faces:,} · {f.get('irregular_percent', 0):.1f} % · {worst:.2f} %", False))
            row.setMinimumHeight(24)
            row.clicked.connect(partial(trials.choose_trial, desk.program.document, trial.id))
            self.column.addWidget(row)
        if len(state.trials) > 1:
            self.beside(desk.small("next-trial", "Blink to the next (B)"), desk.small("show-split", "Side by side"))
        else:
            self.beside(desk.small("show-split", "Beside the jacket"), desk.small("show-trial", "Look at the jacket"))
        self.beside(desk.small("again-trial", "Make it again"), desk.small("keep-trial", "As a layer"))
        self.beside(desk.small("take-inside", "Take it where held"))
