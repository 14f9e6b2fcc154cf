"""Gain that keeps every peak under a ceiling, and where the peaks between the samples are."""

from __future__ import annotations

import functools

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.delays import fir_add
from zygotone.dsp.dynamics import push_max
from zygotone.dsp.memory import Memory
from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import FloatArray, IntArray, Stereo

_PHASES = 4
# Frames to either side of a peak that are looked at, and the Kaiser window's beta, for two readers. What lies between
# the samples is a matter of the filter that rebuilds it: the long one is flat to 0.488 fs within 0.1 dB, the short one
# (that of scipy.signal.resample_poly, and much like those in common meters) lets less through and overshoots more.
_LONG, _LONG_BETA = 48, 3.0
_SHORT, _SHORT_BETA = 10, 5.0
PEAK_LATENCY = _LONG
_TILE = 256


@functools.lru_cache(maxsize=1)
def _readers() -> tuple[Single, Single]:
    """Taps of both readers for ¼, ½ and ¾ of a frame after the middle one, shapes (3, 96) and (3, 20)."""

    def reader(half: int, beta: float) -> Single:
        rows = []
        for p in range(1, _PHASES):
            t = np.arange(-half + 1, half + 1) - p / _PHASES
            taps = np.sinc(t) * np.i0(beta * np.sqrt(np.maximum(0.0, 1.0 - (t / half) ** 2)))
            rows.append(taps[::-1] / taps.sum())
        return np.array(rows, dtype=np.float32)

    return reader(_LONG, _LONG_BETA), reader(_SHORT, _SHORT_BETA)


@kernel
def _top(a: float, b: float, c: float) -> float:
    """Top of the parabola through three neighbours where the middle one is the largest; the middle one elsewhere."""
    if b < a or b < c:
        return b
    bend = a - 2.0 * b + c
    return b - 0.125 * (a - c) * (a - c) / bend if bend < 0.0 else b


@kernel
def _largest(row: Single) -> float:
    top = np.float32(0.0)
    for i in range(row.shape[0]):
        top = max(top, abs(row[i]))
    return float(top)


@kernel
def _read_peaks(
    joined: Single,
    ceiling: float,
    long_taps: Single,
    short_taps: Single,
    long_gain: float,
    held: FloatArray,
    peak: FloatArray,
) -> None:
    """peak (n,) is raised to the largest magnitude around each frame of joined (2·_LONG + n,), between samples too where
    that can reach ``ceiling``; held (2, 2) is each reader's last two points of the block before.

    Most of a song is far from its ceiling, and what cannot get there is not read: no filter gives more than
    ``long_gain``, the sum of its taps' magnitudes, times the largest sample; and nothing between points half a frame
    apart is more than √2 times the larger (a band-limited signal cannot turn quicker: Bernstein's inequality).
    """
    n = peak.shape[0]
    points = np.empty((_PHASES, _TILE), dtype=np.float32)
    for at in range(0, n, _TILE):
        width = min(_TILE, n - at)
        near = joined[at : at + 2 * _LONG + width]
        middle = near[_LONG : _LONG + width]
        for i in range(width):
            peak[at + i] = max(peak[at + i], abs(middle[i]))
        far = _largest(near) * long_gain < ceiling
        for r in range(2):
            half = _LONG if r == 0 else _SHORT
            taps = long_taps if r == 0 else short_taps
            first = _LONG - half + 1
            x = near[first : first + 2 * half - 1 + width]
            for p in range(_PHASES):
                points[p, :width] = 0.0
            points[0, :width] = middle
            if not far:
                fir_add(taps[1], x, points[2, :width])
                if max(_largest(points[2, :width]), _largest(middle)) * 1.4143 >= ceiling:
                    fir_add(taps[0], x, points[1, :width])
                    fir_add(taps[2], x, points[3, :width])
            y, z = held[r, 0], held[r, 1]
            for i in range(width):
                a, b, c, d = abs(points[0, i]), abs(points[1, i]), abs(points[2, i]), abs(points[3, i])
                top = max(max(a, b), max(c, d))
                if top > 0.8 * ceiling:
                    top = max(max(_top(y, z, a), _top(z, a, b)), max(_top(a, b, c), _top(b, c, d)))
                if top > peak[at + i]:
                    peak[at + i] = top
                y, z = float(c), float(d)
            held[r, 0], held[r, 1] = y, z


class TruePeak(Memory):
    """Peak of both channels around each frame, between samples too, ``PEAK_LATENCY`` frames late. What lies under
    ``ceiling`` need not be exact."""

    def __init__(self, ceiling: float) -> None:
        self._ceiling = ceiling
        self._long, self._short = _readers()
        self._long_gain = float(np.max(np.sum(np.abs(self._long), axis=1)))
        self._past_state = np.zeros((2, 2 * _LONG), dtype=np.float32)
        self._held_state = np.zeros((2, 2, 2))

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to peaks (n,)."""
        n = x.shape[1]
        peak = np.zeros(n)
        joined = np.concatenate([self._past_state, x.astype(np.float32)], axis=1)
        self._past_state = joined[:, n:].copy()
        for c in range(2):
            _read_peaks(joined[c], self._ceiling, self._long, self._short, self._long_gain, self._held_state[c], peak)
        return peak


@kernel
def smallest_of_last(
    x: FloatArray, window: int, values: FloatArray, index: IntArray, ends: IntArray, y: FloatArray
) -> None:
    """Smallest of the last ``window`` values of x (n,) into y (n,). The queue is that of ``dynamics.push_max``."""
    for i in range(x.shape[0]):
        y[i] = -push_max(-x[i], window, values, index, ends)


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
