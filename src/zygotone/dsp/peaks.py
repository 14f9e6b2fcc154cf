"""The largest magnitude of a signal.

The bits of numbers without a sign are in the order of the numbers, and of whole numbers the largest is found many at a time.
"""

from __future__ import annotations

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Single


@kernel
def largest_magnitude(x: FloatArray) -> float:
    """Of x (n,), contiguous and finite; 0 of nothing."""
    bits, top = x.view(np.int64), np.zeros(1, np.int64)
    found, without_sign = np.int64(0), np.int64(0x7FFFFFFFFFFFFFFF)
    for i in range(bits.shape[0]):
        found = max(found, bits[i] & without_sign)
    top[0] = found
    return float(top.view(np.float64)[0])


@kernel
def largest_single(x: Single) -> float:
    """As ``largest_magnitude``, of single precision."""
    bits, top = x.view(np.int32), np.zeros(1, np.int32)
    found, without_sign = np.int32(0), np.int32(0x7FFFFFFF)
    for i in range(bits.shape[0]):
        found = max(found, bits[i] & without_sign)
    top[0] = found
    return float(top.view(np.float32)[0])
