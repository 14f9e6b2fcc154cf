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

# Which word of the C library's fenv_t (bits/fenv.h) is the processor's control register, and the bit that makes such results zero:
# MXCSR.FZ (Intel, "64 and IA-32 Architectures Software Developer's Manual", vol. 1, 10.2.3.3) and FPCR.FZ (Arm, "Architecture Reference
# Manual for A-profile").
_PLACES = {"x86_64": (7, 1 << 15), "aarch64": (0, 1 << 24)}
_WORDS = 16  # more than any fenv_t has


@functools.cache
def _machine() -> tuple[ctypes.PyDLL, int, int] | None:
    """What gets and sets the floating-point environment of a thread (C11, 7.6.4), the word and the bit; None where they are not known. It
    keeps Python's lock: the audio thread would have to wait for it anew after each call."""
    place = _PLACES.get(platform.machine())
    try:
        library = ctypes.PyDLL("libm.so.6")
        return (library, *place) if place is not None and library.fegetenv and library.fesetenv else None
    except (OSError, AttributeError):
        return None


@contextmanager
def tiny_as_zero() -> Iterator[None]:
    """Within it results that would be so small are 0, in this thread. Where the machine's way is not known, all is as slow as ever."""
    machine = _machine()
    if machine is None:
        yield
        return
    library, word, bit = machine
    before = (ctypes.c_uint32 * _WORDS)()
    library.fegetenv(before)
    here = type(before)(*before)
    here[word] |= bit
    library.fesetenv(here)
    try:
        yield
    finally:
        library.fesetenv(before)
