"""Values that go to a new one without a step."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.levels import smoothing
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo


def balanced_places(count: int) -> list[float]:
    """Places from −1 (left) to 1 (right) for ``count`` voices: evenly apart, mirrored, from side to side in turn, so that
    both sides get the same. One alone stands in the middle."""
    if count == 1:
        return [0.0]
    even = [2.0 * n / (count - 1) - 1.0 for n in range(count)]
    order: list[float] = []
    while even:
        order.append(even.pop(0))
        if even:
            order.append(even.pop())
    return order


@kernel
def approach(target: float, smooth: float, state: FloatArray, y: FloatArray) -> None:
    """y (n,) goes from state (1,) to ``target`` by one-pole; once there it is exactly ``target``."""
    v = state[0]
    for i in range(y.shape[0]):
        v = target + smooth * (v - target)
        if abs(v - target) < 1e-9:
            v = target
        y[i] = v
    state[0] = v


class SideGains(Memory):
    """Gains of left and right that go to new ones within some 5 ms, where memory is taken over."""

    remembers = ("_gains_state",)

    def __init__(self, left: float, right: float, sample_rate_hz: int) -> None:
        self._targets = np.array([[left], [right]])
        self._smooth = smoothing(0.0015, sample_rate_hz=sample_rate_hz)
        self._gains_state = self._targets.copy()

    def process(self, x: Stereo) -> Stereo:
        if np.array_equal(self._gains_state, self._targets):
            return np.asarray(x * self._targets)
        curves = np.empty_like(x)
        for c in range(2):
            approach(float(self._targets[c, 0]), self._smooth, self._gains_state[c], curves[c])
        return np.asarray(x * curves)
