"""The audio of a track in a section: its waveform and its parts, moved, trimmed and faded by hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.advise.sound_views import ClipShape
from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import framed, say_instead
from zygotone.session.parts import Part

_HEAD, _FOOT, _SIDE = 18, 18, 10
_GRIP_PX = 7.0
_HIT_PX = 6.0  # a hit is nearer than the grid within this


@dataclass(slots=True)
class _Drag:
    what: str  # move, start, end, fade_in, fade_out
    beat: float  # where the hand came down
    part: Part
    first: float
    end: float
    merge: object


class ClipView(QWidget):
    """``change`` is told a label, the part's place, what it does to the part, and what makes it one step. Beats are of the song."""

    def __init__(
        self,
        change: Callable[[str, int, dict[str, float], object], None],
        trim: Callable[[int, float, object], None],
        chose: Callable[[], None],
        let_go: Callable[[], None],
    ) -> None:
        """``trim`` is told where a part is to begin, counted from where it begins now."""
        super().__init__()
        self.setObjectName("clips.view")
        self.setAccessibleName("Audio of this section")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(200)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self._change, self._trim, self._chose, self._let_go = change, trim, chose, let_go
        self.chosen = 0  # the place of a part
        self.caret: float | None = None  # beat of the song, where a part is cut
        self.step = 0.25
        self.to_hits = True
        self._parts: list[tuple[int, Part, float, float]] = []  # place, part, first and last beat
        self._shown: object = None
        self._shape: ClipShape | None = None
        self._wave: tuple[QRectF, list[QRectF]] | None = None  # as it was drawn last, and where
        self._first, self._end, self._bar = 0.0, 4.0, 4.0
        self._bpm = 120.0
        self._drag: _Drag | None = None
        theme().changed.connect(self.update)

    def show_parts(
        self, parts: list[tuple[int, Part, float, float]], span: tuple[float, float], *, bar_beats: float, bpm: float
    ) -> None:  # fmt: skip
        shown = (parts, span, bar_beats, bpm, self.chosen)
        if shown == self._shown:  # an edit elsewhere
            return
        self._shown = shown
        self._parts, (self._first, self._end), self._bar, self._bpm = parts, span, bar_beats, bpm
        self._wave = None
        if self.chosen not in {at for at, *_ in parts} and parts:
            self.chosen = parts[0][0]
        words = f"{len(parts)} part{'s' if len(parts) != 1 else ''}"
        self.setAccessibleDescription(words)
        self.update()

    def show_shape(self, shape: ClipShape | None) -> None:
        if shape is not self._shape:
            self._shape, self._wave = shape, None
            self.update()

    @property
    def hits(self) -> tuple[float, ...]:
        return self._shape.hits if self._shape is not None else ()

    # --- geometry ------------------------------------------------------------------------------------------

    def _area(self) -> QRectF:
        return QRectF(_SIDE, _HEAD, self.width() - 2 * _SIDE, self.height() - _HEAD - _FOOT)

    def _x(self, beat: float) -> float:
        area = self._area()
        return area.left() + area.width() * (beat - self._first) / (self._end - self._first)

    def _beat(self, x: float) -> float:
        area = self._area()
        return self._first + (x - area.left()) / area.width() * (self._end - self._first)

    def snapped(self, beat: float) -> float:
        """To a hit that is near, else to the grid."""
        if self.to_hits and self.hits:
            near = min(self.hits, key=lambda hit: abs(hit - beat))
            if abs(self._x(near) - self._x(beat)) < _HIT_PX:
                return near
        return round(beat / self.step) * self.step if self.step else beat

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        with framed(self) as painter:
            area = self._area()
            painter.setFont(number_font(7.5))
            beat = np.ceil(self._first / self._bar - 1e-9) * self._bar
            while beat <= self._end + 1e-9:
                painter.setPen(QPen(colour("line"), 1))
                painter.drawLine(QPointF(self._x(beat), area.top()), QPointF(self._x(beat), area.bottom()))
                painter.setPen(colour("soft"))
                if beat < self._end - 1e-9:
                    words = f"bar {round(beat / self._bar) + 1}"
                    painter.drawText(
                        QRectF(self._x(beat) + 3, area.bottom() + 2, 60, 14), Qt.AlignmentFlag.AlignVCenter, words
                    )
                beat += self._bar
            if not self._parts:
                say_instead(
                    painter, QRectF(self.rect()), "No audio plays in this section. “Play it here” brings it in."
                )
            for at, part, first, end in self._parts:
                self._paint_part(painter, part, QRectF(QPointF(self._x(first), area.top()), QPointF(self._x(end), area.bottom())), at == self.chosen)  # fmt: skip
            self._paint_wave(painter, area)
            for hit in self.hits:
                painter.setPen(QPen(colour("soft"), 1, Qt.PenStyle.DotLine))
                painter.drawLine(QPointF(self._x(hit), area.top()), QPointF(self._x(hit), area.top() + 8))
            if self.caret is not None and self._first <= self.caret <= self._end:
                painter.setPen(QPen(colour("a"), 1.6))
                painter.drawLine(QPointF(self._x(self.caret), area.top()), QPointF(self._x(self.caret), area.bottom()))

    def _paint_part(self, painter: QPainter, part: Part, box: QRectF, chosen: bool) -> None:
        painter.setPen(QPen(colour("a" if chosen else "soft"), 2 if chosen else 1))
        painter.setBrush(colour("fill"))
        painter.drawRoundedRect(box, 3, 3)
        per_ms = self._bpm / 60_000.0
        for ms, left in ((part.fade_in_ms, True), (part.fade_out_ms, False)):
            if ms <= 0.0:
                continue
            width = min(box.width(), self._x(self._first + ms * per_ms) - self._x(self._first))
            edge = box.left() if left else box.right()
            inner = edge + width if left else edge - width
            painter.setPen(QPen(colour("ink"), 1))
            painter.drawPolyline(QPolygonF([QPointF(edge, box.bottom()), QPointF(inner, box.top())]))
        words = " · ".join(
            [f"{part.gain_db:+.1f} dB".replace("-", "−")] * bool(part.gain_db) + ["backwards"] * part.reverse + ["repeats"] * (part.loop and part.clip_start_s is not None)
            + [f"{part.transpose_semitones:+d} semitones".replace("-", "−")] * bool(part.transpose_semitones) + [f"× {part.stretch:.3g} long"] * (part.stretch != 1.0)
        )  # fmt: skip
        painter.setPen(colour("soft"))
        painter.setFont(text_font(8.5))
        painter.drawText(box.adjusted(6, -_HEAD, -4, 0), Qt.AlignmentFlag.AlignTop, words)

    def _paint_wave(self, painter: QPainter, area: QRectF) -> None:
        shape = self._shape
        if shape is None or not len(shape.low):
            return
        if self._wave is None or self._wave[0] != area:
            self._wave = (area, self._bars_of(shape, area))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("ink"))
        painter.drawRects(self._wave[1])

    def _bars_of(self, shape: ClipShape, area: QRectF) -> list[QRectF]:
        """One upright bar for each pixel: a polygon of so many points takes ten times as long."""
        middle, half = area.center().y(), area.height() / 2 - 4
        peak = max(1.0, float(np.max(np.abs(shape.high))), float(np.max(np.abs(shape.low))))
        beats = np.linspace(shape.first_beat, shape.end_beat, len(shape.low) + 1)
        pixels = np.floor(area.left() + area.width() * (beats - self._first) / (self._end - self._first))
        firsts = np.flatnonzero(np.diff(pixels[:-1], prepend=-np.inf))
        left, right = pixels[:-1][firsts], np.append(pixels[:-1][firsts[1:]], max(pixels[-1], pixels[-2] + 1.0))
        top = middle - half * np.maximum.reduceat(shape.high, firsts) / peak
        low = middle - half * np.minimum.reduceat(shape.low, firsts) / peak + 0.6
        return [QRectF(*each) for each in zip(*(v.tolist() for v in (left, top, right - left, low - top)), strict=True)]

    # --- hand ----------------------------------------------------------------------------------------------

    def _at(self, p: QPointF) -> tuple[int, Part, float, float, str] | None:
        """The part under the hand, and what a drag there would do to it."""
        area = self._area()
        for at, part, first, end in reversed(self._parts):
            left, right = self._x(first), self._x(end)
            if not left - _GRIP_PX <= p.x() <= right + _GRIP_PX or not area.top() - 2 <= p.y() <= area.bottom() + 2:
                continue
            upper = p.y() < area.top() + area.height() * 0.25
            if abs(p.x() - left) <= _GRIP_PX:
                return at, part, first, end, "fade_in" if upper else "start"
            if abs(p.x() - right) <= _GRIP_PX:
                return at, part, first, end, "fade_out" if upper else "end"
            if left < p.x() < right:
                return at, part, first, end, "move"
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        p = event.position()
        self.caret = self.snapped(self._beat(p.x()))
        found = self._at(p)
        if found is not None:
            at, part, first, end, what = found
            self.chosen = at
            self._drag = _Drag(what, self._beat(p.x()), part, first, end, object())
        self._chose()
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        found = self._at(event.position()) if self._drag is None else None
        if self._drag is None:
            edge = found is not None and found[4] != "move"
            self.setCursor(Qt.CursorShape.SizeHorCursor if edge else Qt.CursorShape.ArrowCursor)
            return
        drag, beat = self._drag, self._beat(event.position().x())
        ms = 60_000.0 / self._bpm
        if drag.what == "move":
            start = self.snapped(drag.first + beat - drag.beat)
            moved = max(-drag.part.start_beat, start - drag.first)
            self._change("Move part", self.chosen, {"start_beat": drag.part.start_beat + moved}, drag.merge)
        elif drag.what == "start":
            now = next((first for at, _, first, _ in self._parts if at == self.chosen), drag.first)
            self._trim(self.chosen, self.snapped(beat) - now, drag.merge)
        elif drag.what == "end":
            length = max(1 / 64, self.snapped(beat) - drag.first)
            self._change("End of part", self.chosen, {"length_beats": length}, drag.merge)
        elif drag.what == "fade_in":
            length = min(max(0.0, beat - drag.first), drag.end - drag.first)
            self._change("Fade in", self.chosen, {"fade_in_ms": round(min(60_000.0, length * ms), 1)}, drag.merge)
        else:
            length = min(max(0.0, drag.end - beat), drag.end - drag.first)
            self._change("Fade out", self.chosen, {"fade_out_ms": round(min(60_000.0, length * ms), 1)}, drag.merge)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None
        self._let_go()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(key))
        held = next((each for each in self._parts if each[0] == self.chosen), None)
        if step is not None and shift and held is not None:
            start = max(0.0, held[1].start_beat + step * self.step)
            self._change("Move part", self.chosen, {"start_beat": start}, None)
        elif step is not None:
            beat = self.caret if self.caret is not None else self._first
            self.caret = min(self._end, max(self._first, beat + step * self.step))
            self.update()
        elif key == Qt.Key.Key_N and self._parts:
            order = [at for at, *_ in self._parts]
            here = order.index(self.chosen) if self.chosen in order else -1
            self.chosen = order[(here + (-1 if shift else 1)) % len(order)]
            self._chose()
            self.update()
        else:
            super().keyPressEvent(event)
