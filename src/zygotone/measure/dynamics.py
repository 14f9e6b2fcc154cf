"""Crest, onsets, attack and decay, and how much a device pumps.

SciPy is imported where it is used: it takes a second to load, and the window should not wait for it.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.levels import gain_to_db
from zygotone.dsp.onsets import onsets
from zygotone.dsp.types import FloatArray


def rms(audio: FloatArray) -> float:
    """Over all channels and frames, linear; 0 of nothing."""
    return math.sqrt(sum(float(channel @ channel) for channel in audio) / audio.size) if audio.size else 0.0


def crest_db(audio: FloatArray) -> float:
    """Sample peak over RMS; NaN in silence."""
    level = rms(audio)
    return float(20.0 * math.log10(float(np.max(np.abs(audio))) / level)) if level > 1e-10 else math.nan


def envelope(audio: FloatArray, sample_rate_hz: int, *, hold_s: float = 0.012) -> FloatArray:
    """Peak envelope, shape (frames,): largest magnitude of the channels over the next and last ``hold_s``/2.

    For onsets the causal edge matters; see ``first_rise``.
    """
    magnitude = np.max(np.abs(audio), axis=0)
    return _largest_near(magnitude, max(1, round(hold_s * sample_rate_hz)))


def peak_and_body_db(audio: FloatArray, sample_rate_hz: int) -> tuple[float, float]:
    """Peak, and the level it mostly has while it sounds: the median RMS of frames of 50 ms within 30 dB of the loudest.
    Both −60 in silence."""
    width = max(1, round(0.05 * sample_rate_hz))
    n = audio.shape[1] // width
    if n == 0 or not audio.any():
        return -60.0, -60.0
    levels = gain_to_db(np.sqrt(np.mean(np.square(audio[:, : n * width]).mean(axis=0).reshape(n, width), axis=1)))
    return float(gain_to_db(np.max(np.abs(audio)))), float(np.median(levels[levels > levels.max() - 30.0]))


def hits(audio: FloatArray, sample_rate_hz: int, *, apart_s: float = 0.05) -> list[int]:
    """First frame of each percussive hit: where the magnitude first passes 10 % of the hit's own peak, or, over the tail of
    another, where what is new is noticed. The detector is that of the devices (``dsp.onsets``), judged against the loudest
    hits; those 20 dB below them do not count.
    """
    magnitude = np.max(np.abs(audio), axis=0)
    if float(np.max(magnitude, initial=0.0)) < 1e-5:
        return []
    scaled = audio / float(np.max(magnitude))  # a soft take has hits too
    early, after = round(0.003 * sample_rate_hz), round(0.060 * sample_rate_hz)
    found: list[int] = []
    for at in onsets(scaled, sample_rate_hz, apart_s=apart_s).tolist():
        start = max(0, at - early)
        heard = magnitude[start : at + after]
        tenth = 0.1 * float(np.max(heard))
        alone = float(np.max(magnitude[max(0, start - 4 * early) : start], initial=0.0)) < tenth
        found.append(start + int(np.argmax(heard >= tenth)) if alone else at)
    return found


def first_rise(audio: FloatArray, sample_rate_hz: int, *, start: int, end: int) -> int | None:
    """Frame between ``start`` and ``end`` where a sound begins, or None where none does.

    The magnitude must pass 0.4 % of its following peak, and twice what was there before; so a note out of
    silence is found at its very start, and one over the tail of another where it stands out.
    """
    settle = max(1, round(0.025 * sample_rate_hz))
    start, end = max(0, start), min(audio.shape[1], end)
    # What came before and what comes after the stretch is looked at too, or its edges would seem like onsets.
    first = max(0, start - settle)
    magnitude = np.max(np.abs(audio[:, first : end + settle]), axis=0)
    inside = slice(start - first, end - first)
    ahead = _largest_ahead(magnitude, settle)[inside]
    behind = _largest_behind(magnitude, settle)[inside]
    if not len(ahead):
        return None
    growth = ahead / np.maximum(behind, 1e-6)
    at = int(np.argmax(growth))
    if growth[at] < 2.0 or ahead[at] < 0.1 * float(np.max(magnitude)):
        return None
    threshold = max(0.004 * float(ahead[at]), 2.0 * float(behind[at]))
    over = np.flatnonzero(magnitude[inside][at:] >= threshold)
    return start + at + int(over[0]) if len(over) else None


def _largest_near(x: FloatArray, width: int, *, origin: int = 0) -> FloatArray:
    """Largest of the ``width`` values around each; ``origin`` above 0 looks back, below 0 ahead."""
    from scipy.ndimage import maximum_filter1d

    return np.asarray(maximum_filter1d(x, width, origin=origin, mode="constant"))


def _largest_ahead(x: FloatArray, width: int) -> FloatArray:
    return _largest_near(x, width, origin=-(width // 2))


def _largest_behind(x: FloatArray, width: int) -> FloatArray:
    """Largest of the ``width`` values before each, itself not included."""
    shifted = np.concatenate([[0.0], x[:-1]])
    return _largest_near(shifted, width, origin=(width - 1) // 2)


_RMS_S = 0.02


def attack_ms(audio: FloatArray, sample_rate_hz: int) -> float:
    """10 to 90 % of the envelope's first rise; NaN in silence.

    The first rise ends where the sound grows by less than 3 dB more while it has sounded for as long again (and 20 ms at
    least): what beats or swells later on is no attack. The envelope is the running peak, or the RMS over 20 ms where that is there much sooner: the highest peak of a noise
    may come at any time after it has long been as loud as it gets.
    """
    magnitude = np.max(np.abs(audio), axis=0)
    top = float(np.max(magnitude, initial=0.0))
    if top < 1e-6:
        return math.nan
    first = _beginning(magnitude, sample_rate_hz)
    heard = magnitude[first : first + round(0.5 * sample_rate_hz)]
    heard = heard[: _first_rise_ends(heard, sample_rate_hz)]
    window = min(len(heard), round(_RMS_S * sample_rate_hz))
    power = np.cumsum(np.concatenate([np.zeros(window), heard**2]))
    rms = np.sqrt(np.maximum(power[window:] - power[:-window], 0.0))
    by_peak = _rise_frames(heard)
    # An RMS takes 80 % of its window to rise by itself, and tells nothing of what is quicker; rises one after the other
    # add up by their squares.
    if by_peak <= 0.8 * window:
        return by_peak * 1000.0 / sample_rate_hz
    by_rms = math.sqrt(max(0.0, _rise_frames(rms) ** 2 - (0.8 * window) ** 2))
    return (by_rms if by_rms < 0.8 * by_peak else by_peak) * 1000.0 / sample_rate_hz


def _beginning(magnitude: FloatArray, sample_rate_hz: int) -> int:
    """Where the sound begins: a tenth of what it has reached 20 ms later, if that is sooner than a tenth of all it gets to."""
    top = float(np.max(magnitude))
    at = int(np.argmax(magnitude >= 0.01 * top))
    near = magnitude[at : at + max(1, round(0.02 * sample_rate_hz))]
    return at + int(np.argmax(near >= 0.1 * float(np.max(near))))


def _first_rise_ends(heard: FloatArray, sample_rate_hz: int) -> int:
    """Frames until it does; by the RMS over 10 ms, as single peaks of a noise say little."""
    step, least = max(1, round(0.001 * sample_rate_hz)), round(0.02 * sample_rate_hz)
    window = 10 * step
    power = np.cumsum(np.concatenate([np.zeros(window), heard**2]))
    rising = np.maximum.accumulate(np.sqrt(np.maximum(power[window:] - power[:-window], 0.0)))
    at = step
    while at < len(rising):
        later = min(len(rising), at + max(at, least))
        if rising[later - 1] < 1.4125 * rising[at]:
            return later
        at += step
    return len(rising)


def _rise_frames(envelope: FloatArray) -> int:
    rising = np.maximum.accumulate(envelope)
    return int(np.argmax(rising >= 0.9 * rising[-1])) - int(np.argmax(rising >= 0.1 * rising[-1]))


def decay_ms(audio: FloatArray, sample_rate_hz: int) -> float:
    """Peak to −20 dB of the envelope; NaN where it never gets there."""
    env = envelope(audio, sample_rate_hz, hold_s=0.02)
    at = int(np.argmax(env))
    below = np.flatnonzero(env[at:] < 0.1 * env[at])
    return 1000.0 * int(below[0]) / sample_rate_hz if len(below) and env[at] > 1e-6 else math.nan


def band_limited(audio: FloatArray, low_hz: float, high_hz: float, sample_rate_hz: int) -> FloatArray:
    """Butterworth band-pass of order 4 run forwards and backwards, so without any delay."""
    from scipy.signal import butter, sosfiltfilt

    high_hz = min(high_hz, 0.49 * sample_rate_hz)
    sos = butter(4, [low_hz, high_hz], btype="bandpass", fs=sample_rate_hz, output="sos")
    pad = min(audio.shape[1] - 1, round(2.0 * sample_rate_hz / low_hz * 4))
    return np.asarray(sosfiltfilt(sos, audio, axis=1, padtype="constant", padlen=max(0, pad)))


_PUMP_S = 0.6  # what moves within this time is heard as pumping; a slower move is a ride (common practice)


def pumping_db(gain_db: FloatArray, audio: FloatArray, sample_rate_hz: int) -> float:
    """How far a gain goes up and down within 600 ms, the median over all such stretches in which the track sounds.

    gain_db (frames,); audio (channels, frames), the track the gain acts on. The gain is taken in frames of 10 ms, of which
    one counts where the track is within 40 dB of its loudest. So a slow ride is none, and a short deep dip on each beat is as
    deep as it is. 0 where the track never sounds.
    """
    width = max(1, round(0.010 * sample_rate_hz))
    n = min(len(gain_db), audio.shape[1]) // width
    if n == 0:
        return 0.0
    gains = gain_db[: n * width].reshape(n, width).mean(axis=1)
    levels = np.max(np.abs(audio[:, : n * width]), axis=0).reshape(n, width).max(axis=1)
    top = float(np.max(levels, initial=0.0))
    if top < 1e-5:
        return 0.0
    sounds = levels > 0.01 * top
    span = min(n, max(1, round(_PUMP_S / 0.010)))
    high = np.lib.stride_tricks.sliding_window_view(np.where(sounds, gains, -np.inf), span).max(axis=1)
    low = np.lib.stride_tricks.sliding_window_view(np.where(sounds, gains, np.inf), span).min(axis=1)
    moves = (high - low)[np.isfinite(high - low)]
    return float(np.median(moves)) if len(moves) else 0.0
