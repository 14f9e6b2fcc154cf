"""What the layers of a sound do to each other.

Conventions
-----------
All layers of a sound are given over the same frames, shape (2, n) each. Bands are third octaves (IEC 61260).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.polyphase import Single
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.spectrum import NOMINAL_CENTRES_HZ, Spectrum, spectrum, third_octaves

BANDS_HZ = np.array([1000.0 * 10.0 ** ((i - 17) / 10.0) for i in range(len(NOMINAL_CENTRES_HZ))])
_EDGE = 10.0 ** (1.0 / 20.0)
_FLOOR_DB = -120.0
_N_FFT = 8192


def band_levels_db(heard: Spectrum) -> FloatArray:
    """Level in each third octave from 20 Hz to 20 kHz, shape (31,), dB; −120 of nothing."""
    bands = third_octaves(heard)
    levels = np.full(len(BANDS_HZ), _FLOOR_DB)
    for i, power in enumerate(bands.values()):
        levels[i] = max(_FLOOR_DB, 10.0 * math.log10(max(power, 1e-12)))
    return levels


def owners(levels_db: FloatArray, *, reach_db: float = 6.0) -> list[list[int]]:
    """For each band the layers that own it: the loudest and those within ``reach_db`` of it; none where there is silence.

    levels_db (layers, bands). What is 60 dB under the loudest band of all counts as silence.
    """
    top = float(np.max(levels_db, initial=_FLOOR_DB))
    found = []
    for band in levels_db.T:
        loudest = float(np.max(band, initial=_FLOOR_DB))
        found.append(
            [] if loudest < max(top - 60.0, -90.0) else [int(i) for i in np.flatnonzero(band > loudest - reach_db)]
        )
    return found


@dataclass(frozen=True, slots=True)
class Cancelling:
    """Of a pair: level of the sum minus the power sum in each band (dB, below 0 where they cancel), and the band where that
    costs most."""

    by_band_db: FloatArray  # (31,)
    worst_hz: float
    worst_db: float


def layer_cancel(a: Stereo, b: Stereo, rate_hz: int) -> Cancelling:
    """How the sum of two layers stands against their powers."""
    return cancelling(*(band_powers(x, rate_hz) for x in (a, b, a + b)))


def band_powers(audio: Stereo, rate_hz: int) -> FloatArray:
    """Power in each third octave from 20 Hz to 20 kHz, shape (31,), by windows of 8192 frames."""
    s = spectrum(audio, rate_hz, n_fft=_N_FFT)
    return np.array([_band(s.freqs_hz, s.power, hz) for hz in BANDS_HZ])


def cancelling(one: FloatArray, other: FloatArray, both: FloatArray) -> Cancelling:
    """From the band powers of two layers and of their sum, (31,) each. Only bands count in which both are within 12 dB of each
    other and within 24 dB of the pair's loudest band: elsewhere nothing can be lost that is heard."""
    one, other, both = np.maximum((one, other, both), 1e-20)
    change = 10.0 * np.log10(both / (one + other))
    total_db = 10.0 * np.log10(one + other)
    counts = (np.abs(10.0 * np.log10(one / other)) < 12.0) & (total_db > np.max(total_db) - 24.0)
    if not counts.any():
        return Cancelling(change, math.nan, 0.0)
    worst = int(np.argmin(np.where(counts, change, np.inf)))
    return Cancelling(change, float(BANDS_HZ[worst]), float(change[worst]))


def _band(freqs: FloatArray, power: FloatArray, hz: float) -> float:
    inside = (freqs >= hz / _EDGE) & (freqs < hz * _EDGE)
    # Low bands are narrower than a bin: then the nearest one, by its share.
    if not inside.any():
        return float(np.interp(hz, freqs, power)) * hz * (_EDGE - 1.0 / _EDGE) / float(freqs[1])
    return float(np.sum(power[inside]))


@dataclass(frozen=True, slots=True)
class Alignment:
    """By how much the second must come later (ms, below 0: earlier), and whether turned over, to agree with the first."""

    later_ms: float
    turn_over: bool
    agreement: float  # 0 to 1: how alike they are then, in the band


def best_alignment(a: Stereo, b: Stereo, hz: float, rate_hz: int, *, most_ms: float = 10.0) -> Alignment:
    """Cross-correlation of the octave around ``hz``, within ``most_ms``; turning over alone is preferred where it does as
    well within a tenth, since it moves nothing."""
    import scipy.signal  # late, as it takes a second to load and the window is to be there first

    sos = scipy.signal.butter(2, [hz / math.sqrt(2.0), min(hz * math.sqrt(2.0), 0.45 * rate_hz)], "bandpass", fs=rate_hz, output="sos")  # fmt: skip
    x, y = (scipy.signal.sosfiltfilt(sos, audio.mean(axis=0)) for audio in (a, b))
    scale = math.sqrt(float(x @ x) * float(y @ y))
    if scale < 1e-12:
        return Alignment(0.0, False, 0.0)
    lags = round(most_ms * 1e-3 * rate_hz)
    near = _near_correlation(x, y, lags) / scale
    still = float(near[lags])
    best = int(np.argmax(np.abs(near)))
    if still < 0.0 and -still > 0.9 * abs(float(near[best])):
        return Alignment(0.0, True, -still)
    # Straight first: the lag nearest to nothing whose agreement is as good within a tenth.
    good = np.flatnonzero(near > 0.9 * float(np.max(np.abs(near))))
    if len(good):
        lag = int(good[np.argmin(np.abs(good - lags))]) - lags
        return Alignment(1000.0 * lag / rate_hz, False, float(near[lag + lags]))
    return Alignment(1000.0 * (best - lags) / rate_hz, bool(near[best] < 0.0), abs(float(near[best])))


def _near_correlation(x: FloatArray | Single, y: FloatArray | Single, lags: int) -> FloatArray:
    """Σ x[i + k]·y[i] of two of one length for k from −lags to lags, (2·lags + 1,): round a circle that is just so much longer than
    they are that the ends do not meet."""
    from scipy.fft import irfft, next_fast_len, rfft

    size = next_fast_len(len(x) + lags, real=True)
    together = irfft(rfft(x, size) * np.conj(rfft(y, size)), size)
    return np.concatenate([together[size - lags :], together[: lags + 1]])


_LIKENESS_RATE_HZ = 8000


def lowered(audio: Stereo, rate_hz: int) -> Single:
    """Both sides as one at about 8 kHz, (n,), for ``likeness``."""
    step = max(1, rate_hz // _LIKENESS_RATE_HZ)
    n = audio.shape[1] // step
    mono = np.zeros(n)
    for channel in audio:
        mono += channel[: n * step].reshape(n, step).mean(axis=1)
    return (mono / len(audio)).astype(np.float32)


def likeness(x: Single, y: Single, rate_hz: int, *, most_ms: float = 15.0) -> float:
    """How alike two sounds are (of one length, ``lowered`` from ``rate_hz``), turned over or not, at the offset within ``most_ms`` where
    they are most: the largest magnitude of their normalized cross-correlation, 0 to 1; 0 where one is silent."""
    scale = math.sqrt(float(x @ x) * float(y @ y))
    if scale < 1e-12:
        return 0.0
    lags = round(most_ms * 1e-3 * rate_hz / max(1, rate_hz // _LIKENESS_RATE_HZ))
    return float(np.max(np.abs(_near_correlation(x, y, lags))) / scale)


def added_db(layers: Sequence[Stereo], which: int, rate_hz: int) -> float:
    """The most that a layer adds to the level of any third octave that is within 50 dB of the loudest, in dB.

    A difference in level of less than about 0.5 dB in one band is not heard (common practice).
    """
    whole = np.sum(layers, axis=0)
    without = whole - layers[which]
    full, less = (band_levels_db(spectrum(audio, rate_hz)) for audio in (whole, without))
    counts = np.maximum(full, less) > np.max(full) - 50.0
    return float(np.max(np.abs(full - less)[counts], initial=0.0))


def share_between(audio: Stereo, low_hz: float, high_hz: float, rate_hz: int) -> float:
    """Share of the power that lies between two frequencies, 0 to 1."""
    s = spectrum(audio, rate_hz)
    total = s.band_power(20.0, rate_hz / 2)
    return s.band_power(low_hz, high_hz) / total if total > 0.0 else 0.0
