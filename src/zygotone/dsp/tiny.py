"""Numbers that are too small for a processor to handle at its usual speed (under 1e-308, or 1e-38 in single precision).

Whatever rings out into silence, a filter, an envelope, an echo, comes through them, and takes ten to a hundred times as long while it
does: long enough for a drop-out in the silence after the sound. No ear and no converter is reached by what is taken for zero instead.

Only where sound is worked out: what is read from a file is to be what was written there.
"""

from __future__ import annotations

import ctypes
import functools
import platform
from collections.abc import Iterator
from contextlib import contextmanager

# Where the processor's control register lies in the C library's fenv_t (bits/fenv.h), and the bit that makes such results zero.
_X86_MXCSR, _X86_FLUSH = (
    28,
    1 << 15,
)  # Intel, "64 and IA-32 Architectures Software Developer's Manual", vol. 1, 10.2.3.3
_ARM_FPCR, _ARM_FLUSH = 0, 1 << 24  # Arm, "Architecture Reference Manual for A-profile", FPCR.FZ
_PLACES = {"x86_64": (_X86_MXCSR // 4, _X86_FLUSH), "aarch64": (_ARM_FPCR // 4, _ARM_FLUSH)}


@functools.cache
def _library() -> ctypes.CDLL | None:
    """What gets and sets the floating-point environment of a thread (C11, 7.6.4); None where the machine's is not known."""
    if platform.machine() not in _PLACES:
        return None
    try:
        library = ctypes.CDLL("libm.so.6")
        return library if library.fegetenv and library.fesetenv else None
    except (OSError, AttributeError):
        return None


@contextmanager
def tiny_as_zero() -> Iterator[None]:
    """Within it results that would be so small are 0, in this thread. Where the machine's way is not known, all is as slow as ever."""
    library = _library()
    if library is None:
        yield
        return
    place, bit = _PLACES[platform.machine()]
    before, here = (ctypes.c_uint32 * 16)(), (ctypes.c_uint32 * 16)()
    library.fegetenv(before)
    ctypes.memmove(here, before, ctypes.sizeof(here))
    here[place] |= bit
    library.fesetenv(here)
    try:
        yield
    finally:
        library.fesetenv(before)
