"""The largest magnitude of a signal.

The bits of numbers without a sign are in the order of the numbers, and of whole numbers the largest is found many at a time.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Single


@kernel
def _raise(top: npt.NDArray[Any], bits: npt.NDArray[Any], without_sign: Any) -> None:
    """top (1,) becomes the largest of bits (n,) without their signs."""
    found = top[0]
    for i in range(bits.shape[0]):
        found = max(found, bits[i] & without_sign)
    top[0] = found


@kernel
def largest_magnitude(x: FloatArray) -> float:
    """Of x (n,), contiguous and finite; 0 of nothing."""
    top = np.zeros(1, np.int64)
    _raise(top, x.view(np.int64), np.int64(0x7FFFFFFFFFFFFFFF))
    return float(top.view(np.float64)[0])


@kernel
def largest_single(x: Single) -> float:
    """As ``largest_magnitude``, of single precision."""
    top = np.zeros(1, np.int32)
    _raise(top, x.view(np.int32), np.int32(0x7FFFFFFF))
    return float(top.view(np.float32)[0])
