"""The list of commands and the values of stages."""

from __future__ import annotations

from dataclasses import dataclass, replace

import pytest

from jacket.commands.display import Colouring, Display
from jacket.commands.general import registry_of
from jacket.commands.model import Command
from jacket.commands.registry import Registry
from jacket.commands.values import Values
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.stages.all import STAGES


def command(name: str, key: str = "") -> Command:
    return Command(name, name.capitalize(), f"{name} words", key, lambda _: True, lambda _: None)


def test_two_of_one_name_or_key_are_refused() -> None:
    registry = Registry([command("fold", "F"), command("press")])
    for bad, words in ((command("fold"), "two commands called fold"), (command("pleat", "F"), "key F is taken")):
        with pytest.raises(JacketError, match=words):
            registry.add(bad)
    assert len(registry) == 2 and registry.of_key("F") is registry["fold"] and registry.of_key("") is None
    with pytest.raises(JacketError, match="no command pleat"):
        registry["pleat"]


def test_search_finds_every_typed_word_and_the_beginning_first() -> None:
    registry = Registry([command("unfold"), command("fold"), replace(command("press"), words="fold flat")])
    assert [c.id for c in registry.search("fold", State())] == ["fold", "unfold", "press"]
    assert [c.id for c in registry.search("flat fold", State())] == ["press"]
    never = Registry([replace(command("fold"), available=lambda _: False)])
    assert never.search("fold", State()) == []


def test_the_whole_list_has_words_for_each_and_every_stage_names_its_own() -> None:
    registry = registry_of(STAGES)
    assert all(c.label and c.label[0].isupper() for c in registry)
    for stage in STAGES:
        assert all(c.id in registry for c in stage.commands) and all(m in registry or m == "" for m in stage.menu)


@dataclass
class Cloth:
    weight: float = 1.0
    layers: int = 2
    lined: bool = False
    weave: str = "plain"


def test_values_keep_their_kind_and_forgive_what_was_kept_wrongly() -> None:
    values = Values([Cloth()])
    values.put(Cloth, "weight", 3)
    assert isinstance(values.of(Cloth).weight, float)
    for name, bad in (
        ("weight", "heavy"),
        ("weight", float("nan")),
        ("lined", 1),
        ("weave", 3),
        ("layers", True),
        ("colour", 1),
    ):
        with pytest.raises(JacketError, match="does not fit"):
            values.put(Cloth, name, bad)
    assert values.as_dict() == {"Cloth": {"weight": 3.0}}
    values.take({"Cloth": {"weight": "x", "layers": 5, "lined": "yes", "unknown": 1}, "Other": 3, "Again": {}})
    assert values.of(Cloth) == Cloth(3.0, 5, False, "plain")
    values.take("nonsense")
    values.take({"Cloth": 7})
    assert values.of(Cloth).layers == 5
    with pytest.raises(JacketError, match="No stage"):
        values.of(int)


def test_one_colouring_is_on_at_a_time() -> None:
    """What is shown by colour would lie if two lay over each other."""
    display = Display()
    for name in ("stretch", "gap", "islands"):
        display = display.toggled(name)
        assert display.colouring is Colouring(name)
    assert display.toggled("islands").colouring is Colouring.PLAIN
