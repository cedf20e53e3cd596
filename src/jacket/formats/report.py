"""Reports as JSON."""

from __future__ import annotations

import json
import math
from typing import Any


def plain(value: Any) -> Any:
    """A value that JSON can hold: infinities and NaN become null."""
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain(v) for v in value]
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def report_bytes(data: dict[str, Any]) -> bytes:
    """A report as JSON bytes."""
    return (json.dumps(plain(data), indent=1, ensure_ascii=False) + "\n").encode()
