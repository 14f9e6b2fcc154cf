"""A limiter that knows of the peaks between the samples."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.levels import gain_to_db, seconds_to_frames, smoothing
from zygotone.dsp.limiting import PEAK_LATENCY, TruePeak, release_gain, running_mean, smallest_of_last
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number

KIND = Kind(
    kind="limiter",
    title="Limiter",
    summary="Lets no peak over the ceiling, not even between two samples.",
    params=(
        level("ceiling_dbtp", "Ceiling", -40.0, 0.0, -1.0, "The highest true peak that comes out, in dBTP."),
        number("lookahead_ms", "Lookahead", "ms", 0.5, 20.0, 3.0, "How long before a peak it begins to turn down.", fixed=True),
        number("release_ms", "Release", "ms", 5.0, 3000.0, 100.0, "Time to 63 % of the way back.", scale="log"),
    ),
)  # fmt: skip

# Kept below the ceiling, for what the second look cannot see: peaks that the moving gain itself makes between samples.
_ROOM_DB = 0.04


class _Stage(Memory):
    """Reads the peaks, holds the gain they need over the lookahead, and comes down along a smooth curve."""

    def __init__(self, ceiling: float, frames: int, release: float) -> None:
        self._ceiling, self._release = ceiling, release
        self.latency = frames + PEAK_LATENCY
        self._peak = TruePeak(ceiling)
        self._delay = DelayLine(self.latency)
        # Two means in a row, together as long as the hold: the gain is down when the peak comes, without a corner.
        first = frames // 2 + 1
        self._first_state, self._second_state = np.ones(first), np.ones(frames + 2 - first)
        self._first_at_state = np.array([0.0, float(first)])
        self._second_at_state = np.array([0.0, float(frames + 2 - first)])
        # One frame more than the means are long, since a peak may lie between two frames.
        self._window = frames + 2
        self._values_state = np.zeros(self._window + 1)
        self._index_state = np.zeros(self._window + 1, dtype=np.int64)
        self._ends_state = np.zeros(3, dtype=np.int64)
        self._release_state = np.ones(1)

    def process(self, x: Stereo) -> tuple[Stereo, FloatArray]:
        """The limited signal and the gain, linear, both late by ``latency``."""
        gain = self._ceiling / np.maximum(self._peak.process(x), self._ceiling)
        held = np.empty_like(gain)
        smallest_of_last(gain, self._window, self._values_state, self._index_state, self._ends_state, held)
        release_gain(held, self._release, self._release_state)
        running_mean(held, self._first_state, self._first_at_state)
        running_mean(held, self._second_state, self._second_at_state)
        return self._delay.process(x) * held, held


@device(KIND)
class Limiter(Processor):
    """Two stages in series: the second has the little to do that the first one's own moving gain brings about."""

    def __init__(self, params: Values, host: Host) -> None:
        ceiling = 10.0 ** ((params["ceiling_dbtp"] - _ROOM_DB) / 20.0)
        frames = max(8, seconds_to_frames(params["lookahead_ms"] * 1e-3, sample_rate_hz=host.rate_hz))
        release = smoothing(params["release_ms"] * 1e-3, sample_rate_hz=host.rate_hz)
        self._stages = [_Stage(ceiling, frames, release)]
        self.latency = sum(stage.latency for stage in self._stages)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        total = np.ones(x.shape[1])
        for stage in self._stages:
            x, gain = stage.process(x)
            total = total * gain
        self.gain_db = np.where(total >= 1.0, 0.0, gain_to_db(total))
        return x
