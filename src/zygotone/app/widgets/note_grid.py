"""The note grid: what the hand and the keyboard do to the notes of a phrase."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFocusEvent, QMouseEvent, QWheelEvent

from zygotone.app.widgets.keyed import ALT, CTRL, NONE, SHIFT, Keys
from zygotone.app.widgets.note_view import NoteView
from zygotone.errors import ZygotoneError
from zygotone.session import note_edits
from zygotone.session.instruments import Note, Phrase
from zygotone.session.note_edits import SHORTEST, Change, Choice, Notes

_MOVED_PX = 4.0  # less than this is a click
_GRIP_PX = 6.0
_NEAR_PX = 12.0
_FREE_STEP = 1 / 64  # beats, where nothing snaps


@dataclass(slots=True)
class _Drag:
    """What the hand is about. ``notes`` are those of the phrase as it was when the hand came down."""

    what: str  # press, move, copy, length, band, run, velocity
    at: QPointF
    beat: float
    pitch: int
    notes: Notes
    chosen: Choice
    merge: object  # one drag is one step


class NoteGrid(NoteView):
    """A click in the empty grid makes a note; a drag there chooses, with Ctrl it writes a run. A drag on a note moves what is
    chosen, with Ctrl a copy of it; at its right end it makes it longer. A drag through the velocities draws them.

    ``change`` is told a label, the new notes and what makes them one step; ``play`` a pitch to hear; ``say`` why something
    cannot be done."""

    def __init__(
        self,
        change: Callable[[str, tuple[Note, ...], object], None],
        play: Callable[[int], None],
        let_go: Callable[[], None],
        *,
        say: Callable[[str], None] = lambda text: None,
        chose: Callable[[], None] = lambda: None,
        begin: Callable[[], None] = lambda: None,
    ) -> None:
        """``begin`` makes a phrase where there is none, as the first note asks for it."""
        super().__init__()
        self._change, self._play, self._let_go, self._say, self._chose = change, play, let_go, say, chose
        self._begin = begin
        self.snaps = True
        self._new_length: float | None = None  # of the note made longer last
        self._drag: _Drag | None = None
        self._writing = False  # the arrows move the caret, not the notes
        self._put: Notes | None = None  # what was put last: else somebody else changed the phrase
        self._keys = self._table()
        self._keys_of_none: Keys = {(NONE, key): self._begin for key in (Qt.Key.Key_Return, Qt.Key.Key_Enter)}

    def show_phrase(self, phrase: Phrase | None) -> None:
        before, self.phrase = self.phrase, phrase
        if phrase is None:
            self.chosen, self.caret = frozenset(), None
        elif before is None or before.id != phrase.id:
            self.chosen, self.caret, self._new_length = frozenset(), None, None
            self.see_all()
        else:
            if phrase.notes != self._put and phrase.notes != before.notes:  # undone, or reshaped from elsewhere
                held = {before.notes[at] for at in self.chosen if at < len(before.notes)}
                self.chosen = frozenset(at for at, n in enumerate(phrase.notes) if n in held)
            if phrase.beats != before.beats or (
                not before.notes and phrase.notes and self._drag is None and phrase.notes != self._put
            ):
                self.see_all()
        self._put = None
        self.chosen = frozenset(at for at in self.chosen if at < len(self.notes))
        words = f"{len(phrase.notes)} notes in {phrase.beats:g} beats" if phrase else "No phrase"
        self.setAccessibleDescription(f"{words}. {self.said()}" if self.said() else words)
        self.update()

    # --- what can be done with notes -----------------------------------------------------------------------

    @property
    def grid_beats(self) -> float:
        return self.step if self.snaps else _FREE_STEP

    @property
    def affected(self) -> Choice:
        """The chosen notes, or all where none are."""
        return self.chosen or frozenset(range(len(self.notes)))

    def choose(self, chosen: Iterable[int], *, writing: bool = False) -> None:
        self.chosen = frozenset(chosen)
        self._writing = writing
        self._chose()
        self.setAccessibleDescription(self.said() or "No note is chosen")
        self.update()

    def put(self, label: str, notes: Notes, chosen: Iterable[int] | None = None, merge: object = None) -> None:
        """New notes, and which of them are chosen then."""
        if chosen is not None:
            self.chosen = frozenset(chosen)
        self._put = notes
        self._change(label, notes, merge)
        self._chose()

    def apply(self, label: str, change: Change, merge: object = None, *, all_of_them: bool = False) -> None:
        """A change of the chosen notes; with ``all_of_them`` of all where none are."""
        places = self.affected if all_of_them else self.chosen
        if self.phrase is None or not places:
            return
        try:
            self.put(label, note_edits.changed(self.notes, places, change), merge=merge)
        except ZygotoneError as error:
            self._say(str(error))

    def change_chosen(self, label: str, merge: object = None, **values: Any) -> None:
        """The same values for all that are chosen."""
        self.apply(label, lambda notes: [Note.model_validate({**dict(n), **values}) for n in notes], merge)

    def copied(self) -> list[Note]:
        return [self.notes[at] for at in sorted(self.chosen)]

    def paste(self, notes: Iterable[Note]) -> None:
        """At the caret; where there is none, on the next line after what is chosen, or at the beginning."""
        if self.phrase is None:
            self._say("This section plays no phrase. Make one first.")
            return
        at = self.caret[0] if self.caret is not None else 0.0
        if self.caret is None and self.chosen:
            end = max(n.start_beat + n.length_beats for n in self.copied())
            at = math.ceil(end / self.grid_beats - 1e-6) * self.grid_beats
        self._attempt(
            "Paste notes", lambda: note_edits.pasted(self.notes, list(notes), at, phrase_beats=self.beats)
        )  # fmt: skip

    def duplicate(self) -> None:
        self._attempt(
            "Duplicate notes",
            lambda: note_edits.duplicated(self.notes, self.chosen, phrase_beats=self.beats, grid_beats=self.grid_beats),
        )

    def _attempt(self, label: str, make: Callable[[], tuple[Notes, Choice]]) -> None:
        try:
            self.put(label, *make())
        except ZygotoneError as error:
            self._say(str(error))

    def remove_chosen(self, label: str = "Remove notes") -> None:
        if self.chosen:
            self.put(label, note_edits.without(self.notes, self.chosen), ())

    def choose_all(self) -> None:
        self.choose(range(len(self.notes)))

    def choose_same_pitch(self) -> None:
        self.choose(note_edits.of_pitches(self.notes, self.chosen))

    def choose_weak(self, beats_per_bar: int) -> None:
        self.choose(note_edits.weak(self.notes, beats_per_bar=beats_per_bar, bar_beats=self._bar_beats))

    def choose_rest(self) -> None:
        self.choose(frozenset(range(len(self.notes))) - self.chosen)

    def step_through(self, steps: int) -> None:
        """The next note by time, or the one before."""
        order = sorted(range(len(self.notes)), key=lambda at: (self.notes[at].start_beat, self.notes[at].pitch))
        if not order:
            return
        places = [i for i, at in enumerate(order) if at in self.chosen]
        here = (max(places) if steps > 0 else min(places)) + steps if places else 0 if steps > 0 else -1
        at = order[here % len(order)]
        self.choose((at,))
        self.bring_into_view(self.notes[at].start_beat, self.notes[at].pitch)
        self._play(self.notes[at].pitch)

    # --- hand ----------------------------------------------------------------------------------------------

    def _snapped(self, beat: float, *, down: bool = False) -> float:
        lines = beat / self.grid_beats
        return (math.floor(lines + 1e-6) if down else round(lines)) * self.grid_beats

    def _made(self, start: float, pitch: int) -> Note:
        length = self._new_length or self.step
        return Note(start_beat=start, length_beats=max(SHORTEST, min(length, 10000.0)), pitch=pitch)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.phrase is None and event.button() == Qt.MouseButton.LeftButton:
            self._begin()
            return
        if self.phrase is None:
            return
        p, modifiers = event.position(), event.modifiers()
        beat, pitch = self._at(p)
        at = self._note_at(p)

        def drag(what: str) -> _Drag:
            return _Drag(what, p, beat, pitch, self.notes, self.chosen, object())

        if event.button() == Qt.MouseButton.RightButton:
            if at is not None:
                self.choose(self.chosen if at in self.chosen else (at,))
                self.remove_chosen()
            return
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if p.y() > self._area().bottom():
            self._drag = drag("velocity")
            self._sweep(p, p)
        elif at is None:
            self._drag = drag("run" if modifiers & CTRL else "press")
            if not modifiers & SHIFT:
                self._drag.chosen = frozenset()  # a band chooses anew
            if modifiers & CTRL:
                self._write_run(beat, pitch)
        elif modifiers & SHIFT:
            self.choose(self.chosen ^ {at})
        else:
            if at not in self.chosen:
                self.choose((at,))
            note = self.notes[at]
            grip = p.x() > self._box(note).right() - min(_GRIP_PX, self._box(note).width() / 3)
            self._drag = drag("copy" if modifiers & CTRL else "length" if grip else "move")
            self._play(note.pitch)
        self.caret, self._writing = None, False
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        drag = self._drag
        if drag is None or self.phrase is None:
            return
        p = event.position()
        if drag.what == "press" and (p - drag.at).manhattanLength() > _MOVED_PX:
            drag.what = "band"
        if drag.what == "velocity":
            self._sweep(drag.at, p)
        elif drag.what == "band":
            self._choose_band(drag, p)
        elif drag.what == "run":
            self._write_run(*self._at(p))
        elif drag.what in ("move", "copy", "length"):
            self._move_to(drag, p)

    def _move_to(self, drag: _Drag, p: QPointF) -> None:
        beat, pitch = self._at(p)
        beats = self._snapped(beat - drag.beat)
        places = sorted(drag.chosen)
        held = [drag.notes[at] for at in places]
        if drag.what == "length":
            new = note_edits.lengthened(held, beats)
            self._new_length = new[-1].length_beats
            self._put_dragged(drag, "Note length", dict(zip(places, new, strict=True)))
            return
        if (p - drag.at).manhattanLength() <= _MOVED_PX:
            return
        new = note_edits.moved(held, beats, pitch - drag.pitch, phrase_beats=self.beats)
        if drag.what == "move":
            self._put_dragged(drag, "Move notes", dict(zip(places, new, strict=True)))
        else:
            count = len(drag.notes)
            self.put("Copy notes", (*drag.notes, *new), range(count, count + len(new)), drag.merge)

    def _put_dragged(self, drag: _Drag, label: str, new: dict[int, Note]) -> None:
        self.put(label, tuple(new.get(at, n) for at, n in enumerate(drag.notes)), merge=drag.merge)

    def _choose_band(self, drag: _Drag, p: QPointF) -> None:
        self.band = QRectF(drag.at, p).normalized()
        (beat0, high), (beat1, low) = self._at(self.band.topLeft()), self._at(self.band.bottomRight())
        self.choose(drag.chosen | note_edits.in_box(self.notes, beat0, beat1, low, high))

    def _write_run(self, beat: float, pitch: int) -> None:
        """A note on each line of the grid that the hand passes, none where one begins already at that pitch."""
        drag = self._drag
        if drag is None:
            return
        first, last = sorted((self._snapped(drag.beat, down=True), self._snapped(beat, down=True)))
        there = {(round(n.start_beat, 6), n.pitch) for n in drag.notes}
        new = []
        for n in range(round((last - first) / self.step) + 1):
            start = first + n * self.step
            if start < self.beats and (round(start, 6), drag.pitch) not in there:
                new.append(Note(start_beat=start, length_beats=self.step, pitch=drag.pitch))
        count = len(drag.notes)
        self.put("Write a run", (*drag.notes, *new), range(count, count + len(new)), drag.merge)

    def _sweep(self, begun: QPointF, p: QPointF) -> None:
        drag = self._drag
        if drag is None:
            return
        ends = []
        for at in (begun, p):
            ends.append((self._at(QPointF(at.x(), self._area().center().y()))[0], self._velocity_at(at.y())))
        self.sweep = (begun, p)
        if abs(begun.x() - p.x()) < _MOVED_PX:  # a click sets the nearest
            near = [(abs(self._x(n.start_beat) + 2 - p.x()), at) for at, n in enumerate(drag.notes)]
            least = min(near, default=(math.inf, 0))
            beat = drag.notes[least[1]].start_beat if least[0] < _NEAR_PX else ends[1][0]
            # Notes of a chord begin together: where one of them is chosen, that one alone.
            chosen = frozenset(at for at in drag.chosen if drag.notes[at].start_beat == beat)
            ends = [(beat, ends[1][1])] * 2
        else:
            chosen = drag.chosen
        notes = note_edits.swept(drag.notes, chosen, ends[0], ends[1])
        if notes != self.notes:
            self.put("Velocities", notes, merge=drag.merge)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, self._drag = self._drag, None
        self.band = self.sweep = None
        if drag is not None and drag.what == "press" and self.phrase is not None:
            start = self._snapped(drag.beat, down=True)
            if start < self.beats:
                self.put("New note", (*self.notes, self._made(start, drag.pitch)), (len(self.notes),))
                self._play(drag.pitch)
        self.update()
        self._let_go()

    def wheelEvent(self, event: QWheelEvent) -> None:
        ctrl, shift = bool(event.modifiers() & CTRL), bool(event.modifiers() & SHIFT)
        if self.phrase is None or not (self.hasFocus() or ctrl):
            event.ignore()  # scrolling the page must not turn what it passes
            return
        delta = event.angleDelta()
        clicks = (delta.y() or delta.x()) / 120.0
        if ctrl and shift:
            self.zoom_pitch(-2 if clicks > 0 else 2)
        elif ctrl:
            self.zoom_time(1.25**clicks, self._at(event.position())[0])
        elif shift or delta.x():
            self.look_along(beats=-clicks * self._shown_beats / 8)
        else:
            self.look_along(rows=round(2 * clicks))

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        tabbed = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        if tabbed and self.phrase is not None and self.caret is None and not self.chosen:
            self._place_caret(self._first, self.notes[0].pitch if self.notes else self._low + self._rows // 2)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.update()

    # --- keyboard ------------------------------------------------------------------------------------------

    def keys(self) -> Keys:
        return self._keys if self.phrase is not None else self._keys_of_none

    def _table(self) -> Keys:
        key = Qt.Key
        return {
            (NONE, key.Key_Left): lambda: self._sideways(-self.step),
            (NONE, key.Key_Right): lambda: self._sideways(self.step),
            (SHIFT, key.Key_Left): lambda: self._sideways(-1.0),
            (SHIFT, key.Key_Right): lambda: self._sideways(1.0),
            (NONE, key.Key_Up): lambda: self._upwards(1),
            (NONE, key.Key_Down): lambda: self._upwards(-1),
            (SHIFT, key.Key_Up): lambda: self._upwards(12),
            (SHIFT, key.Key_Down): lambda: self._upwards(-12),
            (ALT, key.Key_Left): lambda: self._nudge(-1.0),
            (ALT, key.Key_Right): lambda: self._nudge(1.0),
            (ALT | SHIFT, key.Key_Left): lambda: self._nudge(-10.0),
            (ALT | SHIFT, key.Key_Right): lambda: self._nudge(10.0),
            (ALT, key.Key_Up): lambda: self._harder(0.02),
            (ALT, key.Key_Down): lambda: self._harder(-0.02),
            (NONE, key.Key_BracketRight): lambda: self._longer(self.step),
            (NONE, key.Key_BracketLeft): lambda: self._longer(-self.step),
            (NONE, key.Key_Home): lambda: self._jump(0.0),
            (NONE, key.Key_End): lambda: self._jump(self.beats - self.step),
            (NONE, key.Key_Return): lambda: self._write(go_on=True),
            (NONE, key.Key_Enter): lambda: self._write(go_on=True),
            (SHIFT, key.Key_Return): lambda: self._write(go_on=False),
            (SHIFT, key.Key_Enter): lambda: self._write(go_on=False),
            (NONE, key.Key_Delete): self._delete,
            (NONE, key.Key_Backspace): self._delete,
            (NONE, key.Key_Escape): self._to_caret,
            (NONE, key.Key_N): lambda: self.step_through(1),
            (SHIFT, key.Key_N): lambda: self.step_through(-1),
            (NONE, key.Key_P): self.choose_same_pitch,
            (CTRL, key.Key_D): self.duplicate,
            (CTRL, key.Key_Plus): lambda: self.zoom_time(1.5),
            (CTRL, key.Key_Equal): lambda: self.zoom_time(1.5),
            (CTRL, key.Key_Minus): lambda: self.zoom_time(1 / 1.5),
            (CTRL, key.Key_0): self.see_all,
        }

    def key_done(self) -> None:
        self.setAccessibleDescription(self.said() or "No note is chosen")
        self.update()

    def _by_key(self, label: str, change: Change) -> None:
        """A key that is held down makes one step."""
        if not self.repeats:
            self._let_go()
        self.apply(label, change, merge=("key", label))
        if self.chosen:
            first = min(self.copied(), key=lambda n: n.start_beat)
            self.bring_into_view(first.start_beat, first.pitch)

    @property
    def _moves_notes(self) -> bool:
        return bool(self.chosen) and not self._writing

    def _place_caret(self, beat: float, pitch: int) -> None:
        beat = min(max(0.0, beat), max(0.0, self.beats - SHORTEST))
        self.caret = (round(beat, 6), max(0, min(127, pitch)))
        self._writing = True
        self.bring_into_view(*self.caret)

    def _caret_now(self) -> tuple[float, int]:
        if self.caret is not None:
            return self.caret
        pitch = self.notes[-1].pitch if self.notes else self._low + self._rows // 2
        return self._first, pitch

    def _move_caret(self, beats: float, semitones: int) -> None:
        beat, pitch = self._caret_now()
        if self.chosen:
            self.choose((), writing=True)
        self._place_caret(self._snapped(beat + beats), pitch + semitones)

    def _sideways(self, beats: float) -> None:
        if self._moves_notes:
            self._by_key("Move notes", lambda notes: note_edits.moved(notes, beats, phrase_beats=self.beats))
        else:
            self._move_caret(beats, 0)

    def _upwards(self, semitones: int) -> None:
        if self._moves_notes:
            self._by_key(
                "Move notes", lambda notes: note_edits.moved(notes, 0.0, semitones, phrase_beats=self.beats)
            )  # fmt: skip
            self._play(self.copied()[0].pitch)
        else:
            self._move_caret(0.0, semitones)

    def _nudge(self, ms: float) -> None:
        self._by_key("Nudge notes", lambda notes: note_edits.nudged(notes, ms))

    def _harder(self, by: float) -> None:
        self._by_key("Velocities", lambda notes: note_edits.harder(notes, by))

    def _longer(self, beats: float) -> None:
        self._by_key("Note length", lambda notes: note_edits.lengthened(notes, beats))
        if self.chosen:
            self._new_length = self.copied()[-1].length_beats

    def _jump(self, beat: float) -> None:
        self._move_caret(beat - self._caret_now()[0], 0)

    def _write(self, *, go_on: bool) -> None:
        """A note at the caret, which then goes on to the next line, or stays for the next note of a chord."""
        beat, pitch = self._caret_now()
        if beat >= self.beats:
            return
        made = self._made(beat, pitch)
        self.put("New note", (*self.notes, made), (len(self.notes),))
        self._play(pitch)
        self._writing = True
        after = beat + (made.length_beats if go_on else 0.0)
        self.caret = (after if after <= self.beats - SHORTEST else 0.0, pitch)
        self.bring_into_view(*self.caret)

    def _delete(self) -> None:
        if not self.chosen and self.caret is not None:
            beat, pitch = self.caret
            under = note_edits.in_box(self.notes, beat, beat + SHORTEST, pitch, pitch)
            self.chosen = under
        self.remove_chosen()

    def _to_caret(self) -> None:
        """Nothing is chosen any more; the caret stands where the first of it was."""
        beat, pitch = self._caret_now()
        if self.chosen and not self._writing:
            first = min(self.copied(), key=lambda n: (n.start_beat, n.pitch))
            beat, pitch = first.start_beat, first.pitch
        self.choose((), writing=True)
        self._place_caret(beat, pitch)
