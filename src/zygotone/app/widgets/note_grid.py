"""The note grid of a phrase: pitch by time, velocity below."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.music.pitch import midi_to_note
from zygotone.session.models import Note, Phrase

LEFT, VELOCITY, HEAD = 40, 44, 16
_LEAST_ROWS = 18


class NoteGrid(QWidget):
    """A click in the empty grid makes a note, a drag moves it, its right end makes it longer; the bars below are velocities.

    With the focus the arrow keys move the selected note (Shift: by a beat or an octave), Delete takes it out."""

    def __init__(
        self,
        change: Callable[[str, tuple[Note, ...], object], None],
        play: Callable[[int], None],
        let_go: Callable[[], None],
    ) -> None:
        super().__init__()
        self.setObjectName("sounds.grid")
        self.setAccessibleName("Note grid of the phrase")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(210)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self._change, self._play, self._let_go = change, play, let_go
        self._phrase: Phrase | None = None
        self.step = 0.25
        self.selected: int | None = None
        self._bar_beats = 4.0
        self._drag: tuple[str, float, float, Note] | None = None
        self._low, self._rows = 48, _LEAST_ROWS
        theme().changed.connect(self.update)

    def show_phrase(self, phrase: Phrase | None, *, bar_beats: float = 4.0) -> None:
        self._phrase, self._bar_beats = phrase, bar_beats
        if phrase is not None and phrase.notes and self._drag is None:
            low = min(n.pitch for n in phrase.notes) - 3
            high = max(n.pitch for n in phrase.notes) + 3
            self._rows = max(_LEAST_ROWS, high - low + 1)
            self._low = max(0, min(127 - self._rows, low))
        if phrase is None or (self.selected is not None and self.selected >= len(phrase.notes)):
            self.selected = None
        self.setAccessibleDescription(f"{len(phrase.notes)} notes in {phrase.beats:g} beats" if phrase else "No phrase")
        self.update()

    # --- geometry ------------------------------------------------------------------------------------------

    def _area(self) -> QRectF:
        return QRectF(LEFT, HEAD, self.width() - LEFT - 8, self.height() - HEAD - VELOCITY - 6)

    @property
    def _beats(self) -> float:
        return self._phrase.beats if self._phrase is not None else 4.0

    @property
    def _notes(self) -> tuple[Note, ...]:
        return self._phrase.notes if self._phrase is not None else ()

    def _x(self, beat: float) -> float:
        area = self._area()
        return area.left() + area.width() * beat / self._beats

    def _box(self, note: Note) -> QRectF:
        area = self._area()
        height = area.height() / self._rows
        y = area.bottom() - (note.pitch - self._low + 1) * height
        x = self._x(note.start_beat)
        return QRectF(x, y, max(4.0, self._x(note.start_beat + note.length_beats) - x), height)

    def _at(self, p: QPointF) -> tuple[float, int]:
        area = self._area()
        beat = (p.x() - area.left()) / area.width() * self._beats
        pitch = self._low + int((area.bottom() - p.y()) / (area.height() / self._rows))
        return max(0.0, beat), max(0, min(127, pitch))

    def _note_at(self, p: QPointF) -> int | None:
        for i in reversed(range(len(self._notes))):
            if self._box(self._notes[i]).adjusted(-1, -1, 2, 1).contains(p):
                return i
        return None

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("a" if self.hasFocus() else "line"), 1))
        painter.setBrush(colour("sheet"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 5, 5)
        if self._phrase is None:
            painter.setPen(colour("soft"))
            painter.setFont(text_font(10))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "This section plays no phrase. Make one above.")
            return
        area = self._area()
        height = area.height() / self._rows
        painter.setFont(number_font(7.5))
        for r in range(self._rows):
            pitch = self._low + r
            y = area.bottom() - (r + 1) * height
            if pitch % 12 in (1, 3, 6, 8, 10):
                painter.fillRect(QRectF(area.left(), y, area.width(), height), colour("fill"))
            if pitch % 12 == 0:
                painter.setPen(colour("soft"))
                painter.drawText(
                    QRectF(2, y - 6, LEFT - 8, height + 12),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    midi_to_note(pitch),
                )
        beat = 0.0
        while beat <= self._phrase.beats + 1e-9:
            turns = beat / self._bar_beats
            bar = abs(turns - round(turns)) < 1e-9
            painter.setPen(QPen(colour("soft" if bar else "line"), 1))
            painter.drawLine(QPointF(self._x(beat), area.top()), QPointF(self._x(beat), area.bottom() + VELOCITY))
            if bar and beat < self._phrase.beats:
                painter.drawText(QRectF(self._x(beat) + 3, 1, 40, HEAD), Qt.AlignmentFlag.AlignVCenter, f"{beat:g}")
            # The next beat or bar line, whichever comes first: a bar of 7/8 ends between two beats.
            beat = min(math.floor(beat + 1e-9) + 1.0, (math.floor(turns + 1e-9) + 1.0) * self._bar_beats)
        painter.setPen(colour("soft"))
        painter.drawText(
            QRectF(2, 1, LEFT - 6, HEAD), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, "beat"
        )
        painter.drawText(QRectF(2, area.bottom() + 6, LEFT - 6, 16), Qt.AlignmentFlag.AlignRight, "vel.")
        for i, note in enumerate(self._phrase.notes):
            chosen = i == self.selected
            ink = colour("a" if chosen else "ink")
            ink.setAlphaF(0.35 + 0.6 * note.velocity)
            painter.setPen(QPen(colour("a" if chosen else "sheet"), 1))
            painter.setBrush(ink)
            painter.drawRoundedRect(self._box(note), 2, 2)
            x = self._x(note.start_beat)
            painter.fillRect(
                QRectF(x, self.height() - 6 - (VELOCITY - 6) * note.velocity, 4, (VELOCITY - 6) * note.velocity), ink
            )
        if self.selected is not None:
            n = self._phrase.notes[self.selected]
            text = f"{midi_to_note(n.pitch)}  beat {n.start_beat:g}  length {n.length_beats:g}  velocity {n.velocity:.2f}  nudge {n.nudge_ms:+.0f} ms".replace(
                "-", "−"
            )
            painter.setPen(colour("ink"))
            painter.drawText(
                QRectF(area.left(), 1, area.width(), HEAD),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                text,
            )

    # --- hand ----------------------------------------------------------------------------------------------

    def _put(self, label: str, notes: list[Note], merge: object = None) -> None:
        self._change(label, tuple(notes), merge)

    def change_selected(self, label: str, merge: object = None, **changes: Any) -> None:
        if self._phrase is None or self.selected is None:
            return
        notes = list(self._phrase.notes)
        notes[self.selected] = Note.model_validate({**dict(notes[self.selected]), **changes})
        self._put(label, notes, merge)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._phrase is None:
            return
        p = event.position()
        area = self._area()
        if p.y() > area.bottom():
            near = [(abs(self._x(n.start_beat) - p.x()), i) for i, n in enumerate(self._phrase.notes)]
            if near and min(near)[0] < 12:
                self.selected = min(near)[1]
                self._drag = ("velocity", p.x(), p.y(), self._phrase.notes[self.selected])
                self._drag_to(p)
            return
        at = self._note_at(p)
        beat, pitch = self._at(p)
        if at is not None:
            self.selected = at
            note = self._phrase.notes[at]
            if event.button() == Qt.MouseButton.RightButton:
                self.remove_selected()
                return
            grip = p.x() > self._box(note).right() - 6
            self._drag = ("length" if grip else "move", beat, float(pitch), note)
            self._play(note.pitch)
        elif event.button() == Qt.MouseButton.LeftButton:
            start = int(beat / self.step) * self.step
            if start >= self._phrase.beats:
                return
            made = Note(start_beat=start, length_beats=self.step, pitch=pitch)
            self.selected = len(self._phrase.notes)
            self._put("New note", [*self._phrase.notes, made])
            self._drag = ("length", beat, float(pitch), made)
            self._play(pitch)
        self.update()

    def _drag_to(self, p: QPointF) -> None:
        if self._drag is None:
            return
        what, beat0, pitch0, note = self._drag
        if what == "velocity":
            v = min(1.0, max(0.02, (self.height() - 6 - p.y()) / (VELOCITY - 6)))
            self.change_selected("Velocity", ("velocity", self.selected), velocity=round(v, 2))
            return
        beat, pitch = self._at(p)
        moved = round((beat - beat0) / self.step) * self.step
        if what == "move":
            start = min(self._beats - self.step, max(0.0, note.start_beat + moved))
            self.change_selected(
                "Move note",
                ("move", self.selected),
                start_beat=start,
                pitch=max(0, min(127, note.pitch + pitch - int(pitch0))),
            )
        else:
            self.change_selected(
                "Note length", ("length", self.selected), length_beats=max(self.step, note.length_beats + moved)
            )

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None and self.selected is not None and self._phrase is not None:
            self._drag_to(event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None
        self._let_go()

    def remove_selected(self) -> None:
        if self._phrase is not None and self.selected is not None:
            notes = [n for i, n in enumerate(self._phrase.notes) if i != self.selected]
            self.selected = None
            self._put("Remove note", notes)

    def event(self, event: QEvent) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and event.key() in (Qt.Key.Key_N, Qt.Key.Key_Delete)
        ):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self._phrase is None:
            super().keyPressEvent(event)
            return
        far = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        note = self._phrase.notes[self.selected] if self.selected is not None else None
        key = event.key()
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.remove_selected()
        elif key == Qt.Key.Key_N and self._phrase.notes:
            self.selected = 0 if self.selected is None else (self.selected + 1) % len(self._phrase.notes)
            self.update()
        elif note is not None and key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = (1.0 if far else self.step) * (1 if key == Qt.Key.Key_Right else -1)
            start = min(self._phrase.beats - self.step, max(0.0, note.start_beat + step))
            self.change_selected("Move note", start_beat=start)
        elif note is not None and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = (12 if far else 1) * (1 if key == Qt.Key.Key_Up else -1)
            self.change_selected("Move note", pitch=max(0, min(127, note.pitch + step)))
        else:
            super().keyPressEvent(event)
