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
from zygotone.dsp.delays import fir_add
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.peaks import largest_magnitude, largest_single
from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import FloatArray, IntArray
from zygotone.dsp.weighting import k_weighting_sos

STEP_S = 0.1  # energies are gathered in steps of 100 ms
MOMENTARY_STEPS, SHORT_TERM_STEPS = 4, 30
ABSOLUTE_GATE_LUFS = -70.0
_OFFSET = -0.691


@kernel
def _held(state: float) -> float:
    return state if abs(state) > 1e-30 else 0.0


@kernel
def _weighted(
    v: float, b0: float, b1: float, b2: float, a1: float, a2: float, c1: float, c2: float, s1: float, s2: float, t1: float, t2: float
) -> tuple[float, float, float, float, float]:  # fmt: skip
    """A value through the shelf and the high-pass (whose zeros are at 0 Hz), and what both remember after it."""
    p = b0 * v + s1
    y = p + t1
    return y, b1 * v + s2 - a1 * p, b2 * v - a2 * p, t2 - 2.0 * p - c1 * y, p - c2 * y


@kernel
def _step_energies(
    left: FloatArray, right: FloatArray, sos: FloatArray, bounds: IntArray, energies: FloatArray
) -> None:
    """Of K-weighted left and right (n,) between consecutive bounds (m + 1,): mean squares of both and mean of their product,
    energies (3, m). Both in one loop, as they do not wait for each other."""
    b0, b1, b2, a1, a2 = sos[0, 0], sos[0, 1], sos[0, 2], sos[0, 4], sos[0, 5]
    c1, c2 = sos[1, 4], sos[1, 5]
    s1, s2, t1, t2 = 0.0, 0.0, 0.0, 0.0
    r1, r2, u1, u2 = 0.0, 0.0, 0.0, 0.0
    for m in range(energies.shape[1]):
        first, second, both = 0.0, 0.0, 0.0
        for i in range(bounds[m], bounds[m + 1]):
            y, s1, s2, t1, t2 = _weighted(left[i], b0, b1, b2, a1, a2, c1, c2, s1, s2, t1, t2)
            z, r1, r2, u1, u2 = _weighted(right[i], b0, b1, b2, a1, a2, c1, c2, r1, r2, u1, u2)
            first += y * y
            second += z * z
            both += y * z
        # What rings out must not become so small that the processor turns slow.
        s1, s2, t1, t2 = _held(s1), _held(s2), _held(t1), _held(t2)
        r1, r2, u1, u2 = _held(r1), _held(r2), _held(u1), _held(u2)
        frames = bounds[m + 1] - bounds[m]
        energies[0, m], energies[1, m], energies[2, m] = first / frames, second / frames, both / frames


def step_bounds(frames: int, sample_rate_hz: int) -> IntArray:
    """First frame of each full 100 ms, and the end of the last, shape (steps + 1,)."""
    steps = int(frames / (STEP_S * sample_rate_hz) + 1e-9)
    return np.round(np.arange(steps + 1) * STEP_S * sample_rate_hz).astype(np.int64)


def _side_energies(audio: FloatArray, sample_rate_hz: int) -> FloatArray:
    """Of the first two channels for each full 100 ms: K-weighted mean squares, and mean product, shape (3, steps)."""
    bounds = step_bounds(audio.shape[1], sample_rate_hz)
    energies = np.zeros((3, len(bounds) - 1))
    left, right = (np.ascontiguousarray(audio[i], dtype=np.float64) for i in (0, min(1, len(audio) - 1)))
    give_up_if_unwanted()
    _step_energies(left, right, k_weighting_sos(sample_rate_hz), bounds, energies)
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
    folded_lufs: float  # of (L+R)/2 on both sides
    range_lu: float  # NaN where there is none
    momentary_lufs: FloatArray  # shape (n,), one value per 100 ms, windows of 400 ms
    short_term_lufs: FloatArray  # shape (n,), windows of 3 s
    steps_lufs: FloatArray  # shape (n,), each 100 ms by itself; −200 of silence

    @property
    def fold_down_loss_lu(self) -> float:
        """Loudness of stereo minus loudness of (L+R)/2 on both sides; NaN where either has none."""
        both = (self.integrated_lufs, self.folded_lufs)
        return both[0] - both[1] if all(map(math.isfinite, both)) else math.nan

    @property
    def momentary_max_lufs(self) -> float:
        return float(np.max(self.momentary_lufs, initial=-math.inf))

    @property
    def short_term_max_lufs(self) -> float:
        return float(np.max(self.short_term_lufs, initial=-math.inf))


def loudness(audio: FloatArray, sample_rate_hz: int) -> Loudness:
    """All loudness measures of (1 or 2, frames)."""
    left, right, both = _side_energies(audio, sample_rate_hz)
    steps, folded = (left, left) if len(audio) == 1 else (left + right, 0.5 * (left + right + 2.0 * both))
    momentary = _sliding_mean(steps, MOMENTARY_STEPS)
    short_term = _sliding_mean(steps, SHORT_TERM_STEPS)
    return Loudness(
        integrated_lufs=_integrated(momentary),
        folded_lufs=_integrated(_sliding_mean(np.maximum(0.0, folded), MOMENTARY_STEPS)),
        range_lu=_loudness_range(short_term),
        momentary_lufs=_to_lufs(momentary),
        short_term_lufs=_to_lufs(short_term),
        steps_lufs=np.maximum(-200.0, _to_lufs(steps)),
    )


def _integrated(momentary: FloatArray) -> float:
    energy, _ = _gated_mean(momentary, -10.0)
    return float(_to_lufs(np.array([energy]))[0])


def integrated_lufs(audio: FloatArray, sample_rate_hz: int) -> float:
    """Of (1 or 2, frames), gated; minus infinity of silence."""
    return loudness(audio, sample_rate_hz).integrated_lufs


def _loudness_range(short_term: FloatArray) -> float:
    """10th to 95th percentile of what the gates leave (EBU Tech 3342, 2016: −70 LUFS and −20 LU)."""
    _, above = _gated_mean(short_term, -20.0)
    if len(above) < 2:
        return math.nan
    low, high = np.percentile(_to_lufs(above), [10.0, 95.0])
    return float(high - low)


_PEAK_HALF = 24  # frames on each side: longer than Annex 2's example filter, which reads clipped noise low
_LATER_HALF = 8  # of what comes between two of those, where there is nothing near the top any more
_STRETCH = 1 << 14


@functools.lru_cache(maxsize=2)
def _between_taps(half: int) -> Single:
    """The value midway between the two middle ones of 2·half: Kaiser-windowed sinc, 80 dB."""
    t = np.arange(-half, half) + 0.5
    window = np.i0(8.0 * np.sqrt(1.0 - (t / half) ** 2)) / np.i0(8.0)
    return np.ascontiguousarray(np.sinc(t) * window, dtype=np.float32)


def _midway(x: Single, half: int) -> Single:
    """Values between the samples of x (n,), after each but the last 2·half − 1 whole stretches, shape (n − 2·half + 1,)."""
    y = np.zeros(len(x) - 2 * half + 1, dtype=np.float32)
    fir_add(_between_taps(half), x, y)
    return y


def true_peak(audio: FloatArray, sample_rate_hz: int) -> float:
    """Largest magnitude between the samples, linear (BS.1770 Annex 2, with a longer filter): at 4 times the rate, or 2 from 90
    kHz on."""
    largest = 0.0
    for channel in audio:
        largest = max(largest, largest_magnitude(np.ascontiguousarray(channel, dtype=np.float64)))
        padded = np.pad(channel.astype(np.float32), _PEAK_HALF + _LATER_HALF)
        for at in range(0, len(channel), _STRETCH):
            here = padded[at : at + _STRETCH + 2 * (_PEAK_HALF + _LATER_HALF)]
            # No value in between is more than so many times the largest around it.
            if largest_single(here) * _over(_PEAK_HALF) * _over(_LATER_HALF) <= largest:
                continue
            midway = _midway(here, _PEAK_HALF)
            top = max(largest_single(here), largest_single(midway))
            largest = max(largest, largest_single(midway))
            if top * _over(_LATER_HALF) > largest and sample_rate_hz < 90000:
                both = np.empty(2 * len(midway), dtype=np.float32)
                both[0::2], both[1::2] = here[_PEAK_HALF - 1 : _PEAK_HALF - 1 + len(midway)], midway
                largest = max(largest, largest_single(_midway(both, _LATER_HALF)))
    return largest


@functools.lru_cache(maxsize=2)
def _over(half: int) -> float:
    """How many times the largest of its samples a value between them can be."""
    return float(np.abs(_between_taps(half)).sum())
