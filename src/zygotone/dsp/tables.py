"""Wavetables as spectra: the built-in ones, made here by formulas of our own, and imported ones.

Conventions
-----------
A table is complex, shape (cycles, harmonics): of each single cycle its partials from the first, as ``irfft`` wants them up
to scale. A cycle at one place of the table and its neighbour blend into each other.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable

import numpy as np

from zygotone.dsp.types import FloatArray
from zygotone.dsp.wavetables import Spectra, cubics

HARMONICS = 512
CYCLES = 17

_N = np.arange(1, HARMONICS + 1).astype(np.float64)


def _bump(centre: float, width: float) -> FloatArray:
    """A resonance over the partials, on a ratio scale; width in octaves."""
    return np.asarray(np.exp(-0.5 * (np.log2(_N / centre) / width) ** 2))


def _mouth(formants: tuple[tuple[float, float], ...], f0: float = 110.0) -> FloatArray:
    """A saw through resonances in Hz, as if sung at ``f0``; each with its level."""
    hz = _N * f0
    out = np.zeros(HARMONICS)
    for centre, gain in formants:
        out += gain / (1.0 + ((hz - centre) / (45.0 + 0.06 * centre)) ** 2)
    return np.asarray(out / _N**0.35)


_AH = ((730.0, 1.0), (1090.0, 0.55), (2440.0, 0.12))
_EE = ((270.0, 1.0), (2290.0, 0.3), (3010.0, 0.2))
_OO = ((300.0, 1.0), (870.0, 0.25), (2240.0, 0.03))
_OH = ((570.0, 1.0), (840.0, 0.6), (2410.0, 0.06))
_EH = ((530.0, 1.0), (1840.0, 0.4), (2480.0, 0.2))
_NG = ((250.0, 1.0), (1050.0, 0.1), (2200.0, 0.12))


def _from_wave(wave: Callable[[FloatArray, float], FloatArray], t: float) -> Spectra:
    """Partials of a wave given as a function of the phase (0 to 1) and the place t."""
    phase = np.arange(4096) / 4096
    return np.asarray(np.fft.rfft(wave(phase, t))[1 : HARMONICS + 1] / 2048.0)


def _real(magnitude: FloatArray) -> Spectra:
    """Sines of these magnitudes, all begun at zero."""
    return np.asarray(-1j * magnitude)


def _spread_phases(magnitude: FloatArray) -> Spectra:
    """Phases after M. R. Schroeder 1970: a low peak for any magnitudes."""
    power = magnitude**2 / max(float(np.sum(magnitude**2)), 1e-12)
    phase = -2.0 * np.pi * np.cumsum(np.cumsum(power))
    return np.asarray(magnitude * np.exp(1j * phase))


def _wave_folded(phase: FloatArray, t: float) -> FloatArray:
    return np.asarray(np.sin(2.0 * np.pi * (0.25 + 2.2 * t) * np.sin(2.0 * np.pi * phase)))


def _wave_hard(phase: FloatArray, t: float) -> FloatArray:
    """A sine that is begun anew each cycle, faster and faster, under a falling window."""
    return np.asarray(np.sin(2.0 * np.pi * phase * (1.0 + 7.0 * t)) * (1.0 - phase))


def _wave_bent(phase: FloatArray, t: float) -> FloatArray:
    """A sine whose first half cycle is squeezed."""
    middle = 0.5 - 0.46 * t
    bent = np.where(phase < middle, 0.5 * phase / middle, 0.5 + 0.5 * (phase - middle) / (1.0 - middle))
    return np.asarray(np.sin(2.0 * np.pi * bent))


def _wave_stairs(phase: FloatArray, t: float) -> FloatArray:
    steps = 2 + round(14 * (1.0 - t))
    return np.asarray(np.floor(np.sin(2.0 * np.pi * phase) * steps + 0.5) / steps)


def _wave_bells(phase: FloatArray, t: float) -> FloatArray:
    return np.asarray(np.sin(2.0 * np.pi * phase + 3.5 * t * np.sin(2.0 * np.pi * 7.0 * phase)))


def _wave_growl(phase: FloatArray, t: float) -> FloatArray:
    inner = np.sin(2.0 * np.pi * phase + 1.2 * np.sin(2.0 * np.pi * 2.0 * phase))
    return np.asarray(np.tanh((1.0 + 7.0 * t) * inner + 0.4 * t))


def _vowels(a: FloatArray, b: FloatArray, t: float) -> Spectra:
    return _spread_phases((1.0 - t) * a + t * b)


_saw = 1.0 / _N
_square = np.where(_N % 2 == 1, 1.0 / _N, 0.0)
_triangle = np.where(_N % 2 == 1, 1.0 / _N**2, 0.0)
_sine = (_N == 1).astype(np.float64)
_rng = np.random.default_rng(8111)
_lots = _rng.random((2, HARMONICS))


def _drawbars(t: float) -> FloatArray:
    out = np.zeros(HARMONICS)
    for n, (early, late) in {
        1: (1.0, 0.7),
        2: (0.5, 0.8),
        3: (0.1, 0.8),
        4: (0.1, 0.6),
        6: (0.0, 0.5),
        8: (0.0, 0.6),
        10: (0.0, 0.3),
        12: (0.0, 0.3),
        16: (0.0, 0.35),
    }.items():
        out[n - 1] = (1.0 - t) * early + t * late
    return out


# Name, what it is, and its partials at a place 0 to 1. Ours: formulas tried by ear and kept where they were of use.
_BUILT_IN: dict[str, tuple[str, Callable[[float], Spectra]]] = {
    "plain": ("Sine to triangle to square to saw.", lambda t: _real(np.asarray(
        _sine + (_triangle - _sine) * min(1.0, 3 * t) + (_square - _triangle) * min(1.0, max(0.0, 3 * t - 1)) + (_saw - _square) * max(0.0, 3 * t - 2)))),
    "opening": ("A saw whose partials appear one after the other.", lambda t: _real(_saw / (1.0 + (_N / (1.0 + 60.0 * t**2)) ** 4))),
    "pulse": ("A pulse from square to a needle.", lambda t: np.asarray(-1j * (1.0 - np.exp(-2j * np.pi * _N * (0.5 - 0.47 * t))) / _N)),
    "hollow": ("Odd partials only, brighter and brighter.", lambda t: _real(np.where(_N % 2 == 1, _N ** (-2.2 + 1.4 * t), 0.0))),
    "octaves": ("A fundamental and its octaves.", lambda t: _real(np.where(np.isin(_N, (1, 2, 4, 8, 16, 32, 64)), _N ** (-1.6 + 1.2 * t), 0.0))),
    "drawbars": ("Nine pipes, from flute to full.", lambda t: _real(_drawbars(t))),
    "ah to ee": ("A vowel that closes.", lambda t: _vowels(_mouth(_AH), _mouth(_EE), t)),
    "oo to ah": ("A vowel that opens.", lambda t: _vowels(_mouth(_OO), _mouth(_AH), t)),
    "oh to eh": ("From round to narrow.", lambda t: _vowels(_mouth(_OH), _mouth(_EH), t)),
    "humming": ("A closed mouth, opening to ah.", lambda t: _vowels(_mouth(_NG), _mouth(_AH), t**2)),
    "nasal": ("A narrow resonance that rises: bright, through the nose.", lambda t: _spread_phases(0.35 * _saw + _bump(6.0 * 2.0 ** (2.2 * t), 0.22) * 0.9)),
    "two noses": ("Two narrow resonances that part.", lambda t: _spread_phases(0.3 * _saw + 0.6 * _bump(7.0 * 2.0 ** (1.5 * t), 0.16) + 0.6 * _bump(9.0 * 2.0 ** (-1.5 * t), 0.16))),
    "reed": ("Odd partials under a resonance, like a double reed.", lambda t: _spread_phases(_square * 0.4 + 0.5 * _bump(4.0 + 6.0 * t, 0.4))),
    "brass": ("A bell of partials that grows upward, as blown harder.", lambda t: _real(np.exp(-_N / (1.5 + 22.0 * t**1.5)))),
    "comb": ("A saw with a notch that moves.", lambda t: np.asarray(-1j * _saw * (1.0 - 0.95 * np.exp(-2j * np.pi * _N * (0.02 + 0.2 * t))))),
    "folded": ("A sine folded over and over.", lambda t: _from_wave(_wave_folded, t)),
    "begun anew": ("A sine that is begun anew each cycle, faster and faster.", lambda t: _from_wave(_wave_hard, t)),
    "squeezed": ("A sine whose one half is squeezed.", lambda t: _from_wave(_wave_bent, t)),
    "stairs": ("A sine in fewer and fewer steps.", lambda t: _from_wave(_wave_stairs, t)),
    "glassy": ("A sine bent by one seven times as high.", lambda t: _from_wave(_wave_bells, t)),
    "growl": ("A bent wave driven harder and harder.", lambda t: _from_wave(_wave_growl, t)),
    "bright": ("Many partials, nearly level, up to a moving end.", lambda t: _spread_phases(_N**-0.25 / (1.0 + (_N / (8.0 + 90.0 * t)) ** 6))),
    "glass harp": ("Single high partials over a plain tone.", lambda t: _real(_sine + np.where(np.isin(_N, (5, 9, 13, 19, 27)), 0.15 + 0.35 * t, 0.0) / np.sqrt(_N))),
    "choir": ("Drawn by lot, under the formants of ah.", lambda t: _spread_phases(_mouth(_AH) * (0.4 + 0.6 * ((1.0 - t) * _lots[0] + t * _lots[1])))),
    "wires": ("Groups of partials that come and go.", lambda t: _spread_phases(_N**-0.7 * (0.5 + 0.5 * np.cos(2.0 * np.pi * (np.log2(_N) * 1.5 - 2.0 * t))))),
    "thirds": ("Every third partial against the rest.", lambda t: _real(np.where(_N % 3 == 1, 1.0 - 0.7 * t, 0.15 + 0.85 * t) / _N)),
}  # fmt: skip
TABLES = tuple(_BUILT_IN)
TABLE_SENTENCES = {name: sentence for name, (sentence, _) in _BUILT_IN.items()}


def _levelled(spectra: Spectra) -> Spectra:
    """Each cycle at the power of a saw whose peak is 1."""
    power = np.sqrt(0.5 * np.sum(np.abs(spectra) ** 2, axis=1, keepdims=True))
    return np.asarray(spectra / np.maximum(power, 1e-9) * math.sqrt(1.0 / 3.0))


@functools.lru_cache(maxsize=64)
def built_in(name: str) -> Spectra:
    """A built-in table, shape (CYCLES, HARMONICS)."""
    make = _BUILT_IN[name][1]
    return _levelled(np.array([make(t) for t in np.linspace(0.0, 1.0, CYCLES)]))


def from_audio(x: FloatArray, cycle_frames: int) -> Spectra:
    """A table of imported cycles, x (n,): one where x is shorter than two, at most 256. The mean of each is left out."""
    count = min(256, max(1, len(x) // cycle_frames))
    size = cycle_frames if count > 1 else min(len(x), cycle_frames)
    cycles = x[: count * size].reshape(count, size)
    partials = min(HARMONICS, size // 2)
    spectra = np.zeros((count, HARMONICS), dtype=np.complex128)
    spectra[:, :partials] = np.fft.rfft(cycles, axis=1)[:, 1 : partials + 1] / (size / 2)
    return _levelled(spectra)


def waves(spectra: Spectra, harmonics: int) -> FloatArray:
    """The table's cycles of their first ``harmonics`` partials, as cubics (cycles, size, 4)."""
    return cubics(spectra[:, : max(1, harmonics)])


@functools.lru_cache(maxsize=64)
def built_in_waves(name: str, harmonics: int) -> FloatArray:
    """``waves`` of a built-in table, worked out once; not to be written to."""
    table = waves(built_in(name), harmonics)
    table.setflags(write=False)
    return table
