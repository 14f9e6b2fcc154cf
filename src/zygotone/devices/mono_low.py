"""Mono below a frequency, with the band above left in phase."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.filters import BUTTERWORTH_Q, allpass_sos, highpass_sos, sos_mono
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, frequency

KIND = Kind(
    kind="mono_low",
    title="Mono low",
    summary="Makes everything below a frequency mono; above it the stereo picture stays.",
    params=(
        frequency("freq_hz", "Mono below", 100.0, "Where the stereo picture begins; 24 dB per octave.", high=1000.0),
    ),
)


@device(KIND)
class MonoLow(Processor):
    """The side goes through a Linkwitz–Riley high-pass; the mid through the all-pass that such a crossover
    sums to, so that mid and side keep one phase (Linkwitz 1976; a 4th-order pair sums to a 2nd-order all-pass).
    """

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        f = params["freq_hz"]
        high = highpass_sos(f, BUTTERWORTH_Q, sample_rate_hz=rate_hz)
        self._side = np.array([high, high])
        self._mid = allpass_sos(f, BUTTERWORTH_Q, sample_rate_hz=rate_hz)[None, :]
        self._side_state, self._mid_state = np.zeros((2, 2)), np.zeros((1, 2))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        mid, side = 0.5 * (x[0] + x[1]), 0.5 * (x[0] - x[1])
        sos_mono(self._mid, mid, self._mid_state, mid)
        sos_mono(self._side, side, self._side_state, side)
        return np.ascontiguousarray(np.stack([mid + side, mid - side]))
