"""Convolution with long responses, and the linear-phase crossovers made with it."""

from __future__ import annotations

import functools
import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo


@kernel
def _multiply_add(spectra: np.ndarray, heard: np.ndarray, newest: int, total: np.ndarray) -> None:
    """total (filters, 2, bins) = Σ over partitions of spectra (filters, 2, partitions, bins) times what was heard so
    many partitions ago; heard (2, partitions, bins) is a ring whose last entry is ``newest``."""
    filters, channels, partitions, bins = spectra.shape
    for f in range(filters):
        for c in range(channels):
            out = total[f, c]
            for b in range(bins):
                out[b] = 0.0
            for p in range(partitions):
                at = newest - p
                if at < 0:
                    at += partitions
                h, x = spectra[f, c, p], heard[c, at]
                for b in range(bins):
                    out[b] += h[b] * x[b]


class Convolver(Memory):
    """Stereo audio through one or more long responses at once: uniformly partitioned overlap-save (Stockham 1966; the
    partitions are W. G. Gardner's, "Efficient convolution without input-output delay", 1995, without his short ones).

    ``latency`` is the length of a partition, whatever the blocks are.
    """

    def __init__(self, taps: FloatArray, *, partition: int = 256) -> None:
        """taps (filters, 2, n): for each filter the response of the left and of the right channel."""
        filters, channels, n = taps.shape
        parts = max(1, math.ceil(n / partition))
        padded = np.zeros((filters, channels, parts, 2 * partition))
        padded[..., :partition] = np.pad(taps, ((0, 0), (0, 0), (0, parts * partition - n))).reshape(
            filters, channels, parts, partition
        )
        self._spectra = np.ascontiguousarray(np.fft.rfft(padded, axis=-1))
        self.latency = partition
        self._size = partition
        self._in_state = np.zeros((2, 2 * partition))
        self._heard_state = np.zeros((2, parts, partition + 1), dtype=np.complex128)
        self._out_state = np.zeros((filters, 2, partition))
        self._at_state = np.zeros(2, dtype=np.int64)  # frames of the present partition; ring position
        # As long as both sides are alike (a guitar before it is panned), one is worked out for both.
        self._one = np.ascontiguousarray(self._spectra[:, :1])
        self._alike_state = np.array([bool(np.array_equal(taps[:, 0], taps[:, 1]))])
        self._total = np.zeros((filters, 2, partition + 1), dtype=np.complex128)
        self._total_one = np.zeros((filters, 1, partition + 1), dtype=np.complex128)

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to (filters, 2, n), late by ``latency``."""
        n, size = x.shape[1], self._size
        if self._alike_state[0] and not np.array_equal(x[0], x[1]):
            # From here on they differ; what the second side remembers is what the first does.
            self._in_state[1] = self._in_state[0]
            self._heard_state[1] = self._heard_state[0]
            self._out_state[:, 1] = self._out_state[:, 0]
            self._alike_state[0] = False
        y = np.empty((len(self._out_state), 2, n))
        done = 0
        while done < n:
            fill = int(self._at_state[0])
            step = min(n - done, size - fill)
            self._in_state[:, size + fill : size + fill + step] = x[:, done : done + step]
            y[:, :, done : done + step] = self._out_state[:, :, fill : fill + step]
            self._at_state[0] += step
            done += step
            if fill + step == size:
                self._turn()
        return y

    def _turn(self) -> None:
        size = self._size
        newest = int(self._at_state[1])
        if self._alike_state[0]:
            self._heard_state[0, newest] = np.fft.rfft(self._in_state[0])
            _multiply_add(self._one, self._heard_state[:1], newest, self._total_one)
            self._out_state[:] = np.fft.irfft(self._total_one, axis=-1)[:, :, size:]
        else:
            self._heard_state[:, newest] = np.fft.rfft(self._in_state, axis=-1)
            _multiply_add(self._spectra, self._heard_state, newest, self._total)
            self._out_state[:] = np.fft.irfft(self._total, axis=-1)[:, :, size:]
        self._in_state[:, :size] = self._in_state[:, size:]
        self._at_state[0] = 0
        self._at_state[1] = (newest + 1) % self._heard_state.shape[1]


@functools.lru_cache(maxsize=64)
def _lowpass_taps(freq_hz: float, half: int, sample_rate_hz: int) -> FloatArray:
    n = 1 << math.ceil(math.log2(4 * half + 2))
    f = np.fft.rfftfreq(n, 1.0 / sample_rate_hz)
    response = np.fft.irfft(1.0 / (1.0 + (f / freq_hz) ** 4), n)
    taps = np.concatenate([response[-half:], response[: half + 1]])
    # The ends are 80 dB down already; the last fifth only takes the step off.
    t = np.clip(5.0 * (np.abs(np.arange(-half, half + 1)) / (half + 1.0) - 0.8), 0.0, 1.0)
    taps *= np.cos(0.5 * np.pi * t) ** 2
    return np.asarray(taps / taps.sum())


def crossover_half(freq_hz: float, sample_rate_hz: int) -> int:
    """Half the length of a crossover's response in frames: where it has fallen by 80 dB, e^(−π√2·f·t)."""
    return math.ceil(math.log(1e4) / (math.pi * math.sqrt(2.0) * freq_hz) * sample_rate_hz)


class Crossover(Memory):
    """Lows below one or more frequencies, in phase with the input: each has the magnitude of a fourth-order
    Linkwitz–Riley low-pass (Linkwitz and Riley 1976: a squared Butterworth, 1 / (1 + (f/fc)⁴), −6 dB at the crossover)
    and a constant delay. So low and high, which is the delayed input minus low, sum to the input itself, and a wet
    signal can be blended with the dry one.
    """

    def __init__(self, freqs_hz: tuple[float, ...], sample_rate_hz: int, *, partition: int = 256) -> None:
        half = crossover_half(min(freqs_hz), sample_rate_hz)
        taps = np.array([_lowpass_taps(f, half, sample_rate_hz) for f in freqs_hz])
        self._convolver = Convolver(np.repeat(taps[:, None, :], 2, axis=1), partition=partition)
        self.latency = half + self._convolver.latency

    def process(self, x: Stereo) -> FloatArray:
        """x (2, n) to lows (frequencies, 2, n), late by ``latency``."""
        return self._convolver.process(x)
