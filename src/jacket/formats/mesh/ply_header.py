"""The header of a PLY file."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import numpy as np

from jacket.errors import FormatError

Order = Literal["<", ">", "="]
_TYPES = {"char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
          "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
          "double": "f8", "float64": "f8", "int64": "i8", "uint64": "u8"}  # fmt: skip
_ORDERS: dict[str, Order] = {"ascii": "=", "binary_little_endian": "<", "binary_big_endian": ">"}
"""Byte orders; "=" stands for text."""


@dataclass
class Property:
    """A column: its type, and the type of its count where it is a list."""

    name: str
    dtype: np.dtype[Any]
    count: np.dtype[Any] | None = None


@dataclass
class Element:
    """A table of rows."""

    name: str
    rows: int
    properties: list[Property] = field(default_factory=list)

    @property
    def least_bytes(self) -> int:
        """Bytes of a row whose lists are empty."""
        return sum((p.count or p.dtype).itemsize for p in self.properties)


def read_header(data: bytearray, path: Path, size: int) -> tuple[Order, list[Element], list[str], int]:
    """Byte order, elements, comments and where the data begins; `size` is the whole file's, in bytes."""
    end = data.find(b"end_header", 0, 1 << 20)
    if end < 0:
        raise FormatError(f"{path.name} has no end to its PLY header; the file is cut short.")
    after = data.find(b"\n", end)
    carriage = data.find(b"\r", end, end + 12)
    if carriage >= 0 and (after < 0 or after > carriage + 1):
        after = carriage
    kind: Order | None = None
    elements: list[Element] = []
    comments: list[str] = []
    for line in data[:end].decode("latin-1").splitlines():
        words = line.split()
        if words[:1] == ["format"] and len(words) >= 2:
            kind = _ORDERS.get(words[1])
        elif words[:1] == ["element"] and len(words) == 3:
            if not words[2].isdigit() or int(words[2]) > size:
                raise FormatError(f"{path.name} promises {words[2]} of {words[1]}, more than it can hold.")
            elements.append(Element(words[1], int(words[2])))
        elif words[:1] == ["property"] and elements:
            elements[-1].properties.append(_property(words, path))
        elif words[:1] == ["comment"]:
            comments.append(line[7:].strip())
    if kind is None or after < 0:
        raise FormatError(f"{path.name} names no PLY format that Jacket knows; export it as ASCII or binary PLY.")
    return kind, elements, comments, after + 1


def _property(words: list[str], path: Path) -> Property:
    listed = len(words) == 5 and words[1] == "list"
    types = words[2:4] if listed else words[1:2]
    if len(words) != (5 if listed else 3) or not all(t in _TYPES for t in types):
        raise FormatError(f"{path.name} has a PLY property that cannot be understood: {' '.join(words)[:60]}.")
    if listed:
        if _TYPES[types[0]][0] == "f":
            raise FormatError(f"{path.name} counts a list in fractions; export it again.")
        return Property(words[4], np.dtype(_TYPES[types[1]]), np.dtype(_TYPES[types[0]]))
    return Property(words[2], np.dtype(_TYPES[types[0]]))
