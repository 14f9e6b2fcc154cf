"""Signals whose truth is known, made without any code of ours."""

from __future__ import annotations

import numpy as np

RATE = 48000


def sine(hz: float, seconds: float, *, level_db: float = 0.0, rate: int = RATE, phase: float = 0.0) -> np.ndarray:
    """Stereo sine, shape (2, frames), peak at ``level_db`` dBFS."""
    t = np.arange(round(seconds * rate)) / rate
    x = 10.0 ** (level_db / 20.0) * np.sin(2.0 * np.pi * hz * t + phase)
    return np.stack([x, x])


def noise(seconds: float, *, level: float = 0.1, seed: int = 1, rate: int = RATE) -> np.ndarray:
    return level * np.random.default_rng(seed).standard_normal((2, round(seconds * rate)))


def kick_track(hz: float, *, hits: int = 8, every_s: float = 0.5, level: float = 0.7, rate: int = RATE) -> np.ndarray:
    """Hits from 0.25 s on: two octaves of drop within 40 ms, then exactly ``hz``, decaying."""
    out = np.zeros(round((hits * every_s + 0.5) * rate))
    t = np.arange(round(0.4 * rate)) / rate
    freq = hz * 2.0 ** (2.0 * np.exp(-t / 0.008))
    hit = level * np.sin(2.0 * np.pi * np.concatenate([[0.0], np.cumsum(freq)[:-1]]) / rate) * np.exp(-t / 0.11)
    for i in range(hits):
        at = round((0.25 + i * every_s) * rate)
        out[at : at + len(hit)] += hit
    return np.stack([out, out])


def bass_track(
    hz: float, *, gap_ms: float, hits: int = 8, every_s: float = 0.5, level: float = 0.35, attack_ms: float = 5.0,
    rate: int = RATE,
) -> np.ndarray:  # fmt: skip
    """Notes that begin ``gap_ms`` after the hits of ``kick_track``, ten harmonics, flat until they end."""
    out = np.zeros(round((hits * every_s + 0.5) * rate))
    t = np.arange(round(0.42 * rate)) / rate
    note = sum(np.sin(2.0 * np.pi * hz * n * t + 0.7 * n) / n for n in range(1, 11))
    note *= level * np.minimum(1.0, t / (attack_ms * 1e-3)) * np.minimum(1.0, (t[-1] - t) / 0.02)
    for i in range(hits):
        at = round((0.25 + i * every_s + gap_ms * 1e-3) * rate)
        out[at : at + len(note)] += note
    return np.stack([out, out])


def clear_db(kick: np.ndarray, bass: np.ndarray, hz: float, onsets_s: list[float], rate: int = RATE) -> float:
    """kick_clear_db written again from its definition in DESIGN, with SciPy and nothing of ours."""
    from scipy.signal import butter, sosfiltfilt

    sos = butter(4, [hz / np.sqrt(2.0), 2.0 * hz], btype="bandpass", fs=rate, output="sos")
    k, b = sosfiltfilt(sos, kick, axis=1), sosfiltfilt(sos, bass, axis=1)
    ratios = []
    for at in (round(s * rate) for s in onsets_s):
        span = slice(at, at + round(0.1 * rate))
        ratios.append(10.0 * np.log10(np.sum(k[:, span] ** 2) / np.sum(b[:, span] ** 2)))
    return float(np.median(ratios))


def hit_times(hits: int = 8, every_s: float = 0.5) -> list[float]:
    return [0.25 + i * every_s for i in range(hits)]
