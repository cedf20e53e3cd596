"""Parsing numbers straight from bytes, for text formats of millions of lines."""

from __future__ import annotations

import numpy as np

from jacket.core.jit import inline

_POWERS = np.array([float(10**k) for k in range(23)])


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
    value = float(mantissa)
    if exponent > 0:
        value = value * _POWERS[exponent] if exponent < 23 else value * 10.0 ** min(exponent, 400)
    elif exponent < -300:
        value = value / 10.0**300 / 10.0 ** min(-exponent - 300, 300)
    elif exponent < 0:
        value = value / _POWERS[-exponent] if exponent > -23 else value / 10.0 ** (-exponent)
    return sign * value, i, True
