"""Average spectra, third octaves, brightness."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.dsp.sides import are_alike
from zygotone.dsp.types import FloatArray, Single
from zygotone.measure.windows import cut_windows

N_FFT = 16384
_BATCH_FRAMES = 1 << 17  # worked out at a time, so that they stay near
# Nominal centres of IEC 61260-1, 20 Hz to 20 kHz; the exact ones are 1000·10^(n/10).
NOMINAL_CENTRES_HZ = (
    20, 25, 31.5, 40, 50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500, 630, 800, 1000, 1250, 1600, 2000, 2500,
    3150, 4000, 5000, 6300, 8000, 10000, 12500, 16000, 20000,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Spectrum:
    """Mean power in each FFT bin; the powers add up to the mean square of the signal."""

    freqs_hz: FloatArray  # shape (bins,)
    power: FloatArray  # shape (bins,), mean over channels

    def band_power(self, low_hz: float, high_hz: float) -> float:
        """Power between two frequencies, bins at the edges counted in part."""
        width = self.freqs_hz[1]
        edges = np.concatenate([self.freqs_hz - width / 2, [self.freqs_hz[-1] + width / 2]])
        total = np.concatenate([[0.0], np.cumsum(self.power)])
        at_low, at_high = np.interp([low_hz, high_hz], edges, total)
        return float(max(0.0, at_high - at_low))


def spectrum(audio: FloatArray | Single, sample_rate_hz: int, *, n_fft: int = N_FFT) -> Spectrum:
    """Welch's average with a Hann window, half overlapped, over (channels, frames).

    The frames run over both ends, so that every sample has the same weight.
    """
    audio = audio[:1] if are_alike(audio) else audio
    frames = audio.shape[1]
    n = n_fft
    while n > 256 and n > 4 * frames:
        n //= 2
    from scipy.fft import rfft  # four windows at a time in single precision, and loaded only here

    window = np.hanning(n + 1)[:-1].astype(np.float32)
    hop = n // 2
    power = np.zeros(n // 2 + 1)
    windows = len(range(0, frames + hop, hop))
    together = max(1, _BATCH_FRAMES // n)
    windowed = np.empty((together, n), dtype=np.float32)
    for channel in audio:
        for i in range(0, windows, together):
            give_up_if_unwanted()
            few = cut_windows(channel, (i - 1) * hop, hop, window, windowed[: windows - i])
            add_powers(rfft(few, axis=1), power)
    power[1:-1] *= 2.0
    # Half-overlapped Hann windows add up to 1, their squares on average to 3/4 per hop of n/2.
    scale = 1.0 / (n * 0.75 * max(frames, 1) * audio.shape[0])
    return Spectrum(np.asarray(np.fft.rfftfreq(n, 1.0 / sample_rate_hz), dtype=np.float64), power * scale)


@kernel
def add_powers(bins: np.ndarray, power: FloatArray) -> None:
    """Adds to power (bins,) the squared magnitudes of bins (frames, bins)."""
    for frame in range(bins.shape[0]):
        for k in range(bins.shape[1]):
            re, im = float(bins[frame, k].real), float(bins[frame, k].imag)
            power[k] += re * re + im * im


def third_octaves(spectrum: Spectrum) -> dict[str, float]:
    """Power in each third octave (IEC 61260-1: base ten, edges at 10^(±1/20)), by nominal centre."""
    bands = {}
    top = spectrum.freqs_hz[-1]
    for i, nominal in enumerate(NOMINAL_CENTRES_HZ):
        centre = 1000.0 * 10.0 ** ((i - 17) / 10.0)
        if centre * 10.0 ** (1 / 20) <= top:
            bands[f"{nominal:g}"] = spectrum.band_power(centre * 10.0 ** (-1 / 20), centre * 10.0 ** (1 / 20))
    return bands


def centroid_hz(spectrum: Spectrum) -> float:
    """Power-weighted mean frequency above 10 Hz; NaN in silence."""
    heard = spectrum.freqs_hz >= 10.0
    total = float(np.sum(spectrum.power[heard]))
    if total <= 1e-20:
        return math.nan
    return float(np.sum(spectrum.freqs_hz[heard] * spectrum.power[heard]) / total)


def peak_q(spectrum: Spectrum, centre_hz: float, *, down_db: float = 10.0) -> float:
    """Q of the peak at ``centre_hz``: centre over the width at which the power has fallen by ``down_db``."""
    share = 10.0 ** (-down_db / 10.0)
    fine = np.geomspace(centre_hz / 4.0, centre_hz * 4.0, 2000)
    power = np.interp(fine, spectrum.freqs_hz, spectrum.power)
    near = np.abs(np.log2(fine / centre_hz)) < 0.25
    top = float(np.max(power[near]))
    at = int(np.argmax(np.where(near, power, 0.0)))
    left = at
    while left > 0 and power[left] > share * top:
        left -= 1
    right = at
    while right < len(fine) - 1 and power[right] > share * top:
        right += 1
    return float(fine[at] / max(fine[right] - fine[left], 1e-9))


def log_spectrum_db(spectrum: Spectrum, freqs_hz: FloatArray, *, fraction: float = 12.0) -> FloatArray:
    """Level in bands of 1/``fraction`` octave around each frequency, in dB, for pictures; shape of ``freqs_hz``.

    Where bands are narrower than the bins, the bins are interpolated.
    """
    half = 2.0 ** (0.5 / fraction)
    width = spectrum.freqs_hz[1]
    edges = np.concatenate([spectrum.freqs_hz - width / 2, [spectrum.freqs_hz[-1] + width / 2]])
    total = np.concatenate([[0.0], np.cumsum(spectrum.power)])
    low, high = np.interp(freqs_hz / half, edges, total), np.interp(freqs_hz * half, edges, total)
    return np.asarray(10.0 * np.log10(np.maximum(high - low, 1e-14)))
