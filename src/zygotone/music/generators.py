"""Phrases made by rule: chords, roots, off-beats, arpeggios, rolling basses, accelerating rolls.

Conventions
-----------
Chords come as bars of chords (``chords.parse_chord_line``), each bar shared out evenly among its chords; ``bar_beats`` is
the length of a bar in beats.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zygotone.music.chords import Chord
from zygotone.music.notes import NoteEvent, ordered

Bars = Sequence[Sequence[Chord]]
ARPEGGIOS = ("up", "down", "up and down", "as drawn")


def _spans(bars: Bars, bar_beats: float) -> Iterator[tuple[Chord, float, float]]:
    """Each chord with its start and length in beats."""
    for n, bar in enumerate(bars):
        share = bar_beats / len(bar)
        for k, chord in enumerate(bar):
            yield chord, n * bar_beats + k * share, share


def _voicings(bars: Bars, bar_beats: float, lowest: int) -> Iterator[tuple[list[int], float, float]]:
    """Chords as MIDI numbers, each as close to the one before as can be."""
    before: list[int] = []
    for chord, start, length in _spans(bars, bar_beats):
        before = chord.near(before) if before else chord.voiced(lowest)
        yield before, start, length


def chord_line(
    bars: Bars, *, bar_beats: float, lowest: int = 54, velocity: float = 0.7, hold: float = 0.98
) -> list[NoteEvent]:
    """The chords, held for ``hold`` of their length; each moves as little as it can from the one before."""
    return ordered(
        NoteEvent(start, hold * length, pitch, velocity)
        for pitches, start, length in _voicings(bars, bar_beats, lowest)
        for pitch in pitches
    )


def root_line(
    bars: Bars, *, bar_beats: float, step_beats: float, lowest: int = 28, velocity: float = 0.85, gate: float = 0.9
) -> list[NoteEvent]:
    """The chords' bass notes, over and over every ``step_beats``."""
    notes = []
    for chord, start, length in _spans(bars, bar_beats):
        pitch = lowest + (chord.bass - lowest) % 12
        count = max(1, round(length / step_beats))
        notes += [
            NoteEvent(start + k * step_beats, gate * min(step_beats, length), pitch, velocity) for k in range(count)
        ]
    return notes


def offbeat_line(
    bars: Bars,
    *,
    bar_beats: float,
    beat_beats: float = 1.0,
    lowest: int = 54,
    velocity: float = 0.75,
    gate: float = 0.4,
) -> list[NoteEvent]:
    """The chords halfway between the beats."""
    notes = []
    for pitches, start, length in _voicings(bars, bar_beats, lowest):
        at = start + 0.5 * beat_beats
        while at < start + length - 1e-9:
            notes += [NoteEvent(at, gate * beat_beats, pitch, velocity) for pitch in pitches]
            at += beat_beats
    return ordered(notes)


def arpeggio(
    bars: Bars, *, bar_beats: float, step_beats: float, lowest: int = 54, octaves: int = 1, pattern: str = "up",
    velocity: float = 0.75, gate: float = 0.85,
) -> list[NoteEvent]:  # fmt: skip
    """One note of the chord after the other; every fourth step a little harder."""
    notes = []
    for pitches, start, length in _voicings(bars, bar_beats, lowest):
        ladder = [p + 12 * o for o in range(octaves) for p in pitches if p + 12 * o <= 127]
        if pattern == "down":
            ladder = ladder[::-1]
        elif pattern == "up and down" and len(ladder) > 2:
            ladder = ladder + ladder[-2:0:-1]
        elif pattern == "as drawn":  # outer notes first, then inner ones
            ladder = [ladder[i // 2] if i % 2 == 0 else ladder[-1 - i // 2] for i in range(len(ladder))]
        for k in range(max(1, round(length / step_beats))):
            hard = velocity + (0.1 if k % 4 == 0 else 0.0)
            notes.append(NoteEvent(start + k * step_beats, gate * step_beats, ladder[k % len(ladder)], min(1.0, hard)))
    return notes


def rolling_bass(
    bars: Bars, *, bar_beats: float, step_beats: float = 0.25, lowest: int = 28, velocity: float = 0.8
) -> list[NoteEvent]:
    """Every step but the one on the beat, which is left to the kick (common practice), the last of four an octave up."""
    notes = []
    for chord, start, length in _spans(bars, bar_beats):
        root = lowest + (chord.bass - lowest) % 12
        for k in range(max(1, round(length / step_beats))):
            place = k % 4
            if place == 0:
                continue
            notes.append(
                NoteEvent(
                    start + k * step_beats, 0.8 * step_beats, root + (12 if place == 3 else 0),
                    velocity * (0.85, 0.85, 1.0, 0.92)[place],
                )
            )  # fmt: skip
    return notes


def accelerating_roll(
    *, beats: float, pitch: int, steps_beats: Sequence[float] = (0.5, 0.25, 0.125), pitch_to: int | None = None,
    velocity_from: float = 0.35, velocity_to: float = 1.0,
) -> list[NoteEvent]:  # fmt: skip
    """A roll that quickens: the time is shared out among ever shorter steps, as evenly as whole steps allow, so that every
    stroke lies on the grid of its step. Velocity, pitch and the first macro (for a filter that opens) rise over the whole of
    it."""
    end = pitch if pitch_to is None else pitch_to
    share = beats / len(steps_beats)
    notes = []
    begin = 0.0
    for n, step in enumerate(steps_beats):
        # Each stretch ends on a line of its own step and of the one before; the last one takes what is left.
        coarser = max(steps_beats[n : n + 2])
        until = beats if n == len(steps_beats) - 1 else min(beats, round((n + 1) * share / coarser) * coarser)
        count = max(0, round((until - begin) / step))
        for k in range(count):
            at = begin + k * step
            along = at / beats
            notes.append(
                NoteEvent(
                    at, 0.9 * step, round(pitch + along * (end - pitch)),
                    velocity_from + along * (velocity_to - velocity_from), macros=(along, 0.0, 0.0, 0.0),
                )
            )  # fmt: skip
        begin += count * step
    return notes
