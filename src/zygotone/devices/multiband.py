"""A compressor in up to five bands, downward and upward."""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import Crossover
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.dynamics import Level, add_scaled_db, apply_gain_db, keep_furthest, two_way_gain
from zygotone.dsp.filters import BUTTERWORTH_Q, WIRE, SosStereo, highpass_sos, lowpass_sos
from zygotone.dsp.levels import smoothing
from zygotone.dsp.memory import Memory
from zygotone.dsp.sweeping import centred_shelf, tangent
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Entries, Kind, like_the_shown
from zygotone.session.params import Param, Values, choice, defaults, frequency, level, number, switch

BAND = (
    level("threshold_db", "Threshold", -80.0, 0.0, 0.0, "Above it the band is turned down."),
    number("ratio", "Ratio", ":1", 1.0, 40.0, 2.0, "How many dB more in give one dB more out.", scale="log"),
    level("up_threshold_db", "Up threshold", -80.0, 0.0, -80.0, "Below it the band is turned up."),
    number("up_ratio", "Up ratio", ":1", 1.0, 10.0, 1.0, "How many dB less in give one dB less out; 1 is off.", scale="log"),
    number("attack_ms", "Attack", "ms", 0.1, 300.0, 10.0, "Time to 63 % of a change downward.", scale="log"),
    number("release_ms", "Release", "ms", 5.0, 3000.0, 120.0, "Time to 63 % of the way back.", scale="log"),
    level("knee_db", "Knee", 0.0, 24.0, 0.0, "Width of the bend around both thresholds."),
    level("range_db", "Range", 0.0, 60.0, 60.0, "The most it ever turns the band down or up."),
    level("gain_db", "Gain", -24.0, 24.0, 0.0, "Level of the band afterwards."),
    switch("on", "On", True, "Whether the band is worked on; off, it passes as it is."),
)  # fmt: skip

USUAL_CROSSOVERS_HZ = (120.0, 2500.0)
MOST_BANDS = 5
_MOST_UP_DB = 24.0

KIND = Kind(
    kind="multiband",
    purpose="dynamics",
    entries=Entries(new=like_the_shown),
    title="Multiband",
    summary="Compresses up to five bands apart, from above and from below; idle, it gives back the input itself.",
    takes_key=True,
    params=(
        choice("phase", "Phase", ("linear", "minimum"), "linear", "Linear keeps all frequencies in time, and is heard a moment before a hit in the lows; minimum has no latency and nothing before a hit, and turns phases where a band is turned."),
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


def _ears_sos(low_hz: float | None, high_hz: float | None, rate_hz: int) -> FloatArray:
    """A band between two fourth-order crossovers (Linkwitz and Riley 1976: each a Butterworth squared)."""
    sections = [highpass_sos(low_hz, BUTTERWORTH_Q, sample_rate_hz=rate_hz)] * 2 if low_hz is not None else []
    sections += [lowpass_sos(high_hz, BUTTERWORTH_Q, sample_rate_hz=rate_hz)] * 2 if high_hz is not None else []
    return np.array(sections) if sections else WIRE[None]


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
        """By what is heard of the band, (2, n), to (n,)."""
        b = self.band
        gain = np.zeros(heard.shape[1])
        if not b["on"]:
            return gain
        up_ratio = b["up_ratio"] if b["up_threshold_db"] > -80.0 else 1.0
        two_way_gain(
            self._level.process(heard), b["threshold_db"], b["ratio"], b["up_threshold_db"], up_ratio, b["knee_db"],
            b["range_db"], min(_MOST_UP_DB, b["range_db"]), self._attack, self._release, self._state, gain,
        )  # fmt: skip
        return np.asarray(gain + b["gain_db"])


@device(KIND)
class Multiband(Processor):
    """Linear: y = x + Σ (g − 1)·band, with bands that are in phase with x. Minimum: y = g₁·x through a high shelf at each
    crossover, of the gain of the band above it over that of the one below. Either way exactly the input, late by the
    latency, where nothing is turned up or down.
    """

    remembers = ("_shelves_state",)
    settle_s = 0.03

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        crossovers = tuple(sorted(params["crossovers_hz"]))
        self._linear = params["phase"] == "linear"
        self._crossover = Crossover(crossovers, rate_hz) if crossovers and self._linear else None
        self.latency = self._crossover.latency if self._crossover is not None else 0
        self._whole, self._key_whole = DelayLine(self.latency), DelayLine(self.latency)
        edges = (None, *crossovers, None)
        self._ears = [SosStereo(_ears_sos(edges[i], edges[i + 1], rate_hz)) for i in range(len(crossovers) + 1)]
        self._bands = [_Band(band, rate_hz) for band in params["bands"][: len(crossovers) + 1]]
        self._shelves = [tangent(f / rate_hz) for f in crossovers]
        self._shelves_state = np.zeros((len(crossovers), 2, 2))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        late = self._whole.process(x)
        parts = self._parts(x, late) if self._linear else []
        heard = parts
        if key is not None or not self._linear:
            ears = x if key is None else self._key_whole.process(key)
            heard = [ear.process(ears) for ear in self._ears]
        gains = [band.gain_db(ear) for band, ear in zip(self._bands, heard, strict=False)]
        self.gain_db = np.zeros(x.shape[1])
        for gain in gains:
            keep_furthest(gain, self.gain_db)
        if not self._linear:
            return self._shelved(x, gains)
        y = late.copy()
        for band, part, gain in zip(self._bands, parts, gains, strict=False):
            if band.band["on"]:
                add_scaled_db(y, part, gain)
        return y

    def _parts(self, x: Stereo, late: Stereo) -> list[Stereo]:
        """Bands from the lowest up; they sum to ``late``."""
        if self._crossover is None:
            return [late]
        lows = self._crossover.process(x)
        between = [lows[0], *(lows[i] - lows[i - 1] for i in range(1, len(lows)))]
        return [np.ascontiguousarray(part) for part in (*between, late - lows[-1])]

    def _shelved(self, x: Stereo, gains: list[FloatArray]) -> Stereo:
        gains = gains + [np.zeros(x.shape[1])] * (len(self._shelves) + 1 - len(gains))
        y = np.empty_like(x)
        apply_gain_db(x, gains[0], y)
        for g, state, below, above in zip(self._shelves, self._shelves_state, gains, gains[1:], strict=False):
            shelved = np.empty_like(x)
            centred_shelf(y, above - below, g, state, shelved)
            y = shelved
        return y
