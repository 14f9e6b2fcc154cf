"""Place between left and right."""

from __future__ import annotations

import math

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.moving import SideGains
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, number

KIND = Kind(
    kind="pan",
    purpose="place",
    title="Pan",
    summary="Place between left and right; the middle leaves the signal as it is.",
    params=(
        number("pan_pct", "Pan", "%", -100.0, 100.0, 0.0, "Left (−100) to right (100)."),
        choice(
            "law_db", "Law", (-3.0, -4.5, -6.0), -3.0,
            "How far the middle lies under a hard-panned side: −3 keeps the power, −6 keeps the sum in mono.",
            ("−3 dB", "−4.5 dB", "−6 dB"),
        ),
    ),
)  # fmt: skip


def pan_gains(pan_pct: float, law_db: float) -> tuple[float, float]:
    """Gains of left and right, both exactly 1 in the middle."""
    if pan_pct == 0.0:
        return 1.0, 1.0
    angle = (pan_pct / 100.0 + 1.0) * math.pi / 4.0
    # The −3 dB law is cosine and sine (3.01 dB to be exact); a power of them gives the others.
    power = law_db / -3.0
    middle = math.cos(math.pi / 4.0) ** power
    left, right = max(math.cos(angle), 0.0) ** power, max(math.sin(angle), 0.0) ** power
    return left / middle, right / middle


@device(KIND)
class Pan(Processor):
    def __init__(self, params: Values, host: Host) -> None:
        self._gains = SideGains(*pan_gains(params["pan_pct"], params["law_db"]), host.rate_hz)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        return self._gains.process(x)
