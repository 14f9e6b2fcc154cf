"""A comb that sweeps through the sound."""

from __future__ import annotations

from zygotone.devices.base import device
from zygotone.devices.modulation import MovingVoices
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, note_time, number, percent, share

KIND = Kind(
    kind="flanger",
    title="Flanger",
    summary="A very short delay that sweeps; with feedback the comb rings.",
    usual_mix=0.5,
    params=(
        note_time("rate", "Rate", "Hz", 0.01, 12.0, "1/1", "How often it sweeps, in Hz or as a note value."),
        number("depth_ms", "Depth", "ms", 0.0, 5.0, 1.5, "How far the delay moves."),
        number("delay_ms", "Delay", "ms", 0.1, 12.0, 2.0, "Where the delay moves around.", scale="log"),
        share("feedback", "Feedback", 0.4, "How much goes round again; below 0 upside down.", low=-0.95, high=0.95),
        percent("spread_pct", "Spread", 50.0, "How far the sides are apart in the sweep."),
    ),
)  # fmt: skip


@device(KIND)
class Flanger(MovingVoices):
    def _kind(self) -> Kind:
        return KIND

    def _setting(self, params: Values, rate_hz: int) -> tuple[float, float, float, int, float, float]:
        delay = max(3.0, params["delay_ms"] * 1e-3 * rate_hz)
        depth = min(params["depth_ms"] * 1e-3 * rate_hz, delay - 2.0)
        return delay, 0.0, depth, 1, params["spread_pct"] / 100.0, params["feedback"]
