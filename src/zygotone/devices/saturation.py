"""Waveshaping with oversampling; lows and highs can be left clean."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.delays import DelayLine
from zygotone.dsp.filters import BUTTERWORTH_Q, SosStereo, highpass_sos, lowpass_sos, tilt_sos
from zygotone.dsp.loudness_match import LoudnessMatch
from zygotone.dsp.oversampling import Oversampler, latency_frames
from zygotone.dsp.shaping import CURVES, drive_blend, residue, shape
from zygotone.dsp.sides import Sides
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, frequency, level, number, switch

KIND = Kind(
    kind="saturation",
    title="Saturation",
    summary="Adds harmonics by bending the waveform; what it does not bend passes untouched.",
    params=(
        choice("curve", "Curve", CURVES, "soft", "How the waveform is bent."),
        level("drive_db", "Drive", 0.0, 48.0, 6.0, "How far into the curve; 0 dB is a straight wire."),
        number("bias", "Bias", "", -0.9, 0.9, 0.0, "Moves the working point, which adds even harmonics."),
        level("tilt_db", "Tilt", -12.0, 12.0, 0.0, "Above 0 the highs are driven harder, below 0 the lows."),
        frequency("clean_below_hz", "Clean below", 20.0, "What lies below stays clean; 20 Hz is off.", high=2000.0),
        frequency("clean_above_hz", "Clean above", 20000.0, "What lies above stays clean; 20 kHz is off.", low=200.0),
        choice("oversampling", "Oversampling", (1, 2, 4, 8), 4, "How many times the rate the curve runs at, against folding.", ("1×", "2×", "4×", "8×")),
        switch("level_match", "Level match", True, "Keeps the loudness, so that only the colour changes."),
    ),
)  # fmt: skip

_TILT_PIVOT_HZ = 700.0
_DC_HZ = 8.0


def transfer(params: Values, x: FloatArray) -> FloatArray:
    """The curve, before level match."""
    return shape(params["curve"], x, drive_db=params["drive_db"], bias=params["bias"])


@device(KIND)
class Saturation(Processor):
    """Only the *residue* of the curve, curve minus straight line, goes through the oversampling filters and is
    added to the untouched signal; so the top of the spectrum is not dulled and no drive is exactly no change.
    """

    def __init__(self, params: Values, host: Host) -> None:
        rate_hz = host.rate_hz
        self._params = params
        self._gain = 10.0 ** (params["drive_db"] / 20.0)
        self._blend = drive_blend(params["drive_db"])
        factor = params["oversampling"]
        self.latency = latency_frames(factor)
        self._delay = DelayLine(self.latency)
        self._over = Sides(lambda: Oversampler(factor)) if factor > 1 else None
        before = []
        if params["clean_below_hz"] > 20.0:
            before.append(highpass_sos(params["clean_below_hz"], BUTTERWORTH_Q, sample_rate_hz=rate_hz))
        if params["clean_above_hz"] < 20000.0:
            before.append(lowpass_sos(params["clean_above_hz"], BUTTERWORTH_Q, sample_rate_hz=rate_hz))
        after = [highpass_sos(_DC_HZ, BUTTERWORTH_Q, sample_rate_hz=rate_hz)]
        if params["tilt_db"] != 0.0:
            before.append(tilt_sos(params["tilt_db"], _TILT_PIVOT_HZ, sample_rate_hz=rate_hz))
            after.append(tilt_sos(-params["tilt_db"], _TILT_PIVOT_HZ, sample_rate_hz=rate_hz))
        self._before = SosStereo(np.array(before)) if before else None
        self._after = SosStereo(np.array(after))
        self._match = LoudnessMatch(rate_hz, first_gain=self._first_guess())

    def _first_guess(self) -> float:
        """Match for a sine at −12 dB, until the material itself has been heard."""
        sine = 0.25 * np.sin(2.0 * np.pi * np.arange(512) / 512)
        bent = transfer(self._params, sine)
        return float(np.sqrt(np.sum(sine**2) / max(float(np.sum((bent - bent.mean()) ** 2)), 1e-12)))

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        dry = self._delay.process(x)
        if self._blend == 0.0:
            return dry
        u = x if self._before is None else self._before.process(x)
        if self._over is None:
            bent = u.copy()
            self._bend(bent)
        else:
            bent = self._over.process(u, self._bent_above)
        y = dry + self._after.process(bent)
        if not self._params["level_match"]:
            return y
        return y * self._match.process(dry, y, self.position)

    def _bend(self, u: npt.NDArray[Any]) -> None:
        """In place: the residue of the curve."""
        residue(self._params["curve"], self._gain, self._params["bias"], self._blend, u)

    def _bent_above(self, over: Oversampler, u: FloatArray) -> FloatArray:
        phases = over.up(u)
        self._bend(phases)
        return over.down(phases)
