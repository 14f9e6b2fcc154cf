"""Chords by their names."""

from __future__ import annotations

import re
from dataclasses import dataclass

from zygotone.errors import ParameterError
from zygotone.music.pitch import pitch_class

# Semitones over the root, by the suffix as it is usually written.
_QUALITIES: dict[str, tuple[int, ...]] = {
    "": (0, 4, 7), "maj": (0, 4, 7), "m": (0, 3, 7), "min": (0, 3, 7), "-": (0, 3, 7), "5": (0, 7), "dim": (0, 3, 6),
    "°": (0, 3, 6), "aug": (0, 4, 8), "+": (0, 4, 8), "sus2": (0, 2, 7), "sus4": (0, 5, 7), "sus": (0, 5, 7),
    "6": (0, 4, 7, 9), "m6": (0, 3, 7, 9), "7": (0, 4, 7, 10), "maj7": (0, 4, 7, 11), "M7": (0, 4, 7, 11),
    "m7": (0, 3, 7, 10), "min7": (0, 3, 7, 10), "m7b5": (0, 3, 6, 10), "ø": (0, 3, 6, 10), "dim7": (0, 3, 6, 9),
    "mmaj7": (0, 3, 7, 11), "7sus4": (0, 5, 7, 10), "add9": (0, 4, 7, 14), "madd9": (0, 3, 7, 14),
    "9": (0, 4, 7, 10, 14), "maj9": (0, 4, 7, 11, 14), "m9": (0, 3, 7, 10, 14), "11": (0, 4, 7, 10, 14, 17),
    "m11": (0, 3, 7, 10, 14, 17), "13": (0, 4, 7, 10, 14, 21), "6/9": (0, 4, 7, 9, 14), "7b9": (0, 4, 7, 10, 13),
    "7#9": (0, 4, 7, 10, 15),
}  # fmt: skip
_CHORD = re.compile(r"^([A-Ga-g])([#♯b♭]?)(.*?)(?:/([A-Ga-g][#♯b♭]?))?$")


@dataclass(frozen=True, slots=True)
class Chord:
    """Root and bass as pitch classes, steps in semitones over the root."""

    name: str
    root: int
    steps: tuple[int, ...]
    bass: int

    def voiced(self, lowest: int) -> list[int]:
        """MIDI numbers in close position, the root the first at or above ``lowest``; a bass of its own goes below."""
        root = lowest + (self.root - lowest) % 12
        pitches = [root + step for step in self.steps]
        if self.bass != self.root:
            pitches.insert(0, root - (self.root - self.bass) % 12)
        return [p for p in pitches if 0 <= p <= 127]

    def near(self, before: list[int]) -> list[int]:
        """MIDI numbers of the inversion whose notes move least from ``before``."""
        middle = sum(before) / len(before)
        best: list[int] = []
        for turn in range(len(self.steps)):
            for octave in range(1, 9):
                turned = sorted(step + (12 if i < turn else 0) for i, step in enumerate(self.steps))
                pitches = [self.root + 12 * octave + step for step in turned]
                if max(pitches) > 127 or min(pitches) < 0:
                    continue
                if not best or _way(pitches, before, middle) < _way(best, before, middle):
                    best = pitches
        return best


def _way(pitches: list[int], before: list[int], middle: float) -> float:
    moved = sum(min(abs(p - q) for q in before) for p in pitches)
    return moved + 0.1 * abs(sum(pitches) / len(pitches) - middle)


def parse_chord(text: str) -> Chord:
    """``F#m9``, ``Dmaj7``, ``Bb/D``, ``C#m7``.

    Raises
    ------
    ParameterError : not a chord that is known.
    """
    plain = text.strip()
    match = _CHORD.match(plain)
    # "6/9" looks like a bass note otherwise, and is none.
    if match is not None and match[4] is None and match[3] not in _QUALITIES:
        match = None
    if match is None or match[3] not in _QUALITIES:
        raise ParameterError(f"a chord looks like F#m9, Dmaj7 or Bb/D, got {text!r}")
    root = pitch_class(match[1] + match[2])
    bass = pitch_class(match[4]) if match[4] else root
    return Chord(plain, root, _QUALITIES[match[3]], bass)


def parse_chord_line(text: str) -> list[list[Chord]]:
    """Bars parted by ``|``, chords within a bar by spaces: ``F#m9 | Dmaj7 | Bm7 C#m7``.

    Raises
    ------
    ParameterError : a chord is not known, or there is none.
    """
    bars = [[parse_chord(name) for name in bar.split()] for bar in text.strip().strip("|").split("|")]
    if not any(bars):
        raise ParameterError("a chord line looks like F#m9 | Dmaj7 | Bm7 | C#m7")
    filled: list[list[Chord]] = []
    for bar in bars:  # an empty bar holds the chord before it
        filled.append(bar or ([filled[-1][-1]] if filled else []))
    if not filled[0]:
        raise ParameterError("a chord line cannot begin with an empty bar")
    return filled
