"""Four times the rate and back within a loop: half-band filters of all-passes, which hardly delay.

R. A. Valenzuela and A. G. Constantinides, "Digital signal processing schemes for efficient interpolation and decimation",
IEE Proc. G 130(6), 1983: two rows of all-passes, half a sample apart, sum to an elliptic half-band filter. (The formulae
for their coefficients are from memory; a test measures what they make.) The phase is not linear, and no FIR would fit into
an echo of a millisecond.
"""

from __future__ import annotations

import functools
import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray

# How many all-passes, and the width of the transition as a share of the upper rate: 99 dB down from 25 kHz on at a base
# rate of 48 kHz, flat to 22 kHz; the second has more room.
_STAGES = ((8, 0.04), (4, 0.25))
# Sum of what each stage remembers, in one row: up and down of the first, up and down of the second.
_FIRST, _SECOND = _STAGES[0][0] + 2, _STAGES[1][0] + 2
STATE_SIZE = 2 * (_FIRST + _SECOND)


@functools.lru_cache(maxsize=2)
def coefficients(stage: int) -> FloatArray:
    """Of the all-passes (c + z⁻²)/(1 + c·z⁻²), rising; the first, third … are one row, the others the other."""
    count, width = _STAGES[stage]
    k = math.tan(0.25 * math.pi * (1.0 - 2.0 * width)) ** 2
    root = (1.0 - k * k) ** 0.25
    e = 0.5 * (1.0 - root) / (1.0 + root)
    q = e * (1.0 + e**4 * (2.0 + e**4 * (15.0 + 150.0 * e**4)))
    found = []
    for at in range(1, count + 1):
        angle = at * math.pi / (2 * count + 1)
        over = sum((-1) ** i * q ** (i * (i + 1)) * math.sin((2 * i + 1) * angle) for i in range(10))
        under = 0.5 + sum((-1) ** i * q ** (i * i) * math.cos(2 * i * angle) for i in range(1, 10))
        w = math.sqrt(q) * (over / under) ** 2
        r = math.sqrt((1.0 - w * k) * (1.0 - w / k)) / (1.0 + w)
        found.append((1.0 - r) / (1.0 + r))
    return np.array(found)


def latency() -> float:
    """Delay of low frequencies on the way up and down again, in frames of the base rate."""
    rows = [coefficients(stage)[::2] for stage in range(2)]
    late = [float(np.sum(2.0 * (1.0 - row) / (1.0 + row))) - 0.5 for row in rows]
    return late[0] + 0.5 * late[1]


@kernel
def _row(v: float, c: FloatArray, row: int, state: FloatArray) -> float:
    """One value through every other all-pass, from ``row`` (0 or 1) on. state (all-passes + 2,), shared by both rows."""
    for k in range(row, c.shape[0], 2):
        out = c[k] * (v - state[k + 2]) + state[k]
        state[k] = v
        v = out
    state[c.shape[0] + row] = v if abs(v) > 1e-20 else 0.0
    return v


@kernel
def _curved_twice(v: float, drive: float, c: FloatArray, up: FloatArray, down: FloatArray) -> float:
    early, late = _row(v, c, 0, up), _row(v, c, 1, up)
    early, late = math.tanh(drive * early), math.tanh(drive * late)
    return 0.5 * (_row(late, c, 0, down) + _row(early, c, 1, down))


@kernel
def curved(v: float, drive: float, first: FloatArray, second: FloatArray, state: FloatArray) -> float:
    """tanh(drive·v)/drive at four times the rate, ``latency`` late. first and second: ``coefficients`` of the stages;
    state (``STATE_SIZE``,)."""
    a, b = first.shape[0] + 2, second.shape[0] + 2
    up, down, up2, down2 = state[:a], state[a : 2 * a], state[2 * a : 2 * a + b], state[2 * a + b :]
    early, late = _row(v, first, 0, up), _row(v, first, 1, up)
    early = _curved_twice(early, drive, second, up2, down2)
    late = _curved_twice(late, drive, second, up2, down2)
    return 0.5 * (_row(late, first, 0, down) + _row(early, first, 1, down)) / drive
