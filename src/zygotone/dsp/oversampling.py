"""Run a memoryless curve at a higher rate, so that the harmonics it makes do not fold back.

The rate is doubled in stages. Only the first stage has to be steep; each later one has more room. The signal
after a stage is kept as two phases, each contiguous, since a memoryless curve does not care about their order.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from zygotone.dsp.delays import fir_add
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray

_STOP_DB = 100.0
# For each stage: half the filter's length at its upper rate, and the middle of its transition as a share of
# its lower rate. Lengths by Kaiser's formula for 100 dB. The first is flat to 0.42 of the base rate (20.1 kHz at
# 48 kHz) and closed from half of it on. The later ones keep what lies below half the base rate and close
# where it would fold onto that, and are chosen so that the whole latency is whole frames.
_STAGES = ((80, 0.46), (14, 0.5), (8, 0.5))


@functools.lru_cache(maxsize=4)
def _taps(stage: int) -> FloatArray:
    """Linear-phase low-pass at the stage's upper rate, shape (2·half + 1,), sum 1."""
    half, edge = _STAGES[stage]
    t = np.arange(-half, half + 1)
    beta = 0.1102 * (_STOP_DB - 8.7)
    window = np.i0(beta * np.sqrt(1.0 - (t / half) ** 2)) / np.i0(beta)
    taps = np.sinc(edge * t) * window
    return np.asarray(taps / taps.sum())


def latency_frames(factor: int) -> int:
    """Delay of going up and down again, in frames of the base rate."""
    stages = round(math.log2(factor))
    return sum(2 * _STAGES[s][0] // 2 ** (s + 1) for s in range(stages))


class Doubler(Memory):
    """One channel to twice the rate and back, with the history of both ways."""

    def __init__(self, stage: int) -> None:
        h = _taps(stage)
        padded = np.concatenate([h, [0.0]])
        # Up: output phase p of frame n is Σ 2·h[2k + p]·x[n − k]. Down: y[n] is Σ h[2k − p]·phase p[n − k].
        self._up = np.ascontiguousarray(2.0 * padded.reshape(-1, 2).T)
        self._down = [np.ascontiguousarray(h[::2]), np.concatenate([[0.0], h[1::2]])]
        self._x_state = np.zeros(self._up.shape[1] - 1)
        self._even_state, self._odd_state = (np.zeros(len(taps) - 1) for taps in self._down)

    def up(self, x: FloatArray) -> FloatArray:
        """x (n,) to phases (2, n)."""
        joined = np.concatenate([self._x_state, x])
        self._x_state = joined[len(x) :].copy()
        phases = np.zeros((2, len(x)))
        for p in range(2):
            fir_add(self._up[p], joined, phases[p])
        return phases

    def down(self, phases: FloatArray) -> FloatArray:
        """Phases (2, n) to y (n,)."""
        y = np.zeros(phases.shape[1])
        even = np.concatenate([self._even_state, phases[0]])
        odd = np.concatenate([self._odd_state, phases[1]])
        self._even_state, self._odd_state = even[phases.shape[1] :].copy(), odd[phases.shape[1] :].copy()
        fir_add(self._down[0], even, y)
        fir_add(self._down[1], odd, y)
        return y


class Oversampler(Memory):
    """One channel to ``factor`` (2, 4 or 8) times the rate and back."""

    def __init__(self, factor: int) -> None:
        self._stages = [Doubler(s) for s in range(round(math.log2(factor)))]

    def up(self, x: FloatArray) -> FloatArray:
        """x (n,) to two phases of the highest rate, shape (2, n·factor/2)."""
        phases = self._stages[0].up(x)
        for stage in self._stages[1:]:
            phases = stage.up(np.ascontiguousarray(phases.T).ravel())
        return phases

    def down(self, phases: FloatArray) -> FloatArray:
        """What ``up`` gave, back to y (n,)."""
        for stage in self._stages[:0:-1]:
            phases = np.ascontiguousarray(stage.down(phases).reshape(-1, 2).T)
        return self._stages[0].down(phases)
