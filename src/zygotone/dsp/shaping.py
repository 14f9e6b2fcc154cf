"""Waveshaping curves. Each is continuous, passes through 0, and stays within ±1 except ``rectify`` (0 to 1)."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray

CURVES = ("soft", "tube", "tape", "hard", "fuzz", "fold", "rectify")


@kernel
def _curve(code, v):
    if code == 0:  # soft: the hyperbolic tangent
        return math.tanh(v)
    if code == 1:  # tube: one half-wave is rounder and lower than the other, which gives even harmonics
        return math.tanh(v) if v > 0.0 else 0.7 * math.tanh(v / 0.7)
    if code == 2:  # tape: leaves the straight line later than soft does, then closes
        return v / (1.0 + v * v * v * v) ** 0.25
    if code == 3:  # hard: the clipper
        return min(1.0, max(-1.0, v))
    if code == 4:  # fuzz: three times the drive into an uneven clipper
        return min(1.0, max(-0.6, 3.0 * v))
    if code == 5:  # fold: a triangle, so that what exceeds 1 comes back
        t = (v + 1.0) * 0.25
        t -= math.floor(t)
        return 4.0 * t - 1.0 if t < 0.5 else 3.0 - 4.0 * t
    return min(1.0, abs(v))  # rectify: the octave above


@kernel
def residue(code, gain, bias, blend, u):
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
