"""A loudspeaker in its box before a microphone, or any impulse response of your own."""

from __future__ import annotations

import functools

import numpy as np

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.convolution import Convolver, convolved_sides
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Param, Values, number, share

KIND = Kind(
    kind="cabinet",
    purpose="tone",
    picture="response",
    title="Cabinet",
    summary="A loudspeaker and a microphone for guitars and bass, worked out from size, brightness and distance; or an impulse file.",
    params=(
        number("size", "Size", "in", 6.0, 18.0, 12.0, "Width of the cone in inches; a larger one goes lower and is duller.", fixed=True),
        share("brightness", "Brightness", 0.5, "From the edge of the cone (0) to its middle (1)."),
        number("distance_cm", "Distance", "cm", 1.0, 200.0, 5.0, "Of the microphone; near is fuller, far has the floor in it.", scale="log"),
        Param(name="impulse", label="Impulse file", type="file", default="", help="An impulse response to use instead; empty uses the cabinet."),
    ),
)  # fmt: skip

_TAPS = 2048
_SOUND_CM_S = 34_300.0
MOST_IMPULSE_S = 20.0


def minimum_phase(magnitude: FloatArray) -> FloatArray:
    """The impulse response of least delay with this magnitude (bins,), by the folded cepstrum (Oppenheim and Schafer)."""
    n = 2 * (len(magnitude) - 1)
    cepstrum = np.fft.irfft(np.log(np.maximum(magnitude, 1e-6)))
    fold = np.zeros(n)
    fold[0] = fold[n // 2] = 1.0
    fold[1 : n // 2] = 2.0
    return np.asarray(np.fft.irfft(np.exp(np.fft.rfft(cepstrum * fold))))


@functools.lru_cache(maxsize=64)
def cabinet_response(size_in: float, brightness: float, distance_cm: float, rate_hz: int) -> FloatArray:
    """Impulse response, shape (2048,), 0 dB on average from 200 Hz to 3 kHz.

    The features are those of published loudspeaker measurements in general (common practice): a resonance of cone and
    box, a rise where the cone begins to break up, a steep fall above it, and the reflection from the floor.
    """
    n = 8192
    f = np.maximum(np.fft.rfftfreq(n, 1.0 / rate_hz), 1.0)
    resonance = 95.0 * 12.0 / size_in
    ratio = 1j * f / resonance
    box = ratio**2 / (ratio**2 + ratio / 1.3 + 1.0)  # cone and box: second order, Q 1.3
    coupling = 1j * f / (0.55 * resonance)
    box = box * coupling / (1.0 + coupling)
    breakup = (2600.0 + 900.0 * brightness) * (12.0 / size_in) ** 0.35

    def bump(centre: float, width_oct: float, gain_db: float) -> FloatArray:
        return np.asarray(10.0 ** (gain_db / 20.0 * np.exp(-0.5 * (np.log2(f / centre) / width_oct) ** 2)))

    top = (4600.0 + 1800.0 * brightness) * (12.0 / size_in) ** 0.3
    fall = 1.0 / np.sqrt(1.0 + (f / top) ** 8)
    magnitude = (
        np.abs(box) * bump(breakup, 0.45, 4.0 + 5.0 * brightness) * bump(420.0 * 12.0 / size_in, 0.5, -3.0) * fall
    )
    rng = np.random.default_rng(round(size_in * 7))  # the cone's own modes: always the same for one size
    for centre in rng.uniform(1200.0, 6500.0, 14):
        magnitude = magnitude * bump(float(centre), 0.07, float(rng.uniform(-4.0, 3.0)))
    # Near the cone the low end grows (proximity); far away the floor answers later and duller.
    magnitude = (
        magnitude
        * np.sqrt(1.0 + (resonance * 1.4 / f) ** 2 * 6.0 / distance_cm)
        * np.sqrt(1.0 / (1.0 + (f / 14000.0) ** 2))
    )
    response = minimum_phase(magnitude)[:_TAPS].copy()
    longer_cm = 2.0 * np.hypot(60.0, 0.5 * distance_cm) - distance_cm
    delay = round(longer_cm / _SOUND_CM_S * rate_hz)
    strength = 0.55 * distance_cm / (distance_cm + longer_cm)
    if 0 < delay < _TAPS // 2:
        soft = np.convolve(response[: _TAPS - delay], np.ones(5) / 5.0)[: _TAPS - delay]
        response[delay:] += strength * soft
    response *= np.cos(0.5 * np.pi * np.arange(_TAPS) / _TAPS) ** 2
    spectrum = np.abs(np.fft.rfft(response, n))
    middle = (f > 200.0) & (f < 3000.0)
    return np.asarray(response / np.sqrt(np.mean(spectrum[middle] ** 2)))


@device(KIND)
class Cabinet(Processor):
    def __init__(self, params: Values, host: Host) -> None:
        if params["impulse"]:
            clip = host.clip(params["impulse"])[:, : round(MOST_IMPULSE_S * host.rate_hz)]
            level = np.sqrt(np.max(np.sum(clip**2, axis=1)))
            left, right = clip / level if level > 0.0 else clip
        else:
            response = cabinet_response(
                round(params["size"], 2), round(params["brightness"], 3), round(params["distance_cm"], 2), host.rate_hz
            )
            left = right = response
        # By whether there is a file and not by its length, so that the latency is known without reading it.
        self.latency = 1024 if params["impulse"] else 512
        self._sides = convolved_sides(left, right, partition=self.latency)

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        return np.asarray(self._sides.process(x, Convolver.process)[0])
