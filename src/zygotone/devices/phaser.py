"""Notches that sweep through the sound."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.lfo import SHAPE_LABELS, SHAPES
from zygotone.dsp.lines import phaser
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, note_time, number, percent, share

KIND = Kind(
    kind="phaser",
    purpose="motion",
    picture="response",
    title="Phaser",
    summary="All-pass stages that sweep; blended with the dry signal they leave moving notches.",
    usual_mix=0.5,
    params=(
        note_time("rate", "Rate", "Hz", 0.01, 12.0, 0.4, "How often it sweeps, in Hz or as a note value."),
        choice("shape", "Shape", SHAPES, "sine", "How it sweeps.", SHAPE_LABELS),
        frequency("centre_hz", "Centre", 700.0, "Where it sweeps around.", low=50.0, high=8000.0),
        number("depth_octaves", "Depth", "oct", 0.0, 4.0, 1.5, "How far it sweeps, up and down."),
        choice("stages", "Stages", (2, 4, 6, 8, 12), 6, "All-pass stages; each two make a notch."),
        share("feedback", "Feedback", 0.3, "Sharpens the peaks between the notches.", low=-0.95, high=0.95),
        percent("spread_pct", "Spread", 50.0, "How far the sides are apart in the sweep."),
    ),
)  # fmt: skip


@device(KIND)
class Phaser(Processor):
    settle_s = 0.03
    remembers = ("_phaser_state",)

    def __init__(self, params: Values, host: Host) -> None:
        self._params = params
        self._rate = KIND.param("rate").number_of(params["rate"], bpm=host.bpm) / host.rate_hz
        self._centre = params["centre_hz"] / host.rate_hz
        self._phaser_state = np.zeros((2, params["stages"] + 1))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        y = np.empty_like(x)
        phaser(
            x, self.position, self.turns, self._rate, SHAPES.index(p["shape"]), self._centre, p["depth_octaves"],
            p["spread_pct"] / 100.0, p["stages"], p["feedback"], self._phaser_state, y,
        )  # fmt: skip
        return y
