"""Values that go to a new one without a step."""

from __future__ import annotations

from zygotone.dsp.compile import kernel
from zygotone.dsp.types import FloatArray


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
