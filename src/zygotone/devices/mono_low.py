"""Mono below a frequency, with the band above left in phase."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import Crossover
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, frequency

KIND = Kind(
    kind="mono_low",
    purpose="place",
    title="Mono low",
    summary="Makes everything below a frequency mono; above it the stereo picture stays.",
    params=(
        frequency("freq_hz", "Mono below", 100.0, "Where the stereo picture begins; 24 dB per octave.", high=1000.0, fixed=True),
    ),
)  # fmt: skip


@device(KIND)
class MonoLow(Processor):
    """The low part of the side is taken out of it, by a crossover without any phase of its own; the mid is only
    delayed. So what is mono already comes out as it went in."""

    def __init__(self, params: Values, host: Host) -> None:
        self._crossover = Crossover((params["freq_hz"],), host.rate_hz)
        self.latency = self._crossover.latency
        self._whole = DelayLine(self.latency)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        late = self._whole.process(x)
        low = self._crossover.process(x)[0]
        side = 0.5 * (low[0] - low[1])
        return np.stack([late[0] - side, late[1] + side])
