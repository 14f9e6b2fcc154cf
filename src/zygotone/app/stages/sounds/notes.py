"""The tab of the track's notes in the present section."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QWidget

from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.widgets.basic import button, label, row
from zygotone.app.widgets.note_grid import NoteGrid
from zygotone.errors import ParameterError, ZygotoneError
from zygotone.music.chords import parse_chord_line
from zygotone.music.generators import accelerating_roll, arpeggio, chord_line, offbeat_line, rolling_bass, root_line
from zygotone.music.midi_files import read_midi, write_midi
from zygotone.music.notes import NoteEvent, humanized, quantized, strummed, swung
from zygotone.session.edits import make_id, put_phrase, set_part
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.models import Session
from zygotone.session.params import Param


class NotesPanel(Panel):
    """Phrases: the grid, what makes and reshapes notes, MIDI files, and what is recorded."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.grid = NoteGrid(self._notes_changed, lambda pitch: self._audition(pitch), lambda: self.desk.end_merge())
        self.chords = QLineEdit("F#m9 | Dmaj7 | Bm7 | C#m7")
        self.chords.setObjectName("sounds.chords")
        self.chords.setAccessibleName("Chord line")
        self.chords.setToolTip("Bars parted by |, chords within a bar by spaces")
        self.record = False
        self._recorded: dict[int, tuple[float, float]] = {}  # keys that are down: since which beat, how hard
        self.keeps = (self.grid, self.chords)

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        phrase = self.phrase
        return (
            tuple((p.id, p.beats) for p in source.phrases), phrase and phrase.id, self.desk.selection.section.id, self.record
        )  # fmt: skip

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        self.grid.show_phrase(self.phrase, bar_beats=self.desk.song.bar_beats)

    def build(self, source: InstrumentSource, layer: Layer | None) -> None:
        phrases = QComboBox()
        phrases.setObjectName("sounds.phrase")
        phrases.setAccessibleName("Phrase of this section")
        phrases.addItem("no phrase", None)
        for p in source.phrases:
            phrases.addItem(f"{p.id} ({p.beats:g} beats)", p.id)
        now = self.phrase
        phrases.setCurrentIndex(
            next((i for i in range(phrases.count()) if phrases.itemData(i) == (now.id if now else None)), 0)
        )
        phrases.activated.connect(
            lambda i: self._edit(
                "Phrase",
                lambda s: set_part(
                    s, self.desk.selection.track_id, self.desk.selection.section.id, phrases.itemData(i)
                ),
            )
        )
        steps = QComboBox()
        steps.setObjectName("sounds.step")
        steps.setAccessibleName("Grid")
        for words, beats in (
            ("1/4", 1.0),
            ("1/8", 0.5),
            ("1/8 t", 1 / 3),
            ("1/16", 0.25),
            ("1/16 t", 1 / 6),
            ("1/32", 0.125),
        ):
            steps.addItem(words, beats)
        steps.setCurrentIndex(steps.findData(self.grid.step))
        steps.activated.connect(lambda i: setattr(self.grid, "step", steps.itemData(i)))
        makes = QComboBox()
        makes.setObjectName("sounds.make")
        makes.setAccessibleName("Make notes from the chords")
        for words in (
            "Make…",
            "Chords",
            "Roots in eighths",
            "Off-beats",
            "Arpeggio in sixteenths",
            "Rolling bass",
            "Accelerating roll",
        ):
            makes.addItem(words)
        makes.activated.connect(self.generate)
        makes.activated.connect(lambda _: makes.setCurrentIndex(0))
        shape = QComboBox()
        shape.setObjectName("sounds.shape")
        shape.setAccessibleName("Change all notes")
        for words in ("All notes…", "Quantize wholly", "Quantize by half", "Swing by half", "Humanize", "Strum 24 ms"):
            shape.addItem(words)
        shape.activated.connect(self.reshape)
        shape.activated.connect(lambda _: shape.setCurrentIndex(0))
        recording = button("Stop recording" if self.record else "Record", "sounds.record", self._toggle_record, kind="chosen" if self.record else "", tip="What the keyboard plays goes into the phrase while the song plays")  # fmt: skip
        one, two = QWidget(), QWidget()
        one.setLayout(
            row(
                label(f"{self.desk.selection.section.name} plays", "soft"),
                phrases,
                button("New phrase", "sounds.phrase.new", self.new_phrase),
                label("grid", "soft"),
                steps,
                shape,
                recording,
                1,
                spacing=5,
            )
        )
        two.setLayout(
            row(
                label("Chords", "soft"),
                self.chords,
                makes,
                button("MIDI in…", "sounds.midi.in", self._midi_in),
                button("MIDI out…", "sounds.midi.out", self._midi_out),
                spacing=5,
            )
        )
        for each in (one, two, self.grid):
            self.add(each)
        nudge = Param(
            name="nudge_ms",
            label="Phrase nudge",
            unit="ms",
            low=-200.0,
            high=200.0,
            default=0.0,
            help="Moves the whole phrase: below 0 earlier.",
        )
        note_nudge = replace(nudge, label="Note nudge", help="Moves the selected note: below 0 earlier.")
        cells = []
        if now is not None:
            cells = [
                self.field(nudge, "phrase.nudge", lambda v: self._change_phrase("Phrase nudge", nudge_ms=v), lambda i, e: self.phrase.nudge_ms if self.phrase else 0.0),
                self.field(note_nudge, "note.nudge", lambda v: self.grid.change_selected("Note nudge", ("nudge", self.grid.selected), nudge_ms=v), lambda i, e: self._selected_note("nudge_ms")),
            ]  # fmt: skip
            for n in range(4):
                macro = Param(
                    name=f"macro{n + 1}",
                    label=f"Macro {n + 1}",
                    low=0.0,
                    high=1.0,
                    default=0.0,
                    help="Of the selected note, for routes.",
                )
                cells.append(self.field(macro, f"note.macro{n + 1}", lambda v, at=n: self._set_macro(at, v), lambda i, e, at=n: (self._selected_note("macros") or (0.0,) * 4)[at]))  # fmt: skip
        self.add_cells(cells)

    def _selected_note(self, field: str) -> Any:
        phrase, at = self.phrase, self.grid.selected
        if phrase is None or at is None or at >= len(phrase.notes):
            return 0.0 if field == "nudge_ms" else None
        return getattr(phrase.notes[at], field)

    def _set_macro(self, at: int, value: float) -> None:
        held = self._selected_note("macros")
        if held is not None:
            self.grid.change_selected(
                "Macro", ("macro", at), macros=tuple(value if i == at else v for i, v in enumerate(held))
            )

    def _edit(self, what: str, change: Callable[[Session], Session], merge: object = None) -> None:
        self.desk.edit(what, change, merge_key=merge)

    def _change_phrase(self, what: str, *, merge: object = None, **values: Any) -> None:
        phrase, track = self.phrase, self.desk.selection.track_id
        if phrase is not None:
            new = Phrase.model_validate({**dict(phrase), **values})
            self._edit(what, lambda s: put_phrase(s, track, new), merge or (track, phrase.id, *values))

    def _notes_changed(self, what: str, notes: tuple[Note, ...], merge: object) -> None:
        self._change_phrase(
            what,
            notes=notes,
            merge=(self.desk.selection.track_id, "notes", what, merge) if merge is not None else object(),
        )

    def new_phrase(self, *, beats: float | None = None, notes: tuple[Note, ...] = (), name: str = "phrase") -> None:
        source, track, section = self.source, self.desk.selection.track_id, self.desk.selection.section
        if source is None:
            return
        made = Phrase(
            id=make_id(name, (p.id for p in source.phrases)), beats=beats or 4.0 * self.desk.song.bar_beats, notes=notes
        )
        self._edit("New phrase", lambda s: set_part(put_phrase(s, track, made), track, section.id, made.id))

    def _set_notes(self, what: str, events: list[NoteEvent], beats: float | None = None) -> None:
        notes = tuple(note_of(e) for e in events)
        if self.phrase is None:
            self.new_phrase(beats=beats, notes=notes)
        else:
            self._change_phrase(what, notes=notes, merge=object(), **({"beats": beats} if beats else {}))

    def generate(self, which: int) -> None:
        """Notes from the chord line, by rule."""
        if which == 0:
            return
        try:
            bars = parse_chord_line(self.chords.text())
        except ParameterError as error:
            self.desk.message.emit(str(error))
            return
        bar = self.desk.song.bar_beats
        low = 28 if self.track is not None and self.track.role in ("bass", "sub") else 50
        made = {
            1: lambda: chord_line(bars, bar_beats=bar, lowest=low), 2: lambda: root_line(bars, bar_beats=bar, step_beats=0.5, lowest=low),
            3: lambda: offbeat_line(bars, bar_beats=bar, lowest=low), 4: lambda: arpeggio(bars, bar_beats=bar, step_beats=0.25, lowest=low, octaves=2),
            5: lambda: rolling_bass(bars, bar_beats=bar, lowest=low),
            6: lambda: accelerating_roll(beats=bar * len(bars), pitch=self._roll_pitch()),
        }[which]()  # fmt: skip
        self._set_notes("Make notes", made, bar * len(bars))

    def _roll_pitch(self) -> int:
        """The selected note's pitch, or where drums are as they were tuned."""
        phrase, at = self.phrase, self.grid.selected
        return phrase.notes[at].pitch if phrase is not None and at is not None and at < len(phrase.notes) else 60

    def reshape(self, which: int) -> None:
        """A change of all notes of the phrase."""
        phrase = self.phrase
        if which == 0 or phrase is None:
            return
        notes = [event_of(n) for n in phrase.notes]
        step = self.grid.step
        made = {
            1: lambda: quantized(notes, step), 2: lambda: quantized(notes, step, strength=0.5), 3: lambda: swung(notes, step, 0.5),
            4: lambda: humanized(notes, time_ms=6.0, velocity=0.06, seed=1), 5: lambda: strummed(notes, 24.0),
        }[which]()  # fmt: skip
        self._set_notes("Change all notes", made)

    def _midi_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Bring in notes", "", "MIDI (*.mid *.midi)")
        if path:
            self.bring_in_midi(Path(path))

    def bring_in_midi(self, path: Path) -> None:
        try:
            song = read_midi(path)
        except ZygotoneError as error:
            self.desk.message.emit(str(error))
            return
        notes = song.notes
        bar = self.desk.song.bar_beats
        beats = bar * max(1, int(np.ceil(max(n.start_beat + n.length_beats for n in notes) / bar - 1e-9)))
        self.new_phrase(beats=beats, notes=tuple(note_of(n) for n in notes), name=path.stem)

    def _midi_out(self) -> None:
        phrase, track = self.phrase, self.track
        if phrase is None or track is None:
            self.desk.message.emit("There is no phrase here to write.")
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write notes", f"{phrase.id}.mid", "MIDI (*.mid)")
        if path:
            song = self.desk.song
            # As it is heard: with the nudge of the track on top of those of the notes.
            notes = [replace(event_of(n), nudge_ms=n.nudge_ms + track.nudge_ms) for n in phrase.notes]
            try:
                write_midi(path, [(track.name, notes)], tempo_bpm=song.tempo_bpm, beats_per_bar=song.beats_per_bar, beat_unit=song.beat_unit)  # fmt: skip
            except ZygotoneError as error:
                self.desk.message.emit(str(error))

    def _song_beat(self) -> float:
        """Where in the section the song is now, in beats; what is heard, not what is worked out."""
        first, _ = self.desk.selection.loop_span()
        at = self.desk.listening.player.heard_position() - first
        return max(0.0, at / self.desk.session.rate_hz * self.desk.song.tempo_bpm / 60.0)

    def key_down(self, pitch: int, velocity: float) -> None:
        self.desk.keys.press(pitch, velocity)
        if self.record and self.desk.listening.playing and self.phrase is not None:
            self._recorded[pitch] = (self._song_beat(), velocity)

    def key_up(self, pitch: int) -> None:
        self.desk.keys.release(pitch)
        taken, phrase = self._recorded.pop(pitch, None), self.phrase
        if taken is None or phrase is None:
            return
        begun, velocity = taken
        length = max(0.05, self._song_beat() - begun)
        note = Note(
            start_beat=begun % phrase.beats,
            length_beats=length,
            pitch=pitch,
            velocity=round(velocity, 2),
            wheel=round(self.desk.keys.wheel, 3),
        )
        self._change_phrase(
            "Record", notes=tuple(sorted((*phrase.notes, note), key=lambda n: n.start_beat)), merge=object()
        )

    def _toggle_record(self) -> None:
        self.record = not self.record
        if self.record and self.phrase is None:
            self.new_phrase()
        self.stage.show_all()

    def _audition(self, pitch: int) -> None:
        from PySide6.QtCore import QTimer

        self.desk.keys.press(pitch, 0.8)
        QTimer.singleShot(250, lambda: self.desk.keys.release(pitch))


def note_of(event: NoteEvent) -> Note:
    return Note(
        start_beat=event.start_beat, length_beats=event.length_beats, pitch=event.pitch, velocity=event.velocity,
        nudge_ms=event.nudge_ms, macros=event.macros, wheel=event.wheel,
    )  # fmt: skip


def event_of(note: Note) -> NoteEvent:
    return NoteEvent(
        note.start_beat, note.length_beats, note.pitch, note.velocity, note.nudge_ms, note.macros, note.wheel
    )
