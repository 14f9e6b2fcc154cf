"""Sample and hold, and rounding to steps."""

from __future__ import annotations

import math

from zygotone.dsp.compile import kernel
from zygotone.dsp.lfo import noise_at
from zygotone.dsp.types import FloatArray, Stereo


@kernel
def hold_and_round(
    x: Stereo, start: int, ratio: float, jitter: float, steps: float, state: FloatArray, y: Stereo
) -> None:
    """x (2, n) sampled ``ratio`` times a frame (1 and above: every frame) and rounded to 1/``steps`` (0: not), into y.

    The clock ticks by the position in the song; ``jitter`` moves each tick by up to a whole period. state (3,): the
    values held, and whether there are any.
    """
    left, right, begun = state[0], state[1], state[2]
    for i in range(x.shape[1]):
        take = ratio >= 1.0 or begun == 0.0
        if not take:
            # A tick lies in this frame if the count of ticks before it is larger than before the last frame.
            frame = start + i
            now, before = math.floor(frame * ratio), math.floor((frame - 1) * ratio)
            if jitter > 0.0:
                now += 1 if frame * ratio - now > 1.0 - 0.5 * jitter * (1.0 + noise_at(int(now), 5)) else 0
                before += (
                    1 if (frame - 1) * ratio - before > 1.0 - 0.5 * jitter * (1.0 + noise_at(int(before), 5)) else 0
                )
            take = now != before
        if take:
            left, right, begun = x[0, i], x[1, i], 1.0
            if steps > 0.0:
                left, right = math.floor(left * steps + 0.5) / steps, math.floor(right * steps + 0.5) / steps
        y[0, i], y[1, i] = left, right
    state[0], state[1], state[2] = left, right, begun
