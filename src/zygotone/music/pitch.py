"""Frequency, note names and cents in twelve-tone equal temperament.

Conventions
-----------
Note numbers are MIDI's: 69 is A4, 60 is C4. ``a4_hz`` is the frequency of A4.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from zygotone.errors import ParameterError

SHARP_NAMES = ("C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B")
_STEPS = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
_ACCIDENTALS = {"": 0, "#": 1, "♯": 1, "b": -1, "♭": -1}
_NOTE = re.compile(r"^\s*([A-Ga-g])([#♯b♭]?)(-?\d{1,2})\s*$")
_PITCH_CLASS = re.compile(r"^\s*([A-Ga-g])([#♯b♭]?)\s*$")


def midi_to_hz(note: float, *, a4_hz: float = 440.0) -> float:
    """MIDI Tuning: f = a4 · 2^((n − 69)/12)."""
    return float(a4_hz * 2.0 ** ((note - 69.0) / 12.0))


def hz_to_midi(hz: float, *, a4_hz: float = 440.0) -> float:
    return 69.0 + 12.0 * math.log2(hz / a4_hz)


def pitch_class(text: str) -> int:
    """0 for C to 11 for B. ``F#``, ``F♯`` and ``Gb`` are the same."""
    match = _PITCH_CLASS.match(text)
    if match is None:
        raise ParameterError(f"a note name looks like F#, Bb or C, got {text!r}")
    return (_STEPS[match[1].upper()] + _ACCIDENTALS[match[2]]) % 12


def note_to_midi(text: str) -> int:
    """``A4`` is 69; ``A#2``, ``B♭2`` and ``Bb2`` are one note."""
    match = _NOTE.match(text)
    if match is None:
        raise ParameterError(f"a note looks like A#2 or Bb2, got {text!r}")
    return _STEPS[match[1].upper()] + _ACCIDENTALS[match[2]] + 12 * (int(match[3]) + 1)


def midi_to_note(note: int) -> str:
    return f"{SHARP_NAMES[note % 12]}{note // 12 - 1}"


@dataclass(frozen=True, slots=True)
class NamedPitch:
    note: str  # nearest note, such as "G♯1"
    cents: float  # how far above it, −50 to 50
    hz: float

    def __str__(self) -> str:
        return f"{self.note} {self.cents:+.0f} ct".replace("-", "−")


def name_pitch(hz: float, *, a4_hz: float = 440.0) -> NamedPitch:
    exact = hz_to_midi(hz, a4_hz=a4_hz)
    nearest = math.floor(exact + 0.5)
    return NamedPitch(midi_to_note(nearest), 100.0 * (exact - nearest), hz)


def parse_hz(text: str, *, a4_hz: float = 440.0) -> float:
    """A frequency as people type it: ``250``, ``2.5k``, ``250 Hz``, or a note, ``A#2``."""
    plain = text.strip().lower().removesuffix("hz").strip()
    factor = 1.0
    if plain.endswith("k"):
        plain, factor = plain[:-1], 1000.0
    try:
        return float(plain) * factor
    except ValueError:
        return midi_to_hz(note_to_midi(text), a4_hz=a4_hz)
