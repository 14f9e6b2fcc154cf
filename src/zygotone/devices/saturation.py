"""Waveshaping with oversampling; lows and highs can be left clean."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import BAND_ORDER, BandFilter
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, highpass_sos, tilt_sos
from zygotone.dsp.levels import db_to_gain
from zygotone.dsp.oversampling import Oversampler, latency_frames
from zygotone.dsp.shaping import CURVES, drive_blend, matching_trim, residue, shape
from zygotone.dsp.sides import Sides
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, level, number, switch

KIND = Kind(
    kind="saturation",
    purpose="colour",
    picture="saturation",
    title="Saturation",
    summary="Adds harmonics by bending the waveform; what it does not bend passes untouched.",
    params=(
        choice("curve", "Curve", CURVES, "soft", "How the waveform is bent."),
        level("drive_db", "Drive", 0.0, 48.0, 6.0, "How far into the curve; 0 dB is a straight wire."),
        number("bias", "Bias", "", -0.9, 0.9, 0.0, "Moves the working point, which adds even harmonics."),
        level("tilt_db", "Tilt", -12.0, 12.0, 0.0, "Above 0 the highs are driven harder, below 0 the lows."),
        frequency("clean_below_hz", "Clean below", 20.0, "What lies below stays clean, at any drive; 20 Hz is off.", high=2000.0, fixed=True),
        frequency("clean_above_hz", "Clean above", 20000.0, "What lies above stays clean, at any drive; 20 kHz is off.", low=200.0, fixed=True),
        choice("oversampling", "Oversampling", (0, 1, 2, 4, 8), 0, "How many times the rate the curve runs at, against folding; as needed is 4× while it plays and 8× in a render.", ("as needed", "1×", "2×", "4×", "8×")),
        switch("level_match", "Level match", True, "A trim after the curve, worked out from curve and drive, that keeps the level of a track at −18 dBFS; it never moves by itself."),
        level("trim_db", "Trim", -24.0, 24.0, 0.0, "Level of what is driven, on top of the match; what is left clean keeps its own."),
    ),
)  # fmt: skip

_CLEAN_DB = 0.45  # what is left clean may change by so much
_STEEPEST = {"fuzz": 3.0}  # slope of a curve where it is steepest; of the others 1
_INWARD_STEPS = 24  # to an octave
_MOST_INWARD = 2.5  # that ``_inward`` can be: 2.2 for a fuzz at 48 dB
_TILT_PIVOT_HZ = 700.0
_DC_HZ = 8.0


def _trim(params: Values) -> float:
    """Gain of the curve: what is set, and what matches its level."""
    matched = matching_trim(params["curve"], params["drive_db"], params["bias"]) if params["level_match"] else 1.0
    return matched * db_to_gain(params["trim_db"])


def _inward(params: Values) -> float:
    """How far inside of its edge, as a ratio, the driven band has to begin so that at the edge all is clean: there the curve may
    change what the band lets through, twice, by ``_CLEAN_DB`` at most, and the more it is driven the steeper it is for what is
    small."""
    drive_db = params["drive_db"]
    times = 10.0 ** (drive_db / 20.0) * _STEEPEST.get(params["curve"], 1.0)
    change = max(1.0, drive_blend(drive_db) * (times - 1.0))
    let_through = math.sqrt((10.0 ** (_CLEAN_DB / 20.0) - 1.0) / change)
    octaves = math.log2(1.0 / let_through - 1.0) / BAND_ORDER
    return float(2.0 ** (math.ceil(octaves * _INWARD_STEPS) / _INWARD_STEPS))


def transfer(params: Values, x: FloatArray) -> FloatArray:
    """The curve, before its trim."""
    return shape(params["curve"], x, drive_db=params["drive_db"], bias=params["bias"])


@device(KIND)
class Saturation(Processor):
    """Only the *residue* of the curve, curve minus straight line, goes through the oversampling filters and is
    added to the untouched signal; so the top of the spectrum is not dulled and no drive is exactly no change.

    With B the band that is not left clean, y = x + B(curve(B x) − B x). B has no phase of its own, so that outside of the
    band there is x alone, and at its edges the two only ever add.
    """

    settle_s = 0.08

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        self._params = params
        self._gain = 10.0 ** (params["drive_db"] / 20.0)
        self._blend = drive_blend(params["drive_db"])
        self._trim = _trim(params)
        factor = params["oversampling"] or (4 if host.live else 8)
        self.latency = latency_frames(params["oversampling"] or 8)
        # Heard and rendered are aligned alike.
        self._wait = DelayLine(self.latency - latency_frames(factor))
        low_hz = params["clean_below_hz"] if params["clean_below_hz"] > 20.0 else None
        high_hz = params["clean_above_hz"] if params["clean_above_hz"] < 20000.0 else None
        self._bands: list[BandFilter] = []
        if low_hz is not None or high_hz is not None:
            edges = (low_hz, None if high_hz is None else high_hz / _MOST_INWARD)
            lowest_hz = min(f for f in edges if f is not None)
            inward = _inward(params)
            if low_hz is not None and high_hz is not None:  # no further than to where both edges meet
                inward = min(inward, max(1.0, math.sqrt(high_hz / low_hz)))
            low_hz = None if low_hz is None else low_hz * inward
            high_hz = None if high_hz is None else high_hz / inward
            self._bands = [BandFilter(low_hz, high_hz, rate_hz, lowest_hz=lowest_hz) for _ in range(2)]
            self.latency += sum(band.latency for band in self._bands)
        self._delay = DelayLine(self.latency)
        self._over = Sides(lambda: Oversampler(factor)) if factor > 1 else None
        tilt_db = params["tilt_db"]
        self._tilts = [SosStereo(tilt_sos(db, _TILT_PIVOT_HZ, sample_rate_hz=rate_hz)) for db in (tilt_db, -tilt_db)]
        self._tilted = tilt_db != 0.0
        self._dc = SosStereo(highpass_sos(_DC_HZ, BUTTERWORTH_Q, sample_rate_hz=rate_hz))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        dry = self._delay.process(x)
        if self._blend == 0.0:
            for band in self._bands:
                x = band.process(x)  # it goes on hearing what may be driven soon
            return dry
        u = self._bands[0].process(x) if self._bands else x
        u = self._wait.process(self._tilts[0].process(u) if self._tilted else u)
        if self._over is None:
            bent = u.copy()
            self._bend(bent)
        else:
            bent = self._over.process(u, self._bent_above)
        bent = self._dc.process(self._tilts[1].process(bent) if self._tilted else bent)
        return np.asarray(dry + (self._bands[1].process(bent) if self._bands else bent))

    def _bend(self, u: npt.NDArray[Any]) -> None:
        """In place: the residue of the curve."""
        residue(self._params["curve"], self._gain, self._params["bias"], self._blend, self._trim, u)

    def _bent_above(self, over: Oversampler, u: FloatArray) -> FloatArray:
        phases = over.up(u)
        self._bend(phases)
        return over.down(phases)
