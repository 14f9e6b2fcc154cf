"""Waveshaping curves. Each is continuous, passes through 0, and stays within ±1 except ``rectify`` (0 to 1)."""

from __future__ import annotations

import functools
import math
from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.filters import filtered
from zygotone.dsp.oversampling import bent
from zygotone.dsp.types import FloatArray
from zygotone.dsp.weighting import k_weighting_sos

# Where level match is exact: about the level that tracks have before they are mixed (common practice).
MATCH_DB = -18.0
_MATCH_FRAMES, _MATCH_RATE_HZ, _SETTLED = 16384, 48000, 2048

CURVES = ("soft", "tube", "tape", "hard", "fuzz", "fold", "rectify")


# Numbers are made of the kind of v: one of double precision among them would make all of double precision, at a third of the speed.


@kernel
def _soft(v: float) -> float:
    number = type(v)
    return v / math.sqrt(number(1.0) + v * v)


@kernel
def _tube(v: float) -> float:
    """One half-wave is lower than the other, which gives even harmonics."""
    number = type(v)
    return v / math.sqrt(number(1.0) + v * v * (number(1.0) if v > number(0.0) else number(1.0 / 0.49)))


@kernel
def _tape(v: float) -> float:
    """Leaves the straight line later than soft does, then closes."""
    w = v * v
    return v / math.sqrt(math.sqrt(type(v)(1.0) + w * w))


@kernel
def _hard(v: float) -> float:
    number = type(v)
    return min(number(1.0), max(number(-1.0), v))


@kernel
def _fuzz(v: float) -> float:
    """Three times the drive into an uneven clipper."""
    number = type(v)
    return min(number(1.0), max(number(-0.6), number(3.0) * v))


@kernel
def _fold(v: float) -> float:
    """A triangle, so that what exceeds 1 comes back."""
    number = type(v)
    t = (v + number(1.0)) * number(0.25)
    t -= math.floor(t)
    return number(1.0) - number(4.0) * abs(t - number(0.5)) if t >= number(0.0) else number(0.0)


@kernel
def _rectify(v: float) -> float:
    """The octave above."""
    return min(type(v)(1.0), abs(v))


@kernel
def _residue_soft(gain: float, bias: float, blend: float, trim: float, u: FloatArray) -> None:
    rest = _soft(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (trim * (_soft(gain * u[i] + bias) - rest) - u[i])


@kernel
def _residue_tube(gain: float, bias: float, blend: float, trim: float, u: FloatArray) -> None:
    rest = _tube(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (trim * (_tube(gain * u[i] + bias) - rest) - u[i])


@kernel
def _residue_tape(gain: float, bias: float, blend: float, trim: float, u: FloatArray) -> None:
    rest = _tape(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (trim * (_tape(gain * u[i] + bias) - rest) - u[i])


@kernel
def _residue_hard(gain: float, bias: float, blend: float, trim: float, u: FloatArray) -> None:
    rest = _hard(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (trim * (_hard(gain * u[i] + bias) - rest) - u[i])


@kernel
def _residue_fuzz(gain: float, bias: float, blend: float, trim: float, u: FloatArray) -> None:
    rest = _fuzz(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (trim * (_fuzz(gain * u[i] + bias) - rest) - u[i])


@kernel
def _residue_fold(gain: float, bias: float, blend: float, trim: float, u: FloatArray) -> None:
    rest = _fold(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (trim * (_fold(gain * u[i] + bias) - rest) - u[i])


@kernel
def _residue_rectify(gain: float, bias: float, blend: float, trim: float, u: FloatArray) -> None:
    rest = _rectify(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (trim * (_rectify(gain * u[i] + bias) - rest) - u[i])


# A loop for each curve, so that each can be vectorised; a choice inside one loop could not, and one loop that is handed
# the curve as a function would be compiled anew at every start, since Numba keeps no such thing on disk.
_RESIDUES = {
    "soft": _residue_soft, "tube": _residue_tube, "tape": _residue_tape, "hard": _residue_hard, "fuzz": _residue_fuzz,
    "fold": _residue_fold, "rectify": _residue_rectify,
}  # fmt: skip


def residue(curve: str, gain: float, bias: float, blend: float, trim: float, u: npt.NDArray[Any]) -> None:
    """In place: what the curve, ``trim`` times as loud, adds to the straight line. u any shape, contiguous, of either
    precision; blend 0 (nothing) to 1 (all)."""
    number = u.dtype.type
    _RESIDUES[curve](number(gain), number(bias), number(blend), number(trim), u.reshape(-1))


def shape(curve: str, x: npt.ArrayLike, *, drive_db: float, bias: float = 0.0, trim: float = 1.0) -> FloatArray:
    """The transfer curve itself, for pictures and tests; any shape of ``x``."""
    x = np.asarray(x, dtype=np.float64)
    u = np.ascontiguousarray(x.reshape(1, -1).copy())
    residue(curve, 10.0 ** (drive_db / 20.0), bias, drive_blend(drive_db), trim, u)
    return np.asarray((u + x.reshape(1, -1)).reshape(x.shape))


@functools.lru_cache(maxsize=1)
def _match_noise() -> FloatArray:
    """Pink noise of ``MATCH_DB`` RMS, from 30 Hz to 16 kHz."""
    spectrum = np.fft.rfft(np.random.default_rng(41).standard_normal(_MATCH_FRAMES))
    hz = np.fft.rfftfreq(_MATCH_FRAMES, 1.0 / _MATCH_RATE_HZ)
    noise = np.fft.irfft(np.where((hz > 30.0) & (hz < 16000.0), spectrum / np.sqrt(np.maximum(hz, 1.0)), 0.0))
    return np.asarray(noise * 10.0 ** (MATCH_DB / 20.0) / np.std(noise))


@functools.lru_cache(maxsize=4096)
def _matching_db(curve: str, drive_db: int, tenths: int) -> float:
    """``matching_trim`` at a whole number of dB of drive and of tenths of bias, in dB."""
    if drive_db == 0:
        return 0.0

    def added(u: npt.NDArray[Any]) -> npt.NDArray[Any]:
        residue(curve, 10.0 ** (drive_db / 20.0), tenths / 10.0, 1.0, 1.0, u)
        return u

    noise = _match_noise()
    x, c = filtered(k_weighting_sos(_MATCH_RATE_HZ), np.stack([noise, noise + bent(noise, added)]))
    x, c = x[_SETTLED:], c[_SETTLED:]
    # Loud as x is what the device makes, (1 − b)·x + b·t·c with the blend b, for the greater root t of a quadratic.
    blend = drive_blend(drive_db)
    a2, a1, a0 = blend**2 * (c @ c), blend * (1.0 - blend) * (x @ c), ((1.0 - blend) ** 2 - 1.0) * (x @ x)
    return float(np.clip(20.0 * np.log10((math.sqrt(a1 * a1 - a2 * a0) - a1) / a2), -40.0, 20.0))


def matching_trim(curve: str, drive_db: float, bias: float) -> float:
    """The gain after the curve with which pink noise of ``MATCH_DB`` RMS is as loud (BS.1770) as before it."""
    drive, side = min(47, int(drive_db)), math.floor(10.0 * bias)
    along, across = drive_db - drive, 10.0 * bias - side
    corners = [[_matching_db(curve, drive + i, side + j) for j in (0, 1)] for i in (0, 1)]
    early, late = ((1.0 - across) * row[0] + across * row[1] for row in corners)
    return float(10.0 ** ((early + along * (late - early)) / 20.0))


def drive_blend(drive_db: float) -> float:
    """0 at no drive, so that 0 dB is a straight wire; all of the curve from 6 dB on; smooth between."""
    t = min(1.0, max(0.0, drive_db / 6.0))
    return t * t * (3.0 - 2.0 * t)
