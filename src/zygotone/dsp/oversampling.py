"""Run a memoryless curve at a higher rate, so that the harmonics it makes do not fold back.

The rate is doubled in stages. Only the first stage has to be steep; each later one has more room.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable

import numpy as np

from zygotone.dsp.memory import Memory
from zygotone.dsp.polyphase import Polyphase, Single, downsampling_rows, upsampling_rows
from zygotone.dsp.types import FloatArray

_STOP_DB = 100.0
# For each stage: half the filter's length at its upper rate, and the middle of its transition as a share of
# its lower rate. Lengths by Kaiser's formula for 100 dB. The first is flat to 0.42 of the base rate (20.1 kHz at
# 48 kHz) and closed from half of it on. The later ones keep what lies below half the base rate and close
# where it would fold onto that, and are chosen so that the whole latency is whole frames.
_STAGES = ((80, 0.46), (14, 0.5), (8, 0.5))


@functools.lru_cache(maxsize=4)
def _taps(stage: int) -> FloatArray:
    return _windowed(*_STAGES[stage])


def _windowed(half: int, edge: float) -> FloatArray:
    """Linear-phase low-pass at a stage's upper rate, shape (2·half + 1,), sum 1."""
    t = np.arange(-half, half + 1)
    beta = 0.1102 * (_STOP_DB - 8.7)
    window = np.i0(beta * np.sqrt(1.0 - (t / half) ** 2)) / np.i0(beta)
    taps = np.sinc(edge * t) * window
    return np.asarray(taps / taps.sum())


# On the way up there is nothing but the input to keep from folding, and what little of it lies above 20 kHz may pass
# its mirror image: a half-band filter will do for the first stage, and every other tap of it is zero.
_FIRST_UP = (40, 0.5)


@functools.lru_cache(maxsize=4)
def _up_taps(stage: int) -> FloatArray:
    taps = _windowed(*_FIRST_UP) if stage == 0 else _taps(stage)
    return np.where(np.abs(taps) < 1e-12, 0.0, taps)


def latency_frames(factor: int) -> int:
    """Delay of going up and down again, in frames of the base rate."""
    if factor == 1:
        return 0
    stages = round(math.log2(factor))
    later: int = sum(2 * _STAGES[s][0] // 2 ** (s + 1) for s in range(1, stages))
    return (_FIRST_UP[0] + _STAGES[0][0]) // 2 + later


class Oversampler(Memory):
    """One channel to ``factor`` (2, 4 or 8) times the rate and back."""

    def __init__(self, factor: int) -> None:
        stages = round(math.log2(factor))
        self._up = [Polyphase(2**s, 2 ** (s + 1), upsampling_rows(_up_taps(s), 2**s)) for s in range(stages)]
        self._down = [
            Polyphase(2 ** (s + 1), 2**s, downsampling_rows(_taps(s), 2 ** (s + 1))) for s in reversed(range(stages))
        ]

        # Of the way down alone, in frames of the upper rate.
        self.down_latency_raised = sum(_STAGES[s][0] * 2 ** (stages - 1 - s) for s in range(stages))

    def up(self, x: FloatArray) -> Single:
        """x (n,) to the phases of the upper rate, shape (factor, n)."""
        phases = x.astype(np.float32)[None]
        for stage in self._up:
            phases = stage.process(phases)
        return phases

    def down(self, phases: Single) -> FloatArray:
        """Phases of the upper rate, shape (factor, n), to (n,)."""
        for stage in self._down:
            phases = stage.process(phases)
        return np.asarray(phases[0], dtype=np.float64)


def bent(x: FloatArray, curve: Callable[[Single], Single], *, factor: int = 4) -> FloatArray:
    """A whole signal (n,) through a memoryless curve at ``factor`` times the rate, without delay."""
    over, late = Oversampler(factor), latency_frames(factor)
    return over.down(curve(over.up(np.concatenate([x, np.zeros(late)]))))[late:]


def lowered(raised: FloatArray, factor: int) -> FloatArray:
    """A whole signal at ``factor`` (2 or 4) times the rate, (factor · n,), brought to the base rate, (n,), without delay."""
    over = Oversampler(factor)
    n = len(raised) // factor
    late = over.down_latency_raised
    early = -late % factor  # so that the delay is whole frames
    late = (late + early) // factor
    padded = np.zeros((n + late, factor), dtype=np.float32)
    padded.reshape(-1)[early : early + len(raised)] = raised
    return over.down(np.ascontiguousarray(padded.T))[late:]
