"""A bell that moves only while the key speaks at its frequency."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.dynamics import Level, add_scaled_db, keyed_gain
from zygotone.dsp.filters import SosStereo, bandpass_sos
from zygotone.dsp.levels import smoothing
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import HandCurve, Handle, Kind
from zygotone.session.params import Values, frequency, level, number


def response_db(params: Values, freqs_hz: FloatArray) -> FloatArray:
    """The bell at its deepest."""
    ratio = np.asarray(freqs_hz) / params["freq_hz"]
    band = 1.0 / (1.0 + 1j * params["q"] * (ratio - 1.0 / ratio))
    return np.asarray(20.0 * np.log10(np.abs(1.0 + (10.0 ** (params["range_db"] / 20.0) - 1.0) * band)))


def _moved(params: Values, at: int, freq_hz: float, level_db: float) -> dict[str, Any]:
    return {"freq_hz": freq_hz, "range_db": min(12.0, max(-24.0, level_db))}


KIND = Kind(
    kind="keyed_eq",
    purpose="tone",
    title="Keyed EQ",
    summary="A bell that opens only while the key is loud at its frequency, and closes again after it.",
    takes_key=True,
    picture="curve",
    hand_curve=HandCurve(response_db, lambda p: (Handle(p["freq_hz"], p["range_db"], True),), _moved, "deepest"),
    params=(
        frequency("freq_hz", "Centre", 60.0, "Middle of the bell, and of what is heard of the key."),
        number("q", "Width (Q)", "", 0.3, 12.0, 1.4, "Narrowness of the bell.", scale="log"),
        level("range_db", "Deepest change", -24.0, 12.0, -6.0, "How far the bell goes at most; below 0 is a dip."),
        level("threshold_db", "Key threshold", -60.0, 0.0, -30.0, "Level of the key, at this frequency, from which the bell moves, dB for dB."),
        number("attack_ms", "Attack", "ms", 0.05, 300.0, 2.0, "Time to 63 % of the change.", scale="log"),
        number("release_ms", "Release", "ms", 5.0, 3000.0, 90.0, "Time to 63 % of the way back.", scale="log"),
    ),
)  # fmt: skip


@device(KIND)
class KeyedEq(Processor):
    """y = x + (g − 1)·band-pass(x): at the centre exactly g, and g may move every frame without clicks."""

    settle_s = 0.06
    remembers = ("_gain_state",)

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        self._params = params
        sos = bandpass_sos(params["freq_hz"], params["q"], sample_rate_hz=rate_hz)
        self._band, self._key_band = SosStereo(sos), SosStereo(sos)
        release_s = params["release_ms"] * 1e-3
        self._level = Level("peak", attack_s=0.0, release_s=release_s, sample_rate_hz=rate_hz)
        self._attack = smoothing(params["attack_ms"] * 1e-3, sample_rate_hz=rate_hz)
        self._release = smoothing(self._level.release_s, sample_rate_hz=rate_hz)
        self._gain_state = np.zeros(1)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        part = self._band.process(x)
        heard = self._key_band.process(x if key is None else key)
        gain_db = np.empty(x.shape[1])
        keyed_gain(
            self._level.process(heard),
            p["threshold_db"],
            p["range_db"],
            self._attack,
            self._release,
            self._gain_state,
            gain_db,
        )
        self.gain_db = gain_db
        y = x.copy()
        add_scaled_db(y, part, gain_db)
        return y
