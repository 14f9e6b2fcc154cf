"""The same part played again, left and right."""

from __future__ import annotations

import math

from zygotone.devices.base import device
from zygotone.devices.modulation import MovingVoices
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, number, percent

KIND = Kind(
    kind="doubler",
    purpose="motion",
    picture="tail",
    title="Doubler",
    summary="Two more takes of the same part, left and right, that drift in time and pitch as a second take does.",
    usual_mix=0.5,
    params=(
        number("time_ms", "Late by", "ms", 5.0, 60.0, 22.0, "How late the second takes are."),
        number("drift_cents", "Drift", "ct", 0.0, 40.0, 9.0, "How far they stray in pitch."),
        percent("spread_pct", "Spread", 100.0, "How far apart to the sides."),
    ),
)  # fmt: skip

_PLACES_A_SECOND = 2.3


@device(KIND)
class Doubler(MovingVoices):
    def _kind(self) -> Kind:
        return KIND

    def _setting(self, params: Values, rate_hz: int) -> tuple[float, float, float, int, float, float]:
        delay = params["time_ms"] * 1e-3 * rate_hz
        # A drift between two random places each 1/rate s has this steepest slope at most, and pitch is slope.
        slope = 2.0 ** (params["drift_cents"] / 1200.0) - 1.0
        depth = min(slope * rate_hz / (math.pi * _PLACES_A_SECOND), 0.9 * delay - 2.0)
        return delay, 0.27 * delay, depth, 2, params["spread_pct"] / 100.0, 0.0

    def _cycles_a_second(self, params: Values, bpm: float) -> float:
        return _PLACES_A_SECOND

    def _shape_name(self, params: Values) -> str:
        return "drift"
