"""What is played, as it goes by: momentary and short-term loudness, correlation, third octaves."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QHideEvent, QPainter, QPaintEvent, QShowEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import framed
from zygotone.dsp.types import FloatArray
from zygotone.engine.live_meters import BANDS_HZ, SILENT_DB, LiveMeters, Metered

_FRAME_MS = 33
_TOP_DB, _LOWEST_DB, _FALL_DB = 0.0, -72.0, 1.6  # of the bars; they fall by so much a frame
_WORDS = 196
_TICKS_HZ = (50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0)


class LiveMetersView(QWidget):
    """Thirty times a second, while somebody looks and something plays."""

    def __init__(self, read: Callable[[], LiveMeters | Metered], playing: Callable[[], bool]) -> None:
        super().__init__()
        self.setObjectName("live.meters")
        self.setAccessibleName("What is played now: loudness, correlation, third octaves")
        self.setToolTip(
            "What is played now. M: the last 400 ms, S: the last 3 s; correlation of both sides; level of each third octave."
        )
        self.setFixedHeight(62)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._read, self._playing = read, playing
        self._bars: FloatArray = np.full(len(BANDS_HZ), _LOWEST_DB)
        self._now: tuple[float, float, float] | None = None
        self._timer = QTimer(self, interval=_FRAME_MS)
        self._timer.timeout.connect(self.tick)
        theme().changed.connect(self.update)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._timer.start()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self._timer.stop()

    def tick(self) -> None:
        """Once a frame; what stands still is not drawn."""
        playing = self._playing()
        if not playing and self._now is None and bool(np.all(self._bars <= _LOWEST_DB)):
            return
        meters = self._read()
        wanted = np.maximum(meters.bands_db, _LOWEST_DB) if playing else np.full(len(BANDS_HZ), _LOWEST_DB)
        self._bars = np.maximum(wanted, np.maximum(self._bars - _FALL_DB, _LOWEST_DB))
        self._now = (meters.momentary_lufs, meters.short_term_lufs, meters.correlation) if playing else None
        self.setAccessibleDescription(self.text())
        self.update()

    def text(self) -> str:
        if self._now is None:
            return "Nothing plays"
        momentary, short, correlation = self._now
        return f"M {_lufs(momentary)}, S {_lufs(short)}, correlation {correlation:+.2f}".replace("-", "−")

    def paintEvent(self, event: QPaintEvent) -> None:
        with framed(self) as painter:
            self._words(painter)
            self._spectrum(painter, QRectF(_WORDS, 6, self.width() - _WORDS - 10, self.height() - 24))

    def _words(self, painter: QPainter) -> None:
        momentary, short, correlation = self._now or (SILENT_DB, SILENT_DB, 0.0)
        painter.setFont(number_font(9))
        for y, word, value in ((5, "M", momentary), (21, "S", short)):
            painter.setPen(colour("soft"))
            painter.drawText(QRectF(12, y, 16, 16), Qt.AlignmentFlag.AlignVCenter, word)
            painter.setPen(colour("ink"))
            painter.drawText(
                QRectF(28, y, 92, 16),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                _lufs(value).replace("-", "−"),
            )
        bar = QRectF(12, 47, 108, 4)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("line"))
        painter.drawRect(bar)
        painter.setBrush(colour("clash" if correlation < 0.0 else "ink"))
        painter.drawRect(QRectF(bar.left() + bar.width() * (correlation + 1.0) / 2.0 - 1.5, 44, 3, 10))
        painter.setPen(colour("soft"))
        painter.setFont(text_font(8))
        painter.drawText(QRectF(126, 40, 66, 16), Qt.AlignmentFlag.AlignVCenter, "−1 to 1")
        painter.drawText(QRectF(126, 5, 66, 16), Qt.AlignmentFlag.AlignVCenter, "400 ms")
        painter.drawText(QRectF(126, 21, 66, 16), Qt.AlignmentFlag.AlignVCenter, "3 s")

    def _spectrum(self, painter: QPainter, area: QRectF) -> None:
        wide = area.width() / len(BANDS_HZ)
        painter.setPen(Qt.PenStyle.NoPen)
        for i, level in enumerate(self._bars):
            share = (min(_TOP_DB, float(level)) - _LOWEST_DB) / (_TOP_DB - _LOWEST_DB)
            painter.setBrush(colour("line"))
            painter.drawRect(QRectF(area.left() + i * wide + 1, area.bottom() - 1, wide - 2, 1))
            painter.setBrush(colour("ink"))
            painter.drawRect(
                QRectF(
                    area.left() + i * wide + 1, area.bottom() - share * area.height(), wide - 2, share * area.height()
                )
            )
        painter.setPen(colour("soft"))
        painter.setFont(number_font(8))
        for hz in _TICKS_HZ:
            x = area.left() + (int(np.argmin(np.abs(BANDS_HZ - hz))) + 0.5) * wide
            painter.drawText(
                QRectF(x - 22, area.bottom() + 1, 44, 14),
                Qt.AlignmentFlag.AlignCenter,
                f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}",
            )
        painter.drawText(
            QRectF(area.left(), area.bottom() + 1, 20, 14),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            "Hz",
        )


def _lufs(value: float) -> str:
    return f"{value:.1f} LUFS" if value > -99.0 else "– LUFS"
