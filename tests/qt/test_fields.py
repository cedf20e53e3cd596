"""Number fields that reckon."""

from __future__ import annotations

import pytest

from jacket.qt.fields import evaluate


@pytest.mark.parametrize(
    ("text", "value"), [("2*512", 1024), ("4,000 / 2", 2000), ("-(3+1)", -4), ("12 px", 12), ("1e3", 1000)]
)
def test_fields_take_arithmetic(text: str, value: float) -> None:
    assert evaluate(text, "px") == value


@pytest.mark.parametrize("text", ["", "two", "__import__('os')", "9**9", "1/0", "True"])
def test_fields_refuse_the_rest(text: str) -> None:
    with pytest.raises(ValueError):
        evaluate(text)
