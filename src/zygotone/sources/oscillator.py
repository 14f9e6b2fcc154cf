"""Two band-limited oscillators."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.types import Stereo
from zygotone.dsp.wavetables import SHAPES, harmonics_below, read_cycle, single_cycle
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, number, whole
from zygotone.sources.base import NoteRequest, source

KIND = Kind(
    kind="oscillator",
    title="Oscillators",
    summary="Two band-limited oscillators, mixed; the second tuned against the first.",
    params=(
        choice("shape", "Shape A", SHAPES, "saw", "Waveform of the first oscillator."),
        choice("shape_b", "Shape B", SHAPES, "saw", "Waveform of the second oscillator."),
        number("mix_b", "Share of B", "%", 0.0, 100.0, 0.0, "How much of the second is in the mix."),
        whole("b_semitones", "B semitones", -36, 36, 0, "Second oscillator above or below the first."),
        number("b_cents", "B cents", "cents", -100.0, 100.0, 0.0, "Fine tuning of the second."),
        number("pulse_width", "Pulse width", "%", 2.0, 98.0, 50.0, "Of both, where they are pulses."),
        number("spread_pct", "Spread", "%", 0.0, 100.0, 0.0, "First to the left, second to the right."),
        number("phase_deg", "Phase", "°", 0.0, 360.0, 0.0, "Where in the cycle the first begins; the second is a quarter behind."),
    ),
)  # fmt: skip


@source(KIND)
def render(params: Values, note: NoteRequest) -> Stereo:
    share = params["mix_b"] / 100.0
    # Equal power across the mix, so that turning it does not change how loud two unlike waves are.
    levels = (np.cos(share * np.pi / 2), np.sin(share * np.pi / 2))
    spread = params["spread_pct"] / 100.0
    out = np.zeros((2, note.frames))
    hz_b = note.pitch_hz * 2.0 ** ((params["b_semitones"] + params["b_cents"] / 100.0) / 12.0)
    for hz, shape, gain, side, turn in (
        (note.pitch_hz, params["shape"], levels[0], -spread, 0.0),
        (hz_b, params["shape_b"], levels[1], spread, 0.75),
    ):
        if gain < 1e-6 or hz >= 0.49 * note.rate_hz:
            continue
        cycle = single_cycle(shape, harmonics_below(hz, note.rate_hz), params["pulse_width"] / 100.0)
        wave = np.zeros(note.frames)
        step = np.full(note.frames, hz / note.rate_hz)
        read_cycle(cycle, (params["phase_deg"] / 360.0 + turn) % 1.0, step, wave)
        out[0] += gain * np.sqrt(1.0 - max(0.0, side)) * wave
        out[1] += gain * np.sqrt(1.0 - max(0.0, -side)) * wave
    return out
