"""Keys, intervals and how well two pitches agree."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from zygotone.errors import ParameterError
from zygotone.music.pitch import SHARP_NAMES, midi_to_hz, pitch_class

SCALES = {"major": (0, 2, 4, 5, 7, 9, 11), "minor": (0, 2, 3, 5, 7, 8, 10)}

INTERVALS = (
    "unison", "minor second", "major second", "minor third", "major third", "fourth",
    "tritone", "fifth", "minor sixth", "major sixth", "minor seventh", "major seventh",
)  # fmt: skip

# Usual classes of consonance in tonal harmony (common practice): perfect, imperfect, mild, sharp.
_CONSONANCE = {0: 1.0, 7: 0.95, 5: 0.85, 4: 0.75, 3: 0.75, 9: 0.7, 8: 0.65, 10: 0.4, 2: 0.35, 11: 0.15, 1: 0.1, 6: 0.1}
CONSONANT_FROM = 0.6

_KEY = re.compile(r"^\s*([A-Ga-g][#♯b♭]?)\s*(major|minor|maj|min|m)?\s*$", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Key:
    tonic: int  # pitch class, 0 is C
    mode: str  # "major" or "minor"

    @property
    def name(self) -> str:
        return f"{SHARP_NAMES[self.tonic]} {self.mode}"

    @property
    def pitch_classes(self) -> tuple[int, ...]:
        return tuple((self.tonic + step) % 12 for step in SCALES[self.mode])

    def moved(self, pitch: int, steps: int) -> int:
        """A MIDI pitch moved by steps of the scale; a note beside the scale stays as far beside it."""
        above = (pitch - self.tonic) % 12
        scale = SCALES[self.mode]
        degree = max(d for d, semitones in enumerate(scale) if semitones <= above)
        octave, new = divmod(degree + steps, len(scale))
        return pitch - above + 12 * octave + scale[new] + (above - scale[degree])

    def step_of(self, pitch: int) -> int:
        """How many steps of the scale a MIDI pitch, or the note of the scale under it, lies above MIDI's lowest tonic."""
        octave, above = divmod(pitch - self.tonic, 12)
        scale = SCALES[self.mode]
        return len(scale) * octave + max(d for d, semitones in enumerate(scale) if semitones <= above)

    def note_table(self, *, octaves: range = range(9), a4_hz: float = 440.0) -> list[tuple[str, list[float]]]:
        """Each degree of the scale from the tonic: its name and its Hz in every octave (C to B) of ``octaves``."""
        return [
            (SHARP_NAMES[pc], [midi_to_hz(pc + 12 * (octave + 1), a4_hz=a4_hz) for octave in octaves])
            for pc in self.pitch_classes
        ]


def parse_key(text: str) -> Key:
    """``F# minor``, ``F♯m``, ``Bb``, ``c maj``.

    Raises
    ------
    ParameterError : not a key.
    """
    match = _KEY.match(text)
    if match is None:
        raise ParameterError(f"a key looks like F# minor, F#m, or Bb major, got {text!r}")
    word = match[2] or "major"
    # The lone letter is the one place where case matters: "M" alone is not accepted as minor.
    minor = word == "m" or word.lower() in ("min", "minor")
    if word == "M":
        minor = False
    return Key(pitch_class(match[1]), "minor" if minor else "major")


@dataclass(frozen=True, slots=True)
class Interval:
    semitones: int  # nearest whole number, octaves included, sign from the first pitch to the second
    cents: float  # what is left over, −50 to 50
    name: str  # within the octave
    consonance: float  # 0 (harsh) to 1 (unison), by class


def interval(first_hz: float, second_hz: float) -> Interval:
    exact = 12.0 * math.log2(second_hz / first_hz)
    nearest = math.floor(exact + 0.5)
    step = abs(nearest) % 12
    # Counted from the lower pitch, so that an interval and its inverse direction have one name.
    return Interval(nearest, 100.0 * (exact - nearest), INTERVALS[step], _CONSONANCE[step])


def interval_above(tonic: int, hz: float, *, a4_hz: float = 440.0) -> Interval:
    """How far a pitch lies above the next tonic (a pitch class) below it: C♯ is a minor second from C in any octave."""
    tonic_hz = midi_to_hz(tonic, a4_hz=a4_hz)
    # A quarter tone under a tonic counts as that tonic.
    octaves = math.floor(math.log2(hz / tonic_hz) + 1.0 / 24.0)
    return interval(tonic_hz * 2.0**octaves, hz)


def nearest_in_key(hz: float, key: Key, *, a4_hz: float = 440.0) -> float:
    """The pitch in ``key`` closest to ``hz`` that is consonant with the tonic."""
    wanted = [pc for pc in key.pitch_classes if _CONSONANCE[(pc - key.tonic) % 12] >= CONSONANT_FROM]
    notes = (midi_to_hz(n, a4_hz=a4_hz) for n in range(128) if n % 12 in wanted)
    return min(notes, key=lambda note_hz: abs(math.log(note_hz / hz)))
