"""Loudness by ITU-R BS.1770-5 and loudness range by EBU Tech 3342; true peak by BS.1770 Annex 2.

Conventions
-----------
Audio is (channels, frames). LUFS is what the standard calls LKFS. Silence has no loudness: minus infinity.
"""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, IntArray
from zygotone.dsp.weighting import k_weighting_sos

STEP_S = 0.1  # energies are gathered in steps of 100 ms
MOMENTARY_STEPS, SHORT_TERM_STEPS = 4, 30
ABSOLUTE_GATE_LUFS = -70.0
_OFFSET = -0.691


@kernel
def _step_energies(x: FloatArray, sos: FloatArray, bounds: IntArray, energies: FloatArray) -> None:
    """Mean square of K-weighted x (n,) between consecutive bounds (m + 1,), added to energies (m,)."""
    b0, b1, b2, a1, a2 = sos[0, 0], sos[0, 1], sos[0, 2], sos[0, 4], sos[0, 5]
    c1, c2 = sos[1, 4], sos[1, 5]
    s1, s2, t1, t2 = 0.0, 0.0, 0.0, 0.0
    for m in range(energies.shape[0]):
        total = 0.0
        for i in range(bounds[m], bounds[m + 1]):
            v = x[i]
            p = b0 * v + s1
            s1 = b1 * v - a1 * p + s2
            s2 = b2 * v - a2 * p
            y = p + t1
            t1 = -2.0 * p - c1 * y + t2
            t2 = p - c2 * y
            total += y * y
            if i % 256 == 0:  # what rings out must not become so small that the processor turns slow
                s1, s2 = s1 if abs(s1) > 1e-30 else 0.0, s2 if abs(s2) > 1e-30 else 0.0
                t1, t2 = t1 if abs(t1) > 1e-30 else 0.0, t2 if abs(t2) > 1e-30 else 0.0
        energies[m] += total / (bounds[m + 1] - bounds[m])


def step_energies(audio: FloatArray, sample_rate_hz: int) -> FloatArray:
    """K-weighted mean square summed over channels for each full 100 ms, shape (steps,)."""
    steps = int(audio.shape[1] / (STEP_S * sample_rate_hz) + 1e-9)
    bounds = np.round(np.arange(steps + 1) * STEP_S * sample_rate_hz).astype(np.int64)
    energies = np.zeros(steps)
    sos = k_weighting_sos(sample_rate_hz)
    for channel in audio:
        _step_energies(np.ascontiguousarray(channel), sos, bounds, energies)
    return energies


def _to_lufs(energy: FloatArray) -> FloatArray:
    with np.errstate(divide="ignore"):
        return np.asarray(_OFFSET + 10.0 * np.log10(energy))


def _sliding_mean(steps: FloatArray, width: int) -> FloatArray:
    if len(steps) < width:
        return np.zeros(0)
    total = np.concatenate([[0.0], np.cumsum(steps)])
    return np.asarray(np.maximum(0.0, (total[width:] - total[:-width]) / width))


def _gated_mean(blocks: FloatArray, relative_lu: float) -> tuple[float, FloatArray]:
    """Energy above the relative gate, and the blocks above the absolute one (BS.1770-5 Annex 1, eq. 3 to 7)."""
    loud = blocks[_to_lufs(blocks) > ABSOLUTE_GATE_LUFS]
    if not len(loud):
        return 0.0, loud
    gate = _to_lufs(np.array([loud.mean()]))[0] + relative_lu
    above = loud[_to_lufs(loud) > gate]
    return (float(above.mean()) if len(above) else 0.0), above


@dataclass(frozen=True, slots=True)
class Loudness:
    integrated_lufs: float
    range_lu: float  # NaN where there is none
    momentary_lufs: FloatArray  # shape (n,), one value per 100 ms, windows of 400 ms
    short_term_lufs: FloatArray  # shape (n,), windows of 3 s

    @property
    def momentary_max_lufs(self) -> float:
        return float(np.max(self.momentary_lufs, initial=-math.inf))

    @property
    def short_term_max_lufs(self) -> float:
        return float(np.max(self.short_term_lufs, initial=-math.inf))


def loudness(audio: FloatArray, sample_rate_hz: int) -> Loudness:
    """All loudness measures of (channels, frames)."""
    steps = step_energies(audio, sample_rate_hz)
    momentary = _sliding_mean(steps, MOMENTARY_STEPS)
    short_term = _sliding_mean(steps, SHORT_TERM_STEPS)
    energy, _ = _gated_mean(momentary, -10.0)
    return Loudness(
        integrated_lufs=float(_to_lufs(np.array([energy]))[0]),
        range_lu=_loudness_range(short_term),
        momentary_lufs=_to_lufs(momentary),
        short_term_lufs=_to_lufs(short_term),
    )


def integrated_lufs(audio: FloatArray, sample_rate_hz: int) -> float:
    return loudness(audio, sample_rate_hz).integrated_lufs


def _loudness_range(short_term: FloatArray) -> float:
    """10th to 95th percentile of what the gates leave (EBU Tech 3342, 2016: −70 LUFS and −20 LU)."""
    _, above = _gated_mean(short_term, -20.0)
    if len(above) < 2:
        return math.nan
    low, high = np.percentile(_to_lufs(above), [10.0, 95.0])
    return float(high - low)


_PEAK_FACTOR = 4
_PEAK_HALF = 24  # frames on each side: longer than Annex 2's example filter, which reads clipped noise low


@functools.lru_cache(maxsize=4)
def _peak_taps(factor: int) -> FloatArray:
    """Polyphase interpolator, shape (factor, 48): Kaiser-windowed sinc, 80 dB."""
    phases = np.zeros((factor, 2 * _PEAK_HALF))
    for p in range(factor):
        t = np.arange(-_PEAK_HALF, _PEAK_HALF) + 1.0 - p / factor
        window = np.i0(8.0 * np.sqrt(np.maximum(0.0, 1.0 - (t / _PEAK_HALF) ** 2))) / np.i0(8.0)
        phases[p] = np.sinc(t) * window
    return phases


@kernel
def _largest_interpolated(x: FloatArray, taps: FloatArray) -> float:
    """Largest magnitude of x (n,) between its samples; taps (factor, m)."""
    n, m = x.shape[0], taps.shape[1]
    half = m // 2
    largest = 0.0
    for i in range(n):
        largest = max(largest, abs(x[i]))
    floor = 0.5 * largest
    for i in range(-half, n):
        # Between two quiet samples no peak can be the largest: skip what cannot matter, which is most.
        near = 0.0
        for j in range(max(0, i - 2), min(n, i + 4)):
            near = max(near, abs(x[j]))
        if near < floor:
            continue
        for p in range(1, taps.shape[0]):
            total = 0.0
            for k in range(max(0, half - 1 - i), min(m, n - i + half - 1)):
                total += taps[p, k] * x[i - half + 1 + k]
            largest = max(largest, abs(total))
    return largest


def true_peak(audio: FloatArray, sample_rate_hz: int) -> float:
    """Largest magnitude between the samples, linear (BS.1770 Annex 2, with a longer filter)."""
    factor = _PEAK_FACTOR if sample_rate_hz < 90000 else 2
    taps = _peak_taps(factor)
    return max(float(_largest_interpolated(np.ascontiguousarray(c), taps)) for c in audio)
