"""Run a memoryless curve at a higher rate, so that the harmonics it makes do not fold back.

The high-rate signal is kept as ``factor`` phases, each at the low rate and contiguous, since a memoryless
curve does not care about their order; nothing is interleaved.
"""

from __future__ import annotations

import functools

import numpy as np

from zygotone.dsp.delays import fir_add
from zygotone.dsp.types import FloatArray

# Half the filter's length in frames of the low rate. With the Kaiser window below: flat to 0.42 of the
# low rate (20.1 kHz at 48 kHz), 100 dB down from half of it on (Kaiser 1974, length and beta formulas).
HALF_FRAMES = 40
_STOP_DB = 100.0
_EDGE = 0.46  # middle of the transition, in units of the low rate


@functools.lru_cache(maxsize=8)
def halfway_taps(factor: int) -> FloatArray:
    """Linear-phase low-pass at ``factor`` times the rate, shape (2·40·factor + 1,), sum 1."""
    m = HALF_FRAMES * factor
    t = np.arange(-m, m + 1)
    beta = 0.1102 * (_STOP_DB - 8.7)
    window = np.i0(beta * np.sqrt(1.0 - (t / m) ** 2)) / np.i0(beta)
    taps = np.sinc(2.0 * _EDGE / factor * t) * window
    taps = np.asarray(taps / taps.sum())
    taps.setflags(write=False)
    return taps


def latency_frames(factor: int) -> int:
    """Delay of going up and down again, in frames of the low rate."""
    return 0 if factor == 1 else 2 * HALF_FRAMES


@functools.lru_cache(maxsize=8)
def up_phases(factor: int) -> FloatArray:
    """Polyphase taps for going up, shape (factor, taps): phase p of tap k is factor·h[k·factor + p]."""
    h = halfway_taps(factor)
    padded = np.concatenate([h, np.zeros(-len(h) % factor)]) * factor
    return np.ascontiguousarray(padded.reshape(-1, factor).T)


@functools.lru_cache(maxsize=8)
def down_phases(factor: int) -> FloatArray:
    """Polyphase taps for coming down, shape (factor, taps): phase p of tap k is h[k·factor − p]."""
    h = halfway_taps(factor)
    n_taps = (len(h) - 1) // factor + 2
    phases = np.zeros((factor, n_taps))
    for p in range(factor):
        for k in range(n_taps):
            j = k * factor - p
            if 0 <= j < len(h):
                phases[p, k] = h[j]
    return phases


class Oversampler:
    """One channel up to ``factor`` phases and down again, with the history of both."""

    def __init__(self, factor: int) -> None:
        self.factor = factor
        self._up, self._down = up_phases(factor), down_phases(factor)
        self._x = np.zeros(self._up.shape[1] - 1)
        self._u = np.zeros((factor, self._down.shape[1] - 1))

    def up(self, x: FloatArray) -> FloatArray:
        """x (n,) to phases (factor, n)."""
        joined = np.concatenate([self._x, x])
        self._x = joined[len(x) :].copy()
        phases = np.zeros((self.factor, len(x)))
        for p in range(self.factor):
            fir_add(self._up[p], joined, phases[p])
        return phases

    def down(self, phases: FloatArray) -> FloatArray:
        """Phases (factor, n) to y (n,)."""
        joined = np.concatenate([self._u, phases], axis=1)
        self._u = np.ascontiguousarray(joined[:, phases.shape[1] :])
        y = np.zeros(phases.shape[1])
        for p in range(self.factor):
            fir_add(self._down[p], joined[p], y)
        return y
