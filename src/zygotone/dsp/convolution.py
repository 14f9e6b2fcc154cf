"""Convolution with long responses, and the linear-phase crossovers made with it."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

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
    """One channel through one or more long responses at once: uniformly partitioned overlap-save (Stockham 1966; the
    partitions are W. G. Gardner's, "Efficient convolution without input-output delay", 1995, without his short ones).

    ``latency`` is the length of a partition, whatever the blocks are.
    """

    remembers = ("_in_state", "_heard_state", "_out_state", "_at_state")

    def __init__(self, taps: FloatArray, *, partition: int = 256, both: bool = False, single: bool = False) -> None:
        """taps (filters, n); ``both`` for a signal that is complex; ``single`` for one that needs no more than single precision,
        which takes half the time."""
        filters, n = taps.shape
        parts = max(1, math.ceil(n / partition))
        padded = np.zeros((filters, parts, 2 * partition))
        padded[..., :partition] = np.pad(taps, ((0, 0), (0, parts * partition - n))).reshape(filters, parts, partition)
        self._forward: Callable[..., Any]
        self._back: Callable[..., Any]
        if single:
            from scipy.fft import irfft, rfft  # several transforms at a time in single precision, and loaded only here

            assert not both
            self._forward, self._back = rfft, irfft
        else:
            self._forward, self._back = (np.fft.fft, np.fft.ifft) if both else (np.fft.rfft, np.fft.irfft)
        kind: Any = np.float32 if single else np.complex128 if both else np.float64
        self._spectra = np.ascontiguousarray(self._forward(padded.astype(np.float32) if single else padded, axis=-1))
        self.latency = partition
        self._size = partition
        self._in_state = np.zeros(2 * partition, dtype=kind)
        self._heard_state = np.zeros((parts, self._spectra.shape[-1]), dtype=self._spectra.dtype)
        self._out_state = np.zeros((filters, partition), dtype=kind)
        self._at_state = np.zeros(2, dtype=np.int64)  # frames of the present partition; next entry of the ring

    def adopt(self, older: Any) -> bool:
        """One with longer or shorter responses goes on with as much of what was heard as both have room for; False where it
        would need more."""
        if super().adopt(older):
            return True
        mine, theirs = self._heard_state, older._heard_state
        if mine.shape[1] != theirs.shape[1] or self._out_state.shape != older._out_state.shape:
            return False
        ago = np.arange(1, min(len(mine), len(theirs)) + 1)
        mine[-ago] = theirs[(int(older._at_state[1]) - ago) % len(theirs)]
        self._in_state, self._out_state = older._in_state.copy(), older._out_state.copy()
        self._at_state[:] = older._at_state[0], 0
        return len(mine) <= len(theirs)

    def process(self, x: npt.NDArray[Any]) -> npt.NDArray[Any]:
        """x (n,) to (filters, n), late by ``latency``."""
        x = x.astype(self._in_state.dtype, copy=False)
        most = _MOST_TURNS * self._size
        if len(x) <= most:
            return self._some(x)
        return np.concatenate([self._some(x[at : at + most]) for at in range(0, len(x), most)], axis=1)

    def _some(self, x: npt.NDArray[Any]) -> npt.NDArray[Any]:
        n, size, fill = len(x), self._size, int(self._at_state[0])
        turns = (fill + n) // size
        stream = np.concatenate([self._in_state[: size + fill], x])
        left = fill + n - turns * size
        self._in_state[: size + left] = stream[turns * size :]
        self._at_state[0] = left
        if turns == 0:
            return self._out_state[:, fill : fill + n].copy()
        step = stream.itemsize
        windows = np.ndarray(
            (turns, 2 * size), stream.dtype, stream, strides=(size * step, step)
        )  # each half over the last
        total = np.empty((turns, len(self._spectra), self._spectra.shape[-1]), dtype=self._spectra.dtype)
        _multiply_add(self._spectra, self._forward(windows), self._heard_state, self._at_state, total)
        made = self._back(total)[..., size:].swapaxes(0, 1).reshape(len(self._spectra), turns * size)
        y = np.concatenate([self._out_state[:, fill:], made], axis=1)[:, :n]
        self._out_state = np.ascontiguousarray(made[:, -size:])
        return y


class StereoConvolver(Memory):
    """Both sides through the same responses, as one complex signal. As long as they are alike they stay so to the last bit."""

    remembers = ("_alike_state",)

    def __init__(self, taps: FloatArray, *, partition: int) -> None:
        """taps (filters, n)."""
        self._convolver = Convolver(taps, partition=partition, both=True)
        self._alike_state = np.array([True])

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to (filters, 2, n), late by ``partition``."""
        if self._alike_state[0] and not are_alike(x):
            self._alike_state[0] = False
        together = np.empty(x.shape[1], dtype=np.complex128)
        together.real, together.imag = x
        made = self._convolver.process(together)
        y = np.empty((len(made), 2, x.shape[1]))
        y[:, 0], y[:, 1] = made.real, made.real if self._alike_state[0] else made.imag
        return y


def convolved_sides(left: FloatArray, right: FloatArray, *, partition: int, single: bool = False) -> Sides[Convolver]:
    """A convolver a side, of one response (n,) each."""
    alike = np.array_equal(left, right)
    return Sides(
        lambda: Convolver(left[None], partition=partition, single=single),
        None if alike else lambda: Convolver(right[None], partition=partition, single=single),
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
        self._sides = convolved_sides(taps, taps, partition=partition, single=True)
        self.latency = half + partition

    def process(self, x: Stereo) -> Stereo:
        """x (2, n) to (2, n), late by ``latency``."""
        return np.asarray(self._sides.process(x, Convolver.process)[0])


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
