"""A compressor in up to five bands, downward and upward."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import Crossover
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.dynamics import Level, add_scaled_db, two_way_gain
from zygotone.dsp.levels import smoothing
from zygotone.dsp.memory import Memory
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Param, Values, defaults, frequency, level, number, switch

BAND = (
    level("threshold_db", "Threshold", -80.0, 0.0, 0.0, "Above it the band is turned down."),
    number("ratio", "Ratio", ":1", 1.0, 40.0, 2.0, "How many dB more in give one dB more out.", scale="log"),
    level("up_threshold_db", "Up threshold", -80.0, 0.0, -80.0, "Below it the band is turned up."),
    number("up_ratio", "Up ratio", ":1", 1.0, 10.0, 1.0, "How many dB less in give one dB less out; 1 is off.", scale="log"),
    number("attack_ms", "Attack", "ms", 0.1, 300.0, 10.0, "Time to 63 % of a change downward.", scale="log"),
    number("release_ms", "Release", "ms", 5.0, 3000.0, 120.0, "Time to 63 % of the way back.", scale="log"),
    level("gain_db", "Gain", -24.0, 24.0, 0.0, "Level of the band afterwards."),
    switch("on", "On", True, "Whether the band is worked on; off, it passes as it is."),
)  # fmt: skip

USUAL_CROSSOVERS_HZ = (120.0, 2500.0)
MOST_BANDS = 5
_MOST_UP_DB = 24.0

KIND = Kind(
    kind="multiband",
    title="Multiband",
    summary="Compresses up to five bands apart, from above and from below; idle, the bands sum to the input itself.",
    takes_key=True,
    params=(
        Param(
            name="crossovers_hz", label="Crossovers", type="list", entries="plain", max_items=MOST_BANDS - 1,
            default=USUAL_CROSSOVERS_HZ, help="Where one band ends and the next begins, rising.",
            items=(frequency("crossover_hz", "Crossover", 120.0, "Where one band ends and the next begins.", low=30.0, high=16000.0, fixed=True),),
        ),
        Param(
            name="bands", label="Bands", type="list", items=BAND, max_items=MOST_BANDS,
            default=tuple(defaults(BAND) for _ in range(len(USUAL_CROSSOVERS_HZ) + 1)),
            help="The bands from the lowest up; one that is not listed does nothing.",
        ),
    ),
)  # fmt: skip


class _Band(Memory):
    """Detector and gain of one band."""

    remembers = ("_state",)

    def __init__(self, band: Values, rate_hz: int) -> None:
        self.band = band
        release_s = band["release_ms"] * 1e-3
        self._level = Level("peak", attack_s=0.0, release_s=release_s, sample_rate_hz=rate_hz)
        self._attack = smoothing(band["attack_ms"] * 1e-3, sample_rate_hz=rate_hz)
        self._release = smoothing(self._level.release_s, sample_rate_hz=rate_hz)
        self._state = np.zeros(1)

    def gain_db(self, heard: Stereo) -> FloatArray:
        b = self.band
        gain = np.empty(heard.shape[1])
        up_ratio = b["up_ratio"] if b["up_threshold_db"] > -80.0 else 1.0
        two_way_gain(
            self._level.process(heard), b["threshold_db"], b["ratio"], b["up_threshold_db"], up_ratio, _MOST_UP_DB,
            self._attack, self._release, self._state, gain,
        )  # fmt: skip
        return np.asarray(gain + b["gain_db"])


@device(KIND)
class Multiband(Processor):
    """y = x + Σ (g − 1)·band: where nothing is turned up or down, exactly the input, late by the crossovers."""

    def __init__(self, params: Values, host: Host) -> None:
        crossovers = tuple(sorted(params["crossovers_hz"]))
        self._crossover = Crossover(crossovers, host.rate_hz) if crossovers else None
        self._key_crossover = Crossover(crossovers, host.rate_hz) if crossovers else None
        self.latency = self._crossover.latency if self._crossover is not None else 0
        self._whole, self._key_whole = DelayLine(self.latency), DelayLine(self.latency)
        self._bands = [_Band(band, host.rate_hz) for band in params["bands"][: len(crossovers) + 1]]

    @staticmethod
    def _split(crossover: Crossover | None, x: Stereo, late: Stereo) -> list[Stereo]:
        """Bands from the lowest up; they sum to ``late``."""
        if crossover is None:
            return [late]
        lows = crossover.process(x)
        between = [lows[0], *(lows[i] - lows[i - 1] for i in range(1, len(lows)))]
        return [np.ascontiguousarray(part) for part in (*between, late - lows[-1])]

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        late = self._whole.process(x)
        parts = self._split(self._crossover, x, late)
        heard = parts
        if key is not None:
            heard = self._split(self._key_crossover, key, self._key_whole.process(key))
        y = late.copy()
        lowest: FloatArray | None = None
        for band, part, ears in zip(self._bands, parts, heard, strict=False):
            if band.band["on"]:
                gain_db = band.gain_db(ears)
                add_scaled_db(y, part, gain_db)
                lowest = gain_db if lowest is None else np.where(np.abs(gain_db) > np.abs(lowest), gain_db, lowest)
        self.gain_db = lowest if lowest is not None else np.zeros(x.shape[1])
        return y
