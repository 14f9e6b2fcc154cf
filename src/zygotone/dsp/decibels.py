"""Decibels to gains and back for whole signals.

The logarithm and the exponential are written out as series, so that a loop over a block vectorises; both are within
1e-9 dB of the exact ones over the whole range of a signal.
"""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray

FLOOR_DB = -144.0
_LOG2_TO_DB = 20.0 * math.log10(2.0)
_LN2 = math.log(2.0)
_NEPERS_TO_DB = 20.0 / math.log(10.0)
_ROUNDS = 1.5 * 2.0**52  # what is added to it is rounded to a whole number
_SQRT_HALF = 0x3FE6A09E667F3BCD  # the bits of √½


@kernel
def levels_to_db(level: FloatArray, db: FloatArray) -> None:
    """db (n,) = 20·log10(level), never below ``FLOOR_DB``; level (n,), contiguous.

    level = m·2ᵉ with m from √½ to √2, and ln m = 2·artanh((m − 1)/(m + 1)) by its series.
    """
    lowest = 10.0 ** (FLOOR_DB / 20.0)
    bits = db.view(np.int64)
    for i in range(level.shape[0]):
        db[i] = level[i] if level[i] > lowest else lowest
    for i in range(level.shape[0]):
        exponent = (bits[i] - _SQRT_HALF) >> 52
        bits[i] -= exponent << 52
        m = db[i]
        s = (m - 1.0) / (m + 1.0)
        t = s * s
        series = 1.0 + t * (1 / 3 + t * (1 / 5 + t * (1 / 7 + t * (1 / 9 + t * (1 / 11 + t * (1 / 13))))))
        db[i] = exponent * _LOG2_TO_DB + 2.0 * _NEPERS_TO_DB * s * series


@kernel
def db_to_gains(db: FloatArray, gain: FloatArray) -> None:
    """gain (n,) = 10^(db/20), contiguous; 0 dB is exactly 1. db (n,) from −6000 to 6000.

    2^(k + f) with the whole number k next to it: 1.5·2⁵² more leaves k in the lowest bits of a float, and the lowest twelve of
    those are what the exponent needs.
    """
    turned = np.empty(db.shape[0])
    bits, whole = gain.view(np.int64), turned.view(np.int64)
    for i in range(db.shape[0]):  # by itself, as with the next step it might or might not be rounded once for both
        turned[i] = db[i] * (1.0 / _LOG2_TO_DB)
    for i in range(db.shape[0]):
        octaves = turned[i]
        rounded = octaves + _ROUNDS
        f = (octaves - (rounded - _ROUNDS)) * _LN2
        tail = 1 / 120 + f * (1 / 720 + f * (1 / 5040 + f * (1 / 40320 + f * (1 / 362880))))
        gain[i] = 1.0 + f * (1.0 + f * (1 / 2 + f * (1 / 6 + f * (1 / 24 + f * tail))))
        turned[i] = rounded
    for i in range(db.shape[0]):
        bits[i] += whole[i] << 52
