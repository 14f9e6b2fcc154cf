"""Levels, and how they move: hits that jump, parts that vary, attacks against what follows, gates that flutter, steps that click."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.peaks import largest_magnitude
from zygotone.dsp.sides import are_alike
from zygotone.dsp.types import FloatArray, IntArray, Stereo
from zygotone.measure.loudness import Loudness, loudness, step_bounds

_RUN = 4  # steps of 100 ms
_PIECE_S = 10.0  # are looked at in one go: what is worked with does not grow with the song
_SECOND = 10
ATTACK_S, BODY_S = 0.012, (0.030, 0.120)


def peak(audio: FloatArray) -> float:
    """Largest magnitude of (channels, frames), linear; 0 of nothing."""
    return max((largest_magnitude(np.ascontiguousarray(channel, dtype=np.float64)) for channel in audio), default=0.0)


@kernel
def _plain_steps(x: FloatArray, bounds: IntArray, means: FloatArray, powers: FloatArray, peaks: FloatArray) -> None:
    """Of x (n,) between consecutive bounds (m + 1,): mean, mean square and largest magnitude, each (m,)."""
    for m in range(means.shape[0]):
        first = bounds[m]
        sums, squares, most = np.zeros(8), np.zeros(8), np.zeros(8)
        frames = bounds[m + 1] - first
        whole = frames - frames % 8
        for i in range(first, first + whole, 8):
            for k in range(8):
                v = x[i + k]
                sums[k] += v
                squares[k] += v * v
                size = abs(v)
                most[k] = size if size > most[k] else most[k]
        for i in range(first + whole, first + frames):
            sums[0] += x[i]
            squares[0] += x[i] * x[i]
            most[0] = max(most[0], abs(x[i]))
        means[m], powers[m], peaks[m] = sums.sum() / frames, squares.sum() / frames, most.max()


@dataclass(frozen=True, slots=True)
class Levels:
    """Of a stereo sound, and of each full 100 ms of it: all that concerns its level, in two passes."""

    peak: float  # largest magnitude, linear
    means: FloatArray  # (2, steps)
    powers: FloatArray  # (2, steps), mean squares
    peaks: FloatArray  # (2, steps), largest magnitudes
    loudness: Loudness
    rms: float  # of all of it

    @property
    def crest_db(self) -> float:
        """Peak over RMS while it sounds, by 400 ms: silence between the notes is none of it; NaN in silence."""
        steps = self.powers.shape[1] // _RUN
        if steps == 0:
            return 20.0 * math.log10(self.peak / self.rms) if self.rms > 1e-10 else math.nan
        power = self.powers[:, : steps * _RUN].reshape(2, steps, _RUN).mean(axis=(0, 2))
        heard = power > 1e-3 * power.max()
        if not heard.any():
            return math.nan
        peaks = self.peaks[:, : steps * _RUN].reshape(2, steps, _RUN).max(axis=(0, 2))
        return float(
            20.0 * math.log10(np.quantile(peaks[heard], 0.9) + 1e-12) - 10.0 * math.log10(power[heard].mean() + 1e-24)
        )

    @property
    def offset(self) -> float:
        """How far it stands off centre, linear. By seconds, the median: a low note that is cut off at the end is none."""
        steps = self.means.shape[1]
        if steps == 0:
            return 0.0
        seconds = max(1, steps // _SECOND)
        means = self.means[:, : min(steps, seconds * _SECOND)].reshape(2, seconds, -1).mean(axis=2)
        return float(np.max(np.abs(np.median(means, axis=1))))


def levels(audio: Stereo, sample_rate_hz: int) -> Levels:
    """Of (2, frames)."""
    bounds = step_bounds(audio.shape[1], sample_rate_hz)
    means, powers, peaks = (np.zeros((2, len(bounds) - 1)) for _ in range(3))
    for channel, *found in zip(audio, means, powers, peaks, strict=True):
        give_up_if_unwanted()
        _plain_steps(np.ascontiguousarray(channel, dtype=np.float64), bounds, *found)
    frames = np.diff(bounds)
    rest = audio[:, bounds[-1] :]
    total = float(np.sum(powers * frames)) + float(np.sum(np.square(rest)))
    return Levels(
        max(float(peaks.max(initial=0.0)), peak(rest)), means, powers, peaks, loudness(audio, sample_rate_hz),
        math.sqrt(total / max(1, audio.size)),
    )  # fmt: skip


def hit_peaks_db(audio: Stereo, onsets: Sequence[int], rate_hz: int) -> FloatArray:
    """Peak of each hit in its first 60 ms, in dB, shape (hits,)."""
    magnitude = np.max(np.abs(audio), axis=0)
    width = round(0.06 * rate_hz)
    peaks = [float(np.max(magnitude[at : at + width], initial=0.0)) for at in onsets]
    return np.asarray(20.0 * np.log10(np.maximum(peaks, 1e-7)))


def attack_over_body_db(audio: Stereo, onsets: Sequence[int], rate_hz: int) -> float:
    """RMS of the first 12 ms of hits over that from 30 to 120 ms after them, the median, in dB; NaN without hits."""
    power = np.concatenate([[0.0], np.cumsum(np.sum(audio**2, axis=0))])
    last = len(power) - 1
    ratios = []
    for at in onsets:
        a, b = min(last, at), min(last, at + round(ATTACK_S * rate_hz))
        c, d = (min(last, at + round(s * rate_hz)) for s in BODY_S)
        if d > c and b > a:
            attack, body = (power[b] - power[a]) / (b - a), (power[d] - power[c]) / (d - c)
            if attack > 1e-12:
                ratios.append(10.0 * math.log10((attack + 1e-15) / (body + 1e-12)))
    return float(np.median(ratios)) if ratios else math.nan


def chatter_per_s(gain_db: FloatArray, onsets: Sequence[int], rate_hz: int) -> float:
    """How often a second a gate opens with no hit within 60 ms. gain_db (frames,), what the gate did."""
    lowest = float(gain_db.min(initial=0.0))
    if lowest > -3.0:
        return 0.0
    is_open = gain_db > 0.5 * max(lowest, -40.0)
    opens = np.flatnonzero(np.diff(is_open.astype(np.int8)) == 1)
    hits, near = np.sort(np.asarray(onsets, dtype=np.int64)), round(0.06 * rate_hz)
    if len(hits):
        at = np.searchsorted(hits, opens)
        before = np.abs(opens - hits[np.maximum(at - 1, 0)])
        after = np.abs(opens - hits[np.minimum(at, len(hits) - 1)])
        opens = opens[np.minimum(before, after) > near]
    return float(len(opens) * rate_hz / max(1, len(gain_db)))


def clicks(audio: Stereo, rate_hz: int) -> list[int]:
    """Frames where a single step stands far out of what lies around it: its second difference is over −50 dBFS, over 12 times the
    level that second differences have in the 5 ms on each side, and over 3 times any other within 60 ms. So the edges of a saw
    wave, which come back, are none, nor is a drum's beginning, which goes on."""
    found: list[int] = []
    width, apart, itself = max(8, round(0.005 * rate_hz)), round(0.06 * rate_hz), 4
    sides = audio[:1] if are_alike(audio) else audio
    piece, around = round(_PIECE_S * rate_hz), width + 2 * apart  # more than what is looked at on each side
    for channel in sides:
        for at in range(0, max(1, len(channel)), piece):
            give_up_if_unwanted()
            first = max(0, at - around)
            here = np.ascontiguousarray(channel[first : at + piece + around], dtype=np.float64)
            for each in (first + _steps_out(here, width, apart, itself)).tolist():
                if at <= each < at + piece and (not found or abs(each - found[-1]) > width):
                    found.append(each)
    return sorted(found)


@kernel
def _steps_out(x: FloatArray, width: int, apart: int, itself: int) -> IntArray:
    """Frames of the second differences of x (n,) that stand out, as ``clicks`` says; what belongs to the step itself is within
    ``itself`` frames of it."""
    n = max(0, x.shape[0] - 2)
    bend, total = np.empty(n), np.empty(n + 1)
    total[0], count = 0.0, 0
    for i in range(n):
        bend[i] = abs((x[i + 2] - x[i + 1]) - (x[i + 1] - x[i]))
        total[i + 1] = total[i] + bend[i] * bend[i]
        count += 1 if bend[i] > 0.003 else 0
    found, kept = np.empty(count, np.int64), 0
    half = apart // 2
    # Of the last there is nothing to say: it may be a note's beginning, which goes on.
    for i in range(n - itself - half):
        if bend[i] <= 0.003:
            continue
        first, last = max(0, i - width), min(n, i + width)
        near, after = max(first, i - itself + 1), min(last, i + itself)
        around = total[last] - total[first] - (total[after] - total[near])
        if bend[i] <= 12.0 * math.sqrt(max(0.0, around) / max(1, (last - first) - (after - near))) + 1e-9:
            continue
        largest = 0.0
        for k in range(max(0, i - itself - 2 * half), min(n, i + itself + 2 * half + 1)):
            if abs(k - i) >= itself:
                largest = max(largest, bend[k])
        if bend[i] > 3.0 * largest:
            found[kept] = i
            kept += 1
    return found[:kept]


def spread_lu(steps: FloatArray) -> float:
    """Of the loudness of each 100 ms, (n,), in LUFS: from the softest to the loudest tenth of 400 ms, K-weighted, of those in which it sounds throughout; NaN where there are not
    eight: short notes have no level that varies while they last."""
    if len(steps) < _RUN:
        return math.nan
    heard = steps > np.quantile(steps, 0.95) - 20.0
    runs = np.lib.stride_tricks.sliding_window_view(heard, _RUN).all(axis=1)
    if runs.sum() < 8:
        return math.nan
    power = np.convolve(10.0 ** (steps / 10.0), np.ones(_RUN) / _RUN, mode="valid")[runs]
    low, high = np.quantile(power, [0.1, 0.9])
    return float(10.0 * math.log10(high / low))
