"""A keyboard on the screen: played by the pointer, or by the computer's keys while it has the focus."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QRectF, Qt
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.app.theme import colour, number_font, theme
from zygotone.music.pitch import midi_to_note

LOWEST, HIGHEST = 24, 96
_BLACK = {1, 3, 6, 8, 10}
# Two rows of letters as they lie on most keyboards: the lower is white keys from C, the upper the black ones between.
_LETTERS = {
    Qt.Key.Key_A: 0, Qt.Key.Key_W: 1, Qt.Key.Key_S: 2, Qt.Key.Key_E: 3, Qt.Key.Key_D: 4, Qt.Key.Key_F: 5, Qt.Key.Key_T: 6,
    Qt.Key.Key_G: 7, Qt.Key.Key_Y: 8, Qt.Key.Key_H: 9, Qt.Key.Key_U: 10, Qt.Key.Key_J: 11, Qt.Key.Key_K: 12,
    Qt.Key.Key_O: 13, Qt.Key.Key_L: 14,
}  # fmt: skip


class Piano(QWidget):
    """``pressed`` and ``released`` are told the MIDI number; the lower on a key, the harder it is struck."""

    def __init__(self, pressed: Callable[[int, float], None], released: Callable[[int], None]) -> None:
        super().__init__()
        self.setObjectName("sounds.piano")
        self.setAccessibleName(
            "Keyboard. With the focus, A to L play white keys, W to O black ones, Z and X move an octave"
        )
        self.setToolTip("Click, or with the focus: A to L and W to O play, Z and X move an octave")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(58)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._pressed, self._released = pressed, released
        self._down: set[int] = set()
        self._by_pointer: int | None = None
        self.base = 60
        theme().changed.connect(self.update)

    def _whites(self) -> list[int]:
        return [n for n in range(LOWEST, HIGHEST + 1) if n % 12 not in _BLACK]

    def _box(self, note: int) -> QRectF:
        whites = self._whites()
        width = self.width() / len(whites)
        if note % 12 not in _BLACK:
            return QRectF(whites.index(note) * width, 0, width, self.height())
        return QRectF(whites.index(note - 1) * width + 0.68 * width, 0, 0.64 * width, 0.6 * self.height())

    def note_at(self, x: float, y: float) -> int | None:
        for note in range(LOWEST, HIGHEST + 1):
            if note % 12 in _BLACK and self._box(note).contains(x, y):
                return note
        return next((n for n in self._whites() if self._box(n).contains(x, y)), None)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setFont(number_font(7.5))
            # White keys are the lighter ones in either theme.
            light, dark = ("soft", "ground") if theme().is_night else ("sheet", "ink")
            for black in (False, True):
                for note in range(LOWEST, HIGHEST + 1):
                    if (note % 12 in _BLACK) is not black:
                        continue
                    box = self._box(note).adjusted(0.5, 0.5, -0.5, -0.5)
                    held = note in self._down
                    painter.setPen(QPen(colour("ground" if theme().is_night else "soft"), 1))
                    painter.setBrush(colour("a") if held else colour(dark if black else light))
                    painter.drawRect(box)
                    if note % 12 == 0:
                        painter.setPen(colour(dark if theme().is_night else "soft"))
                        painter.drawText(
                            box.adjusted(0, 0, 0, -2),
                            Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignBottom,
                            midi_to_note(note),
                        )
            if self.hasFocus():
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(colour("a"), 1.5))
                painter.drawRect(QRectF(self.rect()).adjusted(0.75, 0.75, -0.75, -0.75))

    # --- playing -------------------------------------------------------------------------------------------

    def press(self, note: int, velocity: float = 0.8) -> None:
        if note not in self._down:
            self._down.add(note)
            self._pressed(note, velocity)
            self.update()

    def release(self, note: int) -> None:
        if note in self._down:
            self._down.discard(note)
            self._released(note)
            self.update()

    def release_all(self) -> None:
        for note in tuple(self._down):
            self.release(note)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        note = self.note_at(event.position().x(), event.position().y())
        if note is not None:
            self._by_pointer = note
            self.press(note, 0.35 + 0.65 * min(1.0, max(0.0, event.position().y() / self._box(note).height())))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._by_pointer is None:
            return
        note = self.note_at(event.position().x(), event.position().y())
        if note is not None and note != self._by_pointer:
            self.release(self._by_pointer)
            self._by_pointer = note
            self.press(note)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._by_pointer is not None:
            self.release(self._by_pointer)
            self._by_pointer = None

    def event(self, event: QEvent) -> bool:
        # While it has the focus its letters are notes, and not the window's shortcuts.
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and not event.modifiers()
            and (event.key() in _LETTERS or event.key() in (Qt.Key.Key_Z, Qt.Key.Key_X))
        ):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        if plain and event.key() in _LETTERS:
            if not event.isAutoRepeat():
                self.press(self.base + _LETTERS[Qt.Key(event.key())])
        elif plain and event.key() in (Qt.Key.Key_Z, Qt.Key.Key_X):
            self.release_all()
            step = -12 if event.key() == Qt.Key.Key_Z else 12
            self.base = max(LOWEST, min(HIGHEST - 15, self.base + step))
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() in _LETTERS and not event.isAutoRepeat():
            self.release(self.base + _LETTERS[Qt.Key(event.key())])
        else:
            super().keyReleaseEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.release_all()
        super().focusOutEvent(event)
