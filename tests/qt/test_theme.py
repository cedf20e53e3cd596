"""The palettes."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.qt.theme import DAY, NIGHT, rgb


@pytest.mark.parametrize("palette", [DAY, NIGHT])
def test_text_has_contrast(palette) -> None:  # type: ignore[no-untyped-def]
    """WCAG 2.1, success criterion 1.4.3: at least 4.5 : 1, by its formula for relative luminance."""

    def luminance(colour: str) -> float:
        c = np.array(rgb(colour)[:3])
        linear = np.where(c <= 0.03928, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
        return float(linear @ [0.2126, 0.7152, 0.0722])

    def contrast(a: str, b: str) -> float:
        hi, lo = sorted((luminance(a), luminance(b)), reverse=True)
        return (hi + 0.05) / (lo + 0.05)

    for text, ground in ((palette.ink, palette.card), (palette.ink, palette.panel), (palette.soft, palette.card),
                         (palette.soft, palette.bar), (palette.soft, palette.panel), (palette.on_accent, palette.accent)):  # fmt: skip
        assert contrast(text, ground) >= 4.5, (text, ground, contrast(text, ground))
