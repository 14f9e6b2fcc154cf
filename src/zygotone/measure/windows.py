"""Stretches of a signal as a transform takes them: one after the other, windowed, in single precision."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Single


@kernel
def _cut(channel: npt.NDArray[Any], first: int, hop: int, window: Single, out: Single) -> None:
    frames, size = channel.shape[0], window.shape[0]
    for w in range(out.shape[0]):
        start, row = first + w * hop, out[w]
        begin = min(size, max(0, -start))
        end = max(begin, min(size, frames - start))
        row[:begin], row[end:] = 0.0, 0.0
        here, part, taper = channel[start + begin : start + end], row[begin:end], window[begin:end]
        for k in range(end - begin):
            part[k] = taper[k] * np.float32(here[k])


def cut_windows(channel: FloatArray | Single, first: int, hop: int, window: Single, out: Single) -> Single:
    """``out`` (windows, size), which is written and returned: ``window`` (size,) times channel (frames,) from frame ``first`` on, each
    ``hop`` frames after the one before; silence before the signal and after it."""
    whole = np.ascontiguousarray(channel, dtype=np.float32 if channel.dtype == np.float32 else np.float64)
    _cut(whole, first, hop, window, out)
    return out
