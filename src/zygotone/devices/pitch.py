"""Pitch and formants, each for itself."""

from __future__ import annotations

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.pitch_shifting import PitchShifter
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, number

KIND = Kind(
    kind="pitch",
    title="Pitch",
    summary="Moves pitch and formants apart, so that a voice goes up without getting small.",
    params=(
        number("semitones", "Pitch", "st", -24.0, 24.0, 0.0, "How far the pitch moves, in semitones."),
        number("cents", "Fine", "ct", -100.0, 100.0, 0.0, "And in cents."),
        number("formant_semitones", "Formants", "st", -12.0, 12.0, 0.0, "How far the formants move; at 0 they stay where they are."),
    ),
)  # fmt: skip


@device(KIND)
class Pitch(Processor):
    def __init__(self, params: Values, host: Host) -> None:
        ratio = 2.0 ** ((params["semitones"] + params["cents"] / 100.0) / 12.0)
        formants = 2.0 ** (params["formant_semitones"] / 12.0)
        self._shifter = PitchShifter(ratio, formants, host.rate_hz)
        self.latency = self._shifter.latency

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        return self._shifter.process(x)
