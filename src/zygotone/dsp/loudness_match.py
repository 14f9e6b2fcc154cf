"""Keeps one signal as loud as another while both play."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
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
    x: Stereo, y: Stereo, sos: FloatArray, weighted: FloatArray, start: int, step_frames: int, settle: float,
    sums: FloatArray, rings: FloatArray, counts: IntArray, gain: FloatArray,
) -> None:  # fmt: skip
    """x and y (2, n); sos (2, 6) the K-weighting, weighted (4, 4) its memory of x and y, left and right; sums (4,):
    present step's power of x and y, gain, its target; rings (2, steps); counts (3,): frames of the present step, ring
    position, steps filled; gain (n,) is written."""
    b0, b1, b2, a1, a2 = sos[0, 0], sos[0, 1], sos[0, 2], sos[0, 4], sos[0, 5]
    c1, c2 = sos[1, 4], sos[1, 5]
    n = x.shape[1]
    i = 0
    while i < n:
        # Up to the end of the step or of the block, in chunks for the reason given at ``sos_stereo``; the four signals are weighted side by side.
        stop = min(n, min(i + 256, i + step_frames - (start + i) % step_frames))
        px, py = sums[0], sums[1]
        w = weighted.copy()
        for j in range(i, stop):
            for c in range(4):
                v = x[c, j] if c < 2 else y[c - 2, j]
                p = b0 * v + w[c, 0]
                w[c, 0] = b1 * v - a1 * p + w[c, 1]
                w[c, 1] = b2 * v - a2 * p
                q = p + w[c, 2]
                w[c, 2] = -2.0 * p - c1 * q + w[c, 3]
                w[c, 3] = p - c2 * q
                if c < 2:
                    px += q * q
                else:
                    py += q * q
        for c in range(4):
            for k in range(4):
                weighted[c, k] = w[c, k] if abs(w[c, k]) > 1e-30 else 0.0
        sums[0], sums[1] = px, py
        counts[0] += stop - i
        for j in range(i, stop):
            sums[2] = sums[3] + settle * (sums[2] - sums[3])
            gain[j] = sums[2]
        i = stop
        if (start + i) % step_frames == 0:
            at = counts[1]
            rings[0, at], rings[1, at] = sums[0] / counts[0], sums[1] / counts[0]
            sums[0], sums[1] = 0.0, 0.0
            counts[0] = 0
            counts[1] = (at + 1) % rings.shape[1]
            counts[2] = min(rings.shape[1], counts[2] + 1)
            gx, gy = _gated_power(rings[0], counts[2]), _gated_power(rings[1], counts[2])
            if gx > 0.0 and gy > 0.0:
                sums[3] = min(100.0, max(0.01, math.sqrt(gx / gy)))


class LoudnessMatch(Memory):
    """The gain that makes y as loud as x: by the gated loudness of BS.1770 over the last 3 s, renewed every 100 ms."""

    def __init__(self, sample_rate_hz: int, *, first_gain: float = 1.0) -> None:
        self._sos = k_weighting_sos(sample_rate_hz)
        self._step = round(_STEP_S * sample_rate_hz)
        self._settle = math.exp(-1.0 / (_SETTLE_S * sample_rate_hz))
        self._weighted_state = np.zeros((4, 4))
        self._sums_state = np.array([0.0, 0.0, first_gain, first_gain])
        self._rings_state = np.zeros((2, _STEPS))
        self._counts_state = np.zeros(3, dtype=np.int64)

    def process(self, x: Stereo, y: Stereo, position: int) -> FloatArray:
        """Gain for y, shape (n,). Steps are counted by the position in the song, so that a section alone is matched as
        within the whole."""
        gain = np.empty(x.shape[1])
        _follow(
            x, y, self._sos, self._weighted_state, position, self._step, self._settle, self._sums_state,
            self._rings_state, self._counts_state, gain,
        )  # fmt: skip
        return gain
