"""What hides what: excitation of the ear's filters over time, and what of a sound lies under another's masked threshold.

Conventions
-----------
Patterns have shape (bands, frames): excitation, as power over that of 0 dB SPL, in windows half overlapped. Bands are half an ERB
apart. How loud a room is decides how far a sound reaches upwards in frequency, and what is heard at all: ``PLAYBACK_DB`` is taken
for it unless something else is known.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.types import FloatArray, Stereo

# Sound pressure level that a mix of −20 LUFS has where it is listened to: that of K-20 monitoring and of film (common practice).
PLAYBACK_DB = 83.0
_PLAYBACK_LUFS, _LUFS_OFFSET_DB = -20.0, -0.691
_LOW_HZ, _HIGH_HZ = 40.0, 15000.0
_PER_ERB = 2.0
_SLICES_PER_ERB = 4.0
_WINDOW_S = 0.043
_HOP_S = 0.5 * _WINDOW_S
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


@kernel
def _spread(
    power: FloatArray, first: FloatArray, bin_hz: float, to_spl: float, centres: FloatArray, pattern: FloatArray
) -> None:
    """pattern (bands, frames) of power (frames, bins). first (slices + 1,) bins.

    Each slice of the spectrum is one tone, of its power, where its power lies. A filter's upper side has p = 4·fc/ERB; its lower one,
    by which a tone reaches filters above it, is the shallower the louder the tone: p − 0.38·(p/30.2)·(X − 51), with X its level
    in dB SPL within an ERB (B. R. Glasberg and B. C. J. Moore, "Derivation of auditory filter shapes from notched-noise data",
    1990, equation 5).
    """
    frames, slices, bands = power.shape[0], first.shape[0] - 1, centres.shape[0]
    level, hz, less = np.empty(slices), np.empty(slices), np.empty(slices)
    for frame in range(frames):
        for s in range(slices):
            total, moment = 0.0, 0.0
            for k in range(first[s], first[s + 1]):
                total += power[frame, k]
                moment += power[frame, k] * k
            level[s] = total * to_spl
            hz[s] = bin_hz * (moment / total if total > 0.0 else 0.5 * (first[s] + first[s + 1] - 1))
        for s in range(slices):
            erb = 24.7 * (4.37e-3 * hz[s] + 1.0)
            within = 0.0
            for other in range(max(0, s - 4), min(slices, s + 5)):
                within += level[other] if abs(hz[other] - hz[s]) <= 0.5 * erb else 0.0
            db = 10.0 * math.log10(max(within, 1e-3))
            less[s] = 0.38 / 30.2 * (min(110.0, max(20.0, db)) - 51.0)
        for b in range(bands):
            centre = centres[b]
            p = 4.0 * centre / (24.7 * (4.37e-3 * centre + 1.0))
            total = 0.0
            for s in range(slices):
                if level[s] <= 1e-6:
                    continue
                g = (hz[s] - centre) / centre
                pg = p * g if g >= 0.0 else -p * (1.0 - less[s]) * g
                if pg < 30.0:
                    total += level[s] * (1.0 + pg) * math.exp(-pg)
            pattern[b, frame] = total


def excitation(audio: Stereo, rate_hz: int, *, playback_db: float = PLAYBACK_DB) -> FloatArray:
    """Pattern of a sound (channels, n), the mean of its channels, where −20 LUFS of both sides are ``playback_db``."""
    n_fft = 1 << round(np.log2(_WINDOW_S * rate_hz))
    hop = n_fft // 2
    window = np.hanning(n_fft + 1)[:-1]
    padded = np.pad(audio, ((0, 0), (hop, hop + n_fft - audio.shape[1] % hop)))
    frames = np.lib.stride_tricks.sliding_window_view(padded, n_fft, axis=1)[:, ::hop]
    pattern = np.zeros((len(bands_hz()), frames.shape[1]))
    scale = 2.0 / (np.sum(window**2) * n_fft * len(audio))
    # Both sides sound at once: twice their mean.
    to_spl = 2.0 * 10.0 ** ((playback_db - _PLAYBACK_LUFS + _LUFS_OFFSET_DB) / 10.0)
    batch = 64
    for at in range(0, frames.shape[1], batch):
        give_up_if_unwanted()
        power = np.zeros((min(batch, frames.shape[1] - at), n_fft // 2 + 1))
        for channel in frames[:, at : at + batch]:
            power += np.abs(np.fft.rfft(channel * window, axis=1)) ** 2
        part = np.zeros((len(pattern), len(power)))
        _spread(scale * power, _slices(n_fft, rate_hz), rate_hz / n_fft, to_spl, bands_hz(), part)
        pattern[:, at : at + batch] = part
    return pattern


def specific_loudness(pattern: FloatArray) -> FloatArray:
    """Loudness of each band and frame, in no unit, 0 under the threshold of hearing (Moore, Glasberg and Baer 1997, equation 3:
    (E + A)^0.2 − A^0.2 with A twice the threshold)."""
    over = pattern / quiet()[:, None]
    return np.asarray(np.where(over > 1.0, (over + 2.0) ** 0.2 - 2.0**0.2, 0.0))


def masked_threshold(other: FloatArray) -> FloatArray:
    """Pattern that a sound must have to be heard beside ``other``, a pattern: while that sounds, and after it."""
    bands = bands_hz()[:, None]
    now = other * 10.0 ** (threshold_db(bands) / 10.0)
    left = 10.0 * np.log10(np.maximum(other / quiet()[:, None], 1.0)) - _AFTER_C_DB
    for later in range(1, min(other.shape[1], math.ceil(0.2 / _HOP_S))):
        # From the end of one window's middle half to the middle of another.
        ms = 1e3 * (later - 0.5) * _HOP_S
        left_db = _AFTER_A * max(0.0, _AFTER_B - math.log10(ms)) * np.maximum(0.0, left[:, :-later])
        now[:, later:] = np.maximum(
            now[:, later:], np.where(left_db > 0.0, quiet()[:, None] * 10.0 ** (left_db / 10.0), 0.0)
        )
    return np.asarray(now)


def hidden_share(own: FloatArray, other: FloatArray) -> float:
    """Share of a sound's own loudness-weighted area of time and frequency that another masks, 0 to 1; NaN of silence.

    own and other are patterns of one length. What is under the threshold of hearing anyway counts for nothing.
    """
    weight = specific_loudness(own)
    total = float(np.sum(weight))
    if total <= 0.0:
        return math.nan
    return float(np.sum(weight * (own < masked_threshold(other))) / total)
