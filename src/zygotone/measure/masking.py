"""What hides what: excitation of the ear's filters over time, and what of a sound lies under another's masked threshold.

Conventions
-----------
Patterns have shape (bands, frames): excitation, as power over that of 0 dB SPL, in windows half overlapped. Bands are half an ERB
apart. Those of both ears have shape (2, bands, frames), left first. How loud a room is decides how far a sound reaches upwards in
frequency, and what is heard at all: ``PLAYBACK_DB`` is taken for it unless something else is known.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.decibels import levels_to_db
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.sides import are_alike
from zygotone.dsp.types import FloatArray, Single, Stereo
from zygotone.measure.windows import cut_windows

# Sound pressure level that a mix of −20 LUFS has where it is listened to: that of K-20 monitoring and of film (common practice).
PLAYBACK_DB = 83.0
_PLAYBACK_LUFS, _LUFS_OFFSET_DB = -20.0, -0.691
_LOW_HZ, _HIGH_HZ = 40.0, 15000.0
_PER_ERB = 2.0
_SLICES_PER_ERB = 4.0
_WINDOW_S = 0.043
_HOP_S = 0.5 * _WINDOW_S
_NOTHING_SHARE = 1e-3  # of what is just heard in quiet
# A sound counts as hidden from this share on: by it a tone comes out of white noise where listeners hear it do so.
HIDDEN = 0.9
# Signal over noise in one auditory filter at the masked threshold. B. C. J. Moore, B. R. Glasberg and T. Baer, "A model for the
# prediction of thresholds, loudness, and partial loudness", 1997, figure 9 (K over frequency, from memory).
_K_HZ = (50.0, 100.0, 200.0, 400.0, 1000.0, 16000.0)
_K_DB = (13.0, 5.0, 0.5, -1.5, -3.0, -3.0)


def erb_hz(hz: FloatArray) -> FloatArray:
    """Equivalent rectangular bandwidth of the auditory filter (Glasberg and Moore 1990, equation 3)."""
    return np.asarray(24.7 * (4.37e-3 * np.asarray(hz) + 1.0))


def hz_to_erb_rate(hz: FloatArray) -> FloatArray:
    """How many ERBs lie below a frequency (Glasberg and Moore 1990, equation 4)."""
    return np.asarray(21.4 * np.log10(4.37e-3 * np.asarray(hz) + 1.0))


def erb_rate_to_hz(erbs: FloatArray) -> FloatArray:
    """The frequency below which so many ERBs lie: ``hz_to_erb_rate`` turned round."""
    return np.asarray((10.0 ** (np.asarray(erbs) / 21.4) - 1.0) / 4.37e-3)


@functools.cache
def bands_hz() -> FloatArray:
    """Centres of the bands."""
    low, high = hz_to_erb_rate(np.array([_LOW_HZ, _HIGH_HZ]))
    return erb_rate_to_hz(np.arange(low, high, 1.0 / _PER_ERB))


def threshold_db(hz: FloatArray) -> FloatArray:
    """Level over the masker's, in one auditory filter, from which a sound is heard."""
    return np.asarray(np.interp(np.log(hz), np.log(_K_HZ), _K_DB))


# Threshold of hearing for tones in the free field, ISO 226:2003, table 1 (T_f, from memory).
_QUIET_HZ = (
    20, 25, 31.5, 40, 50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500, 630, 800, 1000, 1250, 1600, 2000, 2500, 3150, 4000, 5000,
    6300, 8000, 10000, 12500,
)  # fmt: skip
_QUIET_DB = (
    78.5, 68.7, 59.5, 51.1, 44.0, 37.5, 31.5, 26.5, 22.1, 17.9, 14.4, 11.4, 8.6, 6.2, 4.4, 3.0, 2.2, 2.4, 3.5, 1.7, -1.3, -4.2, -6.0,
    -5.4, -1.5, 6.0, 12.6, 13.9, 12.3,
)  # fmt: skip
# What a masker leaves behind: a·(b − log10 Δt)·(L − c) dB over the threshold in quiet, Δt in ms and L its level over it
# (W. Jesteadt, S. P. Bacon and J. R. Lehman, "Forward masking as a function of frequency, masker level, and signal delay", 1982,
# equation 1, with what they found on average at 1 to 4 kHz, from memory); nothing after 200 ms.
_AFTER_A, _AFTER_B, _AFTER_C_DB = 0.25, math.log10(200.0), 10.0


@functools.cache
def quiet() -> FloatArray:
    """Threshold of hearing in each band, as power over that of 0 dB SPL, shape (bands,)."""
    return np.asarray(10.0 ** (np.interp(np.log(bands_hz()), np.log(_QUIET_HZ), _QUIET_DB) / 10.0))


@functools.lru_cache(maxsize=8)
def _slices(n_fft: int, rate_hz: int) -> FloatArray:
    """First bin of each slice of a spectrum, a quarter of an ERB wide or a bin; the last is where the ear's bands end."""
    low, high = hz_to_erb_rate(np.array([20.0, min(18000.0, 0.49 * rate_hz)]))
    edges = erb_rate_to_hz(np.arange(low, high, 1.0 / _SLICES_PER_ERB)) * n_fft / rate_hz
    return np.unique(np.round(edges).astype(np.int64))


_REACH = 30.0  # in pg, past which a filter lets nothing through
_NEPERS_PER_DB = math.log(10.0) / 10.0


@functools.cache
def _roex() -> FloatArray:
    """A rounded exponential at equal steps of pg, straight between them within 3·10⁻⁵."""
    pg = np.arange(64 * _REACH + 2) / 64.0
    return np.asarray((1.0 + pg) * np.exp(-pg))


@kernel
def _spread(
    power: FloatArray, first: FloatArray, bin_hz: float, to_spl: float, centres: FloatArray, nothing: FloatArray, roex: FloatArray, pattern: FloatArray,
    inside: FloatArray,
) -> None:  # fmt: skip
    """pattern (bands, frames) of power (frames, bins), and inside (bands, frames): the power within half an ERB of each centre. first (slices + 1,) bins; nothing (bands,): what adds less counts for none, and
    so does what the same tone would give to bands further off. roex: (1 + pg)·exp(−pg) for pg from 0 to ``_REACH``.

    Each slice of the spectrum is one tone, of its power, where its power lies. A filter's upper side has p = 4·fc/ERB; its lower one,
    by which a tone reaches filters above it, is the shallower the louder the tone: p − 0.38·(p/30.2)·(X − 51), with X its level
    in dB SPL within an ERB (B. R. Glasberg and B. C. J. Moore, "Derivation of auditory filter shapes from notched-noise data",
    1990, equation 5).
    """
    frames, slices, bands = power.shape[0], first.shape[0] - 1, centres.shape[0]
    level, hz, half_erb, within = np.empty(slices), np.empty(slices), np.empty(slices), np.empty(slices)
    level_db, within_db = np.empty(slices), np.empty(slices)  # twice those of a power
    steep, slope, log_nothing, half = np.empty(bands), np.empty(bands), np.empty(bands), np.empty(bands)
    total, near = np.empty(bands), np.empty(bands)
    for b in range(bands):
        steep[b] = 4.0 * centres[b] / (24.7 * (4.37e-3 * centres[b] + 1.0))
        slope[b] = steep[b] / centres[b]
        log_nothing[b] = math.log(nothing[b])
        half[b] = 0.5 * 24.7 * (4.37e-3 * centres[b] + 1.0)
    reach = _REACH
    per_unit = (roex.shape[0] - 2) / reach
    for frame in range(frames):
        for s in range(slices):
            sum_, moment = 0.0, 0.0
            for k in range(first[s], first[s + 1]):
                sum_ += power[frame, k]
                moment += power[frame, k] * k
            level[s] = sum_ * to_spl
            hz[s] = bin_hz * (moment / sum_ if sum_ > 0.0 else 0.5 * (first[s] + first[s + 1] - 1))
        for s in range(slices):
            half_erb[s] = 0.5 * 24.7 * (4.37e-3 * hz[s] + 1.0)
            within[s] = level[s]
        for away in range(1, 5):  # each loop by itself, to vectorise
            for s in range(slices - away):
                within[s] += level[s + away] if hz[s + away] - hz[s] <= half_erb[s] else 0.0
            for s in range(slices - away):
                within[s + away] += level[s] if hz[s + away] - hz[s] <= half_erb[s + away] else 0.0
        levels_to_db(level, level_db)
        levels_to_db(within, within_db)
        total[:], near[:] = 0.0, 0.0
        below = 0  # bands at or below the tone
        for s in range(slices):
            tone, tone_hz = level[s], hz[s]
            if tone <= 1e-6:
                continue
            while below < bands and centres[below] <= tone_hz:
                below += 1
            shallow = 1.0 - 0.38 / 30.2 * (min(110.0, max(20.0, 0.5 * within_db[s])) - 51.0)
            limit = 0.5 * _NEPERS_PER_DB * level_db[s] + 3.4
            for b in range(max(0, below - 2), min(bands, below + 2)):
                near[b] += tone if abs(tone_hz - centres[b]) <= half[b] else 0.0
            for b in range(below - 1, -1, -1):
                pg = slope[b] * tone_hz - steep[b]
                if pg >= reach or pg > limit - log_nothing[b]:
                    break
                at = int(pg * per_unit)
                total[b] += tone * (roex[at] + (pg * per_unit - at) * (roex[at + 1] - roex[at]))
            for b in range(below, bands):
                pg = shallow * (steep[b] - slope[b] * tone_hz)
                if pg >= reach or pg > limit - log_nothing[b]:
                    break
                at = int(pg * per_unit)
                total[b] += tone * (roex[at] + (pg * per_unit - at) * (roex[at + 1] - roex[at]))
        for b in range(bands):
            pattern[b, frame], inside[b, frame] = total[b], near[b]


@kernel
def _powers(bins: np.ndarray, scale: float) -> FloatArray:
    """Squared magnitudes of bins (frames, bins), times ``scale``."""
    power = np.empty(bins.shape)
    for frame in range(bins.shape[0]):
        for k in range(bins.shape[1]):
            re, im = float(bins[frame, k].real), float(bins[frame, k].imag)
            power[frame, k] = scale * (re * re + im * im)
    return power


# How much quieter the far ear has a loudspeaker 30° to the side, by frequency: the head's shadow (E. A. G. Shaw, "Transformation of
# sound pressure level from the free field to the eardrum in the horizontal plane", 1974, rounded, from memory).
_SHADOW_HZ = (20.0, 200.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 20000.0)
_SHADOW_DB = (0.0, 0.5, 2.0, 4.0, 6.0, 8.0, 10.0, 12.0)


def far_ear(hz: FloatArray) -> FloatArray:
    """Power of a loudspeaker at the ear that is turned away from it, over that at the other."""
    db = np.interp(np.log(np.maximum(hz, 1.0)), np.log(_SHADOW_HZ), _SHADOW_DB)
    return np.asarray(10.0 ** (-db / 10.0))


def excitation(audio: Stereo | Single, rate_hz: int, *, playback_db: float = PLAYBACK_DB) -> FloatArray:
    """Pattern of a sound (channels, n), the mean of its channels, where −20 LUFS of both sides are ``playback_db``."""

    def mean(sides: list[FloatArray], hz: FloatArray) -> list[FloatArray]:
        # Both sides sound at once: twice their mean.
        return [np.asarray((2.0 / len(sides)) * np.sum(sides, axis=0))]

    return np.asarray(_patterns(audio, rate_hz, mean, 1, playback_db)[0][0])


@dataclass(frozen=True, slots=True)
class Ears:
    """What a sound gives both ears, each (2, bands, frames), left first."""

    pattern: Single
    own: Single  # 0 to 1: how much of the pattern sounds in that band itself, and does not reach over from another


def excitation_of_ears(audio: Stereo | Single, rate_hz: int, *, playback_db: float = PLAYBACK_DB) -> Ears:
    """Patterns at both ears of a sound (2, n), or (1, n) where both sides are alike, from two loudspeakers.

    Each ear has its own loudspeaker and, ``far_ear`` quieter, the other; their powers add up. How the two sides stand to each
    other in phase is left out, so what the ears gain by comparing phases (some dB, at low frequencies only) is too.
    """
    alike = len(audio) == 1 or are_alike(audio)

    def ears(sides: list[FloatArray], hz: FloatArray) -> list[FloatArray]:
        far = far_ear(hz)
        if alike:
            return [sides[0] * (1.0 + far)]
        return [sides[0] + far * sides[1], sides[1] + far * sides[0]]

    found, inside = _patterns(audio[:1] if alike else audio, rate_hz, ears, 1 if alike else 2, playback_db)
    own = np.minimum(1.0, 2.0 * inside / np.maximum(found, 1e-30))
    both = (2, *found.shape[1:])
    return Ears(*(np.array(np.broadcast_to(each, both), dtype=np.float32, order="C") for each in (found, own)))


def _patterns(
    audio: FloatArray | Single, rate_hz: int, mixed: Callable[[list[FloatArray], FloatArray], list[FloatArray]], count: int, playback_db: float
) -> tuple[FloatArray, FloatArray]:  # fmt: skip
    """``count`` patterns, and the powers within half an ERB, of what ``mixed`` makes of the power of each channel (frames, bins) and the bins' frequencies."""
    from scipy.fft import rfft  # loaded only here

    n_fft = 1 << round(np.log2(_WINDOW_S * rate_hz))
    hop = n_fft // 2
    window = np.hanning(n_fft + 1)[:-1].astype(np.float32)
    frames = audio.shape[1] // hop + 3  # the first is centred on the first sample, the last ends behind the sound
    patterns, insides = np.zeros((2, count, len(bands_hz()), frames))
    scale = 2.0 / (float(np.sum(window.astype(np.float64) ** 2)) * n_fft)
    to_spl = 10.0 ** ((playback_db - _PLAYBACK_LUFS + _LUFS_OFFSET_DB) / 10.0)
    hz = np.asarray(np.fft.rfftfreq(n_fft, 1.0 / rate_hz), dtype=np.float64)
    batch = 64
    windowed = np.empty((batch, n_fft), dtype=np.float32)
    for at in range(0, frames, batch):
        give_up_if_unwanted()
        powers: list[FloatArray] = []
        for channel in audio:
            few = cut_windows(channel, (at - 1) * hop, hop, window, windowed[: frames - at])
            powers.append(_powers(rfft(few, axis=1), scale))
        for pattern, inside, power in zip(patterns, insides, mixed(powers, hz), strict=True):
            part, near = np.zeros((2, len(pattern), len(power)))
            _spread(
                power,
                _slices(n_fft, rate_hz),
                rate_hz / n_fft,
                to_spl,
                bands_hz(),
                _NOTHING_SHARE * quiet(),
                _roex(),
                part,
                near,
            )
            pattern[:, at : at + batch], inside[:, at : at + batch] = part, near
    return patterns, insides


def specific_loudness(pattern: FloatArray) -> FloatArray:
    """Loudness of each band and frame, in no unit, 0 under the threshold of hearing (Moore, Glasberg and Baer 1997, equation 3:
    (E + A)^0.2 − A^0.2 with A twice the threshold)."""
    over = pattern / quiet()[:, None]
    return np.asarray(np.where(over > 1.0, (over + 2.0) ** 0.2 - 2.0**0.2, 0.0))


def hop_frames(rate_hz: int) -> int:
    """Frames of audio from one frame of a pattern to the next; the first is centred on the first sample."""
    return int(1 << round(math.log2(_WINDOW_S * rate_hz))) // 2


@functools.cache
def _left_over() -> FloatArray:
    """What is left of a masker's level over its threshold in quiet, for each frame later."""
    # From the end of one window's middle half to the middle of another.
    ms = 1e3 * (np.arange(1, math.ceil(0.2 / _HOP_S)) - 0.5) * _HOP_S
    return np.asarray(_AFTER_A * np.maximum(0.0, _AFTER_B - np.log10(ms)))


@kernel
def _threshold(
    other: Single, k: FloatArray, quiet_: FloatArray, left_over: FloatArray, after_c_db: float, out: Single
) -> None:
    """out (bands, frames) of other (bands, frames); k, quiet_ (bands,)."""
    frames, lags = other.shape[1], left_over.shape[0]
    over_db = np.empty(frames)
    for b in range(other.shape[0]):
        over_db[:] = -1.0  # not worked out yet: where a masker goes on, nothing that it left behind counts
        loudest = 0.0
        for n in range(frames):
            loudest = max(loudest, other[b, n])
        most_db = max(0.0, 10.0 * math.log10(max(loudest / quiet_[b], 1.0)) - after_c_db)
        most = quiet_[b] * math.exp(left_over[0] * most_db * _NEPERS_PER_DB) if most_db > 0.0 else 0.0
        for n in range(frames):
            now = other[b, n] * k[b]
            if now < most:
                left_db = 0.0
                for lag in range(min(lags, n)):
                    if left_over[lag] * most_db <= left_db:
                        break
                    then = n - 1 - lag
                    if over_db[then] < 0.0:
                        over_db[then] = max(0.0, 10.0 * math.log10(max(other[b, then] / quiet_[b], 1.0)) - after_c_db)
                    left_db = max(left_db, left_over[lag] * over_db[then])
                if left_db > 0.0:
                    now = max(now, quiet_[b] * math.exp(left_db * _NEPERS_PER_DB))
            out[b, n] = now


def masked_threshold(other: FloatArray | Single) -> Single:
    """Pattern that a sound must have to be heard beside ``other``, a pattern of one ear or both: while that sounds, and after it."""
    flat = np.ascontiguousarray(other, dtype=np.float32).reshape(-1, *other.shape[-2:])
    out = np.empty_like(flat)
    k = 10.0 ** (threshold_db(bands_hz()) / 10.0)
    for one, mine in zip(flat, out, strict=True):
        _threshold(one, k, quiet(), _left_over(), _AFTER_C_DB, mine)
    return out.reshape(other.shape)


def hidden_share(own: FloatArray, other: FloatArray) -> float:
    """Share of a sound's own loudness-weighted area of time and frequency that another masks, 0 to 1; NaN of silence.

    own and other are patterns of one length. What is under the threshold of hearing anyway counts for nothing.
    """
    weight = specific_loudness(own)
    total = float(np.sum(weight))
    if total <= 0.0:
        return math.nan
    return float(np.sum(weight * (own < masked_threshold(other))) / total)
