"""How kernels are compiled: at their first call, kept on disk, free of Python's lock.

Numba itself takes a quarter of a second to load: what calls no kernel, such as a list of the devices, does without it.
"""

from __future__ import annotations

import functools
import hashlib
import sys
import threading
from collections.abc import Callable
from typing import Any, TypeVar, cast

_F = TypeVar("_F", bound=Callable[..., Any])
_lock = threading.RLock()


# What Numba would load, and take longer for than for much of itself, and what no kernel here uses: a parser of C.
_UNUSED = "cffi"


@functools.cache
def _numba() -> tuple[Callable[..., Any], type]:
    """Numba's ``njit``, and how what it compiled is kept on disk.

    As it loads it looks whether what it could use is there, and is told that it is not. Not where other threads run, one of which may be
    loading that for itself just then.
    """
    modules = cast(dict[str, Any], sys.modules)
    hidden = _UNUSED not in modules and threading.active_count() == 1
    if hidden:
        modules[_UNUSED] = None
    try:
        import numba.core.typing.cffi_utils
    finally:
        if hidden:
            del modules[_UNUSED]
    from numba.core.caching import FunctionCache
    from numba.core.runtime.nrt import rtsys

    class Kept(FunctionCache):
        """Loads what was compiled without making ready all that a compiler needs, which takes longer than anything else and which
        the compiler does for itself where nothing is kept. What is kept is of exactly this code: Numba looks at the file of a
        kernel, but not at those of the kernels that it calls, and at the file as it is now, which may be newer than the code."""

        def __init__(self, function: Callable[..., Any], stamp: str) -> None:
            super().__init__(function)  # type: ignore[no-untyped-call]  # Numba names no types
            self.stamp = stamp
            self._cache_file._source_stamp = stamp

        def load_overload(self, sig: Any, target_context: Any) -> Any:
            rtsys.initialize(target_context)  # the memory of arrays, all that a compiled kernel needs
            with self._guard_against_spurious_io_errors():
                return self._load_overload(sig, target_context)  # type: ignore[no-untyped-call]

    return numba.njit, Kept


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
                njit, kept = _numba()
                names = self.function.__globals__
                for name in self.function.__code__.co_names:  # what it calls has to be compiled before it
                    if isinstance(names.get(name), _Kernel):
                        names[name] = names[name].ready()
                # error_model="numpy": dividing by zero gives infinity, as in NumPy, rather than a hidden branch per division.
                compiled: Any = njit(self.function, nogil=True, error_model="numpy", fastmath=self._fast)
                compiled._cache = kept(self.function, self._stamp())
                self._compiled = compiled
                if names.get(self.__name__) is self:  # its own module need not come through here again
                    names[self.__name__] = self._compiled
            return cast(Callable[..., Any], self._compiled)

    def _stamp(self) -> str:
        """All that what is compiled depends on, once what it calls is compiled."""
        code, names = self.function.__code__, self.function.__globals__
        own = [code.co_code.hex(), repr(code.co_varnames), repr(code.co_consts), repr(sorted(self._fast))]
        seen = [f"{name}={_as_text(names[name])}" for name in code.co_names if name in names]
        return hashlib.sha256("\n".join([*own, *code.co_names, *seen]).encode()).hexdigest()


def _as_text(value: Any) -> str:
    """A global as a compiler takes it: kernels by what they are compiled from, numbers and tables by their values."""
    stamp = getattr(getattr(value, "_cache", None), "stamp", None)
    if stamp is not None:
        return str(stamp)
    if hasattr(value, "tobytes"):
        return f"{value.dtype} {value.shape} {value.tobytes().hex()}"
    if isinstance(value, tuple):
        return f"({', '.join(map(_as_text, value))})"
    return str(getattr(value, "__name__", None) or repr(value))


def kernel(function: _F) -> _F:
    """Compile ``function`` on its first call, or load what an earlier call compiled.

    A product and a sum may be rounded once instead of twice ("contract"), which is quicker and no less exact.
    """
    return cast(_F, _Kernel(function, {"contract"}))


def summing_kernel(function: _F) -> _F:
    """As ``kernel``, for a sum whose terms may be added in any order ("reassoc"): many of them at a time."""
    return cast(_F, _Kernel(function, {"contract", "reassoc", "nsz"}))
