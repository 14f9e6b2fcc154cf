"""How kernels are compiled: ahead of use where possible, kept on disk, free of Python's lock."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

from numba import njit

_F = TypeVar("_F", bound=Callable[..., Any])


def kernel(function: _F) -> _F:
    """Compile ``function`` on its first call, or load what an earlier call compiled."""
    # "contract": a product and a sum may be rounded once instead of twice, which is quicker and no less exact.
    # error_model="numpy": dividing by zero gives infinity, as in NumPy, rather than a hidden branch per division.
    return cast(_F, njit(function, cache=True, nogil=True, error_model="numpy", fastmath={"contract"}))
