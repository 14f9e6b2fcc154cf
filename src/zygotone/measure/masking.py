"""What hides what: excitation of the ear's filters over time, and what of a sound lies under another's masked threshold.

Conventions
-----------
Patterns have shape (bands, frames): power that each auditory filter passes, in windows half overlapped. Bands are half an ERB
apart. How loud the room is nobody knows, so the filters are those for 51 dB a band, where they are symmetrical.
"""

from __future__ import annotations

import functools

import numpy as np

from zygotone.dsp.types import FloatArray, Stereo

_LOW_HZ, _HIGH_HZ = 40.0, 15000.0
_PER_ERB = 2.0
_WINDOW_S = 0.043
_REACH_DB = 60.0  # what is so far under a sound's loudest moment does not count
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


@functools.lru_cache(maxsize=8)
def _filters(n_fft: int, rate_hz: int) -> FloatArray:
    """Weight of each bin in each band, (bands, bins): rounded exponentials (R. D. Patterson and others 1982,
    W(g) = (1 + p·g)·exp(−p·g), p = 4·fc/ERB)."""
    hz, centres = np.fft.rfftfreq(n_fft, 1.0 / rate_hz)[None], bands_hz()[:, None]
    pg = 4.0 * np.abs(hz - centres) / erb_hz(centres)
    return np.asarray((1.0 + pg) * np.exp(-pg))


def excitation(audio: Stereo, rate_hz: int) -> FloatArray:
    """Pattern of a sound (channels, n), the mean of its channels."""
    n_fft = 1 << round(np.log2(_WINDOW_S * rate_hz))
    hop = n_fft // 2
    window = np.hanning(n_fft + 1)[:-1]
    padded = np.pad(audio, ((0, 0), (hop, hop + n_fft - audio.shape[1] % hop)))
    filters = _filters(n_fft, rate_hz)
    frames = np.lib.stride_tricks.sliding_window_view(padded, n_fft, axis=1)[:, ::hop]
    total = np.zeros((len(filters), frames.shape[1]))
    batch = 256
    for at in range(0, frames.shape[1], batch):
        for channel in frames[:, at : at + batch]:
            power = np.abs(np.fft.rfft(channel * window, axis=1)) ** 2
            total[:, at : at + batch] += filters @ power.T
    return np.asarray(total * (2.0 / (np.sum(window**2) * n_fft * len(audio))))


def hidden_share(own: FloatArray, other: FloatArray) -> float:
    """Share of a sound's own loudness-weighted area of time and frequency that another masks, 0 to 1; NaN of silence.

    own and other are patterns of one length. Loudness grows with the 0.3rd power of intensity (S. S. Stevens 1955).
    """
    top = float(np.max(own, initial=0.0))
    if top <= 0.0:
        return float("nan")
    weight = np.where(own > top * 10.0 ** (-_REACH_DB / 10.0), own**0.3, 0.0)
    hidden = own < other * 10.0 ** (threshold_db(bands_hz())[:, None] / 10.0)
    return float(np.sum(weight * hidden) / np.sum(weight))
