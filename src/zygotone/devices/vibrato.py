"""Pitch that moves up and down."""

from __future__ import annotations

import math

from zygotone.devices.base import Host, device
from zygotone.devices.modulation import MovingVoices
from zygotone.dsp.moving_lines import TAPS
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, note_time, number, percent

KIND = Kind(
    kind="vibrato",
    purpose="motion",
    title="Vibrato",
    summary="Moves the pitch up and down.",
    usual_mix=1.0,
    params=(
        note_time("rate", "Rate", "Hz", 0.1, 14.0, 5.0, "How often the pitch goes up and down, in Hz or as a note value."),
        number("depth_cents", "Depth", "ct", 0.0, 100.0, 25.0, "How far the pitch moves, up and down."),
        percent("spread_pct", "Spread", 0.0, "How far the sides are apart in the motion."),
    ),
)  # fmt: skip

_MIDDLE_MS = 100.0  # the delay that the motion goes around; told as latency, so that the pitch moves and not the time


@device(KIND)
class Vibrato(MovingVoices):
    def __init__(self, params: Values, host: Host) -> None:
        self._bpm = host.bpm
        super().__init__(params, host)
        self.latency = round(_MIDDLE_MS * 1e-3 * host.rate_hz)

    def _longest(self, rate_hz: int) -> int:
        return round(2.0 * _MIDDLE_MS * 1e-3 * rate_hz) + 2 * TAPS

    def _kind(self) -> Kind:
        return KIND

    def _setting(self, params: Values, rate_hz: int) -> tuple[float, float, float, int, float, float]:
        # The delay is d·sin(2πft), so the pitch moves by its slope, 2πf·d at most.
        slope = 2.0 ** (params["depth_cents"] / 1200.0) - 1.0
        hz = KIND.param("rate").number_of(params["rate"], bpm=self._bpm)
        middle = _MIDDLE_MS * 1e-3 * rate_hz
        depth = slope * rate_hz / (2.0 * math.pi * hz)
        return float(round(middle)), 0.0, depth, 1, params["spread_pct"] / 100.0, 0.0
