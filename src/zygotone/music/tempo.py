"""Tempo and note values.

Conventions
-----------
A beat is a quarter note. A note value is written ``1/8``, with ``d`` for dotted (half as long again) and
``t`` for triplet (two thirds as long): ``1/8d``, ``1/4t``. ``2/1`` lasts two whole notes.
"""

from __future__ import annotations

import re
from fractions import Fraction

from zygotone.errors import ParameterError

_NOTE_VALUE = re.compile(r"^\s*(\d{1,3})\s*/\s*(\d{1,3})\s*([dt]?)\s*$", re.IGNORECASE)
_SCALE = {"": Fraction(1), "d": Fraction(3, 2), "t": Fraction(2, 3)}

COMMON_NOTE_VALUES = (
    "1/1",
    "1/2",
    "1/2t",
    "1/4d",
    "1/4",
    "1/4t",
    "1/8d",
    "1/8",
    "1/8t",
    "1/16d",
    "1/16",
    "1/16t",
    "1/32",
)


def beats_to_seconds(beats: float, *, bpm: float) -> float:
    return beats * 60.0 / bpm


def note_value_to_beats(text: str) -> Fraction:
    """Length of a note value in beats, exactly.

    Raises
    ------
    ParameterError : ``text`` is not a note value.
    """
    match = _NOTE_VALUE.match(text)
    if match is None or int(match[1]) == 0 or int(match[2]) == 0:
        raise ParameterError(f"a note value looks like 1/8, 1/8d (dotted) or 1/8t (triplet), got {text!r}")
    return Fraction(int(match[1]), int(match[2])) * 4 * _SCALE[match[3].lower()]


def note_value_to_seconds(text: str, *, bpm: float) -> float:
    return beats_to_seconds(float(note_value_to_beats(text)), bpm=bpm)
