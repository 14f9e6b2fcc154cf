"""One sound made into several that are never quite together."""

from __future__ import annotations

from zygotone.devices.base import device
from zygotone.devices.modulation import MovingVoices
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, note_time, number, percent, share, whole

KIND = Kind(
    kind="chorus",
    purpose="motion",
    picture="tail",
    title="Chorus",
    summary="Several copies, each a little late and a little out of tune, in motion.",
    usual_mix=0.5,
    params=(
        note_time("rate", "Rate", "Hz", 0.02, 12.0, 0.6, "How often the copies go round, in Hz or as a note value."),
        number("depth_ms", "Depth", "ms", 0.0, 12.0, 2.0, "How far their delays move."),
        number("delay_ms", "Delay", "ms", 4.0, 40.0, 14.0, "How late the copies are."),
        whole("voices", "Voices", 1, 6, 3, "How many copies."),
        percent("spread_pct", "Spread", 80.0, "How far apart to the sides."),
        share("feedback", "Feedback", 0.0, "How much goes round again.", high=0.7),
    ),
)  # fmt: skip


@device(KIND)
class Chorus(MovingVoices):
    def _kind(self) -> Kind:
        return KIND

    def _setting(self, params: Values, rate_hz: int) -> tuple[float, float, float, int, float, float]:
        delay = params["delay_ms"] * 1e-3 * rate_hz
        depth = params["depth_ms"] * 1e-3 * rate_hz
        apart = 0.11 * delay
        return delay, apart, depth, params["voices"], params["spread_pct"] / 100.0, params["feedback"]
