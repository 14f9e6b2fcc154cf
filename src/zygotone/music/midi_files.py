"""Standard MIDI Files: notes, tempo and wheel in and out (formats 0 and 1; the Standard MIDI Files 1.0 specification).

Conventions
-----------
Beats are quarter notes. A file that counts in frames of film (SMPTE) is read by its seconds, at 120 BPM.

A file of ours also holds each track's notes exactly, as JSON in a meta event that is meant for such things (sequencer-specific,
FF 7F, under the number 7D that is nobody's): nudges, macros and the length of the phrase have no place in MIDI. They are
taken from there as long as the file's own notes are still those; where another program has changed them, its notes hold.
"""

from __future__ import annotations

import json
import math
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import mido

from zygotone.errors import BadFileError
from zygotone.music.notes import NoteEvent, ordered
from zygotone.plain_files import replace_file

TICKS_PER_BEAT = 960
_MOST_NOTES = 200_000
_MOST_BYTES = 64 << 20
_OURS = (0x7D, *b"zygotone 1 ")  # what our meta event begins with


@dataclass(frozen=True, slots=True)
class TempoChange:
    beat: float
    bpm: float


@dataclass(frozen=True, slots=True)
class PhraseFrame:
    """What a phrase says about all of its notes: its length, and how much later it and its track are played."""

    beats: float
    nudge_ms: float = 0.0
    track_nudge_ms: float = 0.0


@dataclass(frozen=True, slots=True)
class MidiTrack:
    name: str
    notes: tuple[NoteEvent, ...]
    phrase: PhraseFrame | None = None  # where the file says so; then nudges of notes are their own


@dataclass(frozen=True, slots=True)
class MidiSong:
    tracks: tuple[MidiTrack, ...]  # those with notes
    tempos: tuple[TempoChange, ...]  # the first at beat 0
    beats_per_bar: int = 4
    beat_unit: int = 4

    @property
    def notes(self) -> list[NoteEvent]:
        return ordered(n for track in self.tracks for n in track.notes)

    def beat_to_seconds(self, beat: float) -> float:
        """Time of a beat along the tempo map."""
        seconds, at, bpm = 0.0, 0.0, self.tempos[0].bpm
        for change in self.tempos[1:]:
            if change.beat >= beat:
                break
            seconds += (change.beat - at) * 60.0 / bpm
            at, bpm = change.beat, change.bpm
        return seconds + (beat - at) * 60.0 / bpm


def read_midi(path: str | Path) -> MidiSong:
    """All notes of a file with the wheel (controller 1) as it stood when each began.

    Raises
    ------
    BadFileError : missing, no Standard MIDI File, cut short, of format 2, or without notes.
    """
    path = Path(path)
    try:
        if not path.is_file():
            raise BadFileError(path, "", "there is no such file")
        if path.stat().st_size > _MOST_BYTES:
            raise BadFileError(path, "", f"is larger than {_MOST_BYTES >> 20} MiB, which no song is")
        head = path.read_bytes()[:4]
        if head != b"MThd":
            raise BadFileError(path, "header", "is no Standard MIDI File")
        file = mido.MidiFile(path)
    except BadFileError:
        raise
    except OSError as error:
        raise BadFileError(path, "", error.strerror or "was cut short") from None
    except (EOFError, ValueError, IndexError, KeyError, TypeError) as error:
        raise BadFileError(path, "", f"cannot be read as MIDI ({error or 'it was cut short'})") from None
    if file.type == 2:
        raise BadFileError(path, "format", "holds separate patterns (format 2); save it as format 0 or 1")
    per_beat = file.ticks_per_beat
    film = per_beat > 0x7FFF  # negative frames a second in the upper byte
    if film:
        frames = 256 - (per_beat >> 8)
        per_beat = max(1, round(frames * (per_beat & 0xFF) / 2.0))  # 120 BPM: two beats a second
    if per_beat <= 0:
        raise BadFileError(path, "header", "counts no ticks to a beat")
    tempos: list[TempoChange] = []
    metre = (4, 4)
    tracks = []
    total = 0
    for n, track in enumerate(file.tracks):
        name, notes, at, wheel = f"Track {n + 1}", [], 0, {}
        exact: _Exact | None = None
        open_notes: dict[tuple[int, int], list[tuple[int, int, float]]] = {}
        for message in track:
            at += message.time
            if message.type == "track_name" and message.name.strip():
                name = message.name.strip()[:120]
            elif message.type == "sequencer_specific" and tuple(message.data[: len(_OURS)]) == _OURS:
                exact = _read_exact(bytes(message.data[len(_OURS) :]))
            elif message.type == "set_tempo" and message.tempo > 0 and not film:
                tempos.append(TempoChange(at / per_beat, mido.tempo2bpm(message.tempo)))
            elif message.type == "time_signature" and at == 0:
                metre = (message.numerator, message.denominator)
            elif message.type == "control_change" and message.control == 1:
                wheel[message.channel] = message.value / 127.0
            elif message.type == "note_on" and message.velocity > 0:
                key = (message.channel, message.note)
                open_notes.setdefault(key, []).append((at, message.velocity, wheel.get(message.channel, 0.0)))
            elif message.type in ("note_off", "note_on"):
                held = open_notes.get((message.channel, message.note))
                if held:  # first in, first out, as the specification leaves it open
                    notes.append(_note(held.pop(0), at, message.note, per_beat))
            total = len(notes)
            if total > _MOST_NOTES:
                raise BadFileError(path, f"track {n + 1}", f"holds more than {_MOST_NOTES} notes")
        for (_, pitch), rest in open_notes.items():  # never let go: they end with the track
            notes += [_note(begun, max(at, begun[0] + 1), pitch, per_beat) for begun in rest]
        if notes and exact is not None and per_beat == TICKS_PER_BEAT and exact.is_of(notes):
            tracks.append(MidiTrack(name, tuple(ordered(exact.notes)), exact.phrase))
        elif notes:
            tracks.append(MidiTrack(name, tuple(ordered(notes))))
    if not tracks:
        raise BadFileError(path, "", "holds no notes")
    tempos.sort(key=lambda t: t.beat)
    if not tempos or tempos[0].beat > 0.0:
        tempos.insert(0, TempoChange(0.0, 120.0))  # what the specification says where nothing is said
    return MidiSong(tuple(tracks), tuple(tempos), *metre)


def _note(begun: tuple[int, int, float], end: int, pitch: int, per_beat: int) -> NoteEvent:
    start, velocity, wheel = begun
    return NoteEvent(start / per_beat, max(1, end - start) / per_beat, pitch, velocity / 127.0, wheel=wheel)


# --- what MIDI has no place for ------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Exact:
    """The notes of a track as they are, at the tempo that the file was written at."""

    notes: tuple[NoteEvent, ...]
    tempo_bpm: float
    phrase: PhraseFrame | None

    def is_of(self, notes: Iterable[NoteEvent]) -> bool:
        """Whether a file's own notes are what these are written as."""
        written = [_in_ticks(n, self.tempo_bpm, _later_ms(self.phrase)) for n in self.notes]
        read = [
            (
                round(n.start_beat * TICKS_PER_BEAT),
                round((n.start_beat + n.length_beats) * TICKS_PER_BEAT),
                n.pitch,
                round(127 * n.velocity),
            )
            for n in notes
        ]
        # Of notes of one pitch that overlap a file does not say which one ends first: starts and ends are told apart.
        begins = Counter((start, pitch, velocity) for start, _, pitch, velocity in written)
        ends = Counter((end, pitch) for _, end, pitch, _ in written)
        return begins == Counter((s, p, v) for s, _, p, v in read) and ends == Counter((e, p) for _, e, p, _ in read)


def _later_ms(phrase: PhraseFrame | None) -> float:
    return 0.0 if phrase is None else phrase.nudge_ms + phrase.track_nudge_ms


def _in_ticks(n: NoteEvent, tempo_bpm: float, later_ms: float = 0.0) -> tuple[int, int, int, int]:
    """Start, end, pitch and velocity of a note in a file."""
    start = max(0, round((n.start_beat + (n.nudge_ms + later_ms) * 1e-3 * tempo_bpm / 60.0) * TICKS_PER_BEAT))
    return (
        start,
        start + max(1, round(n.length_beats * TICKS_PER_BEAT)),
        n.pitch,
        max(1, round(127 * n.velocity)),
    )  # 0 would be an end


def _read_exact(text: bytes) -> _Exact | None:
    """None where it cannot be read: the file's own notes are there as well."""
    try:
        held = json.loads(text)
        notes = tuple(_exact_note(each) for each in held["notes"])
        tempo_bpm, frame = float(held["tempo_bpm"]), held.get("phrase")
        if len(notes) > _MOST_NOTES or not 1.0 <= tempo_bpm <= 1000.0:
            return None
        return _Exact(notes, tempo_bpm, None if frame is None else _frame(frame))
    except (ValueError, KeyError, TypeError, RecursionError):
        return None


def _frame(held: Any) -> PhraseFrame:
    made = PhraseFrame(float(held["beats"]), float(held["nudge_ms"]), float(held["track_nudge_ms"]))
    if not (0.0 < made.beats <= 10_000.0 and abs(made.nudge_ms) <= 200.0 and abs(made.track_nudge_ms) <= 200.0):
        raise ValueError("not a phrase")
    return made


def _exact_note(each: Any) -> NoteEvent:
    start, length, pitch, velocity, nudge, macros, wheel = each
    a, b, c, d = (float(m) for m in macros)
    note = NoteEvent(
        float(start), float(length), int(pitch), float(velocity), float(nudge), (a, b, c, d), float(wheel)
    )  # fmt: skip
    shares = (note.velocity, note.wheel, *note.macros)
    sane = (
        0.0 <= note.start_beat < 1e6 and 0.0 < note.length_beats < 1e6 and 0 <= note.pitch <= 127
        and abs(note.nudge_ms) <= 200.0 and all(0.0 <= s <= 1.0 for s in shares) and math.isfinite(note.nudge_ms)
    )  # fmt: skip
    if not sane:
        raise ValueError("not a note")
    return note


def write_midi(
    path: str | Path, tracks: Sequence[tuple[str, Sequence[NoteEvent]]], *, tempo_bpm: float,
    beats_per_bar: int = 4, beat_unit: int = 4, phrase: PhraseFrame | None = None,
) -> None:  # fmt: skip
    """A file of format 1, tempo and metre in its first track. Nudges, those of ``phrase`` too, go into the starts; notes before 0
    begin at 0. What that loses is in a meta event of the track, and comes back by ``read_midi``.

    Raises
    ------
    BadFileError : the place cannot be written.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_BEAT)
    conductor = mido.MidiTrack()
    conductor.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(tempo_bpm), time=0))
    conductor.append(
        mido.MetaMessage("time_signature", numerator=beats_per_bar, denominator=beat_unit, time=0)
    )  # fmt: skip
    file.tracks.append(conductor)
    for name, notes in tracks:
        track = mido.MidiTrack()
        plain = name.encode("latin-1", "replace").decode("latin-1")
        track.append(mido.MetaMessage("track_name", name=plain, time=0))
        exact = json.dumps(
            {
                "tempo_bpm": tempo_bpm,
                "phrase": None if phrase is None else asdict(phrase),
                "notes": [
                    (n.start_beat, n.length_beats, n.pitch, n.velocity, n.nudge_ms, n.macros, n.wheel) for n in notes
                ],
            }
        )
        track.append(mido.MetaMessage("sequencer_specific", data=(*_OURS, *exact.encode()), time=0))
        events: list[tuple[int, int, mido.Message]] = []
        wheel = 0
        for n in ordered(notes):
            start, end, _, velocity = _in_ticks(n, tempo_bpm, _later_ms(phrase))
            if round(127 * n.wheel) != wheel:
                wheel = round(127 * n.wheel)
                events.append((start, 0, mido.Message("control_change", control=1, value=wheel)))
            events.append((start, 2, mido.Message("note_on", note=n.pitch, velocity=velocity)))
            events.append((end, 1, mido.Message("note_off", note=n.pitch)))  # ends before starts at one time
        at = 0
        for tick, _, message in sorted(events, key=lambda e: (e[0], e[1])):
            track.append(message.copy(time=tick - at))
            at = tick
        file.tracks.append(track)
    replace_file(Path(path), lambda f: file.save(file=f))
