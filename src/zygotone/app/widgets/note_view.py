"""How the notes of a phrase are drawn: pitch by time, velocities below, what other tracks play behind."""

from __future__ import annotations

import math
from collections.abc import Mapping

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import framed, say_instead
from zygotone.app.widgets.keyed import Keyed
from zygotone.music.keys import Key
from zygotone.music.pitch import midi_to_note
from zygotone.session.instruments import Note, Phrase
from zygotone.session.note_edits import Choice

LEFT, VELOCITY, HEAD, FOOT = 40, 54, 16, 6
LEAST_ROWS, MOST_ROWS = 8, 60
LEAST_BEATS = 0.5
_USUAL_ROWS = 18
_LEAST_LINE_PX = 5.0  # grid lines closer than this are not drawn
_BLACK = (1, 3, 6, 8, 10)


class NoteView(Keyed):
    """A stretch of beats by a stretch of pitches. ``chosen`` are the places of notes in the phrase."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("sounds.grid")
        self.setAccessibleName("Note grid of the phrase")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(230)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.phrase: Phrase | None = None
        self.chosen: Choice = frozenset()
        self.step = 0.25  # beats between the lines of the grid
        self.caret: tuple[float, int] | None = None  # where the keyboard writes
        self.band: QRectF | None = None  # drawn by the hand
        self.sweep: tuple[QPointF, QPointF] | None = None
        self._key: Key | None = None
        self._bar_beats = 4.0
        self._behind: Mapping[str, tuple[Note, ...]] = {}
        self._playhead: float | None = None
        self._low, self._rows = 48, _USUAL_ROWS
        self._first, self._shown_beats = 0.0, 4.0
        theme().changed.connect(self.update)

    @property
    def beats(self) -> float:
        return self.phrase.beats if self.phrase is not None else 4.0

    @property
    def notes(self) -> tuple[Note, ...]:
        return self.phrase.notes if self.phrase is not None else ()

    def show_surroundings(
        self, *, bar_beats: float, key: Key | None, behind: Mapping[str, tuple[Note, ...]]
    ) -> None:  # fmt: skip
        """Bar lines, the notes of the key, and what other tracks play meanwhile."""
        self._bar_beats, self._key, self._behind = bar_beats, key, behind
        self.update()

    def show_playhead(self, beat: float | None) -> None:
        if beat != self._playhead:
            for at in (self._playhead, beat):
                if at is not None:
                    self.update(int(self._x(at)) - 2, 0, 5, self.height())
            self._playhead = beat

    # --- what is seen --------------------------------------------------------------------------------------

    def see_all(self) -> None:
        """The whole phrase, and all its pitches with some room."""
        self._first, self._shown_beats = 0.0, self.beats
        if self.notes:
            low, high = min(n.pitch for n in self.notes) - 3, max(n.pitch for n in self.notes) + 3
            self._rows = min(MOST_ROWS, max(_USUAL_ROWS, high - low + 1))
            self._low = max(0, min(128 - self._rows, low))
        self.update()

    def look_along(self, beats: float = 0.0, rows: int = 0) -> None:
        self._first = min(max(0.0, self.beats - self._shown_beats), max(0.0, self._first + beats))
        self._low = max(0, min(128 - self._rows, self._low + rows))
        self.update()

    def zoom_time(self, factor: float, about_beat: float | None = None) -> None:
        """Shows ``1/factor`` of what was shown, with ``about_beat`` where it was."""
        about = self._first + self._shown_beats / 2 if about_beat is None else about_beat
        new = min(self.beats, max(LEAST_BEATS, self._shown_beats / factor))
        share = (about - self._first) / self._shown_beats
        self._shown_beats, self._first = new, about - share * new
        self.look_along()

    def zoom_pitch(self, rows: int) -> None:
        """Shows so many rows more, or fewer where it is below 0."""
        middle = self._low + self._rows // 2
        self._rows = min(MOST_ROWS, max(LEAST_ROWS, self._rows + rows))
        self._low = middle - self._rows // 2
        self.look_along()

    def bring_into_view(self, beat: float, pitch: int) -> None:
        if beat < self._first or beat >= self._first + self._shown_beats:
            self._first = math.floor(beat / self._shown_beats + 1e-9) * self._shown_beats
        if not self._low <= pitch < self._low + self._rows:
            self._low = pitch - self._rows // 2
        self.look_along()

    # --- geometry ------------------------------------------------------------------------------------------

    def _area(self) -> QRectF:
        return QRectF(LEFT, HEAD, self.width() - LEFT - 8, self.height() - HEAD - VELOCITY - FOOT)

    def _x(self, beat: float) -> float:
        area = self._area()
        return area.left() + area.width() * (beat - self._first) / self._shown_beats

    def _row_height(self) -> float:
        return self._area().height() / self._rows

    def _y(self, pitch: float) -> float:
        """Upper edge of a pitch's row."""
        return self._area().bottom() - (pitch - self._low + 1) * self._row_height()

    def _box(self, note: Note) -> QRectF:
        x = self._x(note.start_beat)
        right = max(x + 4.0, self._x(note.start_beat + note.length_beats))
        return QRectF(x, self._y(note.pitch), right - x, self._row_height())

    def _at(self, p: QPointF) -> tuple[float, int]:
        area = self._area()
        beat = self._first + (p.x() - area.left()) / area.width() * self._shown_beats
        pitch = self._low + math.floor((area.bottom() - p.y()) / self._row_height())
        return max(0.0, beat), max(0, min(127, pitch))

    def _velocity_at(self, y: float) -> float:
        return min(1.0, max(0.02, (self.height() - FOOT - y) / (VELOCITY - 8)))

    def _velocity_y(self, velocity: float) -> float:
        return self.height() - FOOT - velocity * (VELOCITY - 8)

    def _note_at(self, p: QPointF) -> int | None:
        area = self._area()
        if not area.adjusted(-1, -1, 1, 1).contains(p):
            return None
        for i in reversed(range(len(self.notes))):
            if self._box(self.notes[i]).adjusted(-1, -1, 2, 1).contains(p):
                return i
        return None

    def _is_seen(self, note: Note) -> bool:
        return (
            note.start_beat < self._first + self._shown_beats
            and note.start_beat + note.length_beats > self._first
            and self._low <= note.pitch < self._low + self._rows
        )

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        with framed(self) as painter:
            if self.phrase is None:
                words = "This section plays no phrase. Click here, or press Enter, to begin one."
                say_instead(painter, QRectF(self.rect()), words)
                return
            self._paint_rows(painter)
            self._paint_lines(painter)
            painter.save()
            painter.setClipRect(self._area().adjusted(-1, 0, 1, VELOCITY + FOOT))
            self._paint_behind(painter)
            self._paint_notes(painter)
            self._paint_hand(painter)
            painter.restore()
            self._paint_head(painter)

    def _paint_rows(self, painter: QPainter) -> None:
        """Rows of notes that are not in the key are shaded; without a key those of the black keys."""
        area, height = self._area(), self._row_height()
        painter.setFont(number_font(7.5))
        in_key = self._key.pitch_classes if self._key is not None else None
        named = self._key.tonic if self._key is not None else 0
        for pitch in range(self._low, min(128, self._low + self._rows)):
            box = QRectF(area.left(), self._y(pitch), area.width(), height)
            outside = pitch % 12 not in in_key if in_key is not None else pitch % 12 in _BLACK
            if outside:
                painter.fillRect(box, colour("fill"))
            if pitch % 12 == named or (height > 15 and not outside):
                painter.setPen(colour("ink" if pitch % 12 == named else "soft"))
                right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
                painter.drawText(QRectF(2, box.top() - 6, LEFT - 8, height + 12), right, midi_to_note(pitch))
            if pitch % 12 == named:
                painter.setPen(QPen(colour("line"), 1))
                painter.drawLine(box.bottomLeft(), box.bottomRight())

    def _paint_lines(self, painter: QPainter) -> None:
        area = self._area()
        last = self._first + self._shown_beats
        beat_px = area.width() / self._shown_beats
        lines: dict[float, str] = {}

        def enter(stride: float, ink: str) -> None:
            if stride * beat_px < _LEAST_LINE_PX:
                return
            n = math.ceil(self._first / stride - 1e-9)
            while n * stride <= last + 1e-9:
                lines[round(n * stride, 6)] = ink
                n += 1

        enter(self.step, "fill")
        enter(1.0, "line")
        bars = next(k for k in (1, 2, 4, 8, 16, 32, 64, 128, 256, 4096) if k * self._bar_beats * beat_px > 26)
        enter(self._bar_beats * bars, "soft")
        painter.setFont(number_font(7.5))
        for beat, ink in lines.items():
            x = self._x(beat)
            painter.setPen(QPen(colour(ink), 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom() + VELOCITY))
            if ink == "soft" and beat < self.beats - 1e-9:
                bar = round(beat / self._bar_beats) + 1
                painter.drawText(QRectF(x + 3, 1, 60, HEAD), Qt.AlignmentFlag.AlignVCenter, f"bar {bar}")
        painter.setPen(QPen(colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        painter.setPen(colour("soft"))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.setFont(text_font(8))
        painter.drawText(QRectF(2, area.bottom() + 4, LEFT - 8, 14), right, "hard")
        painter.drawText(QRectF(2, self.height() - FOOT - 12, LEFT - 8, 14), right, "soft")

    def _paint_behind(self, painter: QPainter) -> None:
        ink = colour("soft")
        ink.setAlphaF(0.28)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(ink, 1, Qt.PenStyle.DashLine))
        for notes in self._behind.values():
            for note in notes:
                if self._is_seen(note):
                    painter.drawRect(self._box(note).adjusted(0.5, 1.5, -0.5, -1.5))

    def _paint_notes(self, painter: QPainter) -> None:
        last = self._first + self._shown_beats
        for i, note in enumerate(self.notes):
            chosen = i in self.chosen
            ink = colour("a" if chosen else "ink")
            ink.setAlphaF(0.35 + 0.6 * note.velocity)
            if self._is_seen(note):
                painter.setPen(QPen(colour("ink" if chosen else "sheet"), 1))
                painter.setBrush(ink)
                painter.drawRoundedRect(self._box(note), 2, 2)
            if self._first <= note.start_beat < last:
                x, y = self._x(note.start_beat), self._velocity_y(note.velocity)
                painter.fillRect(QRectF(x, y, 4, self.height() - FOOT - y), ink)

    def _paint_hand(self, painter: QPainter) -> None:
        """Caret, band, sweep and where the song is."""
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.caret is not None and self.hasFocus():
            beat, pitch = self.caret
            x = self._x(beat)
            painter.setPen(QPen(colour("a"), 1.6))
            painter.drawLine(QPointF(x, self._area().top()), QPointF(x, self._area().bottom()))
            painter.drawRect(QRectF(x, self._y(pitch), max(6.0, self._x(beat + self.step) - x), self._row_height()))
        if self.band is not None:
            painter.setPen(QPen(colour("a"), 1, Qt.PenStyle.DashLine))
            painter.drawRect(self.band)
        if self.sweep is not None:
            painter.setPen(QPen(colour("a"), 1.6))
            painter.drawLine(*self.sweep)
        if self._playhead is not None:
            x = self._x(self._playhead)
            painter.setPen(QPen(colour("ink"), 1))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))

    def _paint_head(self, painter: QPainter) -> None:
        words = self.said()
        if words:
            painter.setFont(number_font(7.5))
            width = painter.fontMetrics().horizontalAdvance(words) + 10
            box = QRectF(self.width() - width - 8, 1, width, HEAD)
            painter.fillRect(box, colour("sheet"))
            painter.setPen(colour("ink"))
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)

    def said(self) -> str:
        """What is chosen, or where the caret is, in words."""
        chosen = [self.notes[at] for at in sorted(self.chosen)]
        if len(chosen) == 1:
            n = chosen[0]
            text = f"{midi_to_note(n.pitch)} at beat {n.start_beat + 1:g}, {n.length_beats:g} long, velocity {n.velocity:.2f}, {n.nudge_ms:+.0f} ms"
        elif chosen:
            text = f"{len(chosen)} notes chosen"
        elif self.caret is not None and self.hasFocus():
            text = f"{midi_to_note(self.caret[1])} at beat {self.caret[0] + 1:g}; Enter makes a note"
        else:
            return ""
        return text.replace("-", "−")
