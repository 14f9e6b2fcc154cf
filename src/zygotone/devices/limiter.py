"""A limiter that knows of the peaks between the samples."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.decibels import levels_to_db
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.levels import seconds_to_frames, smoothing
from zygotone.dsp.limiting import PEAK_LATENCY, RunningMean, TruePeak, release_gain
from zygotone.dsp.sliding import SlidingMaximum
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number

KIND = Kind(
    kind="limiter",
    purpose="dynamics",
    work="limits",
    title="Limiter",
    summary="Lets no peak over the ceiling, not even between two samples.",
    params=(
        level("ceiling_dbtp", "Ceiling", -40.0, 0.0, -1.0, "The highest true peak that comes out, in dBTP."),
        number("lookahead_ms", "Lookahead", "ms", 0.5, 20.0, 3.0, "How long before a peak it begins to turn down.", fixed=True),
        number("release_ms", "Release", "ms", 5.0, 3000.0, 100.0, "Time to 63 % of the way back.", scale="log"),
    ),
)  # fmt: skip

# Kept below the ceiling, for the peaks that the moving gain itself makes between samples, and for yet other filters; a
# gain that has less than 1.5 ms to come down makes more of them, by so much for each millisecond.
_ROOM_DB = 0.07
_SHORT_MS, _SHORT_DB_MS = 1.5, 0.18


@device(KIND)
class Limiter(Processor):
    """Reads the peaks, holds the gain they need over the lookahead, and comes down along a smooth curve."""

    settle_s = 0.03
    remembers = ("_release_state",)

    def __init__(self, params: Values, host: Host) -> None:
        room_db = _ROOM_DB + _SHORT_DB_MS * max(0.0, _SHORT_MS - params["lookahead_ms"])
        self._ceiling = 10.0 ** ((params["ceiling_dbtp"] - room_db) / 20.0)
        self._release = smoothing(params["release_ms"] * 1e-3, sample_rate_hz=host.rate_hz)
        frames = max(8, seconds_to_frames(params["lookahead_ms"] * 1e-3, sample_rate_hz=host.rate_hz))
        self.latency = frames + PEAK_LATENCY
        self._peak = TruePeak(self._ceiling)
        self._delay = DelayLine(self.latency)
        # Two means in a row, together as long as the hold: the gain is down when the peak comes, without a corner.
        first = frames // 2 + 1
        self._first, self._second = RunningMean(first), RunningMean(frames + 2 - first)
        # One frame more than the means are long, since a peak may lie between two frames.
        self._hold = SlidingMaximum(frames + 2)
        self._release_state = np.ones(1)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        gain = self._hold.process(self._peak.process(x))
        release_gain(gain, self._ceiling, self._release, self._release_state)
        self._first.process(gain)
        self._second.process(gain)
        self.gain_db = np.empty_like(gain)
        levels_to_db(gain, self.gain_db)
        y = self._delay.process(x)
        y *= gain
        return y
