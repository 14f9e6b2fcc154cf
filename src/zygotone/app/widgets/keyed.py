"""Widgets with keys of their own, which come before the window's shortcuts while the widget has the focus."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TypeAlias

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QWidget

NONE = Qt.KeyboardModifier.NoModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier
CTRL = Qt.KeyboardModifier.ControlModifier
ALT = Qt.KeyboardModifier.AltModifier

Keys: TypeAlias = Mapping[tuple[Qt.KeyboardModifier, Qt.Key], Callable[[], object]]


class Keyed(QWidget):
    """``keys`` says what they do; others go on to whoever is around."""

    def keys(self) -> Keys:
        raise NotImplementedError

    def key_done(self) -> None:
        """After one of them."""

    repeats = False  # whether the key that is being worked on is held down

    def _asked(self, event: QKeyEvent) -> Callable[[], object] | None:
        return self.keys().get((event.modifiers() & (SHIFT | CTRL | ALT), Qt.Key(event.key())))

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and self._asked(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        act = self._asked(event)
        if act is None:
            super().keyPressEvent(event)
            return
        self.repeats = event.isAutoRepeat()
        act()
        self.key_done()
