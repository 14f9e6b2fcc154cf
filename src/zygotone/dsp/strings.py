"""The plucked string of Karplus and Strong, tuned as Jaffe and Smith 1983 do."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray

STIFF_STAGES = 4
_MOST_STIFF = 0.85  # coefficient of its all-passes
_APART_CENTS, _AFTER_GAIN = 0.6, 0.4


@kernel
def _string(line: FloatArray, allpass: float, stiff: float, damping: float, keep: float, y: FloatArray) -> None:
    """line (period,) holds the pluck and is overwritten; y (n,)."""
    size = line.shape[0]
    pos, last_in, last_out, held = 0, 0.0, 0.0, 0.0
    bent = np.zeros(STIFF_STAGES)
    for i in range(y.shape[0]):
        out = line[pos]
        y[i] = out
        held = (1.0 - damping) * out + damping * held
        kept = keep * held
        if stiff != 0.0:  # high partials go round a little sooner
            for k in range(STIFF_STAGES):
                passed = stiff * kept + bent[k]
                bent[k] = kept - stiff * passed
                kept = passed
        # First-order all-pass: the fraction of a frame by which the period is longer than the line.
        tuned = allpass * kept + last_in - allpass * last_out
        last_in, last_out = kept, tuned
        line[pos] = tuned
        pos += 1
        if pos == size:
            pos = 0


@dataclass(frozen=True, slots=True)
class StringDesign:
    """A loop of ``whole`` frames with an all-pass for the rest of the period, a one-pole that dulls (``damping``), a gain
    (``keep``), and all-passes that bend its partials upwards (``stiff``, their coefficient)."""

    pitch_hz: float
    sample_rate_hz: int
    whole: int
    allpass: float
    damping: float
    keep: float
    stiff: float = 0.0

    def decays_s(self, partials: FloatArray) -> FloatArray:
        """Time to −60 dB of each partial, counted from 1; any shape."""
        w = 2.0 * np.pi * self.pitch_hz * np.asarray(partials) / self.sample_rate_hz
        loss = self.keep * np.asarray(_passed(self.damping, w))  # each time round, which is once a period
        return np.asarray(-3.0 / np.log10(loss) / self.pitch_hz)


def _passed(damping: float, w: npt.ArrayLike) -> FloatArray:
    """How much the one-pole lets through at w radians a frame."""
    return np.asarray(np.abs((1.0 - damping) / (1.0 - damping * np.exp(-1j * np.asarray(w)))))


def design_string(
    pitch_hz: float, *, sample_rate_hz: int, decay_s: float, damping: float, stiffness: float = 0.0
) -> StringDesign:
    """decay_s is the time to −60 dB at the fundamental; damping 0 to 1 dulls it; stiffness 0 to 1 draws its partials apart, as
    far as so short a string has room for it (D. A. Jaffe and J. O. Smith, "Extensions of the Karplus-Strong plucked-string
    algorithm", 1983: the all-pass of the tuning, and those of stiffness)."""
    period = sample_rate_hz / pitch_hz
    w = 2.0 * math.pi * pitch_hz / sample_rate_hz
    loss = 10.0 ** (-3.0 / (decay_s * pitch_hz))  # of the fundamental, each time round
    # A high note goes round so often that the damping alone would take more than the decay allows: then less of it.
    if _passed(damping, w) < loss:
        low, high = 0.0, damping
        for _ in range(40):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if _passed(middle, w) >= loss else (low, middle)
        damping = low
    # Phase delay of the one-pole damping filter at the fundamental.
    lag = math.atan2(damping * math.sin(w), 1.0 - damping * math.cos(w)) / w
    stiff = -_MOST_STIFF * stiffness**0.3
    while stiff and _delay(stiff, w) > 0.4 * period:
        stiff = 0.9 * stiff if stiff < -0.02 else 0.0
    lag += _delay(stiff, w)
    whole = math.floor(period - lag - 0.2)
    fraction = period - lag - whole
    allpass = math.sin((1.0 - fraction) * w / 2.0) / math.sin((1.0 + fraction) * w / 2.0)
    keep = min(0.99999, loss / float(_passed(damping, w)))
    return StringDesign(pitch_hz, sample_rate_hz, whole, allpass, damping, keep, stiff)


def _delay(stiff: float, w: float) -> float:
    """Phase delay in frames of the all-passes of stiffness, (c + z⁻¹)/(1 + c·z⁻¹), at w radians a frame."""
    turned = w - 2.0 * math.atan2(stiff * math.sin(w), 1.0 + stiff * math.cos(w))
    return STIFF_STAGES * turned / w if stiff else 0.0


def pluck_softness(hz: npt.NDArray[Any], brightness: float) -> FloatArray:
    """How much of each frequency a pick of brightness 0 to 1 leaves; any shape."""
    return np.asarray(1.0 / (1.0 + (hz / (250.0 * 2.0 ** (6.0 * brightness))) ** 2))


def plucked_string(
    pitch_hz: float, frames: int, *, sample_rate_hz: int, decay_s: float, damping: float, pick: float, seed: int,
    brightness: float = 1.0, stiffness: float = 0.0, aftersound: float = 0.0,
) -> FloatArray:  # fmt: skip
    """One plucked note, shape (frames,). A string swings in two planes, and the one along the top gives little to it: with
    ``aftersound`` 0 to 1 that one is heard behind the other, softer, a little out of tune and three times as long (G. Weinreich,
    "Coupled piano strings", 1977: two-stage decay).

    decay_s and damping as in ``design_string``; pick 0 to 1 is where along the string it is plucked (Jaffe and Smith
    1983: the comb of the pick position); brightness 0 to 1 is that of the pick, and does not change how loud the pluck is.
    """
    y = _plucked(pitch_hz, frames, sample_rate_hz, decay_s, damping, pick, seed, brightness, stiffness)
    if aftersound > 0.0:
        other_hz = pitch_hz * 2.0 ** (_APART_CENTS / 1200.0)
        after = _plucked(other_hz, frames, sample_rate_hz, 3.0 * decay_s, damping, pick, seed, brightness, stiffness)
        y += _AFTER_GAIN * aftersound * (after - y)
    return y


def _plucked(
    pitch_hz: float, frames: int, sample_rate_hz: int, decay_s: float, damping: float, pick: float, seed: int, brightness: float,
    stiffness: float,
) -> FloatArray:  # fmt: skip
    string = design_string(
        pitch_hz, sample_rate_hz=sample_rate_hz, decay_s=decay_s, damping=damping, stiffness=stiffness
    )
    rng = np.random.default_rng(seed)
    noise = rng.uniform(-1.0, 1.0, string.whole)
    line = noise - np.roll(noise, max(1, round(pick * string.whole)))
    if brightness < 1.0:  # the pluck itself through a low-pass that goes round with it
        hz = np.fft.rfftfreq(string.whole, 1.0 / sample_rate_hz)
        soft = np.fft.irfft(np.fft.rfft(line) * pluck_softness(hz, brightness), string.whole)
        line = soft * np.sqrt(np.sum(line**2) / max(float(np.sum(soft**2)), 1e-12))
    line -= line.mean()
    y = np.empty(frames)
    _string(np.ascontiguousarray(line), string.allpass, string.stiff, string.damping, string.keep, y)
    return y
