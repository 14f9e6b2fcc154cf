"""Waveshaping curves. Each is continuous, passes through 0, and stays within ±1 except ``rectify`` (0 to 1)."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray

CURVES = ("soft", "tube", "tape", "hard", "fuzz", "fold", "rectify")


@kernel
def _soft(v: float) -> float:
    return v / math.sqrt(1.0 + v * v)


@kernel
def _tube(v: float) -> float:
    """One half-wave is lower than the other, which gives even harmonics."""
    return v / math.sqrt(1.0 + v * v) if v > 0.0 else v / math.sqrt(1.0 + v * v / 0.49)


@kernel
def _tape(v: float) -> float:
    """Leaves the straight line later than soft does, then closes."""
    w = v * v
    return v / math.sqrt(math.sqrt(1.0 + w * w))


@kernel
def _hard(v: float) -> float:
    return min(1.0, max(-1.0, v))


@kernel
def _fuzz(v: float) -> float:
    """Three times the drive into an uneven clipper."""
    return min(1.0, max(-0.6, 3.0 * v))


@kernel
def _fold(v: float) -> float:
    """A triangle, so that what exceeds 1 comes back."""
    t = (v + 1.0) * 0.25
    t -= math.floor(t)
    return 1.0 - 4.0 * abs(t - 0.5) if t >= 0.0 else 0.0


@kernel
def _rectify(v: float) -> float:
    """The octave above."""
    return min(1.0, abs(v))


@kernel
def _curve(code: int, v: float) -> float:
    if code == 0:
        return _soft(v)
    if code == 1:
        return _tube(v)
    if code == 2:
        return _tape(v)
    if code == 3:
        return _hard(v)
    if code == 4:
        return _fuzz(v)
    if code == 5:
        return _fold(v)
    return _rectify(v)


@kernel
def residue(code: int, gain: float, bias: float, blend: float, u: FloatArray) -> None:
    """In place: what the curve adds to the straight line. u (phases, n); blend 0 (nothing) to 1 (all)."""
    rest = _curve(code, bias)
    for p in range(u.shape[0]):
        for i in range(u.shape[1]):
            v = u[p, i]
            u[p, i] = blend * (_curve(code, gain * v + bias) - rest - v)


def shape(curve: str, x: npt.ArrayLike, *, drive_db: float, bias: float = 0.0) -> FloatArray:
    """The transfer curve itself, for pictures and tests; any shape of ``x``."""
    x = np.asarray(x, dtype=np.float64)
    u = np.ascontiguousarray(x.reshape(1, -1).copy())
    residue(CURVES.index(curve), 10.0 ** (drive_db / 20.0), bias, drive_blend(drive_db), u)
    return np.asarray((u + x.reshape(1, -1)).reshape(x.shape))


def drive_blend(drive_db: float) -> float:
    """0 at no drive, so that 0 dB is a straight wire; all of the curve from 6 dB on; smooth between."""
    t = min(1.0, max(0.0, drive_db / 6.0))
    return t * t * (3.0 - 2.0 * t)
