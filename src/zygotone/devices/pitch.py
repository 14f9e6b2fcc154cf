"""Pitch and formants, each for itself."""

from __future__ import annotations

from typing import Any

from zygotone.devices.base import Host, Processor, device
from zygotone.dsp.pitch_shifting import FRAME, QUICK_FRAME, PitchShifter
from zygotone.dsp.types import Stereo
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, number


def _moved_by_a_number(given: dict[str, Any]) -> dict[str, Any]:
    """Formants once were moved by their number alone."""
    if given.get("formant_semitones") and "formants" not in given:
        return {**given, "formants": "move"}
    return given


KIND = Kind(
    kind="pitch",
    purpose="colour",
    title="Pitch",
    summary="Moves pitch and formants apart, so that a voice goes up without getting small.",
    params=(
        number("semitones", "Pitch", "st", -24.0, 24.0, 0.0, "How far the pitch moves, in semitones."),
        number("cents", "Fine", "ct", -100.0, 100.0, 0.0, "And in cents."),
        choice("formants", "Formants", ("keep", "move", "leave"), "keep", "Kept where they are, as a voice wants it; moved by themselves; or left to go along with the pitch, as drums and chords want it.", ("kept", "moved", "left alone")),
        number("formant_semitones", "Formants by", "st", -12.0, 12.0, 0.0, "How far formants move, where they are moved."),
        choice("mode", "Mode", ("fine", "quick"), "fine", "Fine for low notes and chords; quick to play through, 21 ms late at 48 kHz.", ("fine", "quick")),
    ),
    upgrade=_moved_by_a_number,
)  # fmt: skip


@device(KIND)
class Pitch(Processor):
    def __init__(self, params: Values, host: Host) -> None:
        ratio = 2.0 ** ((params["semitones"] + params["cents"] / 100.0) / 12.0)
        moved = params["formant_semitones"] if params["formants"] == "move" else 0.0
        formants = None if params["formants"] == "leave" else 2.0 ** (moved / 12.0)
        frame = QUICK_FRAME if params["mode"] == "quick" else FRAME
        self._shifter = PitchShifter(ratio, formants, host.rate_hz, frame=frame)
        self.latency = self._shifter.latency

    def process(self, x: Stereo, key: Stereo | None) -> Stereo:
        return self._shifter.process(x)
