"""The largest of the last so many values, at each frame.

M. van Herk, "A fast algorithm for local minimum and maximum filters", 1992, and J. Gil and M. Werman, 1993: time is cut
into stretches as long as the window; the largest value of a window is the larger of a running maximum of the present
stretch and one of the stretch before, taken from its end. Three comparisons a frame, whatever the window.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygotone.dsp.compile import kernel
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray


@kernel
def _largest(x: FloatArray, past: FloatArray, state: FloatArray, y: FloatArray) -> None:
    """x and y (n,); past (2, window + 1): values of this stretch, and the maxima of the one before from its end, the last
    of which is minus infinity; state (2,): place in the stretch, its largest value so far."""
    window = past.shape[1] - 1
    values, before = past[0], past[1]
    place, top = int(state[0]), state[1]
    n = x.shape[0]
    i = 0
    while i < n:
        run = min(window - place, n - i)
        here, out = x[i : i + run], y[i : i + run]
        kept, after = values[place : place + run], before[place + 1 : place + 1 + run]
        for j in range(run):
            v = here[j]
            kept[j] = v
            top = v if v > top else top
            out[j] = top if top > after[j] else after[j]
        i += run
        place += run
        if place == window:
            top = -math.inf
            for k in range(window - 1, -1, -1):
                top = values[k] if values[k] > top else top
                before[k] = top
            place, top = 0, -math.inf
    state[0], state[1] = place, top


class SlidingMaximum(Memory):
    """Largest of the last ``window`` values; nothing has been before the first."""

    remembers = ("_past_state", "_place_state")

    def __init__(self, window: int) -> None:
        self._past_state = np.full((2, window + 1), -math.inf)
        self._place_state = np.array([0.0, -math.inf])

    def adopt(self, older: Any) -> bool:
        """A window of another length begins with the largest value that the older one still held."""
        if not super().adopt(older):
            place, top = older._place_state
            still = older._past_state[1, min(int(place), older._past_state.shape[1] - 1)]
            self._past_state[:] = -math.inf
            self._past_state[1, :-1] = max(top, still)
            self._place_state[:] = 0.0, -math.inf
        return True

    def process(self, x: FloatArray) -> FloatArray:
        """x and the result (n,)."""
        y = np.empty_like(x)
        _largest(x, self._past_state, self._place_state, y)
        return y
