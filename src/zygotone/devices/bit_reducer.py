"""The colour of an old sampler: few bits, a low rate, an unsteady clock, hiss."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.crushing import hold_and_round
from zygotone.dsp.lfo import noise_curve
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number, share

KIND = Kind(
    kind="bit_reducer",
    purpose="colour",
    title="Bit reducer",
    summary="Fewer bits and a lower rate, without the filters that would hide it.",
    params=(
        number("bits", "Bits", "bit", 1.0, 24.0, 24.0, "Depth, in fractions too; 24 bits is off, 12 is a classic colour."),
        number("rate_hz", "Rate", "Hz", 500.0, 96000.0, 96000.0, "Sample rate; at or above the session's it is off.", scale="log"),
        level("hiss_db", "Hiss", -120.0, -20.0, -120.0, "Level of the noise that is added before; −120 dB is off."),
        share("jitter", "Jitter", 0.0, "How unsteady the clock is; 1 is a whole period."),
    ),
)  # fmt: skip


@device(KIND)
class BitReducer(Processor):
    remembers = ("_held_state",)

    def __init__(self, params: Values, host: Host) -> None:
        self._params = params
        self._steps = 0.0 if params["bits"] >= 24.0 else 2.0 ** (params["bits"] - 1.0)
        self._ratio = params["rate_hz"] / host.rate_hz
        self._hiss = 0.0 if params["hiss_db"] <= -120.0 else 10.0 ** (params["hiss_db"] / 20.0)
        self._held_state = np.zeros(3)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        if self._hiss > 0.0 and np.any(x):  # a machine that plays nothing is switched off: silence stays silence
            noise = np.empty((2, x.shape[1]))
            for c in range(2):
                noise_curve(self.position, 11 + c, noise[c])
            x = x + self._hiss * noise
        if self._steps == 0.0 and self._ratio >= 1.0:
            return x
        y = np.empty_like(x)
        hold_and_round(x, self.position, self._ratio, self._params["jitter"], self._steps, self._held_state, y)
        return y
