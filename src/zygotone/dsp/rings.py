"""Many tones that begin at once and die away, as of a struck plate."""

from __future__ import annotations

import math

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray

_SIDE_BY_SIDE = 8
_GONE = 1e-5  # of full scale: a tone that has died away so far is let go


@kernel
def add_rings(y: FloatArray, turns: FloatArray, gains: FloatArray, keeps: FloatArray) -> None:
    """Adds to y (n,) tones gains·keepsⁱ·sin(2π·turns·i), each (k,); turns in cycles a frame.

    Each is a point that is turned and drawn in from frame to frame; eight do not wait for each other.
    """
    n, count = y.shape[0], turns.shape[0]
    c, s = np.zeros(_SIDE_BY_SIDE), np.zeros(_SIDE_BY_SIDE)
    a, b = np.zeros(_SIDE_BY_SIDE), np.zeros(_SIDE_BY_SIDE)
    for first in range(0, count, _SIDE_BY_SIDE):
        longest = 0
        for m in range(_SIDE_BY_SIDE):
            k = first + m
            c[m], s[m], a[m], b[m] = 0.0, 0.0, 0.0, 0.0
            if k < count:
                c[m] = gains[k]
                a[m] = keeps[k] * math.cos(2.0 * math.pi * turns[k])
                b[m] = keeps[k] * math.sin(2.0 * math.pi * turns[k])
                if keeps[k] < 1.0 and abs(gains[k]) > _GONE:
                    longest = max(longest, int(math.log(_GONE / abs(gains[k])) / math.log(keeps[k])) + 1)
                elif abs(gains[k]) > _GONE:
                    longest = n
        c0, c1, c2, c3, c4, c5, c6, c7 = c[0], c[1], c[2], c[3], c[4], c[5], c[6], c[7]
        s0, s1, s2, s3, s4, s5, s6, s7 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for i in range(min(n, longest)):
            y[i] += ((s0 + s1) + (s2 + s3)) + ((s4 + s5) + (s6 + s7))
            c0, s0 = a[0] * c0 - b[0] * s0, a[0] * s0 + b[0] * c0
            c1, s1 = a[1] * c1 - b[1] * s1, a[1] * s1 + b[1] * c1
            c2, s2 = a[2] * c2 - b[2] * s2, a[2] * s2 + b[2] * c2
            c3, s3 = a[3] * c3 - b[3] * s3, a[3] * s3 + b[3] * c3
            c4, s4 = a[4] * c4 - b[4] * s4, a[4] * s4 + b[4] * c4
            c5, s5 = a[5] * c5 - b[5] * s5, a[5] * s5 + b[5] * c5
            c6, s6 = a[6] * c6 - b[6] * s6, a[6] * s6 + b[6] * c6
            c7, s7 = a[7] * c7 - b[7] * s7, a[7] * s7 + b[7] * c7
