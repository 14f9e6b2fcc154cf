"""Waveshaping curves. Each is continuous, passes through 0, and stays within ±1 except ``rectify`` (0 to 1)."""

from __future__ import annotations

import math
from typing import Any

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
def _residue_soft(gain: float, bias: float, blend: float, u: FloatArray) -> None:
    rest = _soft(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (_soft(gain * u[i] + bias) - rest - u[i])


@kernel
def _residue_tube(gain: float, bias: float, blend: float, u: FloatArray) -> None:
    rest = _tube(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (_tube(gain * u[i] + bias) - rest - u[i])


@kernel
def _residue_tape(gain: float, bias: float, blend: float, u: FloatArray) -> None:
    rest = _tape(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (_tape(gain * u[i] + bias) - rest - u[i])


@kernel
def _residue_hard(gain: float, bias: float, blend: float, u: FloatArray) -> None:
    rest = _hard(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (_hard(gain * u[i] + bias) - rest - u[i])


@kernel
def _residue_fuzz(gain: float, bias: float, blend: float, u: FloatArray) -> None:
    rest = _fuzz(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (_fuzz(gain * u[i] + bias) - rest - u[i])


@kernel
def _residue_fold(gain: float, bias: float, blend: float, u: FloatArray) -> None:
    rest = _fold(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (_fold(gain * u[i] + bias) - rest - u[i])


@kernel
def _residue_rectify(gain: float, bias: float, blend: float, u: FloatArray) -> None:
    rest = _rectify(bias)
    for i in range(u.shape[0]):
        u[i] = blend * (_rectify(gain * u[i] + bias) - rest - u[i])


# A loop for each curve, so that each can be vectorised; a choice inside one loop could not, and one loop that is handed
# the curve as a function would be compiled anew at every start, since Numba keeps no such thing on disk.
_RESIDUES = {
    "soft": _residue_soft, "tube": _residue_tube, "tape": _residue_tape, "hard": _residue_hard, "fuzz": _residue_fuzz,
    "fold": _residue_fold, "rectify": _residue_rectify,
}  # fmt: skip


def residue(curve: str, gain: float, bias: float, blend: float, u: npt.NDArray[Any]) -> None:
    """In place: what the curve adds to the straight line. u any shape, contiguous, of either precision; blend 0 (nothing) to 1 (all)."""
    _RESIDUES[curve](gain, bias, blend, u.reshape(-1))


def shape(curve: str, x: npt.ArrayLike, *, drive_db: float, bias: float = 0.0) -> FloatArray:
    """The transfer curve itself, for pictures and tests; any shape of ``x``."""
    x = np.asarray(x, dtype=np.float64)
    u = np.ascontiguousarray(x.reshape(1, -1).copy())
    residue(curve, 10.0 ** (drive_db / 20.0), bias, drive_blend(drive_db), u)
    return np.asarray((u + x.reshape(1, -1)).reshape(x.shape))


def drive_blend(drive_db: float) -> float:
    """0 at no drive, so that 0 dB is a straight wire; all of the curve from 6 dB on; smooth between."""
    t = min(1.0, max(0.0, drive_db / 6.0))
    return t * t * (3.0 - 2.0 * t)
