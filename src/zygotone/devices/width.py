"""How wide a sound is, with the low end left alone."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import Crossover
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.levels import smoothing
from zygotone.dsp.moving import approach
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, frequency, percent

KIND = Kind(
    kind="width",
    purpose="place",
    picture="response",
    title="Width",
    summary="Narrower or wider, by the difference of left and right; below a frequency the picture stays as it is.",
    params=(
        percent("width_pct", "Width", 100.0, "0 is mono, 100 as it is, 200 twice as wide.", high=200.0),
        frequency("keep_below_hz", "Keep below", 20.0, "Below this the width stays what it was; 20 Hz is off.", high=1000.0, fixed=True),
    ),
)  # fmt: skip

_SMOOTH_S = 0.005


@device(KIND)
class Width(Processor):
    remembers = ("_change_state",)

    def __init__(self, params: Values, host: Host) -> None:
        keep = params["keep_below_hz"]
        self._crossover = Crossover((keep,), host.rate_hz) if keep > 20.0 else None
        self.latency = self._crossover.latency if self._crossover is not None else 0
        self._whole = DelayLine(self.latency)
        self._change = params["width_pct"] / 100.0 - 1.0
        self._smooth = smoothing(_SMOOTH_S, sample_rate_hz=host.rate_hz)
        self._change_state = np.array([self._change])

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        late = self._whole.process(x)
        side = 0.5 * (late[0] - late[1])
        if self._crossover is not None:
            low = self._crossover.process(x)[0]
            side = side - 0.5 * (low[0] - low[1])
        change = np.empty(x.shape[1])
        approach(self._change, self._smooth, self._change_state, change)
        added = change * side
        return np.stack([late[0] + added, late[1] - added])
