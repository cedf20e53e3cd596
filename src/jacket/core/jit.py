"""The one way Jacket compiles kernels: cached on disk and releasing the interpreter lock."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar, cast

import numba
import numpy as np

F = TypeVar("F", bound=Callable[..., Any])


class _Alias:
    """Lends the memory of a read-only array to NumPy as a writable one."""

    def __init__(self, array: np.ndarray[Any, Any]) -> None:
        interface = dict(array.__array_interface__)
        interface["data"] = (interface["data"][0], False)
        self.__array_interface__ = interface
        self.owner = array


def _lent(value: Any) -> Any:
    if isinstance(value, np.ndarray) and not value.flags.writeable:
        return np.asarray(_Alias(value)) if value.size else value.copy()
    return value


def kernel(function: F) -> F:
    """Compile a kernel that Python calls; `nogil` keeps the window alive while it runs.

    Numba types read-only and writable arrays differently, so a kernel of five arrays could be
    compiled 32 times over. Read-only arguments are therefore lent as writable; a kernel must not
    write into an argument unless its caller made that array for it. Kernels that other kernels
    call are marked `inline` instead.
    """
    compiled = numba.njit(cache=True, nogil=True, error_model="numpy")(function)

    @wraps(function)
    def call(*arguments: Any) -> Any:
        return compiled(*[_lent(a) for a in arguments])

    return cast(F, call)


def inline(function: F) -> F:
    """Compile a helper that kernels call; it cannot be called with read-only arrays from Python."""
    return cast(F, numba.njit(cache=True, nogil=True, error_model="numpy")(function))
