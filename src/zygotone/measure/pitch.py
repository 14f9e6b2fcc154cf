"""Fundamentals: of a kick's body, of bass notes, of anything that has one."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, IntArray
from zygotone.measure.dynamics import hits
from zygotone.session.audio_files import resample

_T = TypeVar("_T")
LOWEST_HZ, HIGHEST_HZ = 20.0, 4000.0
_BIN_HZ = 1.5  # between the points of a spectrum, however long the window
# Pitches are looked for at about this rate: partials above half of it tell nothing that those below do not.
_RATE_HZ = 12000
_MOST_WINDOWS = 120
_LEAST_BODY_S = 0.060  # of a hit, for its pitch: three periods of 50 Hz
_FEW_WINDOWS = 4
_LONGEST_S = 10  # of a sound that has no stretch without a hit
# The strongest partial of a pitched sound holds at least this share of its power; of noise it holds far less.
_LEAST_SHARE = 0.03
# Of which partials a fundamental is sought: the strongest ones, each as any of the first so many of its series.
_SEEDS, _MOST_PARTIAL = 4, 12
_PEAK_DB = -40.0  # what lies further under the strongest partial counts for nothing
_THERE = 10.0 ** (-26.0 / 20.0)  # a partial is there if it is at least this share of the larger of its neighbours
_MOST_PEAKS = 48
_PLAIN = 0.7  # score from which a window is believed at once
_PLAINER = 0.1  # by how much its middle has to be better
_LOWER = 0.04  # and for each octave that it lies below the partial it is sought from: the higher of two that do as well
_ABSENT = 0.65  # what a series loses for partials that are not there, as a share of what it explains


def window_fundamental(
    x: FloatArray, sample_rate_hz: int, *, low_hz: float = LOWEST_HZ, high_hz: float = HIGHEST_HZ
) -> tuple[float, float]:
    """Fundamental of one window (n,), NaN where there is none, and its weight, the power of the strongest partial.

    Partials are peaks of a zero-padded spectrum (Gaussian-like window, parabola through the logarithm: exact for a Gaussian).
    The fundamental is that whose series explains most of them and has the fewest members that are not there (after R. C.
    Maher and J. W. Beauchamp, "Fundamental frequency estimation of musical signals using a two-way mismatch procedure", 1994,
    in principle); so a resonance on the seventh partial is no pitch, and neither is the octave below.
    """
    return _heard(x, sample_rate_hz, low_hz, high_hz)[:2]


@functools.lru_cache(maxsize=8)
def _window(n: int) -> FloatArray:
    return np.exp(-0.5 * (np.linspace(-1.0, 1.0, n) / 0.38) ** 2)


def _heard(x: FloatArray, sample_rate_hz: int, low_hz: float, high_hz: float) -> tuple[float, float, float]:
    """As ``window_fundamental``, and how much of the window's partials the fundamental explains, at most 1."""
    n = len(x)
    if n < sample_rate_hz // 50 or np.max(np.abs(x)) < 1e-5:
        return math.nan, 0.0, 0.0
    n_fft = 1 << max(math.ceil(math.log2(sample_rate_hz / _BIN_HZ)), math.ceil(math.log2(n)))
    window = _window(n)
    x = x - np.sum(x * window) / np.sum(window)
    magnitude = np.abs(np.fft.rfft(x * window, n_fft))
    width = sample_rate_hz / n_fft
    lobe = 2.6 * sample_rate_hz / n  # half the window's main lobe, in Hz
    first, last = max(2, math.floor(low_hz / width)), min(len(magnitude) - 2, math.ceil(high_hz / width))
    strongest = first + int(np.argmax(magnitude[first:last]))
    top = float(magnitude[strongest])
    if top <= 0.0 or not magnitude[strongest - 1] <= top >= magnitude[strongest + 1]:
        return math.nan, 0.0, 0.0
    reach = round(lobe / width)
    near = magnitude[max(0, strongest - reach) : strongest + reach + 1]
    if float(near @ near) < _LEAST_SHARE * float(magnitude @ magnitude):
        return math.nan, top**2, 0.0
    hz, level = _partials(magnitude, width, lobe, first, top)
    seeds = hz[np.argsort(level)[::-1][:_SEEDS]]
    best, score = _best_series(seeds, hz, level, lobe, low_hz, high_hz)
    if not math.isfinite(best):
        return math.nan, top**2, 0.0
    return _refined(best, hz, level, lobe), top**2, score


@kernel
def _largest_within(m: FloatArray, at: IntArray, reach: int, tops: npt.NDArray[np.bool_]) -> None:
    """Whether the values of m (n,) at places are the largest of all within ``reach`` of them."""
    for i in range(at.shape[0]):
        near = m[max(0, at[i] - reach) : at[i] + reach + 1]
        largest = near[0]
        for k in range(near.shape[0]):
            largest = near[k] if near[k] > largest else largest
        tops[i] = m[at[i]] >= largest


def _partials(
    magnitude: FloatArray, width: float, lobe: float, first: int, top: float
) -> tuple[FloatArray, FloatArray]:
    """Peaks of a spectrum, each the largest within half a lobe: frequencies in Hz, and levels, 1 the strongest."""
    m = magnitude
    at = first + np.flatnonzero((m[first:-1] > m[first - 1 : -2]) & (m[first:-1] >= m[first + 1 :]))
    at = at[m[at] > top * 10.0 ** (_PEAK_DB / 20.0)]
    reach = max(1, round(0.5 * lobe / width))
    at = np.sort(at[np.argsort(m[at])[::-1][:_MOST_PEAKS]])
    tops = np.empty(len(at), dtype=np.bool_)
    _largest_within(m, at, reach, tops)
    at = at[tops]
    a, b, c = (np.log(np.maximum(m[at + d], 1e-300)) for d in (-1, 0, 1))
    bend = a - 2.0 * b + c
    place = at + np.where(bend < 0.0, 0.5 * (a - c) / np.where(bend < 0.0, bend, 1.0), 0.0)
    return np.asarray(place * width), np.asarray(m[at] / top)


@kernel
def _off_by(hz: float, f0: float, lobe: float) -> float:
    """How far off a peak may lie, in Hz, to be a member of a series. Strings are a little stiff: high partials lie a little off."""
    return min(0.5 * lobe + 0.004 * hz, 0.3 * f0)


@kernel
def _number(hz: float, f0: float, lobe: float) -> int:
    """Which member of the series of ``f0`` a peak is, from 1; 0 where it is none."""
    number = max(1, int(hz / f0 + 0.5))
    return number if abs(hz - number * f0) < _off_by(hz, f0, lobe) else 0


@kernel
def _series_score(f0: float, hz: FloatArray, level: FloatArray, lobe: float, members: FloatArray) -> float:
    """How much of the peaks a series explains (by the root of their levels, as loudness goes), less what it lacks. A peak
    anywhere would lie near a member of a narrow series by chance: one that does not tells the more against it. members is
    room for the levels of a series."""
    last, explained, whole = 0, 0.0, 0.0
    members[:] = 0.0
    for i in range(hz.shape[0]):
        weight = math.sqrt(level[i])
        whole += weight
        number = _number(hz[i], f0, lobe)
        if number == 0:
            chance = 2.0 * _off_by(hz[i], f0, lobe) / f0
            explained -= weight * chance / (1.0 - chance)
        elif number < members.shape[0] - 1:
            explained += weight
            members[number] = max(members[number], level[i])
            last = max(last, number)
    if last == 0:
        return -1.0
    there = 0
    for number in range(1, last + 1):
        beside = max(members[number - 1], members[number + 1])
        there += 1 if members[number] > 0.0 and members[number] >= _THERE * beside else 0
    return explained / whole * (1.0 - _ABSENT * (1.0 - there / last))


@kernel
def _best_series(
    seeds: FloatArray, hz: FloatArray, level: FloatArray, lobe: float, low_hz: float, high_hz: float
) -> tuple[float, float]:
    """The fundamental of the best series that has one of ``seeds`` as a partial, NaN where there is none, and its score."""
    best, score = math.nan, -math.inf
    members = np.zeros(512)
    for seed in seeds:
        for k in range(1, _MOST_PARTIAL + 1):
            f0 = seed / k
            # Partials closer than the lobe cannot be told apart.
            if seed > high_hz or f0 < low_hz or (k > 1 and f0 < lobe):
                break
            found = _series_score(f0, hz, level, lobe, members) - _LOWER * math.log2(k)
            if found > score + 1e-9:
                best, score = f0, found
    return best, score


@kernel
def _number_all(hz: FloatArray, f0: float, lobe: float, numbers: IntArray) -> None:
    """``_number`` of each peak."""
    for i in range(hz.shape[0]):
        numbers[i] = _number(hz[i], f0, lobe)


def _refined(f0: float, hz: FloatArray, level: FloatArray, lobe: float) -> float:
    """The fundamental as its strongest member has it, of those that agree: a thump beside a note may pass for a member of it."""
    numbers = np.empty(len(hz), dtype=np.int64)
    _number_all(hz, f0, lobe, numbers)
    own = (numbers > 0) & (numbers <= _MOST_PARTIAL)
    if not own.any():
        return f0
    said, level, sure = hz[own] / numbers[own], level[own], level[own] * numbers[own]
    order = np.argsort(said)
    middle = said[order][np.searchsorted(np.cumsum(sure[order]), 0.5 * np.sum(sure))]
    return float(said[np.argmax(np.where(np.abs(said - middle) <= 0.03 * middle, level, 0.0))])


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
    # Mid has more power than side by the product of left and right.
    return np.asarray(0.5 * (audio[0] + audio[1] if audio[0] @ audio[1] >= 0.0 else audio[0] - audio[1]))


def kick_fundamental_hz(audio: FloatArray, sample_rate_hz: int, onsets: Sequence[int]) -> float:
    """Of the body after the pitch drop, 40 to 200 ms from each hit's onset; NaN without a hit."""
    x, rate = lowered(audio, sample_rate_hz)
    return _settled(x, rate, np.round(np.array(onsets) * (rate / sample_rate_hz)).astype(int))


def kick_fall_cents(audio: FloatArray, sample_rate_hz: int, onsets: Sequence[int]) -> float:
    """How far the pitch of a hit still falls where ``kick_fundamental_hz`` reads it, from the earlier half of its power to the later:
    what falls all the time rings at no note. The middle one of all hits; NaN without any."""
    x, rate = lowered(audio, sample_rate_hz)
    starts = np.round(np.array(onsets) * (rate / sample_rate_hz)).astype(int)
    falls = [_fall_cents(_body(hit, rate)[2], rate) for hit in _hits_of(x, rate, starts)]
    known = [fall for fall in falls if math.isfinite(fall)]
    return float(np.median(known)) if known else math.nan


def _fall_cents(body: FloatArray, rate: int) -> float:
    """By the turns of its analytic signal below 300 Hz; NaN of nothing."""
    if len(body) < 16:
        return math.nan
    soft_ends = np.exp(-0.5 * (np.linspace(-1.0, 1.0, len(body)) / 0.5) ** 2)
    spectrum = np.fft.fft(body * soft_ends, 4 * len(body))
    hz = np.fft.fftfreq(len(spectrum), 1.0 / rate)
    turning = np.fft.ifft(np.where((hz > 0.0) & (hz < 300.0), 2.0 * spectrum, 0.0))[: len(body)]
    turned = np.angle(turning[1:] * np.conj(turning[:-1])) * (rate / (2.0 * np.pi))
    power = np.abs(turning[1:]) * np.abs(turning[:-1])
    half = int(np.searchsorted(np.cumsum(power), 0.5 * np.sum(power)))
    early, late = (
        float(np.sum(turned[part] * power[part]) / max(np.sum(power[part]), 1e-30))
        for part in (slice(0, half), slice(half, None))
    )
    return 1200.0 * math.log2(early / late) if early > 0.0 and late > 0.0 else math.nan


def _hits_of(x: FloatArray, rate: int, starts: IntArray) -> list[FloatArray]:
    """400 ms of each hit, or as far as the next; of many hits some."""
    ends = [*starts[1:], len(x)]
    return [x[starts[i] : min(ends[i], starts[i] + round(0.400 * rate))] for i in spread_out(range(len(starts)))]


def _settled(x: FloatArray, rate: int, starts: IntArray) -> float:
    return agree([_body(hit, rate)[:2] for hit in _hits_of(x, rate, starts)])


def _body(hit: FloatArray, rate: int) -> tuple[float, float, FloatArray]:
    """The pitch at which a hit (n,) settles, its weight, and where that was read: from 40 to 200 ms, or where it still falls then,
    later, as long as it sounds. Of one that is over before there is enough to hear, the last of what there is."""
    hz, weight, body = math.nan, 0.0, hit[:0]
    loudest = float(np.max(np.abs(hit), initial=0.0))
    sounding = np.flatnonzero(np.abs(hit) > 0.05 * loudest)
    end = int(sounding[-1]) + 1 if len(sounding) else 0
    least = round(_LEAST_BODY_S * rate)
    for begin_s in (0.040, 0.100, 0.200):
        begin = round(begin_s * rate)
        if begin + least > end:
            if math.isfinite(hz) or end < least:
                break
            begin = end - least
        part = hit[begin : min(end, begin + round(0.160 * rate))]
        later, power = window_fundamental(part, rate, high_hz=300.0)
        if math.isfinite(hz) and not later < 0.99 * hz:
            break
        # A fall, and not the octave or less that a window may be read at.
        if math.isfinite(later) and not later < 0.55 * hz:
            weight = weight if math.isfinite(hz) else power
            hz, body = later, part
    return hz, weight, body


def lowered(audio: FloatArray, sample_rate_hz: int) -> tuple[FloatArray, int]:
    """Both sides as one, (n,), at a rate that is enough for pitches, and that rate in Hz."""
    x = _mono(audio)
    if sample_rate_hz < 2 * _RATE_HZ:
        return x, sample_rate_hz
    return resample(x[None], sample_rate_hz, _RATE_HZ)[0], _RATE_HZ


def spread_out(many: Sequence[_T]) -> Sequence[_T]:
    """Of many windows or hits so many as tell enough, from all over."""
    return many[:: max(1, math.ceil(len(many) / _MOST_WINDOWS))]


def note_pitches(
    audio: FloatArray, sample_rate_hz: int, *, low_hz: float = LOWEST_HZ, high_hz: float = HIGHEST_HZ
) -> list[tuple[float, float]]:
    """Pitch and weight in windows of 200 ms, every 50 ms, except where a hit falls inside."""
    onsets = np.array(hits(audio, sample_rate_hz))
    x, rate = lowered(audio, sample_rate_hz)
    return _between_hits(x, rate, onsets * (rate / sample_rate_hz), low_hz, high_hz)


def _between_hits(
    x: FloatArray, rate: int, onsets: FloatArray, low_hz: float = LOWEST_HZ, high_hz: float = HIGHEST_HZ
) -> list[tuple[float, float]]:
    onsets = np.round(onsets).astype(np.int64)
    width, hop, settle = round(0.2 * rate), round(0.05 * rate), round(0.03 * rate)
    starts = np.concatenate([np.arange(0, max(1, len(x) - width + 1), hop), onsets + round(0.04 * rate)])
    # No hit from a little before a window to its end.
    inside = np.searchsorted(onsets, starts + width) - np.searchsorted(onsets, starts - settle, side="right")
    clear = starts[inside == 0]
    return [_of_stretch(x[s : s + width], rate, low_hz, high_hz) for s in spread_out(clear.tolist())]


def _of_stretch(x: FloatArray, rate: int, low_hz: float, high_hz: float) -> tuple[float, float]:
    """As ``window_fundamental``. Where pitch moves much within the window, as in deep vibrato, its partials smear: then the
    middle of it alone tells more."""
    found = _heard(x, rate, low_hz, high_hz)
    if found[2] < _PLAIN:
        middle = _heard(x[len(x) // 4 : -(len(x) // 4)], rate, low_hz, high_hz)
        found = middle if middle[2] > found[2] + _PLAINER else found
    hz, power, score = found
    # What is not plain counts for less; what has no pitch counts in full against the rest.
    return hz, power * max(score, 0.0) ** 2 if math.isfinite(hz) else power


def fundamental_hz(audio: FloatArray, sample_rate_hz: int) -> float:
    """Of any material: the pitch that most of its energy has; NaN where none stands out.

    For a drum that is the body after the drop, for a melody the note that weighs most.
    """
    if audio.shape[1] < sample_rate_hz // 50:
        return math.nan
    x, rate = lowered(audio, sample_rate_hz)
    onsets = hits(x[None], rate)  # what has no pitch below half of that rate need not be a hit here
    if onsets and _decays(x[None], rate, onsets):
        body = _settled(x, rate, np.array(onsets))
        if math.isfinite(body) and body < 200.0:
            return body
    pitches = _between_hits(x, rate, np.array(onsets))
    if sum(math.isfinite(hz) for hz, _ in pitches) < _FEW_WINDOWS:
        # What moves all the time, as deep vibrato does, has hits everywhere: then it is what most windows say.
        pitches = _between_hits(x, rate, np.zeros(0))
    if not any(math.isfinite(hz) for hz, _ in pitches):
        return window_fundamental(x[: _LONGEST_S * rate], rate)[0]
    best = agree(pitches)
    share = sum(w for hz, w in pitches if math.isfinite(hz) and abs(math.log2(hz / best)) < 0.05)
    total = sum(w for _, w in pitches)
    return best if total > 0.0 and share / total > 0.1 else math.nan


def _decays(audio: FloatArray, sample_rate_hz: int, onsets: Sequence[int]) -> bool:
    """Whether the hits die away as drums do: down by 6 dB within 250 ms or before the next."""
    magnitude = np.max(np.abs(audio), axis=0)
    falls = []
    for i, at in enumerate(onsets):
        end = onsets[i + 1] if i + 1 < len(onsets) else at + round(0.4 * sample_rate_hz)
        end = min(end, at + round(0.4 * sample_rate_hz), len(magnitude))
        early = float(np.max(magnitude[at : at + round(0.05 * sample_rate_hz)], initial=0.0))
        late = float(np.max(magnitude[max(at, end - round(0.05 * sample_rate_hz)) : end], initial=0.0))
        falls.append(late < 0.5 * early)
    return sum(falls) > len(falls) / 2


def bass_note_pitches(audio: FloatArray, sample_rate_hz: int) -> list[tuple[float, float]]:
    """``note_pitches`` between 25 and 400 Hz."""
    return note_pitches(audio, sample_rate_hz, low_hz=25.0, high_hz=400.0)
