"""Slow movement: low-frequency shapes, and noise that depends only on where in the song it is asked for.

Conventions
-----------
A phase is in cycles; a shape gives −1 to 1. Phases are taken from the position in the song, so that a section moves as it
does within the whole.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray

SHAPES = ("sine", "triangle", "ramp_up", "ramp_down", "square", "drift")
SHAPE_LABELS = ("sine", "triangle", "ramp up", "ramp down", "square", "drift")
_EDGE = 0.02  # of a cycle: how long a square takes to change sides and a ramp to fall back, against clicks


@kernel
def noise_at(index: int, seed: int) -> float:
    """Uniform noise, −1 to 1, by position: the finaliser of SplitMix64 (Steele, Lea and Flood 2014)."""
    z = np.uint64(index) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(seed) * np.uint64(0xD1B54A32D192ED03)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z = z ^ (z >> np.uint64(31))
    return float(z >> np.uint64(11)) * (2.0 / 9007199254740992.0) - 1.0


@kernel
def lfo_at(shape: int, phase: float, seed: int) -> float:
    """Height at ``phase``, −1 to 1; ``shape`` counts as in ``SHAPES``, ``seed`` tells one drift from another."""
    turn = math.floor(phase)
    t = phase - turn
    if shape == 0:
        return math.sin(2.0 * math.pi * t)
    if shape == 1:
        return 4.0 * t if t < 0.25 else 2.0 - 4.0 * t if t < 0.75 else 4.0 * t - 4.0
    if shape == 2:
        return 2.0 * t / (1.0 - _EDGE) - 1.0 if t < 1.0 - _EDGE else 1.0 - 2.0 * (t - (1.0 - _EDGE)) / _EDGE
    if shape == 3:
        return 1.0 - 2.0 * t / (1.0 - _EDGE) if t < 1.0 - _EDGE else 2.0 * (t - (1.0 - _EDGE)) / _EDGE - 1.0
    if shape == 4:
        if t < _EDGE:
            return 2.0 * t / _EDGE - 1.0
        if t < 0.5:
            return 1.0
        return 1.0 - 2.0 * (t - 0.5) / _EDGE if t < 0.5 + _EDGE else -1.0
    a, b = noise_at(int(turn), seed), noise_at(int(turn) + 1, seed)
    return a + (b - a) * (0.5 - 0.5 * math.cos(math.pi * t))


@kernel
def lfo_curve(shape: int, start: int, rate: float, offset: float, seed: int, y: FloatArray) -> None:
    """y (n,): the shape over frames ``start`` to ``start + n`` of the song; ``rate`` in cycles a frame."""
    for i in range(y.shape[0]):
        y[i] = lfo_at(shape, (start + i) * rate + offset, seed)


@kernel
def noise_curve(start: int, seed: int, y: FloatArray) -> None:
    """y (n,): noise over frames ``start`` to ``start + n`` of the song, −1 to 1."""
    for i in range(y.shape[0]):
        y[i] = noise_at(start + i, seed)
