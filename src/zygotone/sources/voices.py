"""Which voice plays which note: chords, single lines, glides, and who makes room when there are too many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from zygotone.dsp.types import GRID_FRAMES, FloatArray
from zygotone.session.instruments import Note, Voices


@dataclass(frozen=True, slots=True)
class SongNote:
    """A note at its place in the song: start and end in frames; ``gain`` is that of the part it is in."""

    start: int
    end: int
    note: Note
    gain: float = 1.0


@dataclass(frozen=True, slots=True)
class Voice:
    """``gate``: frames the key is down. ``cut``: frames after which it is silenced quickly, None to let it ring. ``pitches``:
    corners of the pitch's way, (frame, MIDI number), straight between them."""

    start: int
    gate: int
    note: Note
    pitches: tuple[tuple[int, float], ...]
    cut: int | None = None
    gain: float = 1.0  # beside what the note's velocity does

    @property
    def end(self) -> int:
        return self.start + self.gate

    def pitch_line(self, cells: int, offset: float) -> FloatArray:
        """MIDI numbers at the boundaries of the grid's cells, (cells + 1,), moved by ``offset``."""
        at = np.arange(cells + 1) * GRID_FRAMES
        frames, numbers = zip(*self.pitches, strict=True)
        return np.asarray(np.interp(at, frames, numbers) + offset)


def _glide(voices: Voices, before: float | None, after: float, at: int, rate_hz: int) -> tuple[tuple[int, float], ...]:
    """Corners of the way from one pitch to the next, begun ``at`` frames into the voice."""
    if before is None or voices.glide_ms <= 0.0 or before == after:
        return ((at, after),)
    ms = voices.glide_ms * (abs(after - before) / 12.0 if voices.glide_by == "rate" else 1.0)
    return ((at, before), (at + max(1, round(ms * 1e-3 * rate_hz)), after))


def allocate(notes: Sequence[SongNote], voices: Voices, *, rate_hz: int, release: int) -> list[Voice]:
    """The voices of an instrument, by their start. ``release``: frames that a note sounds on after its end."""
    ordered = sorted(notes, key=lambda n: (n.start, n.note.pitch))
    if voices.mode == "poly":
        return limited(_chords(ordered, voices, rate_hz), voices.limit, release)
    return _line(ordered, voices, rate_hz)


def _chords(notes: Sequence[SongNote], voices: Voices, rate_hz: int) -> list[Voice]:
    made: list[Voice] = []
    last: SongNote | None = None  # of an earlier start: notes of one chord do not glide to each other
    earlier: SongNote | None = None
    for n in notes:
        if last is not None and n.start > last.start:
            earlier = last
        glides = earlier is not None and (voices.glide_when == "always" or n.start < earlier.end)
        before = float(earlier.note.pitch) if earlier is not None and glides else None
        pitches = _glide(voices, before, float(n.note.pitch), 0, rate_hz)
        made.append(Voice(n.start, max(1, n.end - n.start), n.note, pitches, gain=n.gain))
        last = n
    return made


def _line(notes: Sequence[SongNote], voices: Voices, rate_hz: int) -> list[Voice]:
    """One note at a time, the last one pressed; when it is let go, the one before it that is still held comes back."""
    stretches: list[tuple[int, int, SongNote]] = []
    times = sorted({t for n in notes for t in (n.start, n.end)})
    for begin, end in pairwise(times):
        held = [n for n in notes if n.start <= begin < n.end]
        if not held:
            continue
        top = held[-1]
        if stretches and stretches[-1][2] is top and stretches[-1][1] == begin:
            stretches[-1] = (stretches[-1][0], end, top)
        else:
            stretches.append((begin, end, top))
    made: list[Voice] = []
    before: float | None = None
    for n, (begin, end, placed) in enumerate(stretches):
        note = placed.note
        joined = n > 0 and stretches[n - 1][1] == begin
        goes_on = n + 1 < len(stretches) and stretches[n + 1][0] == end
        start_pitch = before if (joined or voices.glide_when == "always") else None
        if voices.mode == "legato" and joined:
            old = made[-1]
            corners = _glide(voices, start_pitch, float(note.pitch), begin - old.start, rate_hz)
            if len(corners) == 1:  # without a glide the pitch changes at once
                corners = ((begin - old.start - 1, float(start_pitch or note.pitch)), *corners)
            kept = tuple(c for c in old.pitches if c[0] < corners[0][0])
            made[-1] = replace(old, gate=end - old.start, pitches=(*kept, *corners))
        else:
            pitches = _glide(voices, start_pitch, float(note.pitch), 0, rate_hz)
            cut = end - begin if voices.mode == "mono" and goes_on else None
            made.append(Voice(begin, max(1, end - begin), note, pitches, cut, placed.gain))
        before = float(note.pitch)
    return made


def limited(voices: Sequence[Voice], limit: int, release: int) -> list[Voice]:
    """No more than ``limit`` at a time: when one too many begins, the one that is missed least is cut.

    First one of the same pitch, then the one that was let go longest ago, then the softest of those that are neither the
    lowest nor the highest (common practice: outer voices are heard most), the oldest of equals.
    """
    done: list[Voice] = []
    active: list[int] = []  # places in ``done``
    for voice in voices:
        now = voice.start
        active = [i for i in active if done[i].cut is None and done[i].end + release > now]
        while len(active) >= limit:
            victim = _least_missed([done[i] for i in active], voice)
            done[active[victim]] = replace(done[active[victim]], cut=max(0, now - done[active[victim]].start))
            del active[victim]
        active.append(len(done))
        done.append(voice)
    return done


def _least_missed(active: Sequence[Voice], coming: Voice) -> int:
    now = coming.start
    pitches = [v.note.pitch for v in active]
    lowest, highest = min(pitches), max(pitches)

    def weight(i: int) -> tuple[float, ...]:
        v = active[i]
        same = 0.0 if v.note.pitch == coming.note.pitch else 1.0
        held = 1.0 if v.end > now else 0.0
        outer = 1.0 if v.note.pitch in (lowest, highest) and len(active) > 2 else 0.0
        return (same, held, 0.0 if held else v.end - now, outer, v.note.velocity, v.start)

    return min(range(len(active)), key=weight)
