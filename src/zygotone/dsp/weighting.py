"""How loud frequencies are to the ear."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.types import FloatArray


def k_weighting_sos(sample_rate_hz: float) -> FloatArray:
    """K-weighting, shape (2, 6): the shelf and the high-pass of BS.1770 at any rate.

    The standard tabulates coefficients at 48 kHz only; the analog parameters behind them are those found by
    B. De Man, "Evaluation of implementations of the EBU R128 loudness measurement", AES 145, 2018.
    """
    k = math.tan(math.pi * 1681.974450955533 / sample_rate_hz)
    q, vh = 0.7071752369554196, 10.0 ** (3.999843853973347 / 20.0)
    vb = vh**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = [
        (vh + vb * k / q + k * k) / a0, 2.0 * (k * k - vh) / a0, (vh - vb * k / q + k * k) / a0,
        1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0,
    ]  # fmt: skip
    k, q = math.tan(math.pi * 38.13547087602444 / sample_rate_hz), 0.5003270373238773
    a0 = 1.0 + k / q + k * k
    high_pass = [1.0, -2.0, 1.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0]
    return np.array([shelf, high_pass])
