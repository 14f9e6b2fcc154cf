"""What is played: two bars of level and the larger one's number, correlation, balance."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from zygotone.app.theme import colour, number_font
from zygotone.dsp.levels import gain_to_db
from zygotone.session.params import format_number

_LOWEST_DB = -48.0


class Meter(QWidget):
    """Peak level, left above right, −48 to 0 dBFS; beside it correlation from −1 to 1 and balance up to 12 dB to a side."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("status.meter")
        self.setAccessibleName("Output level")
        self.setToolTip(
            "Peak level of what is played, −48 to 0 dBFS; correlation of both sides, −1 to 1; balance, up to 12 dB to a side"
        )
        self.setFixedSize(244, 20)
        self._peak, self._correlation, self._balance_db = np.zeros(2), 0.0, 0.0

    def show_peak(self, peak: np.ndarray, correlation: float = 0.0, balance_db: float = 0.0) -> None:
        now = (correlation, balance_db)
        if not np.array_equal(peak, self._peak) or now != (self._correlation, self._balance_db):
            self._peak = peak.copy()
            self._correlation, self._balance_db = now
            self.setAccessibleDescription(self.text())
            self.update()

    def text(self) -> str:
        return _level_text(float(self._peak.max()))

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            for channel, peak in enumerate(self._peak):
                _paint_bar(painter, QRectF(0, 3 + 7 * channel, 80, 5), float(peak))
            painter.setPen(colour("soft"))
            painter.setFont(number_font(8.5))
            painter.drawText(QRectF(86, 0, 70, 18), Qt.AlignmentFlag.AlignVCenter, self.text())
            heard = float(self._peak.max()) > 1e-5
            self._paint_needle(
                painter, 162, "corr", self._correlation if heard else None, clash=self._correlation < 0.0
            )
            self._paint_needle(painter, 206, "bal", max(-1.0, min(1.0, self._balance_db / 12.0)) if heard else None)

    def _paint_needle(self, painter: QPainter, x: float, word: str, at: float | None, *, clash: bool = False) -> None:
        """A place between −1 (left) and 1 (right); nothing where nothing is heard."""
        painter.setPen(colour("soft"))
        painter.setFont(number_font(7))
        painter.drawText(QRectF(x, 9, 36, 11), Qt.AlignmentFlag.AlignHCenter, word)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("line"))
        painter.drawRect(QRectF(x, 5, 36, 2))
        painter.drawRect(QRectF(x + 17.5, 2, 1, 8))
        if at is not None:
            painter.setBrush(colour("clash" if clash else "ink"))
            painter.drawRect(QRectF(x + 18 + 17 * at - 1.5, 1, 3, 9))


class LevelBar(QWidget):
    """One peak level, −48 to 0 dBFS, and its number."""

    def __init__(self, name: str, accessible: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(accessible)
        self.setFixedHeight(20)
        self.setMinimumWidth(180)
        self._peak = 0.0

    def show_peak(self, peak: float) -> None:
        if peak != self._peak:
            self._peak = peak
            self.setAccessibleDescription(self.text())
            self.update()

    def text(self) -> str:
        return _level_text(self._peak)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            _paint_bar(painter, QRectF(0, 6, self.width() - 84, 8), self._peak)
            painter.setPen(colour("soft"))
            painter.setFont(number_font(8.5))
            painter.drawText(QRectF(self.width() - 76, 0, 76, 20), Qt.AlignmentFlag.AlignVCenter, self.text())


def _paint_bar(painter: QPainter, bar: QRectF, peak: float) -> None:
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour("line"))
    painter.drawRect(bar)
    share = 1.0 - max(_LOWEST_DB, float(gain_to_db(peak))) / _LOWEST_DB
    painter.setBrush(colour("b" if peak >= 0.999 else "ink"))
    painter.drawRect(QRectF(bar.left(), bar.top(), bar.width() * min(1.0, max(0.0, share)), bar.height()))


def _level_text(peak: float) -> str:
    return format_number(float(gain_to_db(peak)), "dB") + "FS" if peak > 1e-5 else "silent"
