"""A gate: closed until something is loud enough, and for how long after."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.dynamics import Level, apply_gain_db, gate_gain
from zygotone.dsp.levels import seconds_to_frames, smoothing
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, level, number

KIND = Kind(
    kind="gate",
    purpose="dynamics",
    work="gates",
    title="Gate",
    summary="Closes when it gets quiet. After a reverb, keyed by the dry snare, it makes the room stop short.",
    takes_key=True,
    params=(
        level("threshold_db", "Threshold", -80.0, 0.0, -40.0, "Opens above this."),
        level("hysteresis_db", "Hysteresis", 0.0, 24.0, 4.0, "Closes only this far below the threshold, so that it does not flutter."),
        number("attack_ms", "Attack", "ms", 0.05, 100.0, 0.5, "Time to open, to 63 %.", scale="log"),
        number("hold_ms", "Hold", "ms", 0.0, 2000.0, 40.0, "How long it stays open after the level has fallen."),
        number("release_ms", "Release", "ms", 1.0, 3000.0, 80.0, "Time to close, to 63 %.", scale="log"),
        level("floor_db", "Floor", -80.0, 0.0, -80.0, "How far down it goes when it is closed; −80 dB is silence."),
    ),
)  # fmt: skip


_WINDOW_S, _SHORTEST_S = 0.010, 0.0005


@device(KIND)
class Gate(Processor):
    remembers = ("_gate_state",)

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        # The detector holds a peak too, over half a period of 50 Hz where that is no longer than the hold, and this is taken
        # off it.
        hold_s = params["hold_ms"] * 1e-3
        window_s = min(_WINDOW_S, max(_SHORTEST_S, hold_s))
        self._level = Level("peak", attack_s=0.0, release_s=0.04, sample_rate_hz=rate, hold_s=window_s)
        self._attack = smoothing(params["attack_ms"] * 1e-3, sample_rate_hz=rate)
        self._release = smoothing(params["release_ms"] * 1e-3, sample_rate_hz=rate)
        self._hold = seconds_to_frames(max(0.0, hold_s - window_s), sample_rate_hz=rate)
        self._gate_state = np.array([params["floor_db"], 0.0, 0.0])

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        gain_db = np.empty(x.shape[1])
        gate_gain(
            self._level.process(x if key is None else key), p["threshold_db"], p["threshold_db"] - p["hysteresis_db"],
            p["floor_db"], self._attack, self._release, self._hold, self._gate_state, gain_db,
        )  # fmt: skip
        self.gain_db = gain_db
        y = np.empty_like(x)
        apply_gain_db(x, gain_db, y)
        if p["floor_db"] <= -80.0:
            y[:, gain_db < -79.9] = 0.0
        return y
