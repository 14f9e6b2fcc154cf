"""Band-limited single cycles, as curves to read at any place.

Conventions
-----------
A cycle is read as a row of cubics, shape (size, 4), size a power of two: of each the factors of 1, t, t² and t³ as t goes
from 0 to 1. They meet in value and slope, both of which come from the spectrum and not from neighbours.
"""

from __future__ import annotations

import functools
import math

import numpy as np
import numpy.typing as npt

from zygotone.dsp.types import FloatArray

Spectra = npt.NDArray[np.complex128]

SHAPES = ("sine", "triangle", "saw", "pulse")
_MAX_HARMONICS = 2048


def harmonics_below(f0_hz: float, sample_rate_hz: float) -> int:
    """How many harmonics of ``f0_hz`` lie below half the sample rate, with a little room."""
    return max(1, min(_MAX_HARMONICS, math.floor(0.499 * sample_rate_hz / f0_hz)))


def cubics(spectrum: Spectra) -> FloatArray:
    """Cycles as rows of cubics, shape (..., size, 4). spectrum (..., partials): from the first, the real part of
    partial·exp(2πi·n·phase) each. Eight cubics or more to a period of the highest partial, so that what lies between is
    right to −84 dB of it (the Hermite interpolant's error is h⁴/384 of the fourth derivative)."""
    count = spectrum.shape[-1]
    size = max(512, 1 << math.ceil(math.log2(8 * count)))
    whole = np.zeros((*spectrum.shape[:-1], size // 2 + 1), dtype=np.complex128)
    whole[..., 1 : count + 1] = spectrum * (size / 2)
    turning = 2j * np.pi * np.arange(size // 2 + 1) / size
    value, slope = np.fft.irfft(whole, size), np.fft.irfft(whole * turning, size)
    step = np.roll(value, -1, axis=-1) - value
    third = slope + np.roll(slope, -1, axis=-1) - 2.0 * step
    return np.stack([value, slope, step - slope - third, third], axis=-1)


@functools.lru_cache(maxsize=512)
def single_cycle(shape: str, harmonics: int, pulse_width: float = 0.5) -> FloatArray:
    """One cycle made of its first ``harmonics`` partials, peak near 1, as cubics (size, 4)."""
    n = np.arange(1, (1 if shape == "sine" else harmonics) + 1)
    if shape == "sine":
        spectrum = np.array([-1j])
    elif shape == "triangle":
        spectrum = np.where(n % 2 == 1, -1j * 8.0 / np.pi**2 * (-1.0) ** ((n - 1) // 2) / n**2, 0.0)
    elif shape == "saw":
        spectrum = -1j * 2.0 / np.pi / n
    else:  # a pulse is the difference of two saws; its mean is left out
        spectrum = -1j * 2.0 / np.pi / n * (1.0 - np.exp(-2j * np.pi * n * pulse_width))
    cycle = cubics(spectrum)
    cycle.setflags(write=False)
    return cycle
