"""Attack and sustain, whatever the level."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.dynamics import Level, apply_gain_db, transient_gain
from zygotone.dsp.levels import smoothing
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number

KIND = Kind(
    kind="transient",
    purpose="dynamics",
    title="Transient",
    summary="Makes onsets sharper or softer and tails longer or shorter, at any level.",
    params=(
        level("attack_db", "Attack", -24.0, 12.0, 0.0, "Louder or softer onsets."),
        level("sustain_db", "Sustain", -24.0, 12.0, 0.0, "Louder or softer tails."),
        number("split_ms", "Split", "ms", 2.0, 200.0, 25.0, "How long the onset counts as onset.", scale="log"),
    ),
)

_SETTLE_S = 0.0005  # takes the click out of the gain without blunting it
_TAIL_S = 0.4


@device(KIND)
class Transient(Processor):
    remembers = ("_follow_state",)

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        self._params = params
        self._level = Level("peak", attack_s=0.0, release_s=0.04, sample_rate_hz=rate_hz)
        self._rise = smoothing(params["split_ms"] * 1e-3, sample_rate_hz=rate_hz)
        self._fall = smoothing(_TAIL_S, sample_rate_hz=rate_hz)
        self._settle = smoothing(_SETTLE_S, sample_rate_hz=rate_hz)
        # Slow and long follower start in silence (−80 dB), so that a first note has an onset too.
        self._follow_state = np.array([-80.0, -80.0, 0.0, 0.0])

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        gain_db = np.empty(x.shape[1])
        transient_gain(
            self._level.process(x), p["attack_db"], p["sustain_db"], self._rise, self._fall, self._settle,
            self._follow_state, gain_db,
        )  # fmt: skip
        self.gain_db = gain_db
        y = np.empty_like(x)
        apply_gain_db(x, gain_db, y)
        return y
