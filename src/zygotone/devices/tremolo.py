"""Level that moves up and down, both sides together or from side to side."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.lfo import SHAPE_LABELS, SHAPES, lfo_curve
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, note_time, number, share

KIND = Kind(
    kind="tremolo",
    purpose="motion",
    title="Tremolo",
    summary="Moves the level; with the sides half a cycle apart it moves from side to side.",
    params=(
        note_time("rate", "Rate", "Hz", 0.05, 40.0, "1/8", "How often, in Hz or as a note value."),
        share("depth", "Depth", 0.5, "How far down it goes: 1 to silence."),
        choice("shape", "Shape", SHAPES, "sine", "How it moves.", SHAPE_LABELS),
        number("phase_deg", "Sides apart", "°", 0.0, 180.0, 0.0, "How far right is behind left in the cycle; 180 is side to side."),
        number("start_deg", "Starts at", "°", 0.0, 360.0, 0.0, "How far into its cycle it is on the beat; at 0 all shapes begin there, and round ones are loudest."),
    ),
)  # fmt: skip


@device(KIND)
class Tremolo(Processor):
    def __init__(self, params: Values, host: Host) -> None:
        self._params = params
        self._rate = KIND.param("rate").number_of(params["rate"], bpm=host.bpm) / host.rate_hz
        self._shape = SHAPES.index(params["shape"])

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        depth = self._params["depth"]
        if depth == 0.0:
            return x
        gains = np.empty_like(x)
        # Round shapes begin at their height, on the beat; those with edges begin with their edge.
        begin = (0.25 if self._params["shape"] in ("sine", "triangle") else 0.0) + self._params["start_deg"] / 360.0
        for c, behind in enumerate((0.0, self._params["phase_deg"] / 360.0)):
            lfo_curve(self._shape, self.position, self._rate, self.turns + begin - behind, 1, gains[c])
        return np.asarray(x * (1.0 - depth * 0.5 * (1.0 - gains)))
