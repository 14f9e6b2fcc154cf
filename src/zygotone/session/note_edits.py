"""What the hand does to notes: choosing them, and changes of those that are chosen.

Conventions
-----------
Notes are a tuple in the order in which a phrase holds them, and a choice is the set of their places in it. A change takes
the chosen notes and gives as many back, in the same order, so that the choice stays what it is. Where a whole group would
leave what is possible, it goes as far as all of it can: chords keep their shape and rhythms theirs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TypeAlias

import numpy as np

from zygotone.errors import ParameterError
from zygotone.music.keys import Key
from zygotone.music.notes import NoteEvent, humanized, quantized, strummed, swung
from zygotone.session.instruments import Note

Notes: TypeAlias = tuple[Note, ...]
Choice: TypeAlias = frozenset[int]
Change: TypeAlias = Callable[[Sequence[Note]], list[Note]]

SOFTEST = 0.02  # a note that cannot be heard is none
SHORTEST = 1 / 64  # beats
MOST_NUDGE_MS = 200.0
_SAME = 1e-6  # beats


def changed(notes: Notes, chosen: Iterable[int], change: Change) -> Notes:
    """All notes, the chosen ones changed."""
    places = sorted(chosen)
    new = dict(zip(places, change([notes[at] for at in places]), strict=True))
    return tuple(new.get(at, note) for at, note in enumerate(notes))


def without(notes: Notes, chosen: Iterable[int]) -> Notes:
    gone = set(chosen)
    return tuple(note for at, note in enumerate(notes) if at not in gone)


# --- choosing ------------------------------------------------------------------------------------------------------


def in_box(notes: Notes, first_beat: float, last_beat: float, low: int, high: int) -> Choice:
    """The notes of which something lies between two beats, and whose pitch lies from ``low`` to ``high``."""
    return frozenset(
        at for at, n in enumerate(notes)
        if low <= n.pitch <= high and n.start_beat < last_beat and n.start_beat + n.length_beats > first_beat
    )  # fmt: skip


def of_pitches(notes: Notes, chosen: Choice) -> Choice:
    """All notes of the pitches that are chosen."""
    pitches = {notes[at].pitch for at in chosen}
    return frozenset(at for at, n in enumerate(notes) if n.pitch in pitches)


def weak(notes: Notes, *, beats_per_bar: int, bar_beats: float) -> Choice:
    """The notes that do not begin on a strong beat. Strong are the first of the bar and, in bars of four, six, eight, nine or
    twelve counts, the first of each of their halves or groups of three (common practice); what lies between counts is weak."""
    groups = {4: 2, 6: 3, 8: 4, 9: 3, 12: 3}.get(beats_per_bar, beats_per_bar)
    stride = bar_beats * groups / beats_per_bar
    found = set()
    for at, n in enumerate(notes):
        within = n.start_beat % bar_beats
        if abs(within - round(within / stride) * stride) > _SAME:
            found.add(at)
    return frozenset(found)


# --- moving --------------------------------------------------------------------------------------------------------


def moved(notes: Sequence[Note], beats: float = 0.0, semitones: int = 0, *, phrase_beats: float) -> list[Note]:
    """Later by ``beats`` and higher by ``semitones``, as far as every note still begins within the phrase and has a pitch."""
    if not notes:
        return []
    latest = phrase_beats - SHORTEST
    beats = min(beats, latest - max(n.start_beat for n in notes))
    beats = max(beats, -min(n.start_beat for n in notes))
    semitones = min(semitones, 127 - max(n.pitch for n in notes))
    semitones = max(semitones, -min(n.pitch for n in notes))
    return [n.replace(start_beat=max(0.0, n.start_beat + beats), pitch=n.pitch + semitones) for n in notes]


def nudged(notes: Sequence[Note], ms: float) -> list[Note]:
    """Played earlier or later by some ms, without leaving their place in the bar."""
    ms = min(ms, MOST_NUDGE_MS - max((n.nudge_ms for n in notes), default=0.0))
    ms = max(ms, -MOST_NUDGE_MS - min((n.nudge_ms for n in notes), default=0.0))
    return [n.replace(nudge_ms=n.nudge_ms + ms) for n in notes]


def lengthened(notes: Sequence[Note], beats: float) -> list[Note]:
    """Each longer by ``beats``, none shorter than a 1/64 beat."""
    return [n.replace(length_beats=max(SHORTEST, n.length_beats + beats)) for n in notes]


def joined_up(notes: Sequence[Note], *, phrase_beats: float) -> list[Note]:
    """Each as long as it takes to the next that begins after it, the last ones to the end of the phrase."""
    starts = sorted({n.start_beat for n in notes})
    ends = dict(zip(starts, [*starts[1:], max(phrase_beats, starts[-1] + SHORTEST)] if starts else [], strict=True))
    return [n.replace(length_beats=max(SHORTEST, ends[n.start_beat] - n.start_beat)) for n in notes]


def stretched(notes: Sequence[Note], factor: float, *, phrase_beats: float) -> list[Note]:
    """Starts and lengths times ``factor``, counted from the first of them.

    Raises
    ------
    ParameterError : a note would begin after the end of the phrase.
    """
    if not notes:
        return []
    first = min(n.start_beat for n in notes)
    new = [
        n.replace(
            start_beat=first + factor * (n.start_beat - first), length_beats=max(SHORTEST, factor * n.length_beats)
        )
        for n in notes
    ]
    late = max(n.start_beat for n in new)
    if late > phrase_beats - SHORTEST:
        raise ParameterError(
            f"stretched by {factor:g}, a note would begin at beat {late:g} of a phrase of {phrase_beats:g}; lengthen it first"
        )
    return new


def reversed_in_time(notes: Sequence[Note]) -> list[Note]:
    """Played backwards: what ended last begins first."""
    if not notes:
        return []
    first = min(n.start_beat for n in notes)
    last = max(n.start_beat + n.length_beats for n in notes)
    return [n.replace(start_beat=max(0.0, first + last - n.start_beat - n.length_beats)) for n in notes]


def mirrored(notes: Sequence[Note], key: Key | None = None) -> list[Note]:
    """Upside down: the highest pitch becomes the lowest. With a key by steps of its scale, so that it stays in it."""
    if not notes:
        return []
    low, high = min(n.pitch for n in notes), max(n.pitch for n in notes)
    if key is None:
        return [n.replace(pitch=low + high - n.pitch) for n in notes]
    turned = []
    for n in notes:
        steps = key.step_of(n.pitch) - key.step_of(low)
        turned.append(n.replace(pitch=_playable(key.moved(high, -steps))))
    return turned


def transposed_in_key(notes: Sequence[Note], steps: int, key: Key) -> list[Note]:
    """By steps of the scale; nothing moves where a note would leave MIDI's range."""
    pitches = [key.moved(n.pitch, steps) for n in notes]
    if any(not 0 <= p <= 127 for p in pitches):
        return list(notes)
    return [n.replace(pitch=p) for n, p in zip(notes, pitches, strict=True)]


def _playable(pitch: int) -> int:
    return max(0, min(127, pitch))


# --- how hard ------------------------------------------------------------------------------------------------------


def _hardness(velocity: float) -> float:
    return round(float(np.clip(velocity, SOFTEST, 1.0)), 4)


def harder(notes: Sequence[Note], by: float) -> list[Note]:
    """All by the same, as far as the hardest and the softest can go."""
    by = min(by, 1.0 - max((n.velocity for n in notes), default=1.0))
    by = max(by, SOFTEST - min((n.velocity for n in notes), default=SOFTEST))
    return [n.replace(velocity=_hardness(n.velocity + by)) for n in notes]


def velocity_scaled(notes: Sequence[Note], factor: float) -> list[Note]:
    return [n.replace(velocity=_hardness(factor * n.velocity)) for n in notes]


def ramped(notes: Sequence[Note], first: float, last: float) -> list[Note]:
    """Velocities along a straight line from the first note's to the last one's."""
    if not notes:
        return []
    starts = np.array([n.start_beat for n in notes])
    span = max(float(np.ptp(starts)), _SAME)
    along = (starts - starts.min()) / span
    return [n.replace(velocity=_hardness(first + (last - first) * t)) for n, t in zip(notes, along, strict=True)]


def swept(notes: Notes, chosen: Choice, begun: tuple[float, float], ended: tuple[float, float]) -> Notes:
    """Velocities drawn by the hand from one place to another, each a beat and a velocity: notes that begin between them take
    what the line has there. Where some are chosen, only those."""
    (beat0, v0), (beat1, v1) = sorted((begun, ended))
    new = []
    for at, n in enumerate(notes):
        if (chosen and at not in chosen) or not beat0 - _SAME <= n.start_beat <= beat1 + _SAME:
            new.append(n)
            continue
        t = (n.start_beat - beat0) / (beat1 - beat0) if beat1 > beat0 else 1.0
        new.append(n.replace(velocity=_hardness(v0 + (v1 - v0) * t)))
    return tuple(new)


# --- by rule -------------------------------------------------------------------------------------------------------


def by_rule(notes: Sequence[Note], rule: Callable[[list[NoteEvent]], Iterable[NoteEvent]]) -> list[Note]:
    """What a rule of ``music.notes`` makes of them, each in the place of the note it came from."""
    # The rules sort, and tell notes apart by nothing but their values: a macro that no rule looks at carries the place.
    tagged = [
        NoteEvent(
            n.start_beat, n.length_beats, n.pitch, n.velocity, n.nudge_ms, (float(at), *n.macros[1:]), n.wheel
        )
        for at, n in enumerate(notes)
    ]  # fmt: skip
    new = list(notes)
    for event in rule(tagged):
        at = int(event.macros[0])
        new[at] = notes[at].replace(
            start_beat=event.start_beat, length_beats=event.length_beats, pitch=event.pitch,
            velocity=round(event.velocity, 4), nudge_ms=round(event.nudge_ms, 3),
        )  # fmt: skip
    return new


def on_grid(notes: Sequence[Note], grid_beats: float, strength: float = 1.0) -> list[Note]:
    return by_rule(notes, lambda events: quantized(events, grid_beats, strength=strength))


def with_swing(notes: Sequence[Note], grid_beats: float, amount: float) -> list[Note]:
    return by_rule(notes, lambda events: swung(events, grid_beats, amount))


def with_feel(notes: Sequence[Note], *, time_ms: float, velocity: float, seed: int) -> list[Note]:
    return by_rule(notes, lambda events: humanized(events, time_ms=time_ms, velocity=velocity, seed=seed))


def as_strum(notes: Sequence[Note], spread_ms: float, *, upward: bool = True) -> list[Note]:
    return by_rule(notes, lambda events: strummed(events, spread_ms, upward=upward))


# --- copies --------------------------------------------------------------------------------------------------------


def duplicated(notes: Notes, chosen: Choice, *, phrase_beats: float, grid_beats: float) -> tuple[Notes, Choice]:
    """The chosen notes once more, right after themselves, on the next line of the grid; the copies are chosen.

    Raises
    ------
    ParameterError : there is no room for them in the phrase.
    """
    held = [notes[at] for at in sorted(chosen)]
    if not held:
        return notes, chosen
    first = min(n.start_beat for n in held)
    end = max(n.start_beat + n.length_beats for n in held)
    stride = np.ceil((end - first) / grid_beats - _SAME) * grid_beats
    return pasted(notes, held, float(first + stride), phrase_beats=phrase_beats)


def pasted(
    notes: Notes, copied: Sequence[Note], at_beat: float, *, phrase_beats: float, semitones: int = 0
) -> tuple[Notes, Choice]:
    """``copied`` with the first of them at ``at_beat``, chosen. Those that begin past the end of the phrase are left out.

    Raises
    ------
    ParameterError : that is all of them.
    """
    if not copied:
        return notes, frozenset()
    first = min(n.start_beat for n in copied)
    new = [n.replace(start_beat=n.start_beat - first + at_beat, pitch=n.pitch + semitones) for n in copied]
    fits = [n for n in new if n.start_beat <= phrase_beats - SHORTEST and 0 <= n.pitch <= 127]
    if not fits:
        raise ParameterError(f"there is no room after beat {at_beat:g} of a phrase of {phrase_beats:g} beats")
    return (*notes, *fits), frozenset(range(len(notes), len(notes) + len(fits)))
