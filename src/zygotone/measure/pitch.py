"""Fundamentals: of a kick's body, of bass notes, of anything that has one."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.measure.dynamics import hits

LOWEST_HZ, HIGHEST_HZ = 20.0, 4000.0
# A partial counts as evidence from this level under the strongest one.
_EVIDENCE_DB = -36.0
_N_FFT = 1 << 16
# The strongest partial of a pitched sound holds at least this share of its power; of noise it holds far less.
_LEAST_SHARE = 0.03


def window_fundamental(
    x: FloatArray, sample_rate_hz: int, *, low_hz: float = LOWEST_HZ, high_hz: float = HIGHEST_HZ
) -> tuple[float, float]:
    """Fundamental of one window (n,) and its weight (power of the strongest partial); NaN where there is none.

    The strongest partial is found in a zero-padded spectrum (Gaussian-like window, parabola through the
    logarithm: exact for a Gaussian). It is the k-th partial of the fundamental for the smallest k that explains
    the other strong partials.
    """
    n = len(x)
    if n < sample_rate_hz // 50 or np.max(np.abs(x)) < 1e-5:
        return math.nan, 0.0
    t = np.linspace(-1.0, 1.0, n)
    window = np.exp(-0.5 * (t / 0.38) ** 2)
    x = x - np.sum(x * window) / np.sum(window)
    magnitude = np.abs(np.fft.rfft(x * window, _N_FFT))
    width = sample_rate_hz / _N_FFT
    first, last = max(2, math.floor(low_hz / width)), min(len(magnitude) - 2, math.ceil(high_hz / width))
    strongest = first + int(np.argmax(magnitude[first:last]))
    top = magnitude[strongest]
    if top <= 0.0 or not magnitude[strongest - 1] <= top >= magnitude[strongest + 1]:
        return math.nan, 0.0

    def refine(k: int) -> float:
        a, b, c = np.log(np.maximum(magnitude[k - 1 : k + 2], 1e-300))
        bend = a - 2.0 * b + c
        return float((k + (0.5 * (a - c) / bend if bend < 0.0 else 0.0)) * width)

    peak_hz = refine(strongest)
    lobe = 2.6 * sample_rate_hz / n  # half the window's main lobe, in Hz
    reach = round(lobe / width)
    near = magnitude[max(0, strongest - reach) : strongest + reach + 1]
    if float(near @ near) < _LEAST_SHARE * float(magnitude @ magnitude):
        return math.nan, 0.0

    def partial(hz: float) -> float:
        """Level of a local peak near ``hz`` relative to the strongest, in dB; −120 where there is no peak."""
        low, high = max(1, round((hz - 0.25 * lobe) / width)), round((hz + 0.25 * lobe) / width)
        if high >= len(magnitude) - 1 or low >= high:
            return -120.0
        at = low + int(np.argmax(magnitude[low : high + 1]))
        if not magnitude[at - 1] <= magnitude[at] >= magnitude[at + 1]:
            return -120.0
        return float(20.0 * math.log10(max(magnitude[at] / top, 1e-6)))

    for k in (2, 3, 4, 5):
        f0 = peak_hz / k
        if f0 < low_hz or f0 < lobe:  # partials closer than the lobe cannot be told apart
            break
        # Those partials of f0 that are not partials of the strongest one must be there.
        between = [partial(f0 * m) for m in range(1, 3 * k) if m % k]
        seen = sum(level > _EVIDENCE_DB for level in between)
        if seen >= 0.6 * len(between) and max(between) > _EVIDENCE_DB + 12.0:
            return f0, float(top**2)
    return peak_hz, float(top**2)


def agree(pitches: Sequence[tuple[float, float]], *, within_cents: float = 50.0) -> float:
    """The pitch that most of the weight agrees on: weighted mean of the heaviest group; NaN of none."""
    good = [(hz, weight) for hz, weight in pitches if math.isfinite(hz) and weight > 0.0]
    if not good:
        return math.nan
    hz = np.array([p[0] for p in good])
    weight = np.array([p[1] for p in good])
    cents = 1200.0 * np.log2(hz)
    near = np.abs(cents[:, None] - cents[None, :]) <= within_cents
    best = near[int(np.argmax(near @ weight))]
    return float(2.0 ** (np.sum(cents[best] * weight[best]) / np.sum(weight[best]) / 1200.0))


def _mono(audio: FloatArray) -> FloatArray:
    """The louder of mid and side: a sound whose sides are opposite still has a pitch."""
    if audio.shape[0] == 1:
        return np.asarray(audio[0])
    mid, side = 0.5 * (audio[0] + audio[1]), 0.5 * (audio[0] - audio[1])
    return np.asarray(mid if mid @ mid >= side @ side else side)


def kick_fundamental_hz(audio: FloatArray, sample_rate_hz: int, onsets: Sequence[int]) -> float:
    """Of the body after the pitch drop, 40 to 200 ms from each hit's onset; NaN without a hit."""
    x = _mono(audio)
    pitches = []
    for i, at in enumerate(onsets):
        start, end = at + round(0.040 * sample_rate_hz), at + round(0.200 * sample_rate_hz)
        if i + 1 < len(onsets):
            end = min(end, onsets[i + 1])
        pitches.append(window_fundamental(x[start:end], sample_rate_hz, high_hz=300.0))
    return agree(pitches)


def note_pitches(
    audio: FloatArray, sample_rate_hz: int, *, low_hz: float = LOWEST_HZ, high_hz: float = HIGHEST_HZ
) -> list[tuple[float, float]]:
    """Pitch and weight in windows of 200 ms, every 50 ms, except where a hit falls inside."""
    x = _mono(audio)
    onsets = np.array(hits(audio, sample_rate_hz), dtype=np.int64)
    width, hop = round(0.2 * sample_rate_hz), round(0.05 * sample_rate_hz)
    settle = round(0.03 * sample_rate_hz)
    starts = list(range(0, max(1, len(x) - width + 1), hop))
    starts += [int(o) + round(0.04 * sample_rate_hz) for o in onsets]
    pitches = []
    for start in starts[:4000]:
        inside = (onsets + settle > start) & (onsets < start + width)
        if not np.any(inside):
            pitches.append(window_fundamental(x[start : start + width], sample_rate_hz, low_hz=low_hz, high_hz=high_hz))
    return pitches


def fundamental_hz(audio: FloatArray, sample_rate_hz: int) -> float:
    """Of any material: the pitch that most of its energy has; NaN where none stands out.

    For a drum that is the body after the drop, for a melody the note that weighs most.
    """
    if audio.shape[1] < sample_rate_hz // 50:
        return math.nan
    onsets = hits(audio, sample_rate_hz)
    x = _mono(audio)
    if onsets and _decays(audio, sample_rate_hz, onsets):
        body = kick_fundamental_hz(audio, sample_rate_hz, onsets)
        if math.isfinite(body) and body < 200.0:
            return body
    pitches = note_pitches(audio, sample_rate_hz)
    if not any(math.isfinite(hz) for hz, _ in pitches):
        return window_fundamental(x, sample_rate_hz)[0]
    best = agree(pitches)
    share = sum(w for hz, w in pitches if math.isfinite(hz) and abs(math.log2(hz / best)) < 0.05)
    total = sum(w for _, w in pitches)
    return best if total > 0.0 and share / total > 0.1 else math.nan


def _decays(audio: FloatArray, sample_rate_hz: int, onsets: Sequence[int]) -> bool:
    """Whether the hits die away as drums do: down by 10 dB within 250 ms or before the next."""
    magnitude = np.max(np.abs(audio), axis=0)
    falls = []
    for i, at in enumerate(onsets):
        end = onsets[i + 1] if i + 1 < len(onsets) else at + round(0.4 * sample_rate_hz)
        end = min(end, at + round(0.4 * sample_rate_hz), len(magnitude))
        early = float(np.max(magnitude[at : at + round(0.05 * sample_rate_hz)], initial=0.0))
        late = float(np.max(magnitude[max(at, end - round(0.05 * sample_rate_hz)) : end], initial=0.0))
        falls.append(late < 0.32 * early)
    return sum(falls) > len(falls) / 2


def bass_note_pitches(audio: FloatArray, sample_rate_hz: int) -> list[tuple[float, float]]:
    return note_pitches(audio, sample_rate_hz, low_hz=25.0, high_hz=400.0)
