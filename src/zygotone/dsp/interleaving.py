"""Between frames as files have them, channel beside channel, and channels one after the other, as all else has them."""

from __future__ import annotations

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray, Single


@kernel
def part_channels(frames: FloatArray | Single, channels: FloatArray) -> None:
    """channels (c, n) of frames (n, c)."""
    for i in range(frames.shape[0]):
        for c in range(frames.shape[1]):
            channels[c, i] = frames[i, c]


@kernel
def join_channels(channels: FloatArray, frames: FloatArray | Single) -> None:
    """frames (n, c) of channels (c, n)."""
    for i in range(frames.shape[0]):
        for c in range(frames.shape[1]):
            frames[i, c] = channels[c, i]
