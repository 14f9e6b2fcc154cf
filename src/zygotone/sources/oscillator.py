"""Two band-limited oscillators."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.oscillators import add_sine, read_cycles, read_pulse
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.wavetables import SHAPES, harmonics_below, single_cycle
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, choice, number, percent, whole
from zygotone.sources.base import NoteRequest, source

KIND = Kind(
    kind="oscillator",
    title="Oscillators",
    summary="Two band-limited oscillators, mixed; the second tuned against the first, both in unison if wanted.",
    params=(
        choice("shape", "Shape A", SHAPES, "saw", "Waveform of the first oscillator."),
        choice("shape_b", "Shape B", SHAPES, "saw", "Waveform of the second oscillator."),
        percent("mix_b", "Share of B", 0.0, "How much of the second is in the mix."),
        whole("b_semitones", "B semitones", -36, 36, 0, "Second oscillator above or below the first."),
        number("b_cents", "B cents", "cents", -100.0, 100.0, 0.0, "Fine tuning of the second."),
        number("pulse_width", "Pulse width", "%", 2.0, 98.0, 50.0, "Of both, where they are pulses."),
        percent("spread_pct", "Spread", 0.0, "First to the left, second to the right; and the unison over both sides."),
        number("phase_deg", "Phase", "°", 0.0, 360.0, 0.0, "Where in the cycle the first begins; the second is a quarter behind."),
        whole("unison", "Unison", 1, 9, 1, "How many of each play at once."),
        number("detune_cents", "Detune", "cents", 0.0, 100.0, 12.0, "How far apart the outermost of a unison are."),
    ),
)  # fmt: skip


def unison_voices(count: int, detune_cents: float, spread: float) -> list[tuple[float, float, float]]:
    """Of each voice its pitch ratio, its place from −1 (left) to 1 (right), and the cycle's part by which it starts apart.

    Pitches are evenly apart and places go to the sides in turn, so that no side is the higher one.
    """
    if count == 1:
        return [(1.0, 0.0, 0.0)]
    found = []
    for n in range(count):
        along = 2.0 * n / (count - 1) - 1.0
        side = along if n % 2 == 0 else -along
        # Starts by the golden section: far from each other, and the same every time.
        found.append((2.0 ** (0.5 * detune_cents * along / 1200.0), spread * side, (0.618034 * n) % 1.0))
    return found


@source(KIND)
def render(params: Values, note: NoteRequest) -> Stereo:
    moving_mix = note.grid("mix_b", params["mix_b"])
    share = float(params["mix_b"]) / 100.0
    # Equal power across the mix, so that turning it does not change how loud two unlike waves are.
    levels = (np.cos(share * np.pi / 2), np.sin(share * np.pi / 2))
    moves = bool(np.ptp(moving_mix) > 0.0)
    alone = not moves and min(levels) < 1e-6  # only one of them is heard
    spread = params["spread_pct"] / 100.0
    cents = note.grid("b_cents", params["b_cents"])
    b_steps = note.steps * 2.0 ** ((params["b_semitones"] + cents / 100.0) / 12.0)
    detune = note.grid("detune_cents", params["detune_cents"])
    widths = note.grid("pulse_width", params["pulse_width"]) / 100.0
    one = np.empty(note.frames)
    voices = unison_voices(params["unison"], float(detune[0]), max(spread, 0.0))
    scale = 1.0 / np.sqrt(len(voices))
    sides = 2 if spread > 0.0 else 1
    out = np.zeros((sides, note.frames))
    for which, (steps, shape, gain, turn) in enumerate(
        ((note.steps, params["shape"], levels[0], 0.0), (b_steps, params["shape_b"], levels[1], 0.75))
    ):
        if gain < 1e-6 and not moves:
            continue
        part = out if alone else np.zeros((sides, note.frames))
        for ratio, place, start in voices:
            top_hz = float(np.max(steps)) * ratio * note.rate_hz
            if top_hz >= 0.49 * note.rate_hz:
                continue
            phase = (params["phase_deg"] / 360.0 + turn + start) % 1.0
            if sides == 1:
                _wave(shape, steps, ratio, widths, phase, scale, top_hz, note, part[0])
                continue
            one[:] = 0.0
            _wave(shape, steps, ratio, widths, phase, scale, top_hz, note, one)
            if len(voices) > 1:
                side = place
            else:
                side = -spread if which == 0 else spread
            part[0] += np.sqrt(1.0 - max(0.0, side)) * one
            part[1] += np.sqrt(1.0 - max(0.0, -side)) * one
        if moves:
            angle = np.interp(np.arange(note.frames) / 32.0, np.arange(note.cells + 1), moving_mix) * np.pi / 200.0
            out += part * (np.cos(angle) if which == 0 else np.sin(angle))
        elif not alone:
            out += gain * part
    return out


def _wave(
    shape: str, steps: FloatArray, ratio: float, widths: FloatArray, phase: float, gain: float, top_hz: float, note: NoteRequest,
    y: FloatArray,
) -> None:  # fmt: skip
    harmonics = harmonics_below(top_hz, note.rate_hz)
    if shape == "sine":
        add_sine(steps, ratio, phase, gain, y)
    elif shape == "pulse" and np.ptp(widths) > 0.0:
        read_pulse(single_cycle("saw", harmonics), widths, steps, ratio, phase, gain, y)
    else:
        cycle = single_cycle(shape, harmonics, float(widths[0]))
        read_cycles(cycle[None], np.zeros(len(steps)), steps, ratio, phase, gain, y)
