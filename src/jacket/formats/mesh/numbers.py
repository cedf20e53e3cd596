"""Parsing numbers straight from bytes, for text formats of millions of lines."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from jacket.core.jit import inline


def _two_parts(value: Fraction) -> tuple[float, float]:
    high = float(value)
    return high, float(value - Fraction(high))


_POWERS = np.array([float(10**k) for k in range(23)])
"""Powers of ten that are numbers of double precision without error."""

_RANGE = 280
_TENS = np.array([_two_parts(Fraction(10) ** k) for k in range(-_RANGE, _RANGE + 1)])
"""(561, 2) powers of ten as sums of two numbers, right to about 106 bits."""


@inline
def _product(a, b):
    """a · b as a number and its error, without one (Dekker 1971, with Veltkamp's splitting)."""
    p = a * b
    t = 134217729.0 * a
    ah = t - (t - a)
    al = a - ah
    t = 134217729.0 * b
    bh = t - (t - b)
    bl = b - bh
    return p, ((ah * bh - p) + ah * bl + al * bh) + al * bl


@inline
def scaled(mantissa, exponent):
    """mantissa · 10^exponent rounded once: exactly where both are numbers without error, else from twice the precision
    (wrong in the last bit only where it lies within 2^-100 of the middle between two numbers)."""
    value = float(mantissa)
    if mantissa < 9007199254740992:
        if 0 <= exponent < 23:
            return value * _POWERS[exponent]
        if -23 < exponent < 0:
            return value / _POWERS[-exponent]
    rest = float(mantissa - np.int64(value))
    if -23 < exponent < 0:
        ten = _POWERS[-exponent]
        q = value / ten
        p, e = _product(q, ten)
        return q + (((value - p) - e) + rest) / ten
    if exponent < -_RANGE or exponent > _RANGE:
        return value * 10.0 ** max(exponent, -300) * 10.0 ** min(exponent + 300, 0) if exponent < 0 else value * 10.0 ** exponent
    high, low = _TENS[exponent + _RANGE, 0], _TENS[exponent + _RANGE, 1]
    p, e = _product(value, high)
    return p + (e + (value * low + rest * high))


@inline
def is_space(c):
    """Blank, tab or carriage return."""
    return c == 32 or c == 9 or c == 13


@inline
def skip_spaces(data, i, end):
    """The next place that is no blank."""
    while i < end and is_space(data[i]):
        i += 1
    return i


@inline
def skip_word(data, i, end):
    """The next blank or line end."""
    while i < end and not is_space(data[i]) and data[i] != 10:
        i += 1
    return i


@inline
def skip_blank(data, i, end):
    """The next place that is no blank and no line end."""
    while i < end and (is_space(data[i]) or data[i] == 10):
        i += 1
    return i


@inline
def skip_line(data, i, end):
    """The place after the next line end."""
    while i < end and data[i] != 10:
        i += 1
    return min(i + 1, end)


@inline
def parse_int(data, i, end):
    """(value, place after, whether there was a number)."""
    sign = 1
    if i < end and (data[i] == 45 or data[i] == 43):
        sign = -1 if data[i] == 45 else 1
        i += 1
    first = i
    value = np.int64(0)
    while i < end and 48 <= data[i] <= 57 and i - first < 18:
        value = value * 10 + (data[i] - 48)
        i += 1
    return sign * value, i, i > first


@inline
def parse_float(data, i, end):
    """(value, place after, whether there was a number). Decimal with optional exponent; "nan" and
    "inf" give NaN so that the check for it can name the point."""
    sign = 1.0
    if i < end and (data[i] == 45 or data[i] == 43):
        sign = -1.0 if data[i] == 45 else 1.0
        i += 1
    first = i
    mantissa = np.int64(0)
    digits = 0
    exponent = 0
    point = False
    while i < end:
        c = data[i]
        if 48 <= c <= 57:
            if digits < 18:
                mantissa = mantissa * 10 + (c - 48)
                if mantissa > 0:
                    digits += 1
                if point:
                    exponent -= 1
            elif not point:
                exponent += 1
        elif c == 46 and not point:
            point = True
        else:
            break
        i += 1
    if i == first or (point and i == first + 1):
        if (i < end and (data[i] | 32) == 110) or (i < end and (data[i] | 32) == 105):
            return np.nan, skip_word(data, i, end), True
        return 0.0, i, False
    if i < end and (data[i] | 32) == 101:
        power, j, good = parse_int(data, i + 1, end)
        if good:
            exponent += power
            i = j
    return sign * scaled(mantissa, min(max(exponent, -700), 400)), i, True


def rows_of_text(values: NDArray[np.float64]) -> list[str]:
    """Rows of numbers (N, K) as text that reads back to the same bits: the shortest that does (Python's repr), or, where
    all are numbers of single precision, nine digits, which is enough for those (IEEE 754-2019, 5.12.2)."""
    if len(values) and np.array_equal(values.astype(np.float32).astype(np.float64), values):
        form = " ".join(["%.9g"] * values.shape[1])
        return [form % tuple(row) for row in values.tolist()]
    return [" ".join(map(repr, row)) for row in (values + 0.0).tolist()]
