"""Gain, polarity and a delay finer than one frame."""

from __future__ import annotations

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.delays import FRACTION_LATENCY, DelayLine, FirStereo, fractional_delay_taps
from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.moving import SideGains
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number, switch

KIND = Kind(
    kind="gain",
    purpose="place",
    title="Gain",
    summary="Level, polarity and a delay in fractions of a sample, to line one signal up with another.",
    params=(
        level("gain_db", "Gain", -60.0, 24.0, 0.0, "How much louder or softer."),
        switch("polarity", "Polarity", False, "Turns the waveform upside down."),
        number(
            "delay_ms",
            "Delay",
            "ms",
            0.0,
            100.0,
            0.0,
            "Makes the signal later by this much, to fractions of a sample.",
            fixed=True,
        ),
    ),
)


@device(KIND)
class Gain(Processor):
    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        gain = db_to_gain(params["gain_db"]) * (-1.0 if params["polarity"] else 1.0)
        self._gains = SideGains(gain, gain, rate_hz)
        self._delay: DelayLine | None = None
        self._fraction: FirStereo | None = None
        frames = params["delay_ms"] * 1e-3 * rate_hz
        if frames > 0.0:
            whole = int(frames)
            self._delay = DelayLine(whole)
            self._fraction = FirStereo(fractional_delay_taps(frames - whole))
            self.latency = FRACTION_LATENCY

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        if self._delay is not None and self._fraction is not None:
            x = self._fraction.process(self._delay.process(x))
        return self._gains.process(x)
