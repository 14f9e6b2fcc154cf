"""A comb that sweeps through the sound."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.moving_lines import NEAREST, TAPS, sinc_table, sweeping_comb
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, note_time, number, percent, share, switch

_DEEPEST_MS, _LONGEST_MS = 5.0, 12.0

KIND = Kind(
    kind="flanger",
    purpose="motion",
    picture="response",
    title="Flanger",
    summary="A very short delay that sweeps; with feedback the comb rings.",
    usual_mix=0.5,
    params=(
        note_time("rate", "Rate", "Hz", 0.01, 12.0, "1/1", "How often it sweeps, in Hz or as a note value."),
        number("depth_ms", "Depth", "ms", 0.0, _DEEPEST_MS, 1.5, "How far the delay moves."),
        number("delay_ms", "Delay", "ms", 0.1, _LONGEST_MS, 2.0, "Where the delay moves around.", scale="log"),
        share("feedback", "Feedback", 0.4, "How much goes round again; below 0 upside down.", low=-0.95, high=0.95),
        percent("spread_pct", "Spread", 50.0, "How far the sides are apart in the sweep."),
        switch("through_zero", "Through zero", False, "Where the depth is more than the delay, the copy overtakes the sound and comes before it, as between two tapes; off, it stops short of it. It costs 5 ms of latency."),
    ),
)  # fmt: skip


@device(KIND)
class Flanger(Processor):
    remembers = ("_ring_state", "_write_state")

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._spread, self._feedback = params["spread_pct"] / 100.0, params["feedback"]
        self._base, self._depth = params["delay_ms"] * 1e-3 * rate, params["depth_ms"] * 1e-3 * rate
        self.latency = NEAREST
        if params["through_zero"]:
            self.latency += round(_DEEPEST_MS * 1e-3 * rate)
        else:
            self._depth = max(0.0, min(self._depth, self._base - 2.0))
        self._rate = KIND.param("rate").number_of(params["rate"], bpm=host.bpm) / rate
        self._ring_state = np.zeros((2, round((_LONGEST_MS + 2.0 * _DEEPEST_MS) * 1e-3 * rate) + 3 * TAPS))
        self._write_state = np.zeros(1)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        y = np.empty_like(x)
        sweeping_comb(
            x, self._ring_state, self._write_state, self.position, self.turns, self._rate, self._base, self._depth,
            self.latency, self._spread, self._feedback, sinc_table(), y,
        )  # fmt: skip
        return y
