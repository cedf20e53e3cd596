"""The bench panel: the tool in hand, what waits for a decision, what is on the bench and held, the stage's cards."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QScrollArea, QVBoxLayout, QWidget

from jacket.commands.beside import is_large
from jacket.document.state import SourceObject
from jacket.program import Program
from jacket.qt.cards import deliver, flatten, layout, seams, source, topology
from jacket.qt.cards.base import Card, Desk
from jacket.qt.cards.bench import BenchCard, HeldCard, PickedCard
from jacket.qt.cards.decisions import NewerCard, ProposalCard, TrialCard
from jacket.qt.cards.stage import StageCard
from jacket.qt.cards.tool import ToolCard
from jacket.qt.turns import Turns

STAGE_CARDS: dict[str, tuple[type[StageCard], ...]] = {
    "source": source.CARDS, "topology": topology.CARDS, "seams": seams.CARDS, "flatten": flatten.CARDS,
    "layout": layout.CARDS, "deliver": deliver.CARDS,
}  # fmt: skip
"""The cards of each stage from top to bottom."""


class Panel(QScrollArea):
    """Cards from top to bottom. They ask the program; the window tells what changed."""

    open_wanted = Signal(str)
    object_menu_wanted = Signal(int, object)

    def __init__(self, program: Program, turns: Turns, option_changed: Callable[[], None], leave_newer: Callable[[], None]) -> None:
        super().__init__()
        self.setFixedWidth(248)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.program, self.turns, self.desk = program, turns, Desk(program)
        self.desk.refill_wanted.connect(self._refill)
        body = QWidget()
        body.setObjectName("panel")
        self.column = QVBoxLayout(body)
        self.column.setContentsMargins(8, 8, 8, 8)
        self.column.setSpacing(9)
        body.setFixedWidth(248)
        self.tool_card = ToolCard(self.desk, option_changed)
        self.newer_card, self.proposal_card = NewerCard(self.desk, leave_newer), ProposalCard(self.desk)
        self.trial_card, self.bench_card = TrialCard(self.desk), BenchCard(self.desk)
        self.picked_card, self.held_card = PickedCard(self.desk), HeldCard(self.desk)
        self.bench_card.menu_wanted.connect(self.object_menu_wanted.emit)
        fixed = (self.tool_card, self.newer_card, self.proposal_card, self.trial_card, self.bench_card, self.picked_card,
                 self.held_card)  # fmt: skip
        for card in fixed:
            self.column.addWidget(card)
            self._foldable(card, card.name)
        for card in (self.newer_card, self.proposal_card, self.picked_card, self.trial_card):
            card.hide()
        self.stage_cards: list[StageCard] = []
        self._waiting: set[str] = set()
        self._coming: list[type[StageCard]] = []
        self.column.addStretch(1)
        self.setWidget(body)

    # ---- folding ---------------------------------------------------------------------------------------
    def _foldable(self, card: Card, name: str) -> None:
        card.foldable(name in self.program.settings.folded)
        card.folded_changed.connect(partial(self._remember_fold, name))

    def _remember_fold(self, name: str, folded: bool) -> None:
        settings = self.program.settings
        kept = [n for n in settings.folded if n != name]
        settings.folded = [*kept, name] if folded else kept

    # ---- what changed -----------------------------------------------------------------------------------
    @property
    def buttons(self) -> dict[str, QPushButton]:
        """Buttons by the command they ask for, the last made where there are several."""
        return self.desk.buttons

    @property
    def stage_card(self) -> StageCard:
        """The first card of the stage."""
        return self.stage_cards[0]

    def show_stage(self) -> None:
        """The cards of the stage that is shown now."""
        for card in self.stage_cards:
            self.column.removeWidget(card)
            card.hide()
            card.deleteLater()
        at = self.column.indexOf(self.held_card) + 1
        self.stage_cards, self._coming = [], list(STAGE_CARDS[self.program.stage.id])
        self._add_card(at)
        while self._coming and not is_large(self.program.document.state):
            self._add_card(at)
        self._wait_for_more()
        self.held_card.setVisible(self.program.stage.id != "source")
        self.bench_card.fill()
        self.picked_card.fill()
        self.trial_card.fill()
        self.desk.refresh(self.program.document.state)

    def _add_card(self, at: int) -> None:
        """The next of the cards that are still to come."""
        kind = self._coming.pop(0)
        card = kind(self.desk)
        card.open_wanted.connect(self.open_wanted.emit)
        self._foldable(card, kind.name)
        self.column.insertWidget(at + len(self.stage_cards), card)
        self.stage_cards.append(card)

    def _wait_for_more(self) -> None:
        """Let the cards that are still to come wait for their turns: all at once would hold the window."""
        if self._coming:
            self.turns.put("coming", self._go_on)
        else:
            self.turns.drop("coming")

    def _go_on(self) -> None:
        self._add_card(self.column.indexOf(self.held_card) + 1)
        self.desk.refresh(self.program.document.state)
        self._wait_for_more()

    def refresh(self, changed: set[str]) -> None:
        """Fill anew what follows from what changed in the document or the program."""
        for _ in self.refreshing(changed):
            pass

    def refreshing(self, changed: set[str]) -> Iterator[None]:
        """As `refresh`, in pieces between which the window may see to other things."""
        if changed & {"sources", "jackets", "trials", "active", "active_source"}:
            self.bench_card.fill()
        if changed & {"trials", "shown_trial"}:
            self.trial_card.fill()
        if "picked" in changed:
            self.picked_card.fill()
        if changed & {"tool", "mirror"}:
            self.tool_card.fill()
        if "proposal" in changed:
            self.proposal_card.fill()
            self.verticalScrollBar().setValue(0)
        # During a drag the layer changes many times a second: cards about it wait for its end.
        if self.program.document.in_gesture:
            self._waiting |= changed
            return
        changed, self._waiting = changed | self._waiting, set()
        if changed & {"held", "jackets", "active"}:
            self.held_card.fill()
            self.tool_card.refresh_choices()
            yield
        for card in list(self.stage_cards):
            # Another stage may be shown meanwhile.
            if card in self.stage_cards and card.refresh(changed):
                yield
        self.desk.refresh(self.program.document.state)

    def show_newer(self, found: SourceObject | None) -> None:
        """A source whose file is newer on disk, or nothing."""
        if found is not None and self.newer_card.isHidden():
            self.verticalScrollBar().setValue(0)
        self.newer_card.fill(found)

    def _refill(self, name: str) -> None:
        if name == "tool":
            self.tool_card.fill()
        for card in self.stage_cards:
            if card.name == name:
                card.refresh(set(), force=True)
        self.desk.refresh(self.program.document.state)
