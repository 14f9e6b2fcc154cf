"""Width, balance, and what mono loses."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, lowpass_sos
from zygotone.dsp.types import FloatArray, Stereo

_NOTHING = 1e-20


@kernel
def _sums(left: FloatArray, right: FloatArray, sums: FloatArray) -> None:
    """sums (5, 8): of left, right (n,), of their squares and of their product; eight of each that do not wait for each other."""
    whole = left.shape[0] - left.shape[0] % 8
    for i in range(0, whole, 8):
        for k in range(8):
            a, b = left[i + k], right[i + k]
            sums[0, k] += a
            sums[1, k] += b
            sums[2, k] += a * a
            sums[3, k] += b * b
            sums[4, k] += a * b
    for i in range(whole, left.shape[0]):
        a, b = left[i], right[i]
        sums[0, 0] += a
        sums[1, 0] += b
        sums[2, 0] += a * a
        sums[3, 0] += b * b
        sums[4, 0] += a * b


@dataclass(frozen=True, slots=True)
class Sums:
    """Sums over time of two sides, of their squares and of their product, from which width and balance follow."""

    left: float
    right: float
    left_left: float
    right_right: float
    left_right: float

    @classmethod
    def of(cls, audio: Stereo) -> Sums:
        """Of (2, frames), in double precision whatever it comes in."""
        sums = np.zeros((5, 8))
        _sums(np.ascontiguousarray(audio[0], dtype=np.float64), np.ascontiguousarray(audio[1], dtype=np.float64), sums)
        return cls(*(float(each) for each in sums.sum(axis=1)))


def correlation(audio: FloatArray) -> float:
    """Pearson's coefficient between left and right; 1 for mono, NaN where a side is silent or constant."""
    if audio.shape[0] == 1:
        return 1.0 if np.ptp(audio) > 0 else math.nan
    sums = Sums.of(audio)
    n = max(1, audio.shape[1])
    left, right = sums.left_left - sums.left**2 / n, sums.right_right - sums.right**2 / n
    power = math.sqrt(max(0.0, left) * max(0.0, right))
    return (sums.left_right - sums.left * sums.right / n) / power if power > _NOTHING else math.nan


def side_share(audio: FloatArray) -> float:
    """Side energy over mid plus side, 0 (mono) to 1; NaN in silence."""
    if audio.shape[0] == 1:
        return 0.0 if audio.any() else math.nan
    sums = Sums.of(audio)
    both = 0.5 * (sums.left_left + sums.right_right)
    side = max(0.0, 0.25 * (sums.left_left + sums.right_right - 2.0 * sums.left_right))
    return side / both if both > _NOTHING else math.nan


def side_share_below(audio: Stereo, freq_hz: float, sample_rate_hz: int) -> float:
    """``side_share`` of what lies below ``freq_hz`` (24 dB per octave)."""
    low = lowpass_sos(freq_hz, BUTTERWORTH_Q, sample_rate_hz=sample_rate_hz)
    return side_share(SosStereo(np.array([low, low])).process(np.ascontiguousarray(audio)))
