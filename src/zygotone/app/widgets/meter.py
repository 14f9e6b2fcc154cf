"""Level of what is played: two bars and the larger one's number."""

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
    """Peak level, left above right, −48 to 0 dBFS."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("status.meter")
        self.setAccessibleName("Output level")
        self.setToolTip("Peak level of what is played, −48 to 0 dBFS")
        self.setFixedSize(156, 18)
        self._peak = np.zeros(2)

    def show_peak(self, peak: np.ndarray) -> None:
        if not np.array_equal(peak, self._peak):
            self._peak = peak.copy()
            self.setAccessibleDescription(self.text())
            self.update()

    def text(self) -> str:
        top = float(self._peak.max())
        return format_number(float(gain_to_db(top)), "dB") + "FS" if top > 1e-5 else "silent"

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        for channel, peak in enumerate(self._peak):
            bar = QRectF(0, 3 + 7 * channel, 80, 5)
            painter.setBrush(colour("line"))
            painter.drawRect(bar)
            share = 1.0 - max(_LOWEST_DB, float(gain_to_db(peak))) / _LOWEST_DB
            painter.setBrush(colour("b" if peak >= 0.999 else "ink"))
            painter.drawRect(QRectF(bar.left(), bar.top(), bar.width() * min(1.0, max(0.0, share)), bar.height()))
        painter.setPen(colour("soft"))
        painter.setFont(number_font(8.5))
        painter.drawText(QRectF(86, 0, 70, 18), Qt.AlignmentFlag.AlignVCenter, self.text())
