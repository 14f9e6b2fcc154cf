"""Two band-limited oscillators."""

from __future__ import annotations

import numpy as np

from zygotone.dsp.moving import balanced_places
from zygotone.dsp.oscillators import add_sine, read_cycles, read_pulse
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.wavetables import SHAPES, harmonics_below, single_cycle
from zygotone.session.catalogue import Kind
from zygotone.session.params import Values, at_start, choice, number, percent, whole
from zygotone.sources.base import NoteRequest, source

KIND = Kind(
    kind="oscillator",
    title="Oscillators",
    summary="Two band-limited oscillators, mixed; the second tuned against the first, both in unison if wanted.",
    params=(
        choice("shape", "Shape A", SHAPES, "saw", "Waveform of the first oscillator."),
        choice("shape_b", "Shape B", SHAPES, "saw", "Waveform of the second oscillator."),
        percent("mix_b", "Share of B", 0.0, "How much of the second is in the mix."),
        whole("b_semitones", "B transpose", -36, 36, 0, "Second oscillator above or below the first.", unit="semitones"),
        number("b_cents", "B cents", "cents", -100.0, 100.0, 0.0, "Fine tuning of the second."),
        number("pulse_width", "Pulse width", "%", 2.0, 98.0, 50.0, "Of both, where they are pulses."),
        percent("spread_pct", "Spread", 0.0, "First to the left, second to the right; and the unison over both sides."),
        at_start(number("phase_deg", "Phase", "°", 0.0, 360.0, 0.0, "Where in the cycle the first begins; the second is a quarter behind.")),
        whole("unison", "Unison", 1, 9, 1, "How many of each play at once."),
        number("detune_cents", "Detune", "cents", 0.0, 100.0, 12.0, "How far apart the outermost of a unison are."),
    ),
)  # fmt: skip


def unison_voices(count: int) -> list[tuple[float, float, float]]:
    """Of each voice its detuning and its place, both from −1 to 1, and the cycle's part by which it starts apart.

    Places are evenly apart and mirror each other, so that no side is the louder one. They go to the sides in turn as the
    pitches rise, so that no side is the higher one. Pitches are unevenly apart, or all would beat as one.
    """
    if count == 1:
        return [(0.0, 0.0, 0.0)]
    along = np.linspace(-1.0, 1.0, count)
    along[1:-1] += (np.mod(0.618034 * np.arange(1, count - 1), 1.0) - 0.5) * 0.7 / count
    along -= along.mean()
    # Starts by the golden section: far from each other, and the same every time.
    return [
        (float(pitch), place, (0.618034 * n) % 1.0)
        for n, (pitch, place) in enumerate(zip(along, balanced_places(count), strict=True))
    ]


def detuned(note: NoteRequest, steps: FloatArray, along: float, detune_cents: float) -> tuple[FloatArray, float]:
    """Steps of one voice of a unison, and the ratio to read them by."""
    if not note.moves("detune_cents"):
        return steps, 2.0 ** (0.5 * detune_cents * along / 1200.0)
    return steps * 2.0 ** (0.5 * note.grid("detune_cents", detune_cents) * along / 1200.0), 1.0


def add_aside(out: FloatArray, one: FloatArray, place: float, spread: FloatArray) -> None:
    """Adds a voice (n,) to both sides, (2, n), at its place times the spread, 0 to 1, (1,) or (n,); at constant power, the
    middle 1 on both."""
    angle = (place * spread + 1.0) * (np.pi / 4.0)
    out[0] += np.sqrt(2.0) * np.cos(angle) * one
    out[1] += np.sqrt(2.0) * np.sin(angle) * one


def spread_of(params: Values, note: NoteRequest) -> FloatArray:
    """0 to 1: (1,) where it stands still, else for each frame."""
    line = note.grid("spread_pct", params["spread_pct"]) / 100.0
    return note.by_frame(line) if note.moves("spread_pct") else line[:1]


@source(KIND)
def render(params: Values, note: NoteRequest) -> Stereo:
    share = float(params["mix_b"]) / 100.0
    # Equal power across the mix, so that turning it does not change how loud two unlike waves are.
    levels = (np.cos(share * np.pi / 2), np.sin(share * np.pi / 2))
    moves = note.moves("mix_b")
    alone = not moves and min(levels) < 1e-6  # only one of them is heard
    spread = spread_of(params, note)
    cents = note.grid("b_cents", params["b_cents"])
    b_steps = note.steps * 2.0 ** ((params["b_semitones"] + cents / 100.0) / 12.0)
    widths = note.grid("pulse_width", params["pulse_width"]) / 100.0
    one = np.empty(note.frames)
    voices = unison_voices(params["unison"])
    scale = 1.0 / np.sqrt(len(voices))
    sides = 2 if float(np.max(spread)) > 0.0 else 1
    out = np.zeros((sides, note.frames))
    for which, (steps, shape, gain, turn) in enumerate(
        ((note.steps, params["shape"], levels[0], 0.0), (b_steps, params["shape_b"], levels[1], 0.75))
    ):
        if gain < 1e-6 and not moves:
            continue
        part = out if alone else np.zeros((sides, note.frames))
        for along, place, start in voices:
            mine, ratio = detuned(note, steps, along, params["detune_cents"])
            top_hz = float(np.max(mine)) * ratio * note.rate_hz
            if top_hz >= 0.49 * note.rate_hz:
                continue
            phase = (params["phase_deg"] / 360.0 + turn + start) % 1.0
            if sides == 1:
                _wave(shape, mine, ratio, widths, phase, scale, top_hz, note, part[0])
                continue
            one[:] = 0.0
            _wave(shape, mine, ratio, widths, phase, scale, top_hz, note, one)
            add_aside(part, one, place if len(voices) > 1 else 0.0 if alone else 2.0 * which - 1.0, spread)
        if moves:
            angle = note.by_frame(note.grid("mix_b", params["mix_b"])) * np.pi / 200.0
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
