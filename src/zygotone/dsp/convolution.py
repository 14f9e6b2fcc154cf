"""Convolution with long responses, and the linear-phase crossovers made with it."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from typing import Any

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.memory import Memory
from zygotone.dsp.sides import Sides, are_alike
from zygotone.dsp.types import FloatArray, IntArray, Stereo

# Partitions worked out together at most: enough to make a call worth while, few enough to stay in the cache.
_MOST_TURNS = 64


@kernel
def _multiply_add(spectra: np.ndarray, fresh: np.ndarray, heard: np.ndarray, at: IntArray, total: np.ndarray) -> None:
    """total (turns, filters, bins) = Σ over partitions of spectra (filters, partitions, bins) times what was heard so
    many partitions ago. fresh (turns, bins) is heard now, one after the other; heard (partitions, bins) is a ring whose
    next entry is at[1]."""
    turns, filters, bins = total.shape
    partitions = heard.shape[0]
    newest = at[1]
    for turn in range(turns):
        for b in range(bins):
            heard[newest, b] = fresh[turn, b]
        for f in range(filters):
            out = total[turn, f]
            for b in range(bins):
                out[b] = 0.0
            for p in range(partitions):
                x = heard[newest - p if newest >= p else newest - p + partitions]
                h = spectra[f, p]
                for b in range(bins):
                    out[b] += h[b] * x[b]
        newest = newest + 1 if newest + 1 < partitions else 0
    at[1] = newest


class Convolver(Memory):
    """One channel, or both sides alike, through one or more long responses at once: uniformly partitioned overlap-save (Stockham
    1966; the partitions are W. G. Gardner's, "Efficient convolution without input-output delay", 1995, without his short ones).

    ``latency`` is the length of a partition, whatever the blocks are.
    """

    remembers = ("_in_state", "_heard_state", "_out_state", "_at_state")

    def __init__(self, taps: FloatArray, *, partition: int = 256, sides: int = 1, single: bool = False) -> None:
        """taps (filters, n); ``single`` where single precision will do, which takes half the time."""
        filters, n = taps.shape
        parts = max(1, math.ceil(n / partition))
        padded = np.zeros((filters, parts, 2 * partition), dtype=np.float32 if single else np.float64)
        padded[..., :partition] = np.pad(taps, ((0, 0), (0, parts * partition - n))).reshape(filters, parts, partition)
        self._forward: Callable[..., Any] = np.fft.rfft
        self._back: Callable[..., Any] = np.fft.irfft
        if single:
            from scipy.fft import irfft, rfft  # several transforms at a time in single precision, and loaded only here

            self._forward, self._back = rfft, irfft
        self._spectra = np.ascontiguousarray(self._forward(padded, axis=-1))
        self.latency = partition
        self._size = partition
        self._in_state = np.zeros((sides, 2 * partition), dtype=padded.dtype)
        self._heard_state = np.zeros((sides, parts, self._spectra.shape[-1]), dtype=self._spectra.dtype)
        self._out_state = np.zeros((sides, filters, partition), dtype=padded.dtype)
        self._at_state = np.zeros(2, dtype=np.int64)  # frames of the present partition; next entry of the ring

    def adopt(self, older: Any) -> bool:
        """One with longer or shorter responses goes on with as much of what was heard as both have room for; False where it
        would need more."""
        if super().adopt(older):
            return True
        mine, theirs = self._heard_state, older._heard_state
        if mine.shape[2] != theirs.shape[2] or self._out_state.shape != older._out_state.shape:
            return False
        ago = np.arange(1, min(mine.shape[1], theirs.shape[1]) + 1)
        mine[:, -ago] = theirs[:, (int(older._at_state[1]) - ago) % theirs.shape[1]]
        self._in_state, self._out_state = older._in_state.copy(), older._out_state.copy()
        self._at_state[:] = older._at_state[0], 0
        return bool(mine.shape[1] <= theirs.shape[1])

    def process(self, x: FloatArray) -> FloatArray:
        """x (n,) to (filters, n), late by ``latency``."""
        return np.asarray(self.process_sides(x[None])[0])

    def process_sides(self, x: FloatArray) -> FloatArray:
        """x (sides, n), or the first of them alone, to (sides, filters, n), late by ``latency``."""
        x = x.astype(self._in_state.dtype, copy=False)
        most = _MOST_TURNS * self._size
        if x.shape[1] <= most:
            return self._some(x)
        return np.concatenate([self._some(x[:, at : at + most]) for at in range(0, x.shape[1], most)], axis=2)

    def part(self) -> None:
        """The second side, left out so far, has been as the first."""
        for state in (self._in_state, self._heard_state, self._out_state):
            state[1] = state[0]

    def _some(self, x: FloatArray) -> FloatArray:
        sides, n = x.shape
        size, fill = self._size, int(self._at_state[0])
        turns = (fill + n) // size
        stream = np.concatenate([self._in_state[:sides, : size + fill], x], axis=1)
        left = fill + n - turns * size
        self._in_state[:sides, : size + left] = stream[:, turns * size :]
        self._at_state[0] = left
        before = self._out_state[:sides]
        if turns == 0:
            return before[..., fill : fill + n].copy()
        row, step = stream.strides
        # Each half over the last.
        windows = np.ndarray((sides, turns, 2 * size), stream.dtype, stream, strides=(row, size * step, step))
        fresh, filters = self._forward(windows), len(self._spectra)
        total = np.empty((sides, turns, filters, self._spectra.shape[-1]), dtype=self._spectra.dtype)
        newest = int(self._at_state[1])
        for side in range(sides):
            self._at_state[1] = newest
            _multiply_add(self._spectra, fresh[side], self._heard_state[side], self._at_state, total[side])
        made = self._back(total)[..., size:].swapaxes(1, 2).reshape(sides, filters, turns * size)
        y = np.concatenate([before[..., fill:], made], axis=2)[..., :n]
        self._out_state[:sides] = made[..., -size:]
        return y


class StereoConvolver(Memory):
    """Both sides through the same responses; one of them as long as they are alike."""

    remembers = ("_alike_state",)

    def __init__(self, taps: FloatArray, *, partition: int, single: bool = False) -> None:
        """taps (filters, n)."""
        self._convolver = Convolver(taps, partition=partition, sides=2, single=single)
        self._alike_state = np.array([True])

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to (filters, 2, n), late by ``partition``."""
        if self._alike_state[0] and not are_alike(x):
            self._convolver.part()
            self._alike_state[0] = False
        made = self._convolver.process_sides(x[:1] if self._alike_state[0] else x)
        y = np.empty((made.shape[1], 2, x.shape[1]))
        y[:] = made.swapaxes(0, 1)
        return y


def convolved_sides(left: FloatArray, right: FloatArray, *, partition: int, single: bool = False) -> Sides[Convolver]:
    """A convolver a side, of one response (n,) each."""
    alike = np.array_equal(left, right)
    return Sides(
        lambda: Convolver(left[None], partition=partition),
        None if alike else lambda: Convolver(right[None], partition=partition),
    )


@functools.lru_cache(maxsize=64)
def _lowpass_taps(freq_hz: float, half: int, sample_rate_hz: int, order: int = 4) -> FloatArray:
    """Linear-phase FIR (2·half + 1,) with the magnitude 1 / (1 + (f/fc)^order)."""
    n = 1 << math.ceil(math.log2(4 * half + 2))
    f = np.fft.rfftfreq(n, 1.0 / sample_rate_hz)
    response = np.fft.irfft(1.0 / (1.0 + (f / freq_hz) ** order), n)
    taps = np.concatenate([response[-half:], response[: half + 1]])
    # The ends are 80 dB down already; the last fifth only takes the step off.
    t = np.clip(5.0 * (np.abs(np.arange(-half, half + 1)) / (half + 1.0) - 0.8), 0.0, 1.0)
    taps *= np.cos(0.5 * np.pi * t) ** 2
    return np.asarray(taps / taps.sum())


def crossover_half(freq_hz: float, sample_rate_hz: int) -> int:
    """Half the length of a crossover's response in frames: where it has fallen by 80 dB, e^(−π√2·f·t)."""
    return math.ceil(math.log(1e4) / (math.pi * math.sqrt(2.0) * freq_hz) * sample_rate_hz)


BAND_ORDER = 6


class BandFilter(Memory):
    """What lies between two frequencies, in phase with the input: 36 dB an octave at either edge, −6 dB at the edge
    itself. ``None`` leaves a side open. Single precision: what it lets through is bent, and added to what went round it."""

    def __init__(
        self,
        low_hz: float | None,
        high_hz: float | None,
        sample_rate_hz: int,
        *,
        lowest_hz: float,
        partition: int = 256,
    ) -> None:
        """``lowest_hz`` is the lowest that an edge may come to be, which decides the latency."""
        # Down by 80 dB, e^(−2π·sin(π/order)·f·t).
        fall = 2.0 * math.pi * math.sin(math.pi / BAND_ORDER) * lowest_hz
        half = math.ceil(math.log(1e4) / fall * sample_rate_hz)
        taps = np.zeros(2 * half + 1)
        if high_hz is None:
            taps[half] = 1.0
        else:
            taps += _lowpass_taps(high_hz, half, sample_rate_hz, BAND_ORDER)
        if low_hz is not None:
            taps -= _lowpass_taps(low_hz, half, sample_rate_hz, BAND_ORDER)
        self._convolver = StereoConvolver(taps[None], partition=partition, single=True)
        self.latency = half + partition

    def process(self, x: Stereo) -> Stereo:
        """x (2, n) to (2, n), late by ``latency``."""
        return np.ascontiguousarray(self._convolver.process(x)[0])


class Crossover(Memory):
    """Lows below one or more frequencies, in phase with the input: each has the magnitude of a fourth-order
    Linkwitz–Riley low-pass (Linkwitz and Riley 1976: a squared Butterworth, 1 / (1 + (f/fc)⁴), −6 dB at the crossover)
    and a constant delay. So low and high, which is the delayed input minus low, sum to the input itself, and a wet
    signal can be blended with the dry one.
    """

    def __init__(self, freqs_hz: tuple[float, ...], sample_rate_hz: int, *, partition: int = 256) -> None:
        half = crossover_half(min(freqs_hz), sample_rate_hz)
        taps = np.array([_lowpass_taps(f, half, sample_rate_hz) for f in freqs_hz])
        self._convolver = StereoConvolver(taps, partition=partition)
        self.latency = half + partition

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to lows (frequencies, 2, n), late by ``latency``."""
        return self._convolver.process(x)
