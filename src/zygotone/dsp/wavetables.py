"""Band-limited single cycles."""

from __future__ import annotations

import functools
import math

import numpy as np

from zygotone.dsp.types import FloatArray

SHAPES = ("sine", "triangle", "saw", "pulse")
_MAX_HARMONICS = 2048


def harmonics_below(f0_hz: float, sample_rate_hz: float) -> int:
    """How many harmonics of ``f0_hz`` lie below half the sample rate, with a little room."""
    return max(1, min(_MAX_HARMONICS, math.floor(0.499 * sample_rate_hz / f0_hz)))


@functools.lru_cache(maxsize=512)
def single_cycle(shape: str, harmonics: int, pulse_width: float = 0.5) -> FloatArray:
    """One cycle made of its first ``harmonics`` partials, peak near 1. Length is a power of two, at least
    sixteen points to a period of the highest partial, so that reading it by cubic interpolation stays clean.
    """
    size = max(2048, 1 << math.ceil(math.log2(16 * harmonics)))
    n = np.arange(1, harmonics + 1)
    spectrum = np.zeros(size // 2 + 1, dtype=np.complex128)
    if shape == "sine":
        spectrum[1] = -1j
    elif shape == "triangle":
        odd = n[n % 2 == 1]
        spectrum[odd] = -1j * 8.0 / np.pi**2 * (-1.0) ** ((odd - 1) // 2) / odd**2
    elif shape == "saw":
        spectrum[n] = -1j * 2.0 / np.pi / n
    else:  # a pulse is the difference of two saws; its mean is left out
        spectrum[n] = -1j * 2.0 / np.pi / n * (1.0 - np.exp(-2j * np.pi * n * pulse_width))
    cycle = np.fft.irfft(spectrum * size / 2, size)
    cycle.setflags(write=False)
    return np.asarray(cycle)
