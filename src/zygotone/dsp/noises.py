"""Noise of several colours that never ends."""

from __future__ import annotations

import functools

import numpy as np

from zygotone.dsp.types import FloatArray

# Of the magnitude, as a power of frequency.
_SLOPES = {"white": 0.0, "pink": -0.5, "brown": -1.0}
COLOURS = tuple(_SLOPES)
_FRAMES = 1 << 20  # 22 s at 48 kHz: nobody hears that it comes round again
_GOLDEN = 0.6180339887498949


@functools.lru_cache(maxsize=6)
def _round(colour: str, sample_rate_hz: int) -> FloatArray:
    """Two noises without anything in common that join their own beginnings, shape (2, frames)."""
    noise = np.random.default_rng(7919).standard_normal((2, _FRAMES))
    if _SLOPES[colour]:
        spectrum = np.fft.rfft(noise, axis=1)
        freqs = np.fft.rfftfreq(_FRAMES, 1.0 / sample_rate_hz)
        # Level at 1 kHz as that of white noise; flat below 20 Hz, where nobody hears and the gain would be endless.
        spectrum *= (np.maximum(freqs, 20.0) / 1000.0) ** _SLOPES[colour]
        noise = np.fft.irfft(spectrum, _FRAMES, axis=1)
    noise.setflags(write=False)
    return np.asarray(noise)


def endless_noise(colour: str, frames: int, *, sample_rate_hz: int, number: int = 0) -> FloatArray:
    """Two noises, shape (2, frames); white is 1 RMS, the others as loud as it is at 1 kHz. Each ``number`` begins elsewhere, far
    from the others (by the golden section)."""
    whole = _round(colour, sample_rate_hz)
    first = int(number * _GOLDEN % 1.0 * _FRAMES)
    if first + frames <= _FRAMES:
        return whole[:, first : first + frames]
    return np.take(whole, np.arange(first, first + frames), axis=1, mode="wrap")
