"""Between frames as files have them, channel beside channel, and channels one after the other, as all else has them."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Single


@kernel
def _part(flat: FloatArray | Single, left: FloatArray, right: FloatArray) -> None:
    for i in range(left.shape[0]):
        left[i], right[i] = flat[2 * i], flat[2 * i + 1]


@kernel
def _join(left: FloatArray, right: FloatArray, flat: FloatArray | Single) -> None:
    for i in range(left.shape[0]):
        flat[2 * i], flat[2 * i + 1] = left[i], right[i]


def part_channels(frames: FloatArray | Single) -> FloatArray:
    """Channels (1 or 2, n) of frames (n, 1 or 2)."""
    channels = np.empty(frames.shape[::-1])
    if len(channels) == 2:
        flat: FloatArray | Single = frames.reshape(-1)
        _part(flat, channels[0], channels[1])
    else:
        channels[:] = frames.T
    return channels


def join_channels(channels: FloatArray, frames: FloatArray | Single) -> None:
    """Channels (1 or 2, n) into frames (n, 1 or 2), contiguous, of single precision or of double."""
    if len(channels) == 2:
        left, right = (np.ascontiguousarray(row, dtype=np.float64) for row in channels)
        _join(left, right, frames.reshape(-1))
    else:
        frames[:] = channels.T
