"""Where a sound sticks out of its own spectrum and stays, how sharp its consonants are, and what lies in its quiet moments."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.sides import are_alike
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.measure.spectrum import add_powers
from zygotone.measure.windows import cut_windows

_FRACTION, _WIDE = (
    12.0,
    6.0,
)  # a spectrum is read at every twelfth of an octave, in bands of a sixth: what a note is wide is no peak
_SMOOTH_OCTAVES = 2.0
_TOGETHER = 8  # stretches that are worked out at a time
_STAYS = 0.3  # a peak must stick out in all but this share of the time in which there is sound


@dataclass(frozen=True, slots=True)
class Resonance:
    """A narrow peak that stays while the notes change."""

    hz: float
    over_db: float  # over the sound's own spectrum, smoothed to two octaves
    q: float


def band_levels(
    audio: Stereo, rate_hz: int, *, low_hz: float, high_hz: float, hop_s: float = 0.17
) -> tuple[FloatArray, FloatArray]:
    """Frequencies (n,), a twelfth of an octave apart, and levels of bands a sixth wide in dB in each stretch of 340 ms, (stretches, n)."""
    from scipy.fft import rfft  # four windows at a time in single precision, and loaded only here

    audio = audio[:1] if are_alike(audio) else audio
    n_fft = 1 << round(math.log2(0.34 * rate_hz))
    hop = max(1, round(hop_s * rate_hz))
    hz = low_hz * 2.0 ** (np.arange(math.floor(_FRACTION * math.log2(high_hz / low_hz)) + 1) / _FRACTION)
    half = 2.0 ** (0.5 / _WIDE)
    width = rate_hz / n_fft
    edges = (np.arange(n_fft // 2 + 2) - 0.5) * width
    window = np.hanning(n_fft).astype(np.float32)
    rows = []
    stretches = 1 + max(0, audio.shape[1] - n_fft) // hop
    windowed = np.empty((len(audio), _TOGETHER, n_fft), dtype=np.float32)
    for first in range(0, stretches, _TOGETHER):
        give_up_if_unwanted()
        few = windowed[:, : stretches - first]
        for channel, out in zip(audio, few, strict=True):
            cut_windows(channel, first * hop, hop, window, out)
        for of_one in rfft(few, axis=2).swapaxes(0, 1):
            power = np.zeros(n_fft // 2 + 1)
            add_powers(np.ascontiguousarray(of_one), power)
            total = np.concatenate([[0.0], np.cumsum(power)])
            rows.append(np.interp(hz * half, edges, total) - np.interp(hz / half, edges, total))
    scale = 2.0 / (np.sum(window.astype(np.float64) ** 2) * n_fft * len(audio))
    return hz, 10.0 * np.log10(scale * np.maximum(np.array(rows), 0.0) + 1e-14)


def resonances(hz: FloatArray, levels: FloatArray, low_hz: float, high_hz: float) -> list[Resonance]:
    """Peaks between two frequencies, the highest first, of what ``band_levels`` gave from an octave below to an octave above.
    Partials of a tune come and go with its notes; what is judged is what sticks out in nearly all of the time in which there is
    sound."""
    reach = 2.0 ** (0.5 * _SMOOTH_OCTAVES)
    inside = (hz >= 0.99 * low_hz / reach) & (hz <= 1.01 * high_hz * reach)
    hz, levels = hz[inside], levels[:, inside]
    loud = levels.max(axis=1, initial=-140.0)
    levels = levels[loud > max(float(loud.max(initial=-140.0)) - 30.0, -90.0)]
    if len(levels) < 4:
        return []
    width = round(_FRACTION * _SMOOTH_OCTAVES) | 1
    # Powers are averaged, not levels: the gaps between the partials of a note are no reason to call the partials peaks.
    power = 10.0 ** (levels / 10.0)
    total = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)
    first = np.clip(np.arange(len(hz)) - width // 2, 0, len(hz))
    last = np.clip(np.arange(len(hz)) + width // 2 + 1, 0, len(hz))
    smooth = 10.0 * np.log10((total[:, last] - total[:, first]) / (last - first) + 1e-14)
    stays = np.quantile(levels - smooth, _STAYS, axis=0)
    found = []
    for i in range(1, len(hz) - 1):
        if low_hz <= hz[i] <= high_hz and stays[i] > 3.0 and stays[i] >= stays[i - 1] and stays[i] >= stays[i + 1]:
            wide = 1
            while wide < 12 and min(i - wide, len(hz) - 1 - i - wide) > 0 and stays[i - wide] > stays[i] - 3.0:
                wide += 1
            found.append(
                Resonance(float(hz[i]), float(stays[i]), float(np.clip(_FRACTION / (2.0 * wide) * 1.44, 1.5, 8.0)))
            )
    return sorted(found, key=lambda r: -r.over_db)


def sibilance_db(audio: Stereo, rate_hz: int) -> float:
    """Level of 5 to 10 kHz over 1 to 4 kHz in the sharpest tenth of the stretches of 23 ms in which there is much of either; NaN
    in silence."""
    n_fft = 1 << round(math.log2(0.023 * rate_hz))
    usable = audio.shape[1] - audio.shape[1] % n_fft
    if usable == 0:
        return math.nan
    frames = audio[:, :usable].reshape(len(audio), -1, n_fft) * np.hanning(n_fft)
    power = np.sum(np.abs(np.fft.rfft(frames, axis=2)) ** 2, axis=0)
    hz = np.fft.rfftfreq(n_fft, 1.0 / rate_hz)
    sharp = power[:, (hz >= 5000.0) & (hz < 10000.0)].sum(axis=1)
    body = power[:, (hz >= 1000.0) & (hz < 4000.0)].sum(axis=1)
    both = sharp + body
    loud = both > 0.003 * float(both.max(initial=0.0))
    if float(both.max(initial=0.0)) < 1e-9:
        return math.nan
    ratios = 10.0 * np.log10((sharp[loud] + 1e-15) / (body[loud] + 1e-15))
    return float(np.quantile(ratios, 0.9))


def quiet_and_loud_db(audio: Stereo, rate_hz: int, above_hz: float) -> tuple[float, float, float]:
    """Level above a frequency in the quietest and the loudest twentieth of the stretches of 50 ms, in dB, and how far the quietest
    tenth reaches: of a steady hiss a few dB, of what dies away much. What is digital silence does not count; (−140, −140, 0) where
    nothing is left."""
    from scipy.signal import butter, sosfilt

    sos = butter(4, above_hz, "highpass", fs=rate_hz, output="sos")
    width = max(1, round(0.05 * rate_hz))
    n = audio.shape[1] // width
    if n == 0:
        return -140.0, -140.0, 0.0
    audio = audio[:1] if are_alike(audio) else audio
    high = sosfilt(sos, audio, axis=1)[:, : n * width]
    levels = 10.0 * np.log10(np.mean(high.reshape(len(audio), n, width) ** 2, axis=(0, 2)) + 1e-14)
    heard = levels[levels > -110.0]
    if len(heard) < 20:
        return -140.0, -140.0, 0.0
    least, quiet, tenth, loud = np.quantile(heard, [0.01, 0.05, 0.12, 0.95])
    return float(quiet), float(loud), float(tenth - least)
