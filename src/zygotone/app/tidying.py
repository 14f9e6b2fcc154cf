"""Garbage collection while nobody waits: a whole collection stands still for longer than a hand notices."""

from __future__ import annotations

import gc
import time

from PySide6.QtCore import QObject, Qt, QTimer

from zygotone.app.desk import Desk
from zygotone.app.theme import application

_LOOK_MS = 2000
_IDLE_S = 1.5  # without a hand on anything
_YOUNG = (2000, 20)  # objects, and collections of those, until the young are looked at; they are few and quickly done


class Tidier(QObject):
    """From now on the old are looked at only in pauses, and only those that are new among them."""

    def __init__(self, desk: Desk, parent: QObject) -> None:
        super().__init__(parent)
        self._touched = time.monotonic()
        for signal in (
            desk.session_changed,
            desk.selection.changed,
            desk.selection.loop_changed,
            desk.listening.changed,
        ):
            signal.connect(self._touch)
        desk.opened.connect(self.tidy_all)
        gc.set_threshold(*_YOUNG, 1 << 30)
        self.tidy_all()
        clock = QTimer(self, interval=_LOOK_MS)
        clock.timeout.connect(self._look)
        clock.start()

    def tidy_all(self) -> None:
        """What has been there for long too: of a project that was closed."""
        gc.unfreeze()
        self._tidy()

    def _tidy(self) -> None:
        gc.collect()
        gc.freeze()

    def _touch(self) -> None:
        self._touched = time.monotonic()

    def _look(self) -> None:
        if time.monotonic() - self._touched > _IDLE_S and application().mouseButtons() == Qt.MouseButton.NoButton:
            self._tidy()
