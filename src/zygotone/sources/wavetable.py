"""A wavetable: single cycles in a row, read at a place that moves."""

from __future__ import annotations

import functools

import numpy as np

from zygotone.dsp.oscillators import read_cycles
from zygotone.dsp.tables import HARMONICS, TABLES, built_in_waves, from_audio, waves
from zygotone.dsp.types import FloatArray, Stereo
from zygotone.dsp.wavetables import harmonics_below
from zygotone.session.catalogue import Kind
from zygotone.session.params import Param, Values, at_start, choice, number, percent, share, whole
from zygotone.sources.base import NoteRequest, source
from zygotone.sources.oscillator import add_aside, detuned, spread_of, unison_voices

KIND = Kind(
    kind="wavetable",
    title="Wavetable",
    summary="Single cycles in a row, blending into each other as the place moves; built in, or your own.",
    params=(
        choice("table", "Table", TABLES, TABLES[0], "Which row of cycles."),
        Param(name="file", label="Own table", type="file", default="", help="Single cycles from an audio file, used instead of a built-in table."),
        whole("cycle_frames", "Cycle length", 16, 8192, 2048, "Of the file: how many samples are one cycle.", unit="samples"),
        share("position", "Position", 0.0, "Where in the row, 0 the first cycle to 1 the last."),
        whole("unison", "Unison", 1, 9, 1, "How many play at once."),
        number("detune_cents", "Detune", "cents", 0.0, 100.0, 14.0, "How far apart the outermost of a unison are."),
        percent("spread_pct", "Spread", 60.0, "The unison over both sides."),
        at_start(number("phase_deg", "Phase", "°", 0.0, 360.0, 0.0, "Where in the cycle it begins.")),
    ),
)  # fmt: skip


@functools.lru_cache(maxsize=8)
def _imported(sound: bytes, cycle_frames: int, harmonics: int) -> FloatArray:
    table = waves(from_audio(np.frombuffer(sound), cycle_frames), harmonics)
    table.setflags(write=False)
    return table


def table_of(params: Values, note: NoteRequest, harmonics: int) -> FloatArray:
    """The cycles with so many partials at most, shape (cycles, size)."""
    if params["file"]:
        mono = np.ascontiguousarray(note.clip(params["file"])[0, : 256 * params["cycle_frames"]])
        return _imported(mono.tobytes(), params["cycle_frames"], harmonics)
    return built_in_waves(params["table"], harmonics)


def _rounded(harmonics: int) -> int:
    """Down to a twelfth of an octave, so that neighbouring notes share their cycles."""
    return (
        max(1, min(HARMONICS, int(2.0 ** (np.floor(12.0 * np.log2(harmonics)) / 12.0))))
        if harmonics > 24
        else harmonics
    )


@source(KIND)
def render(params: Values, note: NoteRequest) -> Stereo:
    voices = [
        (detuned(note, note.steps, along, params["detune_cents"]), place, start)
        for along, place, start in unison_voices(params["unison"])
    ]
    spread = spread_of(params, note)
    sides = 2 if len(voices) > 1 and float(np.max(spread)) > 0.0 else 1
    out = np.zeros((sides, note.frames))
    top = note.rate_hz * max(float(np.max(steps)) * ratio for (steps, ratio), _, _ in voices)
    if top >= 0.49 * note.rate_hz:
        return out
    table = table_of(params, note, _rounded(harmonics_below(top, note.rate_hz)))
    places = np.clip(note.grid("position", params["position"]), 0.0, 1.0) * (len(table) - 1)
    one = np.empty(note.frames)
    for (steps, ratio), place, start in voices:
        phase = (params["phase_deg"] / 360.0 + start) % 1.0
        if sides == 1:
            read_cycles(table, places, steps, ratio, phase, len(voices) ** -0.5, out[0])
            continue
        one[:] = 0.0
        read_cycles(table, places, steps, ratio, phase, len(voices) ** -0.5, one)
        add_aside(out, one, place, spread)
    return out
