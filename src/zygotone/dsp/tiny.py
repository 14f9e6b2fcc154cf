"""Numbers that are too small for a processor to handle at its usual speed (under 1e-308, or 1e-38 in single precision).

Whatever rings out into silence, a filter, an envelope, an echo, comes through them, and takes ten to a hundred times as long while it
does: long enough for a drop-out in the silence after the sound. No ear and no converter is reached by what is taken for zero instead.
"""

from __future__ import annotations

import ctypes
import platform

# Where the processor's control register lies in the C library's fenv_t (bits/fenv.h), and the bit that makes such results zero.
_X86_MXCSR, _X86_FLUSH = (
    28,
    1 << 15,
)  # Intel, "64 and IA-32 Architectures Software Developer's Manual", vol. 1, 10.2.3.3
_ARM_FPCR, _ARM_FLUSH = 0, 1 << 24  # Arm, "Architecture Reference Manual for A-profile", FPCR.FZ
_PLACES = {"x86_64": (_X86_MXCSR, _X86_FLUSH), "aarch64": (_ARM_FPCR, _ARM_FLUSH)}


def take_for_zero(on: bool = True) -> bool:
    """From now on, in this thread and in those that it begins: what would be so small is 0. Whether that is so; False where the machine's
    way is not known, and all is as exact and as slow as before."""
    place = _PLACES.get(platform.machine())
    if place is None:
        return False
    at, bit = place
    try:
        library = ctypes.CDLL("libm.so.6")
        environment = (ctypes.c_uint32 * 16)()
        library.fegetenv(environment)
        environment[at // 4] = environment[at // 4] | bit if on else environment[at // 4] & ~bit
        return bool(library.fesetenv(environment) == 0) and on
    except (OSError, AttributeError):
        return False
