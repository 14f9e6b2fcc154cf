"""Brief: the song, its sections, and who plays what, in which order of importance."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QLabel,
    QLineEdit,
    QScrollArea,
    QWidget,
)

from zygotone.advise.new_project import add_stem, change_tempo
from zygotone.app.desk import Desk
from zygotone.app.stages.base import STAGES, Stage, StageWidget
from zygotone.app.widgets.basic import button, card, clear, column, label, number_box, row, whole_number_box
from zygotone.dsp.giving_up import Cancelled, IsUnwanted, tell_share
from zygotone.errors import ZygotoneError
from zygotone.music.keys import Key, parse_key
from zygotone.music.tempo import COMMON_NOTE_VALUES, note_value_to_seconds
from zygotone.session.audio_files import AUDIO_SUFFIXES, AudioData, read_audio
from zygotone.session.edits import (
    add_bus,
    change_sections,
    change_song,
    change_strip,
    make_id,
    move_track,
    remove_bus,
    remove_track,
)
from zygotone.session.models import ROLES, Section, Session, Track
from zygotone.session.schools import SCHOOLS, Choice, School

_NO_KEY = "key not chosen"
OCTAVES = range(1, 7)
_DROP = "Drop stems here, or"


class BriefStage(StageWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.setObjectName("stage.brief")
        self._tracks_shown: object = None
        self._sections_shown: object = None
        self._tables_shown: object = None

        self.title = QLineEdit()
        self.title.setObjectName("brief.title")
        self.title.setAccessibleName("Title")
        self.title.setMaxLength(200)
        self.title.editingFinished.connect(self._set_title)
        self.tempo = number_box()
        self.tempo.setObjectName("brief.tempo")
        self.tempo.setAccessibleName("Tempo in BPM")
        self.tempo.setRange(20, 400)
        self.tempo.setDecimals(2)
        self.tempo.setSuffix(" BPM")
        self.tempo.setKeyboardTracking(False)
        self.tempo.valueChanged.connect(self._set_tempo)
        self.key = QComboBox()
        self.key.setObjectName("brief.key")
        self.key.setAccessibleName("Key")
        self.key.addItem(_NO_KEY)
        self.key.addItems([Key(pc, mode).name for mode in ("minor", "major") for pc in range(12)])
        self.key.activated.connect(lambda _: self._set_key())
        self.beats = whole_number_box()
        self.beats.setObjectName("brief.beats")
        self.beats.setAccessibleName("Beats in a bar")
        self.beats.setRange(1, 16)
        self.beats.setSuffix(" beats a bar")
        self.beats.setKeyboardTracking(False)
        self.beats.valueChanged.connect(lambda n: self._song("Meter", beats_per_bar=n))
        self.a4 = number_box()
        self.a4.setObjectName("brief.a4")
        self.a4.setAccessibleName("Tuning of A4")
        self.a4.setRange(380, 500)
        self.a4.setDecimals(1)
        self.a4.setPrefix("A4 ")
        self.a4.setSuffix(" Hz")
        self.a4.setKeyboardTracking(False)
        self.a4.valueChanged.connect(lambda hz: self._song("Tuning", a4_hz=hz))

        self._track_grid, self._section_grid, self._bus_grid = QGridLayout(), QGridLayout(), QGridLayout()
        self._buses_shown: object = None
        self._tempo_grid, self._key_grid = QGridLayout(), QGridLayout()
        for grid in (self._track_grid, self._section_grid, self._bus_grid, self._tempo_grid, self._key_grid):
            grid.setSpacing(4)
            grid.setHorizontalSpacing(8)
        self.drop_note = label(_DROP, "soft")
        self.add_stems = button("Add stems…", "brief.add_stems", self.ask_for_files)
        tracks = card(
            column(
                row(
                    label("Tracks", "heading"),
                    label("seat 1 keeps its place, a higher number gives way", "soft"),
                    1,
                    self.drop_note,
                    self.add_stems,
                ),
                self._track_grid,
                margins=(12, 10, 12, 10),
            )
        )
        sections = card(
            column(
                row(label("Sections", "heading"), 1, button("Add section", "brief.add_section", self._add_section)),
                self._section_grid,
                margins=(12, 10, 12, 10),
            )
        )
        buses = card(
            column(
                row(
                    label("Buses", "heading"), label("groups that tracks lead to, and returns that sends feed", "soft"), 1,
                    button("Add bus", "brief.add_bus", lambda: desk.edit("Add bus", lambda s: add_bus(s, "Bus"))),
                ),
                self._bus_grid,
                margins=(12, 10, 12, 10),
            )
        )  # fmt: skip
        tempo_table = card(
            column(label("Note values at this tempo, ms", "heading"), self._tempo_grid, margins=(12, 10, 12, 10))
        )
        key_table = card(column(label("Notes of the key, Hz", "heading"), self._key_grid, margins=(12, 10, 12, 10)))
        self._schools: list[tuple[School, QComboBox, QLabel]] = []
        schools = column(label("Which fixes come first", "heading"), spacing=4, margins=(12, 10, 12, 10))
        for school in SCHOOLS:
            box, cost = QComboBox(), label("", "soft", wrap=True, name=f"brief.school.{school.name}.cost")
            box.addItems([choice.label for choice in school.choices])
            box.setObjectName(f"brief.school.{school.name}")
            box.setAccessibleName(school.label)
            box.activated.connect(lambda at, s=school: self._set_school(s, s.choices[at]))
            schools.addLayout(row(label(school.label, "soft"), 1, box, spacing=8))
            schools.addWidget(cost)
            self._schools.append((school, box, cost))
        school_card = card(schools)
        inner = QWidget()
        inner.setLayout(
            column(
                row(label("Brief", "title"), 1),
                row(self.title, self.tempo, self.key, self.beats, self.a4, spacing=8),
                row(column(tracks, buses, sections, 1, spacing=8), column(school_card, tempo_table, key_table, 1, spacing=8), spacing=8),
                1, spacing=8, margins=(16, 10, 10, 10),
            )
        )  # fmt: skip
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inner)
        self.setLayout(column(scroll))
        desk.measuring.worker.busy_changed.connect(lambda busy: None if busy else self.drop_note.setText(_DROP))
        self.shown_by(self.show_all, desk.session_changed)

    # --- showing -------------------------------------------------------------------------------------------

    def show_all(self) -> None:
        song = self.desk.song
        boxes = (self.tempo, self.beats, self.a4)
        for box in boxes:
            box.blockSignals(True)
        self.tempo.setValue(song.tempo_bpm)
        self.beats.setValue(song.beats_per_bar)
        self.a4.setValue(song.a4_hz)
        for box in boxes:
            box.blockSignals(False)
        if not self.title.hasFocus():
            self.title.setText(song.title)
        self.key.setCurrentText(song.key or _NO_KEY)
        for school, choices, cost in self._schools:
            choice = school.chosen(self.desk.session.schools)
            choices.setCurrentText(choice.label)
            cost.setText(choice.cost)
        tracks = self.desk.session.tracks
        brief = tuple((t.id, t.name, t.role, t.seat) for t in tracks)
        if brief != self._tracks_shown:
            self._tracks_shown = brief
            self._show_tracks(tracks)
        session = self.desk.session
        fed = {
            b.id: (sum(t.bus == b.id for t in tracks), sum(x.to == b.id for s in session.strips() for x in s.sends))
            for b in session.buses
        }
        wanted = tuple((b.id, b.name, *fed[b.id]) for b in session.buses)
        if wanted != self._buses_shown:
            self._buses_shown = wanted
            self._show_buses(wanted)
        if song.sections != self._sections_shown:
            self._sections_shown = song.sections
            self._show_sections(song.sections)
        tables = (song.tempo_bpm, song.key, song.a4_hz)
        if tables != self._tables_shown:
            self._tables_shown = tables
            self._show_tables()

    def _show_buses(self, buses: tuple[tuple[str, str, int, int], ...]) -> None:
        clear(self._bus_grid)
        if not buses:
            self._bus_grid.addWidget(label("No buses: every track goes straight into the mix.", "soft"), 0, 0)
        for at, (bus_id, bus_name, tracks, sends) in enumerate(buses):
            name = QLineEdit(bus_name)
            name.setObjectName(f"brief.bus.{bus_id}.name")
            name.setAccessibleName(f"Name of bus {at + 1}")
            name.editingFinished.connect(lambda n=name, i=bus_id: self._rename(i, n))
            words = [f"{n} {what}{'s' if n != 1 else ''}" for n, what in ((tracks, "track"), (sends, "send")) if n]
            gone = button(
                "Remove", f"brief.bus.{bus_id}.remove",
                lambda i=bus_id: self.desk.edit("Remove bus", lambda s: remove_bus(s, i)),
                kind="plain", accessible=f"Remove {bus_name}",
            )  # fmt: skip
            self._bus_grid.addWidget(name, at, 0)
            self._bus_grid.addWidget(label(", ".join(words) or "nothing yet", "soft"), at, 1)
            self._bus_grid.addWidget(gone, at, 2)
        self._bus_grid.setColumnStretch(0, 1)

    def _show_tracks(self, tracks: tuple[Track, ...]) -> None:
        clear(self._track_grid)
        for column_, text in enumerate(("Name", "Role", "Seat")):
            self._track_grid.addWidget(label(text, "soft"), 0, column_)
        if not tracks:
            self._track_grid.addWidget(
                label("No tracks yet. Drop WAV, FLAC, OGG or AIFF stems on this page.", "soft", wrap=True), 1, 0, 1, 4
            )
        for at, track in enumerate(tracks, 1):
            name = QLineEdit(track.name)
            name.setObjectName(f"brief.track.{track.id}.name")
            name.setAccessibleName(f"Name of track {at}")
            name.editingFinished.connect(lambda n=name, i=track.id: self._rename(i, n))
            role = QComboBox()
            role.addItems(ROLES)
            role.setCurrentText(track.role)
            role.setObjectName(f"brief.track.{track.id}.role")
            role.setAccessibleName(f"Role of {track.name}")
            role.activated.connect(lambda _, b=role, i=track.id: self._strip(i, "Role", role=b.currentText()))
            seat = whole_number_box()
            seat.setRange(1, 16)
            seat.setValue(track.seat)
            seat.setObjectName(f"brief.track.{track.id}.seat")
            seat.setAccessibleName(f"Seat of {track.name}")
            seat.valueChanged.connect(lambda n, i=track.id: self._strip(i, "Seat", seat=n))
            up = button(
                "↑",
                f"brief.track.{track.id}.up",
                lambda i=track.id: self.desk.edit("Move track", lambda s: move_track(s, i, -1)),
                kind="plain",
                accessible=f"Move {track.name} up",
            )
            gone = button(
                "Remove",
                f"brief.track.{track.id}.remove",
                lambda i=track.id: self.desk.edit("Remove track", lambda s: remove_track(s, i)),
                kind="plain",
                accessible=f"Remove {track.name}",
            )
            for column_, widget in enumerate((name, role, seat, up, gone)):
                self._track_grid.addWidget(widget, at, column_)
        self._track_grid.setColumnStretch(0, 1)

    def _show_sections(self, sections: tuple[Section, ...]) -> None:
        clear(self._section_grid)
        for column_, text in enumerate(("Name", "Bars")):
            self._section_grid.addWidget(label(text, "soft"), 0, column_)
        for at, section in enumerate(sections, 1):
            name = QLineEdit(section.name)
            name.setObjectName(f"brief.section.{section.id}.name")
            name.setAccessibleName(f"Name of section {at}")
            name.editingFinished.connect(lambda n=name, i=section.id: self._rename_section(i, n))
            bars = whole_number_box()
            bars.setRange(1, 1000)
            bars.setValue(section.bars)
            bars.setKeyboardTracking(False)
            bars.setObjectName(f"brief.section.{section.id}.bars")
            bars.setAccessibleName(f"Bars of {section.name}")
            bars.valueChanged.connect(lambda n, i=section.id: self._change_section(i, bars=n))
            up = button(
                "↑",
                f"brief.section.{section.id}.up",
                lambda i=section.id: self._move_section(i),
                kind="plain",
                accessible=f"Move {section.name} up",
            )
            gone = button(
                "Remove",
                f"brief.section.{section.id}.remove",
                lambda i=section.id: self._remove_section(i),
                kind="plain",
                accessible=f"Remove {section.name}",
            )
            gone.setEnabled(len(sections) > 1)
            for column_, widget in enumerate((name, bars, up, gone)):
                self._section_grid.addWidget(widget, at, column_)
        self._section_grid.setColumnStretch(0, 1)

    def _show_tables(self) -> None:
        song = self.desk.song
        values = {(v.rstrip("dt"), v[-1] if v[-1] in "dt" else ""): v for v in COMMON_NOTE_VALUES}
        clear(self._tempo_grid)
        for column_, text in enumerate(("Value", "straight", "dotted", "triplet")):
            side = Qt.AlignmentFlag.AlignRight if column_ else Qt.AlignmentFlag.AlignLeft
            self._tempo_grid.addWidget(label(text, "soft"), 0, column_, side)
        for at, base in enumerate(dict.fromkeys(v for v, _ in values), 1):
            self._tempo_grid.addWidget(label(base, "number"), at, 0)
            for column_, kind in enumerate(("", "d", "t"), 1):
                ms = 1000.0 * note_value_to_seconds(base + kind, bpm=song.tempo_bpm)
                self._tempo_grid.addWidget(label(f"{ms:.1f}", "number"), at, column_, Qt.AlignmentFlag.AlignRight)
        clear(self._key_grid)
        for column_, octave in enumerate(OCTAVES, 1):
            self._key_grid.addWidget(label(str(octave), "soft"), 0, column_, Qt.AlignmentFlag.AlignRight)
        key = song.parsed_key
        if key is None:
            self._key_grid.addWidget(label("Choose a key above to see its notes in Hz.", "soft"), 1, 1, 1, len(OCTAVES))
        for at, (name, hz) in enumerate(
            key.note_table(octaves=OCTAVES, a4_hz=song.a4_hz) if key is not None else (), 1
        ):
            self._key_grid.addWidget(label(name, "heading" if at == 1 else ""), at, 0)
            for column_, value in enumerate(hz, 1):
                self._key_grid.addWidget(
                    label(f"{value:.1f}" if value < 1000 else f"{value:.0f}", "number"),
                    at,
                    column_,
                    Qt.AlignmentFlag.AlignRight,
                )

    # --- editing -------------------------------------------------------------------------------------------

    def _song(self, what: str, **changes: object) -> None:
        self.desk.edit(what, lambda s: change_song(s, **changes))

    def _set_title(self) -> None:
        if self.title.text() != self.desk.song.title:
            self._song("Title", title=self.title.text())

    def _set_tempo(self, bpm: float) -> None:
        self.desk.edit("Tempo", lambda s: change_tempo(s, bpm))

    def _set_key(self) -> None:
        text = self.key.currentText()
        self._song("Key", key="" if text == _NO_KEY else parse_key(text.replace("♯", "#")).name)

    def _set_school(self, school: School, choice: Choice) -> None:
        def chosen(session: Session) -> Session:
            return session.replace(schools=session.schools.replace(**{school.name: choice.value}))

        self.desk.edit(f"{school.label}: {choice.label}", chosen)

    def _strip(self, track_id: str, what: str, **changes: object) -> None:
        self.desk.edit(what, lambda s: change_strip(s, track_id, **changes))

    def _rename(self, track_id: str, field: QLineEdit) -> None:
        """A new name must be free; otherwise the old one comes back and a message says why."""
        name = field.text().strip()
        old = self.desk.session.strip(track_id).name
        taken = {s.name for s in self.desk.session.strips()} - {old}
        if name == old:
            return
        if not name or name in taken:
            self.desk.refuse(f"Another track is named {name!r} already." if name else "A track needs a name.")
            field.setText(old)
            return
        self._strip(track_id, "Rename track", name=name)

    def _add_section(self) -> None:
        sections = self.desk.song.sections
        name = f"Section {len(sections) + 1}"
        new = Section(id=make_id(name, (s.id for s in sections)), name=name, bars=8)
        self.desk.edit("Add section", lambda s: change_sections(s, [*s.song.sections, new]))

    def _rename_section(self, section_id: str, field: QLineEdit) -> None:
        """A section without a name keeps the one that it has, and a message says so."""
        name, old = field.text().strip(), next(s.name for s in self.desk.song.sections if s.id == section_id)
        if not name:
            self.desk.refuse("A section needs a name.")
            field.setText(old)
        elif name != old:
            self._change_section(section_id, name=name)

    def _change_section(self, section_id: str, **changes: object) -> None:
        self.desk.edit(
            "Section",
            lambda s: change_sections(s, [x.replace(**changes) if x.id == section_id else x for x in s.song.sections]),
        )

    def _move_section(self, section_id: str) -> None:
        def move(session: Session) -> Session:
            sections = list(session.song.sections)
            at = next(i for i, s in enumerate(sections) if s.id == section_id)
            sections.insert(max(0, at - 1), sections.pop(at))
            return change_sections(session, sections)

        self.desk.edit("Move section", move)

    def _remove_section(self, section_id: str) -> None:
        self.desk.edit(
            "Remove section", lambda s: change_sections(s, [x for x in s.song.sections if x.id != section_id])
        )

    # --- stems ---------------------------------------------------------------------------------------------

    def ask_for_files(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        pattern = " ".join(f"*{s}" for s in AUDIO_SUFFIXES)
        files, _ = QFileDialog.getOpenFileNames(self, "Add stems", "", f"Audio ({pattern})")
        if files:
            self.take_files([Path(f) for f in files])

    def take_files(self, paths: list[Path]) -> None:
        """Read in the background, then add all of them in one undo step; a file that cannot be used is named."""
        desk = self.desk
        self.drop_note.setText(f"Reading {len(paths)} files…")

        def read(cancel: IsUnwanted) -> tuple[Session, Session, int, list[str]]:
            good: list[tuple[str, AudioData]] = []
            bad: list[str] = []
            for i, path in enumerate(paths):
                tell_share(i / len(paths))
                if cancel():
                    raise Cancelled
                try:
                    good.append((path.stem, read_audio(path)))
                except ZygotoneError as error:
                    bad.append(str(error))
            base = desk.bench.session
            session = base
            for name, audio in good:
                if cancel():
                    break
                session = add_stem(session, desk.store, name, audio)
            return base, session, len(good), bad

        def done(result: tuple[Session, Session, int, list[str]]) -> None:
            base, session, count, bad = result
            if desk.bench.session is not base and count:
                # Something was edited meanwhile: add again on top of that, from what is in the store now.
                self.take_files(paths)
                return
            if count:
                desk.edit(f"Add {count} stems", lambda _: session)
                if desk.files.path is not None:
                    desk.files.save()  # the journal holds no audio, so the clips go into the file at once
            if bad:
                desk.message.emit("; ".join(bad))

        desk.measuring.worker.submit("Adding stems", read, done, urgency=1)


STAGES.enter(Stage(key="brief", title="Brief", order=10, make=BriefStage, margin=False, findings=False, begins=True))
