"""Number fields that take arithmetic and units."""

from __future__ import annotations

import ast
import operator
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLineEdit

_OPERATORS: dict[type, Any] = {
    ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul, ast.Div: operator.truediv,
    ast.USub: operator.neg, ast.UAdd: operator.pos,
}  # fmt: skip


_LENGTHS = {"mm": 0.001, "cm": 0.01, "m": 1.0, "in": 0.0254, "ft": 0.3048}
"""Endings of typed lengths, in metres."""


def evaluate(text: str, unit: str = "", lengths: bool = False) -> float:
    """The value of typed arithmetic such as "2*512" or "4,000 / 3 px"; with `lengths` also "30 cm" as metres.
    Raises ValueError when it is none."""
    if lengths:
        word = text.strip().lower()
        for ending in sorted(_LENGTHS, key=len, reverse=True):
            if word.endswith(ending) and word[: -len(ending)].strip()[-1:].isdigit():
                return evaluate(word[: -len(ending)]) * _LENGTHS[ending]
    cleaned = text.replace(",", "").replace(unit, "").strip() if unit else text.replace(",", "").strip()
    if len(cleaned) > 60:
        raise ValueError("too long")
    try:
        value = _value(ast.parse(cleaned, mode="eval").body)
    except (SyntaxError, ZeroDivisionError, RecursionError, OverflowError, MemoryError) as error:
        raise ValueError(str(error)) from error
    return value


def _value(node: ast.expr) -> float:
    if isinstance(node, ast.Constant) and isinstance(node.value, (int, float)) and not isinstance(node.value, bool):
        return float(node.value)
    if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
        return float(_OPERATORS[type(node.op)](_value(node.left), _value(node.right)))
    if isinstance(node, ast.UnaryOp) and type(node.op) in _OPERATORS:
        return float(_OPERATORS[type(node.op)](_value(node.operand)))
    raise ValueError("not arithmetic")


class NumberField(QLineEdit):
    """A number with a unit; what cannot be understood falls back to the last value."""

    changed = Signal(float)

    def __init__(
        self, value: float, low: float, high: float, unit: str = "", whole: bool = True, lengths: bool = False
    ) -> None:
        super().__init__()
        self.value, self.low, self.high, self.unit, self.whole = value, low, high, unit, whole
        self.lengths = lengths
        self.setFixedWidth(78)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.editingFinished.connect(self._take)
        self._show()

    def set_value(self, value: float) -> None:
        """Show another value without telling anybody."""
        self.value = value
        self._show()

    def _show(self) -> None:
        number = f"{self.value:,.0f}" if self.whole else f"{self.value:g}"
        self.setText(f"{number} {self.unit}".strip() if self.unit != "°" else f"{number}°")

    def _take(self) -> None:
        try:
            value = min(max(evaluate(self.text(), self.unit, self.lengths), self.low), self.high)
        except ValueError:
            value = self.value
        value = float(round(value)) if self.whole else value
        different = value != self.value
        self.value = value
        self._show()
        if different:
            self.changed.emit(value)
