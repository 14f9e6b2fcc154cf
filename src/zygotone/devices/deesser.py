"""Turns down the hiss of s, cymbals and pick noise, and only while it hisses."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.dynamics import Level, keyed_gain
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, highpass_sos
from zygotone.dsp.levels import smoothing
from zygotone.dsp.sweeping import dynamic_shelf, tangent
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, frequency, level

KIND = Kind(
    kind="deesser",
    purpose="tone",
    title="De-esser",
    summary="A high shelf that dips only while what lies above it is too loud.",
    params=(
        frequency("freq_hz", "From", 5500.0, "Where the hiss begins.", low=1000.0, high=16000.0),
        level("threshold_db", "Threshold", -60.0, 0.0, -30.0, "Level of the hiss above which it acts, dB for dB."),
        level("range_db", "Deepest dip", -24.0, 0.0, -8.0, "How far the shelf goes down at most."),
    ),
)

# An s lasts 50 to 150 ms (common practice): quick enough for its beginning, slow enough not to buzz.
_ATTACK_S, _RELEASE_S = 0.0008, 0.05


@device(KIND)
class Deesser(Processor):
    settle_s = 0.03
    remembers = ("_gain_state", "_shelf_state")

    def __init__(self, params: Values, host: Host) -> None:
        rate = host.rate_hz
        self._params = params
        high = highpass_sos(params["freq_hz"], BUTTERWORTH_Q, sample_rate_hz=rate)
        self._ears = SosStereo(np.array([high, high]))
        self._level = Level("peak", attack_s=0.0, release_s=_RELEASE_S, sample_rate_hz=rate)
        self._attack = smoothing(_ATTACK_S, sample_rate_hz=rate)
        self._release = smoothing(self._level.release_s, sample_rate_hz=rate)
        self._gain_state = np.zeros(1)
        self._g = tangent(params["freq_hz"] / rate)
        self._shelf_state = np.zeros((2, 2))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        gain_db = np.empty(x.shape[1])
        keyed_gain(
            self._level.process(self._ears.process(x)), p["threshold_db"], p["range_db"], self._attack, self._release,
            self._gain_state, gain_db,
        )  # fmt: skip
        self.gain_db = gain_db
        y = np.empty_like(x)
        dynamic_shelf(x, gain_db, self._g, self._shelf_state, y)
        return y
