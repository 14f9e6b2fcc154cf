"""Kick against bass: who owns the low end, and when."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zygotone.dsp.filters import BUTTERWORTH_Q, filtered, highpass_sos
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.dynamics import band_limited, first_rise, hits
from zygotone.measure.loudness import integrated_lufs
from zygotone.measure.pitch import (
    agree,
    bass_note_pitches,
    kick_fundamental_hz,
    lowered,
    spread_out,
    window_fundamental,
)
from zygotone.session.audio_files import resample

WINDOW_S = 0.100
SEARCH_S = 0.080  # how far from a hit a bass onset still belongs to it
CLEAR_DB = 3.0
COVERED_SHARE = 0.01  # of its energy in its loudest hits, from which the other counts as sounding in one
_MOST_DB = 60.0
_LOW_RATE_HZ = 4000


@dataclass(frozen=True, slots=True)
class Kick:
    """What is known of a kick track."""

    onsets: tuple[int, ...]  # frames
    fundamental_hz: float

    @property
    def key(self) -> str:
        """Names it among all others."""
        return f"{self.fundamental_hz!r} {hash(self.onsets)}"


def find_kick(kick: Stereo, sample_rate_hz: int, *, onsets: Sequence[int] | None = None) -> Kick | None:
    """None where the track has no hit or no pitch. ``onsets`` where its hits are known."""
    onsets = hits(kick, sample_rate_hz) if onsets is None else onsets
    f0 = kick_fundamental_hz(kick, sample_rate_hz, onsets)
    return Kick(tuple(onsets), f0) if onsets and math.isfinite(f0) else None


def kick_band(f0_hz: float) -> tuple[float, float]:
    return f0_hz / math.sqrt(2.0), 2.0 * f0_hz


def ratios_db(mine: FloatArray, theirs: FloatArray) -> FloatArray:
    """Energy ratios in dB, within ±60."""
    return np.clip(10.0 * np.log10((mine + 1e-15) / (theirs + 1e-15)), -_MOST_DB, _MOST_DB)


def hit_energies(audio: Stereo, kick: Kick, sample_rate_hz: int) -> FloatArray:
    """Energy in the kick's band in the 100 ms from each of its onsets, shape (hits,)."""
    low, high = kick_band(kick.fundamental_hz)
    rate = sample_rate_hz
    if high < 0.1 * _LOW_RATE_HZ < 0.1 * rate:
        # The band lies far below; a lower rate gives the same energies in a tenth of the time.
        audio, rate = resample(audio, rate, _LOW_RATE_HZ), _LOW_RATE_HZ
    band = band_limited(audio, low, high, rate)
    power = np.concatenate([[0.0], np.cumsum(np.sum(np.square(band), axis=0))]) / rate
    starts = np.round(np.array(kick.onsets) * (rate / sample_rate_hz)).astype(int)
    last = len(power) - 1
    ends = np.minimum(starts + round(WINDOW_S * rate), last)
    return np.asarray(power[ends] - power[np.minimum(starts, last)])


@dataclass(frozen=True, slots=True)
class Clearness:
    """How clear a kick is of another track."""

    covered: NDArray[np.bool_]  # (hits,): in which of them the other sounds at all
    clear_db: float  # median over those
    clear_share: float  # of all hits, 0 to 1
    worst_db: float  # below which the worst tenth of the covered ones lies


def covered_hits(theirs: FloatArray) -> NDArray[np.bool_]:
    """Hits in which the other sounds, by its energies in them (hits,): a bass on every second kick says nothing of the
    others. Against its own loudest hits, so that turning it down leaves the same ones. All of them, where it never sounds."""
    covered = theirs > COVERED_SHARE * np.percentile(theirs, 90.0)
    return covered if covered.any() else np.ones(len(theirs), dtype=bool)


def clearness(mine: FloatArray, theirs: FloatArray) -> Clearness:
    """Of the energies of the kick and of the other in each hit, (hits,), at least one."""
    ratios, covered = ratios_db(mine, theirs), covered_hits(theirs)
    judged = ratios[covered]
    return Clearness(
        covered, float(np.median(judged)), float(np.mean(ratios >= CLEAR_DB)), float(np.percentile(judged, 10.0))
    )


CLICK_HZ, CLICK_S = 1500.0, 0.025  # where a kick's click is heard, and how long it lasts


def click_clear_db(kick_audio: Stereo, bass: Stereo, kick: Kick, sample_rate_hz: int) -> float:
    """How far the kick's click is over what the bass has above 1.5 kHz: median, over the hits at which a bass note begins, of
    the ratio of the energies in the first 25 ms. NaN where no note begins at a hit."""
    reach, window = round(CLICK_S * sample_rate_hz), round(CLICK_S * sample_rate_hz)
    high = highpass_sos(CLICK_HZ, BUTTERWORTH_Q, sample_rate_hz=sample_rate_hz)
    tops = [filtered(np.stack([high, high]), np.ascontiguousarray(x)) for x in (kick_audio, bass)]
    ratios = []
    for at in kick.onsets:
        begins = first_rise(bass, sample_rate_hz, start=at - reach, end=at + reach)
        if begins is not None:
            mine, theirs = (float(np.sum(top[:, at : at + window] ** 2)) for top in tops)
            ratios.append(10.0 * math.log10((mine + 1e-12) / (theirs + 1e-12)))
    return float(np.clip(np.median(ratios), -_MOST_DB, _MOST_DB)) if ratios else math.nan


def onset_gaps_ms(kick_audio: Stereo, bass: Stereo, kick: Kick, sample_rate_hz: int) -> FloatArray:
    """For each hit near which a bass note begins: how much later than the kick, in ms (below 0: earlier).

    Both starts are taken by the same rule, from the very foot of the rise.
    """
    reach = round(SEARCH_S * sample_rate_hz)
    gaps = []
    for at in kick.onsets:
        start = first_rise(kick_audio, sample_rate_hz, start=at - round(0.02 * sample_rate_hz), end=at + reach // 2)
        begins = first_rise(bass, sample_rate_hz, start=at - reach, end=at + reach)
        if begins is not None:
            gaps.append(1000.0 * (begins - (at if start is None else start)) / sample_rate_hz)
    return np.array(gaps)


def bass_pitch_at_hits_hz(bass: Stereo, kick: Kick, sample_rate_hz: int) -> list[tuple[float, float]]:
    """Pitch and weight of what the bass plays during each hit, 40 to 240 ms after its onset."""
    mono, rate = lowered(bass, sample_rate_hz)
    found = []
    for at in spread_out(kick.onsets):
        begin = at / sample_rate_hz
        part = mono[round((begin + 0.04) * rate) : round((begin + 0.24) * rate)]
        found.append(window_fundamental(part, rate, low_hz=25.0, high_hz=400.0))
    return found


def bass_pitches(bass: Stereo, kick: Kick, sample_rate_hz: int) -> list[tuple[float, float]]:
    """At the hits where the bass sounds then, else anywhere."""
    at_hits = [p for p in bass_pitch_at_hits_hz(bass, kick, sample_rate_hz) if math.isfinite(p[0])]
    return at_hits or bass_note_pitches(bass, sample_rate_hz)


def loudness_lost_lu(before: Stereo, after: Stereo, sample_rate_hz: int) -> float:
    """Loudness before minus after: bass_lost_lu. Below 0 where it got louder."""
    return integrated_lufs(before, sample_rate_hz) - integrated_lufs(after, sample_rate_hz)


def band_envelope(audio: Stereo, low_hz: float, high_hz: float, sample_rate_hz: int, *, points: int) -> FloatArray:
    """Level of a band over time, shape (points,), linear RMS in equal slices."""
    x = band_limited(audio, low_hz, high_hz, sample_rate_hz)
    power = np.mean(np.square(x), axis=0)
    edges = np.linspace(0, len(power), points + 1).astype(int)
    total = np.concatenate([[0.0], np.cumsum(power)])
    return np.asarray(np.sqrt(np.maximum(0.0, np.diff(total[edges])) / np.maximum(np.diff(edges), 1)))


def shared_hz(kick_hz: float, pitches: Sequence[tuple[float, float]]) -> tuple[float, str]:
    """The bass pitch that meets the kick and how: "fundamental", "octave", or "" where none does.

    Within a semitone and a half the two beat as one; an octave up or down the kick's band is shared still.
    """

    def near(target_hz: float) -> list[tuple[float, float]]:
        return [p for p in pitches if math.isfinite(p[0]) and abs(12.0 * math.log2(p[0] / target_hz)) <= 1.5]

    total = sum(w for hz, w in pitches if math.isfinite(hz))
    for target, name in ((kick_hz, "fundamental"), (2.0 * kick_hz, "octave"), (0.5 * kick_hz, "octave")):
        group = near(target)
        if total > 0.0 and sum(w for _, w in group) >= 0.15 * total:
            return agree(group), name
    return agree(pitches), ""
