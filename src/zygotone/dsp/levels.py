"""Decibels, gains, time constants."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from zygotone.dsp.types import FloatArray


def db_to_gain(level_db: float) -> float:
    """Linear amplitude of a level in dB; minus infinity dB gives exactly 0."""
    return float(10.0 ** (level_db / 20.0))


def gain_to_db(gain: npt.ArrayLike, *, floor_db: float = -144.0) -> FloatArray:
    """Level in dB of a linear amplitude, any sign, never below ``floor_db``."""
    return 20.0 * np.log10(np.maximum(np.abs(gain), db_to_gain(floor_db)))


def smoothing(time_s: float, *, sample_rate_hz: float) -> float:
    """One-pole coefficient that covers 1 − 1/e of a step in ``time_s``; 0 s means no smoothing."""
    return math.exp(-1.0 / (time_s * sample_rate_hz)) if time_s > 0.0 else 0.0


def seconds_to_frames(seconds: float, *, sample_rate_hz: float) -> int:
    return round(seconds * sample_rate_hz)


def side_gains(level_db: FloatArray, pan_pct: FloatArray) -> FloatArray:
    """Gains of left and right, (2, n), at constant power; the middle is 1 on both."""
    angle = (pan_pct / 100.0 + 1.0) * (np.pi / 4.0)
    sides = np.sqrt(2.0) * np.maximum(np.stack([np.cos(angle), np.sin(angle)]), 0.0)
    return np.asarray(10.0 ** (level_db / 20.0) * np.where(pan_pct == 0.0, 1.0, sides))
