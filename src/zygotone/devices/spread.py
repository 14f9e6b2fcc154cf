"""Width where there was none."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.lines import allpass_chain
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, number

KIND = Kind(
    kind="spread",
    purpose="place",
    picture="response",
    title="Spread",
    summary="Makes a mono sound wide: one side a little later (Haas), or both out of step by all-passes, which keeps the levels.",
    params=(
        choice("method", "Method", ("haas", "allpass"), "haas", "One side later, or all-passes on both.", ("one side later", "all-pass")),
        number("time_ms", "Time", "ms", 0.0, 40.0, 12.0, "How much later; of the all-passes, how far they smear. 0 is off.", fixed=True),
        choice("side", "Side", ("left", "right"), "right", "Which side is the later one."),
    ),
)  # fmt: skip

# Ratios of the all-passes' delays, no two in a simple relation, other ones left than right.
_RATIOS = ((0.13, 0.29, 0.58), (0.17, 0.23, 0.6))
_GAIN = 0.55
_LONGEST_S = 0.040


@device(KIND)
class Spread(Processor):
    """H. Haas 1951: a copy up to about 35 ms later is not heard as an echo but moves the sound to the earlier side."""

    remembers = ("_ring_state", "_at_state")

    def __init__(self, params: Values, host: Host) -> None:
        frames = params["time_ms"] * 1e-3 * host.rate_hz
        self._late = 1 if params["side"] == "right" else 0
        self._haas = params["method"] == "haas" or frames < 8.0
        self._delay = DelayLine(round(frames) if self._haas else 0)
        order = (0, 1) if self._late == 1 else (1, 0)
        self._delays = [np.maximum(1, np.round(frames * np.array(_RATIOS[i]))).astype(np.int64) for i in order]
        self._gains = [np.array([_GAIN, -_GAIN, _GAIN]), np.array([-_GAIN, _GAIN, _GAIN])]
        self._ring_state = np.zeros((2, 3, round(_LONGEST_S * host.rate_hz) + 2))
        self._at_state = np.zeros((2, 1), dtype=np.int64)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        y = x.copy()
        if self._haas:
            y[self._late] = self._delay.process(x)[self._late]
            return y
        for c in range(2):
            allpass_chain(x[c], self._delays[c], self._gains[c], self._ring_state[c], self._at_state[c], y[c])
        return y
