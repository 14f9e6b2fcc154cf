"""The page of a track that plays audio: its parts in the present section, on their waveform and in numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox, QInputDialog, QWidget

from zygotone.advise.questions import ClipShapeOf
from zygotone.advise.sound_views import ClipShape
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.widgets.asking import Entry, menu_button
from zygotone.app.widgets.basic import button, column, label, row
from zygotone.app.widgets.clip_view import ClipView
from zygotone.app.widgets.ruler import NumberField
from zygotone.music.tempo import note_value_to_beats
from zygotone.session import clip_edits
from zygotone.session.models import ClipSource, Session, Track
from zygotone.session.params import Param, level, number, whole
from zygotone.session.parts import Part

_GRIDS = ("1/1", "1/2", "1/4", "1/8", "1/8t", "1/16", "1/16t", "1/32")
_FIELDS: tuple[tuple[str, Param, float], ...] = (
    ("start_beat", number("start_beat", "Begins", "beats", 0.0, 100_000.0, 0.0, "Beats after the start of the section; or a note value."), 0.25),
    ("length_beats", number("length_beats", "Lasts", "beats", 1 / 64, 100_000.0, 4.0, "In beats, or a note value."), 0.25),
    ("clip_start_s", number("clip_start_s", "From", "s", 0.0, 36000.0, 0.0, "Where in the recording it begins."), 0.01),
    ("gain_db", level("gain_db", "Gain", -60.0, 24.0, 0.0, "How loud this part is."), 0.5),
    ("fade_in_ms", number("fade_in_ms", "Fade in", "ms", 0.0, 60_000.0, 0.0, "From nothing to full over this time."), 5.0),
    ("fade_out_ms", number("fade_out_ms", "Fade out", "ms", 0.0, 60_000.0, 0.0, "From full to nothing over this time."), 5.0),
    ("transpose_semitones", whole("transpose_semitones", "Pitch", -24, 24, 0, "Semitones, at its own length.", unit="st"), 1.0),
    ("stretch", number("stretch", "Length ×", "", 0.25, 4.0, 1.0, "How many times as long as recorded, at its own pitch."), 0.01),
)  # fmt: skip


class ClipPanel(QWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("clips")
        self.desk = desk
        self.view = ClipView(self._changed, self._trimmed, self._show_fields, desk.end_merge)
        self._shape: ClipShape | None = None
        self._watch = WhileVisible(self, desk.measuring, self._question, self._on_shape)
        self.reverse, self.loop = QCheckBox("backwards"), QCheckBox("repeats")
        for name, check in (("reverse", self.reverse), ("loop", self.loop)):
            check.setObjectName(f"clips.{name}")
            check.clicked.connect(lambda on, n=name: self._set("Switch", {n: on}))
        self.fields: dict[str, NumberField] = {}
        for name, p, step in _FIELDS:
            self.fields[name] = NumberField(
                p, f"clips.{name}", step=step, on_change=lambda v, n=name, w=p.label: self._set(w, {n: v}, merge=("clip", n)),
                on_release=desk.end_merge, bpm=lambda: desk.song.tempo_bpm, on_error=desk.message.emit,
            )  # fmt: skip
        grid = QComboBox()
        grid.setObjectName("clips.grid")
        grid.setAccessibleName("Grid")
        for words in _GRIDS:
            grid.addItem(words, float(note_value_to_beats(words)))
        grid.addItem("anywhere", 0.0)
        grid.setCurrentIndex(grid.findData(self.view.step))
        grid.activated.connect(lambda i: setattr(self.view, "step", grid.itemData(i)))
        snap = QCheckBox("and to hits")
        snap.setObjectName("clips.hits")
        snap.setChecked(True)
        snap.toggled.connect(lambda on: setattr(self.view, "to_hits", on))
        self.head = row(
            button("Cut at the line", "clips.split", self.split, tip="At the line that a click in the audio sets"),
            button("Play it here", "clips.here", self.play_here, tip="A part in this section, from the recording's beginning"),
            button("Duplicate", "clips.duplicate", self.duplicate), button("Remove", "clips.remove", self.remove),
            menu_button("Part", "clips.menu", self._entries), 1, label("drawn to", "soft"), grid, snap, spacing=5,
        )  # fmt: skip
        names = [name for name, *_ in _FIELDS]
        self.setLayout(
            column(
                self.head, self.view, row(*(self.fields[n] for n in names[:4]), self.loop, spacing=10),
                row(*(self.fields[n] for n in names[4:]), self.reverse, spacing=10),
                label("Drag a part to move it, its ends to trim it, its upper corners to fade it.", "soft"), spacing=6,
            )
        )  # fmt: skip

    # --- what is shown -------------------------------------------------------------------------------------

    @property
    def track(self) -> Track | None:
        strip = self.desk.session.strip(self.desk.selection.track_id)
        return strip if isinstance(strip, Track) and isinstance(strip.source, ClipSource) else None

    def _seen(self) -> list[tuple[int, Part, float, float]]:
        """Parts that are heard in the section: their places, and their beats of the song."""
        track, song = self.track, self.desk.song
        if track is None:
            return []
        first, end = song.beats_of(self.desk.selection.section.id)
        parts = track.parts or (Part(length_beats=None),)
        found = []
        for at, part in enumerate(parts):
            begun, last = part.span_beats(song.beats_of(part.section))
            if not track.parts:
                assert isinstance(track.source, ClipSource)
                begun = track.source.start_s * song.tempo_bpm / 60.0
                last = (
                    last
                    if track.source.loop
                    else min(last, begun + clip_edits.clip_beats(self.desk.session, track.source.asset))
                )
            if begun < end and last > first:
                found.append((at, part, begun, last))
        return found

    @property
    def chosen(self) -> Part | None:
        return next((part for at, part, *_ in self._seen() if at == self.view.chosen), None)

    def show_all(self) -> None:
        song, section = self.desk.song, self.desk.selection.section
        self.view.show_parts(self._seen(), song.beats_of(section.id), bar_beats=song.bar_beats, bpm=song.tempo_bpm)
        self._show_fields()
        self._watch.ask()

    def _show_fields(self) -> None:
        part = self.chosen
        for name, field in self.fields.items():
            value: Any = None
            if part is not None:
                value = getattr(part, name)
                if name == "length_beats" and value is None:
                    first, end = part.span_beats(self.desk.song.beats_of(part.section))
                    value = end - first
                if name == "clip_start_s" and value is None:
                    value = 0.0
            field.show_value(value, None)
        for name, check in (("reverse", self.reverse), ("loop", self.loop)):
            check.setEnabled(part is not None)
            check.setChecked(bool(part is not None and getattr(part, name) and (name != "loop" or part.clip_start_s is not None)))  # fmt: skip

    def _question(self) -> ClipShapeOf | None:
        if self.track is None:
            return None
        return ClipShapeOf(self.desk.bench.graph, self.desk.selection.section, self.desk.selection.track_id)

    def _on_shape(self, shape: ClipShape | None) -> None:
        self._shape = shape
        self.view.show_shape(shape if shape is not None and shape.section == self.desk.selection.section.id else None)

    # --- edits ---------------------------------------------------------------------------------------------

    def _edit(self, what: str, change: Callable[[Session, str, int], Session], merge: object = None) -> bool:
        track, at = self.track, self.view.chosen
        if track is None:
            return False
        return self.desk.edit(what, lambda s: change(s, track.id, at), merge_key=merge)

    def set(self, what: str, **changes: Any) -> None:
        """Fields of the chosen part."""
        self._set(what, changes)

    def _set(self, what: str, changes: dict[str, Any], merge: object = None) -> None:
        self._edit(what, lambda s, track, at: clip_edits.change_part(s, track, at, **changes), merge)
        self._show_fields()  # a refused number shows the old one again

    def _changed(self, what: str, at: int, changes: dict[str, float], merge: object) -> None:
        self._set(what, dict(changes), merge)

    def _trimmed(self, at: int, beats: float, merge: object) -> None:
        self._edit("Start of part", lambda s, track, at: clip_edits.trim_start(s, track, at, beats), merge)

    def split(self) -> None:
        caret = self.view.caret
        if caret is None:
            self.desk.refuse("Click in the audio where it is to be cut.")
            return
        self._edit("Cut part", lambda s, track, at: clip_edits.split_part(s, track, at, caret))

    def duplicate(self) -> None:
        at = self.view.chosen
        self._make_part("Duplicate part", lambda s, track: clip_edits.duplicate_part(s, track, at))

    def play_here(self) -> None:
        """A part in this section, from the recording's beginning: how a section without audio gets some."""
        section = self.desk.selection.section.id
        self._make_part("Play it here", lambda s, track: clip_edits.add_part(s, track, section))

    def _make_part(self, what: str, change: Callable[[Session, str], tuple[Session, int]]) -> None:
        """An edit that makes a part, which is chosen then."""
        track = self.track
        made = self.desk.make(what, lambda s: change(s, track.id)) if track is not None else None
        if made is not None:
            self.view.chosen = made
            self.show_all()

    def remove(self) -> None:
        self._edit("Remove part", clip_edits.remove_part)

    def _entries(self) -> tuple[Entry | str | None, ...]:
        return (
            ("Fit to bars…", "clips.fit", self._ask_fit),
            ("Slices to the hits, as notes", "clips.slices", self.slice),
            ("Parts that can be moved", "clips.place", lambda: self._edit("Parts of their own", lambda s, track, at: clip_edits.with_parts_of_their_own(s, track))),
        )  # fmt: skip

    def _ask_fit(self) -> None:
        bars, good = QInputDialog.getDouble(self, "Fit to bars", "It is to last so many bars, at its own pitch:", 4.0, 0.25, 400.0, 2)  # fmt: skip
        if good:
            self.fit(bars)

    def fit(self, bars: float) -> None:
        beats = bars * self.desk.song.bar_beats
        self._edit("Fit to bars", lambda s, track, at: clip_edits.fit_to_beats(s, track, at, beats))

    def slice(self) -> None:
        """A sampler plays the part, one note a hit."""
        track, at, hits = self.track, self.view.chosen, self.view.hits
        if track is None:
            return
        made = self.desk.make("Slices", lambda s: clip_edits.slices(s, track.id, at, hits))
        if made is not None:
            self.desk.selection.track(made)
