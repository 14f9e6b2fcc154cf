"""Feed-forward compressor.

Gain computer and smoothing: Giannoulis, Massberg and Reiss, "Digital dynamic range compressor design", JAES
60(6), 2012, equations 4 and 16 (smooth branching in the log domain).
"""

from __future__ import annotations

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.dynamics import Level, apply_gain_db, compress, static_curve
from zygotone.dsp.filters import Cuts
from zygotone.dsp.levels import seconds_to_frames, smoothing
from zygotone.dsp.sliding import SlidingMaximum
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, level, number, percent

KIND = Kind(
    kind="compressor",
    purpose="dynamics",
    work="compresses",
    picture="compressor",
    title="Compressor",
    summary="Turns down what is louder than a threshold; with a key, when another track is.",
    takes_key=True,
    params=(
        level("threshold_db", "Threshold", -60.0, 0.0, -20.0, "Level above which it acts."),
        number("ratio", "Ratio", ":1", 1.0, 40.0, 2.0, "How many dB more in give one dB more out.", scale="log"),
        level("knee_db", "Knee", 0.0, 24.0, 6.0, "Width of the bend around the threshold."),
        number("attack_ms", "Attack", "ms", 0.05, 300.0, 10.0, "Time to 63 % of the reduction.", scale="log"),
        number("release_ms", "Release", "ms", 5.0, 3000.0, 120.0, "Time to 63 % of the way back.", scale="log"),
        choice("detector", "Detector", ("peak", "rms"), "peak", "What counts as level: the peak or the power.", ("peak", "RMS")),
        number("rms_ms", "RMS window", "ms", 0.0, 300.0, 0.0, "How long the detector averages where it goes by RMS; 0 is as short as attack and release ask for."),
        number("lookahead_ms", "Lookahead", "ms", 0.0, 20.0, 0.0, "Hears a peak this much before it acts on it, and holds until it has passed.", fixed=True),
        level("range_db", "Range", 0.0, 60.0, 60.0, "The most it ever turns down."),
        level("makeup_db", "Make-up", -24.0, 24.0, 0.0, "Level after the reduction."),
        frequency("key_low_cut_hz", "Key low cut", 20.0, "The detector does not hear below this; 20 Hz is off.", high=2000.0),
        frequency("key_high_cut_hz", "Key high cut", 20000.0, "The detector does not hear above this; 20 kHz is off.", low=200.0),
        percent("link_pct", "Stereo link", 100.0, "100 turns both sides down alike, so that the picture stands still; 0 each for itself."),
    ),
)  # fmt: skip


def transfer_db(params: Values, level_db: FloatArray) -> FloatArray:
    """Output level for a steady input level, range and make-up included."""
    curve = static_curve(
        level_db, threshold_db=params["threshold_db"], ratio=params["ratio"], knee_db=params["knee_db"]
    )
    return np.asarray(np.maximum(curve, np.asarray(level_db) - params["range_db"]) + params["makeup_db"])


@device(KIND)
class Compressor(Processor):
    remembers = ("_reduction_state",)

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        self._params = params
        attack_s, release_s = params["attack_ms"] * 1e-3, params["release_ms"] * 1e-3
        # One detector for both sides; where they are not wholly linked, one for each besides.
        self._linked = params["link_pct"] >= 100.0
        self._levels = [
            Level(
                params["detector"],
                attack_s=attack_s,
                release_s=release_s,
                sample_rate_hz=rate_hz,
                rms_s=params["rms_ms"] * 1e-3,
            )
            for _ in range(3)
        ]
        self._attack = smoothing(attack_s, sample_rate_hz=rate_hz)
        self._release = smoothing(self._levels[0].release_s, sample_rate_hz=rate_hz)
        self._key_filter = Cuts(params["key_low_cut_hz"], params["key_high_cut_hz"], rate_hz)
        self.latency = seconds_to_frames(params["lookahead_ms"] * 1e-3, sample_rate_hz=rate_hz)
        self._delay = DelayLine(self.latency)
        # Until a peak that was heard early has come, it is not let go.
        self._holds = [SlidingMaximum(self.latency + 1) for _ in range(3)] if self.latency else []
        self._reduction_state = np.zeros((2, 1))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        p = self._params
        heard = self._key_filter.process(x if key is None else key)
        both = self._level(0, heard)
        late = self._delay.process(x)
        y = np.empty_like(x)
        if self._linked:
            gain_db = self._reduce(both, 0)
            apply_gain_db(late, gain_db + p["makeup_db"], y)
            self.gain_db = gain_db
            return y
        link = p["link_pct"] / 100.0
        gains = []
        for c in range(2):
            own = self._level(1 + c, np.ascontiguousarray(heard[[c, c]]))
            # Between the side's own level and that of both together, by dB.
            level = own ** (1.0 - link) * both**link
            gains.append(self._reduce(level, c))
            side = np.empty((2, x.shape[1]))
            apply_gain_db(np.ascontiguousarray(late[[c, c]]), gains[c] + p["makeup_db"], side)
            y[c] = side[0]
        self.gain_db = np.minimum(gains[0], gains[1])
        return y

    def _level(self, which: int, heard: Stereo) -> FloatArray:
        level = self._levels[which].process(heard)
        return self._holds[which].process(level) if self._holds else level

    def _reduce(self, level: FloatArray, side: int) -> FloatArray:
        p = self._params
        gain_db = np.empty(len(level))
        compress(
            level, p["threshold_db"], p["ratio"], p["knee_db"], p["range_db"], self._attack, self._release,
            self._reduction_state[side], gain_db,
        )  # fmt: skip
        return gain_db
