"""Small arrangements with one known fault each, and the same without it. Made without any code of ours."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.signal import butter, lfilter, sosfilt

from tests.signals import RATE

SECONDS = 4.0  # two bars at 120 BPM
N = round(SECONDS * RATE)
T = np.arange(N) / RATE
Mono = np.ndarray


@dataclass
class Case:
    """``tracks``: name → (role, seat, audio (n,) or (2, n)); ``chains``: name → devices; ``sends``: name → (bus, dB)."""

    tracks: dict[str, tuple[str, int, np.ndarray]]
    chains: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    sends: dict[str, tuple[str, float]] = field(default_factory=dict)
    buses: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    pans: dict[str, float] = field(default_factory=dict)
    key: str = ""
    level_db: float = -6.0


def gain(db: float) -> float:
    return 10.0 ** (db / 20.0)


def at_db(x: np.ndarray, rms_db: float) -> np.ndarray:
    return x * gain(rms_db) / np.sqrt(np.mean(x**2))


def band(x: np.ndarray, low: float, high: float, order: int = 4) -> np.ndarray:
    return sosfilt(butter(order, [low, min(high, 0.49 * RATE)], "bandpass", fs=RATE, output="sos"), x, axis=-1)


def noise(seed: int, n: int = N) -> Mono:
    return np.random.default_rng(seed).standard_normal(n)


def pink(seed: int) -> Mono:
    spectrum = np.fft.rfft(noise(seed))
    hz = np.fft.rfftfreq(N, 1.0 / RATE)
    return np.fft.irfft(spectrum / np.sqrt(np.maximum(hz, 20.0)), N)


@functools.lru_cache(maxsize=1024)  # many cases play the same notes
def partials(hz: float, n: int, *, count: int = 40, slope: float = 1.0, first: int = 1) -> Mono:
    t = np.arange(n) / RATE
    made = sum(np.sin(2 * np.pi * hz * k * t + 1.7 * k) / k**slope for k in range(first, count + 1) if hz * k < 16000.0)
    made = np.asarray(made + np.zeros(n))
    made.flags.writeable = False
    return made


def shaped(x: Mono, attack_s: float = 0.01, release_s: float = 0.06) -> Mono:
    t = np.arange(len(x)) / RATE
    return x * np.minimum(1.0, t / attack_s) * np.minimum(1.0, (len(x) - np.arange(len(x))) / RATE / release_s)


def tune(root_hz: float, steps: tuple[int, ...], *, beat_s: float = 0.5, level_db: float = -24.0, **sound: Any) -> Mono:
    """Notes of a beat each, over and over."""
    n = round(beat_s * RATE)
    out = np.zeros(N)
    for i in range(int(N // n)):
        out[i * n : (i + 1) * n] += shaped(partials(root_hz * 2 ** (steps[i % len(steps)] / 12), n, **sound))
    return at_db(out, level_db)


MELODY = (0, 3, 7, 5, 8, 7, 3, 2, -2, 0, 10, 8, 7, 5, 2, 3)


def lead(level_db: float = -22.0, root_hz: float = 440.0, **sound: Any) -> Mono:
    return tune(root_hz, MELODY, level_db=level_db, **({"count": 20, "slope": 0.7} | sound))


CHORDS = ((0, 3, 7), (-4, 0, 3), (-2, 2, 5), (0, 3, 10))


def chords(root_hz: float, level_db: float = -28.0, **sound: Any) -> Mono:
    n = N // 4
    out = np.zeros(N)
    for i, chord in enumerate(CHORDS):
        for k, s in enumerate(chord):
            out[i * n : (i + 1) * n] += shaped(partials(root_hz * 2 ** ((s + 0.02 * k) / 12), n, **sound), 0.05, 0.1)
    return at_db(out, level_db)


def hits(make: Callable[[int], Mono], every_s: float, *, start_s: float = 0.0, level_db: float = -24.0, gains: tuple[float, ...] = (0.0,)) -> Mono:  # fmt: skip
    out = np.zeros(N + RATE)
    for i, at in enumerate(np.arange(start_s, SECONDS - 0.01, every_s)):
        hit = make(i)
        first = round(at * RATE)
        out[first : first + len(hit)] += gain(gains[i % len(gains)]) * hit
    return at_db(out[:N], level_db)


@functools.lru_cache(maxsize=256)
def _burst(low: float, high: float, decay_s: float, seed: int) -> Mono:
    t = np.arange(round(7 * decay_s * RATE)) / RATE
    made = band(noise(seed, len(t)), low, high) * np.exp(-t / decay_s)
    made.flags.writeable = False
    return made


def burst(low: float, high: float, decay_s: float, seed: int = 0) -> Callable[[int], Mono]:
    return lambda i: _burst(low, high, decay_s, seed + i)


def kick(hz: float = 50.0, level_db: float = -22.0, every_s: float = 0.5, **more: Any) -> Mono:
    t = np.arange(round(0.4 * RATE)) / RATE
    freq = hz * 2.0 ** (2.0 * np.exp(-t / 0.008))
    hit = np.sin(2 * np.pi * np.concatenate([[0.0], np.cumsum(freq)[:-1]]) / RATE) * np.exp(-t / 0.11)
    click = band(noise(5, len(t)), 2000, 8000) * np.exp(-t / 0.004) * 0.25
    return hits(lambda i: hit + click, every_s, level_db=level_db, **more)


def snare(level_db: float = -27.0, **more: Any) -> Mono:
    return hits(burst(180, 7000, 0.06, 11), 1.0, start_s=0.5, level_db=level_db, **more)


def hat(
    level_db: float = -36.0, low: float = 5500.0, high: float = 11000.0, every_s: float = 0.25, **more: Any
) -> Mono:
    return hits(burst(low, high, 0.03, 31), every_s, level_db=level_db, **more)


def bass(root_hz: float = 82.4, level_db: float = -22.0, **sound: Any) -> Mono:
    """Off the beats, where a kick leaves room."""
    n = N // 8
    out = np.zeros(N)
    for i in range(8):
        part = shaped(partials(root_hz * 2 ** ((0, 0, 3, -2)[i % 4] / 12), n, **({"count": 12, "slope": 0.8} | sound)))
        part[: n // 2] *= np.linspace(0.0, 1.0, n // 2) ** 4
        out[i * n : (i + 1) * n] += part
    return at_db(out, level_db)


def cut_below(x: np.ndarray, hz: float) -> np.ndarray:
    return sosfilt(butter(4, hz, "highpass", fs=RATE, output="sos"), x, axis=-1)


def cut_above(x: np.ndarray, hz: float) -> np.ndarray:
    return sosfilt(butter(2, hz, "lowpass", fs=RATE, output="sos"), x, axis=-1)


def bell(x: np.ndarray, hz: float, db: float, q: float) -> np.ndarray:
    """R. Bristow-Johnson, Audio EQ Cookbook, "peakingEQ"."""
    a, w = 10.0 ** (db / 40.0), 2 * np.pi * hz / RATE
    alpha = np.sin(w) / (2 * q)
    b = np.array([1 + alpha * a, -2 * np.cos(w), 1 - alpha * a])
    d = np.array([1 + alpha / a, -2 * np.cos(w), 1 - alpha / a])
    return lfilter(b / d[0], d / d[0], x, axis=-1)


def voice(level_db: float = -22.0, root_hz: float = 220.0) -> Mono:
    """Sung notes with a little breath, and consonants that are no sharper than usual."""
    sung = tune(root_hz, MELODY, count=30, slope=0.9, level_db=-20.0)
    breath = hits(burst(4000, 9000, 0.03, 71), 0.5, level_db=-46.0)
    return at_db(sung + breath, level_db)


def spread(x: Mono, other: Mono) -> np.ndarray:
    """Two alike sides that do not know each other."""
    return np.stack([x, other])
