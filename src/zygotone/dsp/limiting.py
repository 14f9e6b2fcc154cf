"""Gain that keeps every peak under a ceiling, and where the peaks between the samples are."""

from __future__ import annotations

import functools

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.delays import fir_add
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, IntArray, Stereo

_PHASES = 4
# Frames to either side of a peak that are looked at, and the Kaiser window's beta, for two readers. What lies between
# the samples is a matter of the filter that rebuilds it: the long one is flat to 0.488 fs within 0.1 dB, the short one
# (that of scipy.signal.resample_poly, and much like those in common meters) lets less through and overshoots more.
_LONG, _LONG_BETA = 48, 3.0
_SHORT, _SHORT_BETA = 10, 5.0
PEAK_LATENCY = _LONG


@functools.lru_cache(maxsize=4)
def _phase_taps(half: int, beta: float) -> FloatArray:
    """Taps (3, 2·half) of a windowed sinc that read ¼, ½ and ¾ of a frame after the middle one."""
    offsets = np.arange(-half + 1, half + 1)
    rows = []
    for p in range(1, _PHASES):
        t = offsets - p / _PHASES
        window = np.i0(beta * np.sqrt(np.maximum(0.0, 1.0 - (t / half) ** 2))) / np.i0(beta)
        taps = np.sinc(t) * window
        rows.append(taps[::-1] / taps.sum())
    return np.ascontiguousarray(rows)


@kernel
def _top(a: float, b: float, c: float) -> float:
    """Top of the parabola through three neighbours where the middle one is the largest; the middle one elsewhere."""
    if b < a or b < c:
        return b
    bend = a - 2.0 * b + c
    return b - 0.125 * (a - c) * (a - c) / bend if bend < 0.0 else b


@kernel
def _interleaved_peak(points: FloatArray, held: FloatArray, peak: FloatArray) -> None:
    """points (2, 4, n) at four times the rate; held (2, 2) the last two magnitudes of the block before; peak (n,) is
    raised to the largest magnitude near each frame, between the points too."""
    for c in range(2):
        a, b = held[c, 0], held[c, 1]
        for i in range(points.shape[2]):
            top = peak[i]
            for p in range(4):
                v = abs(points[c, p, i])
                top = max(top, _top(a, b, v))
                a, b = b, v
            peak[i] = top
        held[c, 0], held[c, 1] = a, b


class TruePeak(Memory):
    """Peak of both channels around each frame, between samples too, ``PEAK_LATENCY`` frames late."""

    def __init__(self) -> None:
        self._readers = [(_LONG, _phase_taps(_LONG, _LONG_BETA)), (_SHORT, _phase_taps(_SHORT, _SHORT_BETA))]
        self._past_state = np.zeros((2, 2 * _LONG))
        self._held_state = np.zeros((2, 2, 2))

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to peaks (n,)."""
        n = x.shape[1]
        joined = np.concatenate([self._past_state, x], axis=1)
        peak = np.zeros(n)
        for r, (half, taps) in enumerate(self._readers):
            points = np.zeros((2, _PHASES, n))
            # The middle frame is the same for both; a shorter reader sees less on either side of it.
            first = _LONG - half + 1
            for c in range(2):
                points[c, 0] = joined[c, _LONG : _LONG + n]
                for p in range(1, _PHASES):
                    fir_add(taps[p - 1], joined[c, first : first + 2 * half - 1 + n], points[c, p])
            _interleaved_peak(points, self._held_state[r], peak)
        self._past_state = np.ascontiguousarray(joined[:, n:])
        return peak


@kernel
def smallest_of_last(
    x: FloatArray, window: int, values: FloatArray, index: IntArray, ends: IntArray, y: FloatArray
) -> None:
    """Smallest of the last ``window`` values of x (n,) into y (n,). The queue is that of ``dynamics.peak_level``."""
    size = values.shape[0]
    head, count, clock = ends[0], ends[1], ends[2]
    for i in range(x.shape[0]):
        value = x[i]
        slot = head + count
        if slot >= size:
            slot -= size
        while count > 0:
            last = slot - 1 if slot > 0 else size - 1
            if values[last] < value:
                break
            slot = last
            count -= 1
        values[slot] = value
        index[slot] = clock
        count += 1
        if index[head] <= clock - window:
            head = head + 1 if head + 1 < size else 0
            count -= 1
        clock += 1
        y[i] = values[head]
    ends[0], ends[1], ends[2] = head, count, clock


@kernel
def release_gain(gain: FloatArray, release: float, state: FloatArray) -> None:
    """In place: a gain may fall at once and rises by one-pole. gain (n,), linear; state (1,) begins at 1."""
    g = state[0]
    for i in range(gain.shape[0]):
        g = gain[i] if gain[i] < g else gain[i] + release * (g - gain[i])
        if g > 1.0 - 1e-9:
            g = 1.0
        gain[i] = g
    state[0] = g


@kernel
def running_mean(x: FloatArray, ring: FloatArray, state: FloatArray) -> None:
    """In place: mean of the last values of x (n,), as many as ring has room for. state (2,): position, sum."""
    size = ring.shape[0]
    at, total = int(state[0]), state[1]
    for i in range(x.shape[0]):
        total += x[i] - ring[at]
        ring[at] = x[i]
        at += 1
        if at == size:  # once a turn the sum is made afresh, so that rounding cannot pile up
            at = 0
            total = 0.0
            for k in range(size):
                total += ring[k]
        x[i] = total / size
    state[0], state[1] = at, total
