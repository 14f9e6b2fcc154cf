"""Who hides whom at both ears: by band and stretch of time, and how loud what is left of a sound still is.

Conventions
-----------
Patterns and thresholds are those of both ears, (2, bands, frames), as ``measure.masking`` gives them. A *cell* is one band of one
frame. Its weight is its specific loudness, as far as the sound has something in that band itself: what only reaches over
from below, as a loud low tone does, is nobody's place. A cell counts as hidden only where it is hidden from each ear that would hear it: what comes out at one ear is heard
("better-ear glimpsing": D. S. Brungart and N. Iyer 2012; P. M. Zurek 1993, from memory). So what sits apart in the field
hides less. How much phase differences between the ears add to that at low frequencies is left out.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, IntArray, Single
from zygotone.measure.masking import bands_hz, quiet, threshold_db
from zygotone.measure.spectrum import NOMINAL_CENTRES_HZ

_POWER = 0.2
# What counts as a sound's place: in each band what is within a tenth of the amplitude it gets to there, since the rest is its dying
# away, and of the bands those within a hundredth of the loudest (common practice: what a gate takes of it is hardly missed in a mix).
_TAIL_DB, _REST_DB = 20.0, 40.0


@kernel
def _loudness(pattern: Single, quiet_: FloatArray, out: Single) -> None:
    """out (bands, frames): specific loudness, as ``masking.specific_loudness``."""
    least = 2.0**_POWER
    for b in range(pattern.shape[0]):
        for n in range(pattern.shape[1]):
            over = pattern[b, n] / quiet_[b]
            out[b, n] = (over + 2.0) ** _POWER - least if over > 1.0 else 0.0


def weights(pattern: Single, own: Single) -> Single:
    """Weight of each cell at both ears, in no unit; 0 under the threshold of hearing. Both as in ``masking.Ears``."""
    out = np.empty_like(pattern)
    for ear in range(2):
        _loudness(pattern[ear], quiet(), out[ear])
    loudest = pattern.max(axis=(0, 2))
    floor = np.maximum(10.0 ** (-_TAIL_DB / 10.0) * loudest, 10.0 ** (-_REST_DB / 10.0) * loudest.max(initial=0.0))
    return np.where(pattern < floor[:, None], np.float32(0.0), out * own)


@kernel
def _hidden(own: Single, weight: Single, threshold: Single, slot: IntArray, hidden: FloatArray) -> None:
    """Adds to hidden (bands, slots) the weights of the hidden cells. own, weight, threshold (2, bands, frames); slot (frames,)."""
    for b in range(own.shape[1]):
        for n in range(own.shape[2]):
            left, right = weight[0, b, n], weight[1, b, n]
            if left + right <= 0.0:
                continue
            if (left == 0.0 or own[0, b, n] < threshold[0, b, n]) and (
                right == 0.0 or own[1, b, n] < threshold[1, b, n]
            ):
                hidden[b, slot[n]] += left + right


@kernel
def _summed(weight: Single, slot: IntArray, total: FloatArray) -> None:
    """Adds to total (bands, slots) the weights (2, bands, frames) of both ears."""
    for ear in range(2):
        for b in range(weight.shape[1]):
            for n in range(weight.shape[2]):
                total[b, slot[n]] += weight[ear, b, n]


def summed(weight: Single, slot: IntArray, slots: int) -> FloatArray:
    """Weights (2, bands, frames) by band and slot of time, shape (bands, slots); slot (frames,) says which each frame is in."""
    total = np.zeros((weight.shape[1], slots))
    _summed(weight, slot, total)
    return total


def hidden_weights(own: Single, weight: Single, threshold: Single, slot: IntArray, slots: int) -> FloatArray:
    """Of the weights of a sound those that lie under a masked threshold, by band and slot of time, shape (bands, slots)."""
    hidden = np.zeros((own.shape[1], slots))
    _hidden(own, weight, threshold, slot, hidden)
    return hidden


@dataclass(frozen=True, slots=True)
class Hiding:
    """How much of one sound another hides."""

    hidden: FloatArray  # (bands, slots), weights
    total: FloatArray  # (bands, slots)

    @property
    def share(self) -> float:
        """Of all of the sound, 0 to 1; NaN of silence."""
        return _ratio(float(self.hidden.sum()), float(self.total.sum()))

    @property
    def by_slot(self) -> FloatArray:
        """Share of what sounds in each stretch of time, (slots,); 0 where nothing does."""
        return np.asarray(self.hidden.sum(axis=0) / np.maximum(self.total.sum(axis=0), 1e-12))

    @property
    def by_band(self) -> FloatArray:
        """Share of all of the sound that is hidden in each band, (bands,); they add up to ``share``."""
        return np.asarray(self.hidden.sum(axis=1) / max(float(self.total.sum()), 1e-12))

    def between(self, low_hz: float, high_hz: float) -> float:
        """Share of what the sound has between two frequencies; NaN where that is nothing."""
        inside = (bands_hz() >= low_hz) & (bands_hz() < high_hz)
        return _ratio(float(self.hidden[inside].sum()), float(self.total[inside].sum()))

    def band_hz(self, share: float = 0.8) -> tuple[float, float]:
        """The narrowest range that holds ``share`` of what is hidden; (0, 0) where nothing is."""
        return narrowest(self.hidden.sum(axis=1), share)

    def slots_from(self, least: float) -> tuple[int, int] | None:
        """First and last of the longest run of stretches in which at least ``least`` of the sound is hidden."""
        over = [*(self.by_slot >= least).tolist(), False]
        best: tuple[int, int] | None = None
        start = None
        for i, yes in enumerate(over):
            if yes and start is None:
                start = i
            elif not yes and start is not None:
                if best is None or i - start > best[1] - best[0] + 1:
                    best = (start, i - 1)
                start = None
        return best


def _ratio(part: float, whole: float) -> float:
    return part / whole if whole > 0.0 else math.nan


def narrowest(weight: FloatArray, share: float) -> tuple[float, float]:
    """The narrowest range of frequencies that holds ``share`` of weights (bands,), in Hz; (0, 0) where there are none."""
    whole = float(weight.sum())
    if whole <= 0.0:
        return 0.0, 0.0
    total = np.concatenate([[0.0], np.cumsum(weight)])
    best = (0, len(weight) - 1)
    for first in range(len(weight)):
        last = int(np.searchsorted(total, total[first] + share * whole - 1e-12))
        if last <= len(weight) and last - 1 - first < best[1] - best[0]:
            best = (first, last - 1)
    hz = bands_hz()
    half = math.sqrt(hz[1] / hz[0])
    return float(hz[best[0]] / half), float(hz[best[1]] * half)


def by_third_octave(weight: FloatArray) -> dict[str, float]:
    """Weights (bands,) by the third octave that each band's centre lies in, by nominal centre; they keep their sum."""
    found: dict[str, float] = {}
    for hz, value in zip(bands_hz(), weight, strict=True):
        at = round(10.0 * math.log10(hz / 1000.0)) + 17
        name = f"{NOMINAL_CENTRES_HZ[min(max(at, 0), len(NOMINAL_CENTRES_HZ) - 1)]:g}"
        found[name] = found.get(name, 0.0) + float(value)
    return found


# --- partial loudness ----------------------------------------------------------------------------------------------


@kernel
def _partial(
    own: Single, weight: Single, other: Single, k: FloatArray, quiet_: FloatArray, slot: IntArray, out: FloatArray
) -> None:  # fmt: skip
    """Adds to out (slots,) the partial loudness of own beside other, patterns (bands, frames), as far as weight
    (bands, frames) counts it.

    Moore, Glasberg and Baer 1997, equations 17 to 20 with G = 1 and A twice the threshold, all patterns over the threshold in
    quiet (from memory): what both give together, less what the masker gives, the less the further the sound is over its
    masked threshold.
    """
    least, heard = 2.0**_POWER, 3.0**_POWER
    for b in range(own.shape[0]):
        for n in range(own.shape[1]):
            if weight[b, n] <= 0.0:
                continue
            counted = weight[b, n] / ((own[b, n] / quiet_[b] + 2.0) ** _POWER - least)
            signal = own[b, n] / quiet_[b]
            noise = other[b, n] / quiet_[b]
            needed = k[b] * noise + 1.0
            both, beside = (signal + noise + 2.0) ** _POWER, (noise + 2.0) ** _POWER
            at_threshold = (needed + noise + 2.0) ** _POWER
            if signal >= needed:
                left = both - least - (at_threshold - heard) * (needed / signal) ** 0.3
            else:
                left = (
                    (2.0 * signal / (signal + needed)) ** 1.5
                    * (heard - least)
                    * (both - beside)
                    / (at_threshold - beside)
                )
            out[slot[n]] += counted * max(0.0, left)


_SOFTEST_LU = -60.0


def partial_loudness(own: Single, weight: Single, other: Single, slot: IntArray, slots: int) -> FloatArray:
    """Loudness of a sound beside another, in no unit, summed over bands, ears and each slot of time, shape (slots,). ``other``
    is the pattern that masks: see ``masker_of``."""
    out = np.zeros(slots)
    k = 10.0 ** (threshold_db(bands_hz()) / 10.0)
    for ear in range(2):
        _partial(own[ear], weight[ear], other[ear], k, quiet(), slot, out)
    return out


def masker_of(threshold: Single) -> Single:
    """The steady pattern that would mask as much as a masked threshold says, what follows a masker included."""
    k = 10.0 ** (threshold_db(bands_hz()) / 10.0)
    return np.asarray(threshold / k[:, None], dtype=np.float32)


def loudness_left_lu(own: Single, weight: Single, threshold: Single) -> float:
    """How much softer a sound seems among others than alone, in LU, 0 or below: 10 LU for each halving of its loudness (S. S.
    Stevens 1955; ISO 532-1 for levels over 40 phon). NaN of silence, −60 where next to nothing is left.

    threshold (2, bands, frames): the masked threshold of all the others. Every second frame is enough.
    """
    own, weight, threshold = own[:, :, ::2], weight[:, :, ::2], threshold[:, :, ::2]
    slot = np.zeros(own.shape[2], dtype=np.int64)
    alone = float(weight.sum())
    if alone <= 0.0:
        return math.nan
    left = float(partial_loudness(own, weight, masker_of(threshold), slot, 1)[0])
    return max(_SOFTEST_LU, min(0.0, 10.0 * math.log2(max(left / alone, 1e-9))))
