"""Keeps one signal as loud as another while both play."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.filters import sos_stereo
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, IntArray, Stereo
from zygotone.dsp.weighting import k_weighting_sos

_STEP_S = 0.1
_STEPS = 30  # 3 s, as the short-term loudness of EBU Tech 3341, and no longer than what is rendered before a section
_BLOCK_STEPS = 4  # BS.1770: gating blocks of 400 ms
_SETTLE_S = 0.3


@kernel
def _gated_power(steps: FloatArray, count: int) -> float:
    """Mean power of the blocks of ``steps`` (a ring of step powers, the last ``count`` of them filled from 0) that pass
    the absolute and the relative gate of BS.1770; 0 where none does."""
    absolute = 10.0 ** ((-70.0 + 0.691) / 10.0)
    size = steps.shape[0]
    gate = absolute
    mean = 0.0
    for _ in range(2):
        total, n = 0.0, 0
        for at in range(count):
            block = 0.0
            used = 0
            for k in range(_BLOCK_STEPS):
                step = at - k
                if step >= 0 or count == size:
                    block += steps[step if step >= 0 else step + size]
                    used += 1
            block /= used
            if block > gate:
                total += block
                n += 1
        mean = total / n if n else 0.0
        gate = max(absolute, 0.1 * mean)
    return mean


@kernel
def _follow(
    x: Stereo,
    y: Stereo,
    start: int,
    step_frames: int,
    settle: float,
    sums: FloatArray,
    rings: FloatArray,
    counts: IntArray,
    gain: FloatArray,
) -> None:
    """x and y (2, n) K-weighted; sums (4,): present step's power of x and y, gain, its target; rings (2, steps);
    counts (3,): frames of the present step, ring position, steps filled; gain (n,) is written."""
    for i in range(x.shape[1]):
        sums[0] += x[0, i] * x[0, i] + x[1, i] * x[1, i]
        sums[1] += y[0, i] * y[0, i] + y[1, i] * y[1, i]
        counts[0] += 1
        if (start + i + 1) % step_frames == 0:
            at = counts[1]
            rings[0, at], rings[1, at] = sums[0] / counts[0], sums[1] / counts[0]
            sums[0], sums[1] = 0.0, 0.0
            counts[0] = 0
            counts[1] = (at + 1) % rings.shape[1]
            counts[2] = min(rings.shape[1], counts[2] + 1)
            px, py = _gated_power(rings[0], counts[2]), _gated_power(rings[1], counts[2])
            if px > 0.0 and py > 0.0:
                sums[3] = min(100.0, max(0.01, math.sqrt(px / py)))
                if sums[2] == 0.0:
                    sums[2] = sums[3]
        sums[2] = sums[3] + settle * (sums[2] - sums[3])
        gain[i] = sums[2]


class LoudnessMatch(Memory):
    """The gain that makes y as loud as x: by the gated loudness of BS.1770 over the last 3 s, renewed every 100 ms."""

    def __init__(self, sample_rate_hz: int, *, first_gain: float = 1.0) -> None:
        self._sos = k_weighting_sos(sample_rate_hz)
        self._step = round(_STEP_S * sample_rate_hz)
        self._settle = math.exp(-1.0 / (_SETTLE_S * sample_rate_hz))
        self._weighted_state = np.zeros((2, 2, 2, 2))
        self._sums_state = np.array([0.0, 0.0, first_gain, first_gain])
        self._rings_state = np.zeros((2, _STEPS))
        self._counts_state = np.zeros(3, dtype=np.int64)

    def process(self, x: Stereo, y: Stereo, position: int) -> FloatArray:
        """Gain for y, shape (n,). Steps are counted by the position in the song, so that a section alone is matched as
        within the whole."""
        wx, wy = np.empty_like(x), np.empty_like(y)
        sos_stereo(self._sos, x, self._weighted_state[0], wx)
        sos_stereo(self._sos, y, self._weighted_state[1], wy)
        gain = np.empty(x.shape[1])
        _follow(
            wx, wy, position, self._step, self._settle, self._sums_state, self._rings_state, self._counts_state, gain
        )
        return gain
