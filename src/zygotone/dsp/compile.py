"""How kernels are compiled: at their first call, kept on disk, free of Python's lock.

Numba itself takes a quarter of a second to load: what calls no kernel, such as a list of the devices, does without it.
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from typing import Any, TypeVar, cast

_F = TypeVar("_F", bound=Callable[..., Any])
_lock = threading.RLock()


# What Numba would load, and take longer for than for much of itself, and what no kernel here uses: linear algebra of SciPy, and a
# parser of C.
_UNUSED = ("scipy", "scipy.linalg.cython_blas", "cffi")


def _numba() -> Callable[..., Any]:
    """Numba's ``njit``. As it loads it looks whether what it could use is there, and is told that it is not. Not where other
    threads run, one of which may be loading that for itself just then."""
    modules = cast(dict[str, Any], sys.modules)
    hidden = [name for name in _UNUSED if name not in modules] if threading.active_count() == 1 else []
    for name in hidden:
        modules[name] = None
    try:
        import numba.core.typing.cffi_utils
        import numba.np.arraymath
    finally:
        for name in hidden:
            del modules[name]
    return cast(Callable[..., Any], numba.njit)


class _Kernel:
    """A function until it is first called, a compiled one from then on."""

    def __init__(self, function: Callable[..., Any], fast: set[str]) -> None:
        self.function = function
        self._fast = fast
        self._compiled: Callable[..., Any] | None = None
        self.__doc__, self.__name__, self.__module__ = function.__doc__, function.__name__, function.__module__

    def __call__(self, *args: Any) -> Any:
        return (self._compiled or self.ready())(*args)

    def ready(self) -> Callable[..., Any]:
        with _lock:
            if self._compiled is None:
                njit = _numba()
                names = self.function.__globals__
                for name in self.function.__code__.co_names:  # what it calls has to be compiled before it
                    if isinstance(names.get(name), _Kernel):
                        names[name] = names[name].ready()
                # error_model="numpy": dividing by zero gives infinity, as in NumPy, rather than a hidden branch per division.
                self._compiled = njit(self.function, cache=True, nogil=True, error_model="numpy", fastmath=self._fast)
                if names.get(self.__name__) is self:  # its own module need not come through here again
                    names[self.__name__] = self._compiled
            return cast(Callable[..., Any], self._compiled)


def kernel(function: _F) -> _F:
    """Compile ``function`` on its first call, or load what an earlier call compiled.

    A product and a sum may be rounded once instead of twice ("contract"), which is quicker and no less exact.
    """
    return cast(_F, _Kernel(function, {"contract"}))


def summing_kernel(function: _F) -> _F:
    """As ``kernel``, for a sum whose terms may be added in any order ("reassoc"): many of them at a time."""
    return cast(_F, _Kernel(function, {"contract", "reassoc", "nsz"}))
