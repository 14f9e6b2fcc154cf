"""Notes in beats, and what is done to many of them at once.

Conventions
-----------
A beat is a quarter note, velocities and macros lie between 0 and 1, pitches are MIDI numbers. Every function returns new
notes, in the order of their starts.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np


@dataclass(frozen=True, slots=True)
class NoteEvent:
    start_beat: float
    length_beats: float
    pitch: int
    velocity: float = 0.8
    nudge_ms: float = 0.0
    macros: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    wheel: float = 0.0


def ordered(notes: Iterable[NoteEvent]) -> list[NoteEvent]:
    return sorted(notes, key=lambda n: (n.start_beat, n.pitch))


def quantized(notes: Iterable[NoteEvent], grid_beats: float, *, strength: float = 1.0) -> list[NoteEvent]:
    """Starts moved towards the nearest line of a grid; ``strength`` 0 leaves them, 1 puts them on it. A nudge is part of where
    a note is: it becomes smaller by as much."""
    moved = []
    for n in notes:
        line = round(n.start_beat / grid_beats) * grid_beats
        start = max(0.0, n.start_beat + strength * (line - n.start_beat))
        moved.append(replace(n, start_beat=start, nudge_ms=(1.0 - strength) * n.nudge_ms))
    return ordered(moved)


def swung(notes: Iterable[NoteEvent], grid_beats: float, amount: float) -> list[NoteEvent]:
    """Every other line of the grid comes later: ``amount`` 0 is straight, 1 makes triplets of pairs (common practice)."""
    moved = []
    for n in notes:
        pair = 2.0 * grid_beats
        at = n.start_beat % pair
        base = n.start_beat - at
        # The first half is stretched and the second squeezed, so that what lies between lines moves along.
        middle = grid_beats * (1.0 + amount / 3.0)
        if at < grid_beats:
            at = at * middle / grid_beats
        else:
            at = middle + (at - grid_beats) * (pair - middle) / grid_beats
        moved.append(replace(n, start_beat=base + at))
    return ordered(moved)


def humanized(notes: Sequence[NoteEvent], *, time_ms: float, velocity: float, seed: int) -> list[NoteEvent]:
    """Nudges of ``time_ms`` and changes of ``velocity`` as standard deviations, held within twice that; the same for a seed."""
    rng = np.random.default_rng(seed)
    moved = []
    for n in ordered(notes):
        late, hard = np.clip(rng.standard_normal(2), -2.0, 2.0)
        moved.append(
            replace(
                n,
                nudge_ms=float(np.clip(n.nudge_ms + time_ms * late, -200.0, 200.0)),
                velocity=float(np.clip(n.velocity + velocity * hard, 0.02, 1.0)),
            )
        )
    return moved


def strummed(notes: Iterable[NoteEvent], spread_ms: float, *, upward: bool = True) -> list[NoteEvent]:
    """Notes that begin together are spread out, so that the last of them lands on the beat: low strings lead where the hand
    goes ``upward`` in pitch. A chord that is strummed already is strummed anew: the latest of it says where the beat is."""
    groups: dict[float, list[NoteEvent]] = {}
    for n in notes:
        groups.setdefault(round(n.start_beat, 6), []).append(n)
    moved = []
    for chord in groups.values():
        strings = sorted(chord, key=lambda n: n.pitch if upward else -n.pitch)
        landing = max(n.nudge_ms for n in strings)
        for place, n in enumerate(strings):
            early = spread_ms * (1.0 - place / (len(strings) - 1)) if len(strings) > 1 else 0.0
            moved.append(replace(n, nudge_ms=max(-200.0, landing - early)))
    return ordered(moved)


def transposed(notes: Iterable[NoteEvent], semitones: int) -> list[NoteEvent]:
    """Moved in pitch; what would leave MIDI's range stays an octave within it."""

    def within(pitch: int) -> int:
        while pitch > 127:
            pitch -= 12
        while pitch < 0:
            pitch += 12
        return pitch

    return [replace(n, pitch=within(n.pitch + semitones)) for n in notes]
