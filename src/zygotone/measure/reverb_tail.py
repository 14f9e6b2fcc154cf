"""Whether a reverberant tail is dense, and whether it rings."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.types import FloatArray

_GAUSSIAN = 0.3173  # share of Gaussian noise beyond one standard deviation


def echo_density(
    response: FloatArray, sample_rate_hz: int, *, window_s: float = 0.02, step_s: float = 0.001
) -> tuple[FloatArray, FloatArray]:
    """Echo density of an impulse response (n,) over time: middles of the windows in s, every ``step_s``, and densities.

    J. S. Abel and P. Huang, "A simple, robust measure of reverberation echo density", AES 2006, eq. 3: within a window that
    slides, weighted by a Hann window, the share of samples beyond the (weighted) standard deviation, over that of Gaussian
    noise. Single echoes give near 0; 1 is where they have merged.
    """
    half = round(0.5 * window_s * sample_rate_hz)
    weights = np.hanning(2 * half + 3)[1:-1]
    weights /= weights.sum()
    middles = np.arange(half, len(response) - half, max(1, round(step_s * sample_rate_hz)))
    windows = np.lib.stride_tricks.sliding_window_view(response, 2 * half + 1)[middles - half]
    spread = np.sqrt(np.square(windows) @ weights)[:, None]
    density = (np.abs(windows) > spread) @ weights / _GAUSSIAN
    return np.asarray(middles / sample_rate_hz, dtype=np.float64), np.asarray(density)


def tail_spectrum(
    response: FloatArray, sample_rate_hz: int, *, decay_s: float, start_s: float = 0.3, end_s: float = 1.1
) -> tuple[FloatArray, FloatArray]:
    """Spectrum of a stretch of the tail with its decay taken out: frequencies in Hz, and dB over the mean of the
    surroundings (200 bins). A mode that rings stands out; of Gaussian noise the strongest bin does by some 10 dB."""
    first, last = round(start_s * sample_rate_hz), min(len(response), round(end_s * sample_rate_hz))
    t = np.arange(last - first) / sample_rate_hz
    tail = response[first:last] * 10.0 ** (3.0 * t / decay_s)
    power = np.abs(np.fft.rfft(tail * np.hanning(len(tail)))) ** 2
    around = np.convolve(power, np.ones(201) / 201.0, mode="same")
    freqs = np.fft.rfftfreq(len(tail), 1.0 / sample_rate_hz)
    return np.asarray(freqs, dtype=np.float64), np.asarray(
        10.0 * np.log10(np.maximum(power, 1e-30) / np.maximum(around, 1e-30))
    )
