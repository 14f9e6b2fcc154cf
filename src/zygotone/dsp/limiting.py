"""Gain that keeps every peak under a ceiling, and where the peaks between the samples are."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np

from zygotone.dsp.compile import kernel, summing_kernel
from zygotone.dsp.delays import fir_add
from zygotone.dsp.memory import Memory
from zygotone.dsp.peaks import largest_single
from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import FloatArray, Stereo

_PHASES = 4


@dataclass(frozen=True, slots=True)
class _Reader:
    """A filter that rebuilds what lies between the samples: frames to either side, the Kaiser window's beta, and its edge
    as a share of half the sample rate."""

    half: int
    beta: float
    edge: float = 1.0


# What lies between the samples is a matter of the filter that rebuilds it. The first is flat to 0.488 fs within 0.1 dB;
# the second (that of scipy.signal.resample_poly, and much like those in common meters) lets less through and overshoots
# more. The third is steep, as in good resamplers, and takes off the top: without it what is left may be higher. It is asked
# wherever a peak may be near. The fourth, close to the ideal, matters only where there is something near half the sample
# rate, which is where the first two disagree.
_READERS = (_Reader(48, 3.0), _Reader(10, 5.0), _Reader(90, 12.0, 0.956), _Reader(192, 2.0))
_MOST = max(reader.half for reader in _READERS)
PEAK_LATENCY = _MOST
_DISAGREE = 0.005  # of the ceiling
# And there the peak is taken for a little larger than the last two read, for the filters that nobody thought of.
_DOUBT = 1.025
_NEAR = 0.7  # of the ceiling: what the first two read there, the third may read as a peak
_TILE = 248  # frames worked on at a time: with those that are looked at around them 256
_LOOK_BETWEEN = 0.8  # of the ceiling: what comes near it is looked at between the points too
# Where the first two disagree by so much, a frame that is that many times of it under the ceiling may be over it. They agree by
# chance here and there: so it is looked at a few frames around.
_DOUBTED_TIMES, _AROUND, _MAY_DOUBT = 4.0, 4, 0.3

_Taps = tuple[Single, ...]


@functools.lru_cache(maxsize=1)
def _taps() -> _Taps:
    """For each reader its taps for ¼, ½ and ¾ of a frame after the middle one, shapes (3, 2·half)."""

    def taps(reader: _Reader) -> Single:
        rows = []
        for p in range(1, _PHASES):
            t = np.arange(-reader.half + 1, reader.half + 1) - p / _PHASES
            window = np.i0(reader.beta * np.sqrt(np.maximum(0.0, 1.0 - (t / reader.half) ** 2)))
            row = np.sinc(reader.edge * t) * window
            rows.append(row[::-1] / row.sum())
        return np.array(rows, dtype=np.float32)

    return tuple(taps(reader) for reader in _READERS)


@kernel
def _top(a: float, b: float, c: float) -> float:
    """Top of the parabola through three neighbours where the middle one is the largest; the middle one elsewhere."""
    if b < a or b < c:
        return b
    bend = a - 2.0 * b + c
    return b - 0.125 * (a - c) * (a - c) / bend if bend < 0.0 else b


@kernel
def _peak_of_frame(a: float, b: float, c: float, d: float, y: float, z: float, enough: float) -> float:
    """Largest magnitude of a frame's four points, between them too where it comes near ``enough``; y and z are the last two
    points of the frame before. All magnitudes."""
    top = max(max(a, b), max(c, d))
    if top > _LOOK_BETWEEN * enough:
        top = max(max(_top(y, z, a), _top(z, a, b)), max(_top(a, b, c), _top(b, c, d)))
    return top


@summing_kernel
def _quarters(taps: Single, x: Single, first: int) -> tuple[float, float, float]:
    """Magnitudes ¼, ½ and ¾ of a frame on: Σ taps[p, k]·x[first + m − 1 − k] over the m taps, as ``fir_add`` has it. The taps of
    one are those of another backwards, so that x is read forwards."""
    at = np.uint64(first)
    one, two, three = np.float32(0.0), np.float32(0.0), np.float32(0.0)
    for k in range(taps.shape[1]):
        v = x[at + np.uint64(k)]
        one += taps[2, k] * v
        two += taps[1, k] * v
        three += taps[0, k] * v
    return abs(float(one)), abs(float(two)), abs(float(three))


@kernel
def _read_peaks(
    joined: Single, ceiling: float, readers: _Taps, most_gain: float, held: FloatArray, peak: FloatArray
) -> None:
    """peak (n,) is raised to the largest magnitude around each frame of joined (1 + 2·_MOST + n,), between samples too
    where that can reach ``ceiling``; held (2, 2) is the last two points of the block before of the first two readers.

    Most of a song is far from its ceiling, and what cannot get there is not read: no filter gives more than
    ``most_gain``, the sum of its taps' magnitudes, times the largest sample; and nothing between points half a frame
    apart is more than √2 times the larger (a band-limited signal cannot turn quicker: Bernstein's inequality). The last
    two readers are long, and are asked for single frames.
    """
    n = peak.shape[0]
    points = np.empty((_PHASES, _TILE), dtype=np.float32)
    own = np.empty(_TILE, dtype=np.float32)  # the largest that the first two read in each frame
    # What the first two readers found in the middle between frames, from a few frames before the tile to a few after it.
    halfway = np.zeros((2, _TILE + 2 * _AROUND), dtype=np.float32)
    last = np.full((2, 3), -2.0)  # of either long reader: the frame it read last, and the last two points of that
    for at in range(0, n, _TILE):
        width = min(_TILE, n - at)
        wider = width + 2 * _AROUND
        middle, found = joined[1 + _MOST + at : 1 + _MOST + at + width], peak[at : at + width]
        reach = readers[2].shape[1] // 2
        if largest_single(joined[1 + _MOST + at - reach : 1 + _MOST + at + reach + width]) * most_gain < ceiling:
            for i in range(width):
                found[i] = max(found[i], abs(middle[i]))
            held[:] = 0.0
            continue
        for i in range(width):
            own[i] = abs(middle[i])
        for r in range(2):
            taps = readers[r]
            half = taps.shape[1] // 2
            points[:, :width] = 0.0
            points[0, :width] = middle
            halfway[r, :wider] = 0.0
            first = 1 + _MOST + at - half + 1
            fir_add(taps[1], joined[first - _AROUND : first + 2 * half - 1 + width + _AROUND], halfway[r, :wider])
            points[2, :width] = halfway[r, _AROUND : _AROUND + width]
            top = max(largest_single(points[0, :width]), largest_single(points[2, :width]))
            if top * 1.4143 >= ceiling:
                x = joined[first : first + 2 * half - 1 + width]
                fir_add(taps[0], x, points[1, :width])
                fir_add(taps[2], x, points[3, :width])
                top = max(top, max(largest_single(points[1, :width]), largest_single(points[3, :width])))
            if top > _LOOK_BETWEEN * ceiling:
                y, z = held[r, 0], held[r, 1]
                for i in range(width):
                    a, b, c, d = abs(points[0, i]), abs(points[1, i]), abs(points[2, i]), abs(points[3, i])
                    own[i] = max(own[i], _peak_of_frame(a, b, c, d, y, z, ceiling))
                    y, z = float(c), float(d)
            else:  # then neither quarter was read, or nothing of it comes near
                for i in range(width):
                    own[i] = max(own[i], max(max(abs(points[1, i]), abs(points[2, i])), abs(points[3, i])))
            held[r, 0], held[r, 1] = abs(points[2, width - 1]), abs(points[3, width - 1])
        for i in range(width):
            found[i] = max(found[i], own[i])
        _ask_long_readers(joined, at, own[:width], halfway, ceiling, readers, last, found)


@kernel
def _ask_long_readers(
    joined: Single, at: int, own: Single, halfway: Single, ceiling: float, readers: _Taps, last: FloatArray, peak: FloatArray
) -> None:  # fmt: skip
    """Raises peak (n,) to what the third and the fourth reader find in the frames from ``at`` on that may need them: where a
    peak is near, and where the first two disagree."""
    width = own.shape[0]
    apart_by = halfway[0, : width + 2 * _AROUND] - halfway[1, : width + 2 * _AROUND]
    top, furthest = largest_single(own), largest_single(apart_by)
    if top <= _NEAR * ceiling and (furthest <= _DISAGREE * ceiling or top + _DOUBTED_TIMES * furthest <= ceiling):
        return
    for i in range(width):
        near = own[i] > _NEAR * ceiling
        apart = 0.0
        if own[i] > _MAY_DOUBT * ceiling and own[i] + _DOUBTED_TIMES * furthest > ceiling:
            for j in range(i, i + 2 * _AROUND + 1):
                apart = max(apart, abs(apart_by[j]))
        doubted = apart > _DISAGREE * ceiling and own[i] + _DOUBTED_TIMES * apart > ceiling
        if near:
            peak[i] = max(peak[i], _one_frame(joined, at + i, readers[2], ceiling, doubted, last[0]))
        if doubted:
            peak[i] = max(peak[i], _one_frame(joined, at + i, readers[3], ceiling, True, last[1]))


@kernel
def _one_frame(joined: Single, frame: int, taps: Single, ceiling: float, doubted: bool, last: FloatArray) -> float:
    """What a long reader finds around one frame. last (3,) is kept for the next."""
    middle = 1 + _MOST + frame
    first = middle - taps.shape[1] // 2 + 1
    y, z = last[1], last[2]
    if last[0] != frame - 1:
        _before, y, z = _quarters(taps, joined, first - 1)
    a = abs(joined[middle])
    b, c, d = _quarters(taps, joined, first)
    last[0], last[1], last[2] = frame, c, d
    top = _peak_of_frame(a, b, c, d, y, z, ceiling)
    return _DOUBT * top if doubted else top


class TruePeak(Memory):
    """Peak of both channels around each frame, between samples too, ``PEAK_LATENCY`` frames late. What lies under
    ``ceiling`` need not be exact."""

    remembers = ("_past_state", "_held_state")

    def __init__(self, ceiling: float) -> None:
        self._ceiling = ceiling
        self._taps = _taps()
        self._most_gain = max(float(np.max(np.sum(np.abs(taps), axis=1))) for taps in self._taps[:3])
        self._past_state = np.zeros((2, 1 + 2 * _MOST), dtype=np.float32)
        self._held_state = np.zeros((2, 2, 2))

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to peaks (n,)."""
        n = x.shape[1]
        peak = np.zeros(n)
        joined = np.concatenate([self._past_state, x.astype(np.float32)], axis=1)
        self._past_state = joined[:, n:].copy()
        for c in range(2):
            _read_peaks(joined[c], self._ceiling, self._taps, self._most_gain, self._held_state[c], peak)
        return peak


@kernel
def release_gain(peak: FloatArray, ceiling: float, release: float, state: FloatArray) -> None:
    """In place: peaks (n,) become the gain, linear, that brings them to ``ceiling``; it falls at once and rises by
    one-pole. state (1,) begins at 1."""
    g, rest = state[0], 1.0 - release
    for i in range(peak.shape[0]):
        wanted = ceiling / peak[i] if peak[i] > ceiling else 1.0
        risen = rest * wanted + release * g  # a frame waits for the one before for one product
        g = wanted if wanted < g else risen
        g = g if g < 1.0 - 1e-9 else 1.0
        peak[i] = g
    state[0] = g


@kernel
def _running_mean(x: FloatArray, ring: FloatArray, state: FloatArray) -> None:
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


class RunningMean(Memory):
    """Mean of the last ``frames`` values, which were 1 before the first."""

    remembers = ("_ring", "_at")

    def __init__(self, frames: int) -> None:
        self._ring = np.ones(frames)
        self._at = np.array([0.0, float(frames)])

    def process(self, x: FloatArray) -> None:
        """In place, x (n,)."""
        _running_mean(x, self._ring, self._at)

    def adopt(self, older: Any) -> bool:
        """One of another length begins with the mean that the older one has."""
        if not super().adopt(older):
            self._ring[:] = older._at[1] / len(older._ring)
            self._at[:] = 0.0, float(np.sum(self._ring))
        return True
