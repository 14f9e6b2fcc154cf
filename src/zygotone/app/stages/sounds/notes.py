"""The tab of the track's notes in the present section."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLineEdit, QWidget

from zygotone.app import clipboard
from zygotone.app.stages.sounds.note_changes import NoteChanges
from zygotone.app.stages.sounds.note_fields import NoteFields
from zygotone.app.stages.sounds.panel import Host, Panel
from zygotone.app.stages.sounds.phrases import PhraseMenu
from zygotone.app.widgets.asking import menu_button
from zygotone.app.widgets.basic import button, label, row
from zygotone.app.widgets.note_grid import NoteGrid
from zygotone.errors import ParameterError, ZygotoneError
from zygotone.music.chords import parse_chord_line
from zygotone.music.generators import accelerating_roll, arpeggio, chord_line, offbeat_line, rolling_bass, root_line
from zygotone.music.midi_files import PhraseFrame, read_midi, write_midi
from zygotone.music.notes import NoteEvent
from zygotone.music.tempo import note_value_to_beats
from zygotone.session.clipboard import CopiedNotes, CopiedPhrase
from zygotone.session.edits import put_phrase, set_part
from zygotone.session.instruments import InstrumentSource, Layer, Note, Phrase
from zygotone.session.models import Session
from zygotone.session.phrase_edits import beat_in_phrase, free_phrase_id, notes_of_others, resize_phrase

_GRIDS = ("1/1", "1/2", "1/2t", "1/4d", "1/4", "1/4t", "1/8d", "1/8", "1/8t", "1/16d", "1/16", "1/16t", "1/32", "1/64")
_MAKES = (
    "Make…", "Chords", "Roots in eighths", "Off-beats", "Arpeggio in sixteenths", "Rolling bass", "Accelerating roll",
)  # fmt: skip
_NOTHING, _ALL = "", "*"  # what is seen behind


class NotesPanel(Panel):
    """Phrases: the grid, what makes and reshapes notes, MIDI files, and what is recorded."""

    def __init__(self, stage: Host) -> None:
        super().__init__(stage)
        self.grid = NoteGrid(
            self._notes_changed, self._audition, lambda: self.desk.end_merge(), say=lambda text: self.desk.message.emit(text),
            chose=self._show_chosen, begin=self.new_phrase,
        )  # fmt: skip
        self.chords = QLineEdit("F#m9 | Dmaj7 | Bm7 | C#m7")
        self.chords.setObjectName("sounds.chords")
        self.chords.setAccessibleName("Chord line")
        self.chords.setToolTip("Bars parted by |, chords within a bar by spaces")
        self.record = False
        self.behind = _ALL  # whose notes are seen behind: a track's id, all, or nobody's
        self.menu = PhraseMenu(self, self)
        self.changes = NoteChanges(self.desk, self.grid, self)
        self._fields_of_chosen: NoteFields | None = None
        self._phrases: QComboBox | None = None
        self._looked_at: dict[str, str] = {}  # of a section that plays several phrases: by track, which is shown
        self._recorded: dict[
            int, tuple[float, float, float]
        ] = {}  # keys that are down: at which beat, since when, how hard
        self.keeps = (self.grid, self.chords)
        self.desk.opened.connect(self._forget)
        self._playhead = QTimer(self, interval=40)
        self._playhead.timeout.connect(self._show_playhead)

    # --- what is shown -------------------------------------------------------------------------------------

    def _forget(self) -> None:
        """Another project: nothing is chosen in it, nor looked at."""
        self._looked_at.clear()
        self.grid.show_phrase(None)
        if self.isVisible():
            self.stage.show_all()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._playhead.start()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self._playhead.stop()

    def shape(self, source: InstrumentSource, layer: Layer | None) -> object:
        phrase, desk = self.phrase, self.desk
        return (
            tuple(p.id for p in source.phrases), phrase and phrase.id, desk.selection.section.id, self.record,
            tuple((t.id, t.name) for t in desk.session.tracks), source.macros,
        )  # fmt: skip

    def look_at(self, phrase_id: str) -> None:
        """Of several phrases that a section plays: this one is shown."""
        self._looked_at[self.desk.selection.track_id] = phrase_id
        self.stage.show_all()

    def choose_phrase(self, played: tuple[str, ...]) -> str | None:
        """Which of them is shown."""
        wanted = self._looked_at.get(self.desk.selection.track_id)
        return wanted if wanted in played else (played[0] if played else None)

    def take_focus(self) -> None:
        self.grid.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def show_pictures(self, layer: Layer | None, kept: Layer | None) -> None:
        desk, phrase = self.desk, self.phrase
        behind: dict[str, tuple[Note, ...]] = {}
        if phrase is not None and self.behind != _NOTHING:
            behind = notes_of_others(desk.session, desk.selection.track_id, desk.selection.section.id, phrase.beats)
            if self.behind != _ALL:
                behind = {track: notes for track, notes in behind.items() if track == self.behind}
        self.grid.show_surroundings(bar_beats=desk.song.bar_beats, key=desk.song.parsed_key, behind=behind)
        self.grid.show_phrase(phrase)
        if self.source is not None and self._phrases is not None:
            for p in self.source.phrases:
                self._phrases.setItemText(self._phrases.findData(p.id), _phrase_words(p))
        self._show_chosen()

    def _show_chosen(self) -> None:
        """The fields of what is chosen."""
        if self._fields_of_chosen is not None:
            self._fields_of_chosen.show_values(self.phrase)

    def _show_playhead(self) -> None:
        playing = self.desk.listening.playing
        self.grid.show_playhead(self._phrase_beat() if playing else None)

    # --- building ------------------------------------------------------------------------------------------

    def build(self, source: InstrumentSource, layer: Layer | None) -> None:
        now = self.phrase
        first, second = QWidget(), QWidget()
        recording = button("Stop recording" if self.record else "Record", "sounds.record", self._toggle_record, kind="chosen" if self.record else "", tip="What the keyboard plays goes into the phrase while the song plays")  # fmt: skip
        first.setLayout(
            row(
                label(f"{self.desk.selection.section.name} plays", "soft"), self._phrase_box(source, now),
                menu_button("Phrase", "sounds.phrase.menu", self.menu.entries), menu_button("Choose", "sounds.choose", self.changes.choices),
                menu_button("Change", "sounds.change", self.changes.entries, tip="What is chosen, or all notes where none is"), 1, recording, spacing=5,
            )
        )  # fmt: skip
        makes = QComboBox()
        makes.setObjectName("sounds.make")
        makes.setAccessibleName("Make notes from the chords")
        makes.addItems(list(_MAKES))
        makes.activated.connect(self.generate)
        makes.activated.connect(lambda _: makes.setCurrentIndex(0))
        midi = menu_button(
            "MIDI", "sounds.midi",
            (("Bring in…", "sounds.midi.in", self._midi_in), ("Write…", "sounds.midi.out", self._midi_out)),
        )  # fmt: skip
        second.setLayout(
            row(
                label("grid", "soft"), self._grid_box(), self._snap_box(), label("behind", "soft"), self._behind_box(),
                label("chords", "soft"), self.chords, makes, midi, spacing=5,
            )
        )  # fmt: skip
        for each in (first, second, self.grid):
            self.add(each)
        self._layout.setStretchFactor(self.grid, 1)
        self._fields_of_chosen = None
        if now is not None:
            self._fields_of_chosen = NoteFields(
                self.desk, self.grid, source.macros, resize=self._resize,
                nudge=lambda ms: self._change_phrase("Phrase nudge", nudge_ms=ms),
            )  # fmt: skip
            self.add(self._fields_of_chosen)

    def _phrase_box(self, source: InstrumentSource, now: Phrase | None) -> QComboBox:
        phrases = QComboBox()
        phrases.setObjectName("sounds.phrase")
        phrases.setAccessibleName("Phrase of this section")
        phrases.setMaximumWidth(190)
        phrases.addItem("no phrase", None)
        for p in source.phrases:
            phrases.addItem(_phrase_words(p), p.id)
        phrases.setCurrentIndex(max(0, phrases.findData(now.id if now else None)))
        phrases.activated.connect(lambda i: self._play_phrase(phrases.itemData(i)))
        self._phrases = phrases
        return phrases

    def _play_phrase(self, phrase_id: str | None) -> None:
        """The section plays it; where it does already among others, it is only shown."""
        desk, track = self.desk, self.desk.selection.track_id
        section = desk.selection.section.id
        plays = {p.phrase for p in desk.session.track(track).parts if p.section == section}
        if phrase_id is None or phrase_id not in plays:
            self._edit("Phrase", lambda s: set_part(s, track, section, phrase_id))
        if phrase_id is not None:
            self.look_at(phrase_id)

    def _grid_box(self) -> QComboBox:
        steps = QComboBox()
        steps.setObjectName("sounds.step")
        steps.setAccessibleName("Grid")
        for words in _GRIDS:
            steps.addItem(words, float(note_value_to_beats(words)))
        near = min(range(steps.count()), key=lambda i: abs(steps.itemData(i) - self.grid.step))
        steps.setCurrentIndex(near)
        steps.activated.connect(lambda i: self._set_grid(steps.itemData(i)))
        return steps

    def _set_grid(self, beats: float) -> None:
        self.grid.step = beats
        self.grid.update()

    def _snap_box(self) -> QCheckBox:
        snap = QCheckBox("snap")
        snap.setObjectName("sounds.snap")
        snap.setToolTip("What the hand moves goes from line to line of the grid; off, anywhere")
        snap.setChecked(self.grid.snaps)
        snap.toggled.connect(lambda on: setattr(self.grid, "snaps", on))
        return snap

    def _behind_box(self) -> QComboBox:
        box = QComboBox()
        box.setObjectName("sounds.behind")
        box.setAccessibleName("Notes of other tracks behind")
        box.setMaximumWidth(110)
        box.addItem("nothing", _NOTHING)
        box.addItem("all tracks", _ALL)
        for track in self.desk.session.tracks:
            if isinstance(track.source, InstrumentSource) and track.id != self.desk.selection.track_id:
                box.addItem(track.name, track.id)
        box.setCurrentIndex(max(0, box.findData(self.behind)))
        box.activated.connect(lambda i: self._set_behind(box.itemData(i)))
        return box

    def _set_behind(self, whose: str) -> None:
        self.behind = whose
        self.show_pictures(None, None)

    # --- where a phrase is cut -----------------------------------------------------------------------------

    def cut_beat(self) -> float:
        """Where a phrase is split: at the caret, else where what is chosen begins, else in the middle, on a line of the grid."""
        grid = self.grid
        if grid.caret is not None:
            return grid.caret[0]
        if grid.chosen:
            return min(n.start_beat for n in grid.copied())
        return round(grid.beats / 2 / grid.step) * grid.step

    # --- cut, copy, paste ----------------------------------------------------------------------------------

    def copy(self) -> None:
        notes, phrase = self.grid.copied(), self.phrase
        if notes:
            clipboard.copy(self.desk, CopiedNotes(notes=tuple(notes)), clipboard.counted(len(notes), "note"))
        elif phrase is not None:
            clipboard.copy(self.desk, CopiedPhrase(phrase=phrase), f"the phrase {phrase.id}")
        else:
            self.desk.refuse("There are no notes here to copy.")

    def cut(self) -> None:
        if self.grid.chosen:
            self.copy()
            self.grid.remove_chosen("Cut notes")

    def paste(self) -> None:
        """Notes at the caret; a phrase in the place of what the section plays."""
        found = clipboard.copied(self.desk)
        if found is None:
            return
        what = found.what
        if isinstance(what, CopiedNotes):
            if self.phrase is not None:
                self.grid.paste(what.notes)
                return
            first = min(n.start_beat for n in what.notes)
            bar = self.desk.song.bar_beats
            offset = first // bar * bar  # the notes stay where they are in their bar
            moved = tuple(n.replace(start_beat=n.start_beat - offset) for n in what.notes)
            self.new_phrase(beats=_whole_bars(moved, bar), notes=moved)
        elif isinstance(what, CopiedPhrase):
            self.new_phrase(
                beats=what.phrase.beats, notes=what.phrase.notes, name=what.phrase.id, nudge_ms=what.phrase.nudge_ms
            )
        else:
            clipboard.cannot_go_here(self.desk, found, "notes and phrases")

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

    def _resize(self, beats: float) -> None:
        phrase, track = self.phrase, self.desk.selection.track_id
        if phrase is not None:
            self._edit(
                "Phrase length", lambda s: resize_phrase(s, track, phrase.id, beats), (track, phrase.id, "beats")
            )

    def new_phrase(
        self, *, beats: float | None = None, notes: tuple[Note, ...] = (), name: str = "phrase", nudge_ms: float = 0.0
    ) -> None:
        source, track, section = self.source, self.desk.selection.track_id, self.desk.selection.section
        if source is None:
            return
        made = Phrase(
            id=free_phrase_id(self.desk.session, track, name), beats=beats or 4.0 * self.desk.song.bar_beats, notes=notes,
            nudge_ms=nudge_ms,
        )  # fmt: skip
        self._edit("New phrase", lambda s: set_part(put_phrase(s, track, made), track, section.id, made.id))
        self._looked_at[track] = made.id

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
            self.desk.refuse(str(error))
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
        """The first chosen note's pitch, or where drums are as they were tuned."""
        chosen = self.grid.copied()
        return chosen[0].pitch if chosen else 60

    def _midi_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Bring in notes", "", "MIDI (*.mid *.midi)")
        if path:
            self.bring_in_midi(Path(path))

    def bring_in_midi(self, path: Path) -> None:
        try:
            song = read_midi(path)
        except ZygotoneError as error:
            self.desk.refuse(str(error))
            return
        notes = tuple(note_of(n) for n in song.notes)
        frame = song.tracks[0].phrase if len(song.tracks) == 1 else None
        if frame is not None:
            self.new_phrase(beats=frame.beats, notes=notes, name=path.stem, nudge_ms=frame.nudge_ms)
        else:
            self.new_phrase(beats=_whole_bars(notes, self.desk.song.bar_beats), notes=notes, name=path.stem)

    def _midi_out(self) -> None:
        phrase, track = self.phrase, self.track
        if phrase is None or track is None:
            self.desk.refuse("There is no phrase here to write.")
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write notes", f"{phrase.id}.mid", "MIDI (*.mid)")
        if path:
            song = self.desk.song
            frame = PhraseFrame(phrase.beats, phrase.nudge_ms, track.nudge_ms)
            notes = [event_of(n) for n in phrase.notes]
            try:
                write_midi(path, [(track.name, notes)], tempo_bpm=song.tempo_bpm, beats_per_bar=song.beats_per_bar, beat_unit=song.beat_unit, phrase=frame)  # fmt: skip
            except ZygotoneError as error:
                self.desk.refuse(str(error))

    def _phrase_beat(self) -> float | None:
        """Which beat of the phrase is heard now, not worked out; None where another is, or none."""
        phrase, desk = self.phrase, self.desk
        if phrase is None:
            return None
        at = desk.listening.player.heard_position() / desk.session.rate_hz * desk.song.tempo_bpm / 60.0
        return beat_in_phrase(desk.session, desk.selection.track_id, phrase.id, at)

    def key_down(self, pitch: int, velocity: float) -> None:
        self.desk.keys.press(pitch, velocity)
        beat = self._phrase_beat() if self.record and self.desk.listening.playing else None
        if beat is not None:
            self._recorded[pitch] = (beat, time.monotonic(), velocity)

    def key_up(self, pitch: int) -> None:
        self.desk.keys.release(pitch)
        taken, phrase = self._recorded.pop(pitch, None), self.phrase
        if taken is None or phrase is None:
            return
        beat, since, velocity = taken
        held = (time.monotonic() - since) * self.desk.song.tempo_bpm / 60.0  # a loop that begins anew cuts no note
        note = Note(
            start_beat=beat, length_beats=max(0.05, held), pitch=pitch, velocity=round(velocity, 2), wheel=round(self.desk.keys.wheel, 3),
        )  # fmt: skip
        notes = tuple(sorted((*phrase.notes, note), key=lambda n: n.start_beat))
        self._change_phrase("Record", notes=notes, merge=object())

    def _toggle_record(self) -> None:
        self.record = not self.record
        if self.record and self.phrase is None:
            self.new_phrase()
        self.stage.show_all()

    def _audition(self, pitch: int) -> None:
        self.desk.keys.press(pitch, 0.8)
        QTimer.singleShot(250, lambda: self.desk.keys.release(pitch))


def _phrase_words(phrase: Phrase) -> str:
    return f"{phrase.id} ({phrase.beats:g} beats)"


def _whole_bars(notes: Sequence[Note], bar_beats: float) -> float:
    return bar_beats * max(1, int(np.ceil(max(n.start_beat + n.length_beats for n in notes) / bar_beats - 1e-9)))


def note_of(event: NoteEvent) -> Note:
    return Note(
        start_beat=event.start_beat, length_beats=event.length_beats, pitch=event.pitch, velocity=event.velocity,
        nudge_ms=event.nudge_ms, macros=event.macros, wheel=event.wheel,
    )  # fmt: skip


def event_of(note: Note) -> NoteEvent:
    return NoteEvent(
        note.start_beat, note.length_beats, note.pitch, note.velocity, note.nudge_ms, note.macros, note.wheel
    )
