"""Echoes, from slapback to long, in ms or note values."""

from __future__ import annotations

import math

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.filters import Cuts
from zygotone.dsp.half_band import STATE_SIZE, coefficients, latency
from zygotone.dsp.lines import echoes
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, level, note_time, percent, share

_LONGEST_MS = 4000.0

KIND = Kind(
    kind="delay",
    purpose="time",
    picture="tail",
    title="Delay",
    summary="Echoes in time with the song, each a little duller, dirtier or further to the side than the last.",
    usual_mix=0.3,
    rings=True,
    params=(
        choice("mode", "Mode", ("straight", "ping_pong"), "straight", "Each side for itself, or from side to side.", ("straight", "side to side")),
        note_time("time", "Time", "ms", 1.0, _LONGEST_MS, "1/8d", "Between echoes, in ms or as a note value: 1/8, 1/8d (dotted), 1/8t (triplet)."),
        share("feedback", "Feedback", 0.35, "How much of each echo comes again.", high=0.98),
        frequency("low_cut_hz", "Low cut", 20.0, "Each echo loses what lies below; 20 Hz is off.", high=2000.0),
        frequency("high_cut_hz", "High cut", 20000.0, "Each echo loses what lies above; 20 kHz is off.", low=500.0),
        level("drive_db", "Drive", 0.0, 24.0, 0.0, "Bends what is fed back; 0 dB is clean."),
        percent("spread_pct", "Spread", 100.0, "Width of the echoes; 0 is mono."),
        choice("on_change", "When the time changes", ("fade", "glide"), "fade", "Fade to the new time, or glide there and bend the pitch as tape does."),
    ),
)  # fmt: skip

_FADE_S, _MOVE_S = 0.03, 0.013
_GLIDE_S = 0.12


@device(KIND)
class Delay(Processor):
    remembers = ("_ring_state", "_place_state", "_loop_state", "_memory_state", "_early_state", "_curve_state")

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        time_ms = KIND.param("time").number_of(params["time"], bpm=host.bpm)
        # A whole number of frames, so that a standing delay reads its line without interpolation.
        self._target = float(max(2, round(time_ms * 1e-3 * rate)))
        rounds = 1.0 + math.log(1e-3) / math.log(max(1e-3, params["feedback"])) if params["feedback"] > 0.0 else 1.0
        self.tail_s = time_ms * 1e-3 * rounds
        cuts = Cuts(params["low_cut_hz"], params["high_cut_hz"], rate)
        self._loop = np.concatenate([[params["feedback"]], cuts.sos.reshape(-1)])
        self._loop_state = np.zeros((2, len(self._loop)))
        self._glide = 0.0
        if params["on_change"] == "glide":
            self._glide = 1.0 - math.exp(-1.0 / (_GLIDE_S * rate))
        self._fade = round(_FADE_S * rate)
        self._move = round(_MOVE_S * rate)
        self._drive = 10.0 ** (params["drive_db"] / 20.0) if params["drive_db"] > 0.0 else 0.0
        late = round(latency())
        turns = math.ceil((_LONGEST_MS * 1e-3 * rate + 8) / late)
        self._ring_state = np.zeros((2, turns * late))
        self._place_state = np.array([0.0, -1.0, 0.0, 0.0, 0.0, 0.0])
        self._memory_state = np.zeros((2, 2, 2, 2))
        self._early_state = np.zeros((2, 2, late))
        self._curve_state = np.zeros((2, STATE_SIZE))
        self._halves = coefficients(0), coefficients(1)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        y = np.empty_like(x)
        echoes(
            x, self._ring_state, self._place_state, self._loop_state, self._memory_state, self._early_state, self._curve_state,
            self._target, self._loop, p["mode"] == "ping_pong", self._glide, self._fade, self._move, self._drive, *self._halves, y,
        )  # fmt: skip
        width = p["spread_pct"] / 100.0
        if width < 1.0:
            mid, side = 0.5 * (y[0] + y[1]), 0.5 * width * (y[0] - y[1])
            y = np.stack([mid + side, mid - side])
        return y
