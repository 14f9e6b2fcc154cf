"""A sound over time and frequency: ink where it is loud, hatched where others hide it. The arrow keys read it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.advise.fit_views import OneView
from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import framed, say_instead
from zygotone.measure.masking import bands_hz, hz_to_erb_rate

_TICKS_HZ = (50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0)
_HATCHED = 0.5  # share of a place from which it is drawn as hidden


class OverTime(QWidget):
    def __init__(self, *, name: str, height: int = 200) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName("One track over time and frequency, hatched where the others hide it")
        self.setMinimumHeight(height)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self._view: OneView | None = None
        self._other: float | None = None
        self._empty = ""
        self._cursor: tuple[float, float] | None = None  # 0 to 1 from left, from below
        self._title = ""
        theme().changed.connect(self.update)

    def show_view(self, view: OneView | None, title: str, *, a_share: float | None = None, empty: str = "") -> None:
        """``a_share``: the share hidden in A, where ``view`` is of B."""
        self._view, self._title, self._other, self._empty = view, title, a_share, empty
        self.update()

    @property
    def view(self) -> OneView | None:
        return self._view

    def _area(self) -> QRectF:
        return QRectF(46, 24, self.width() - 58, self.height() - 44)

    def paintEvent(self, event: QPaintEvent) -> None:
        with framed(self) as painter:
            area, view = self._area(), self._view
            if view is None:
                say_instead(painter, area, self._empty or "Measuring…")
                return
            self._axes(painter, area, view)
            painter.drawImage(area, self._image(view.level, "ink"))
            hidden = np.where((view.hidden > _HATCHED) & (view.level > 0.02), 1.0, 0.0)
            painter.drawImage(area, self._image(hidden, "clash", 0.30))
            self._hatch(painter, area, hidden)
            self._legend(painter, area, view)
            self._readout(painter, area)

    @staticmethod
    def _image(grid: np.ndarray, name: str, most: float = 1.0) -> QImage:
        """(bands, columns) 0 to 1, as an image with that much of a colour in it; the lowest band is below."""
        ink = colour(name)
        alpha = (255 * most * np.clip(grid[::-1], 0.0, 1.0) ** 0.7).astype(np.uint32)
        rgb = (ink.red() << 16) | (ink.green() << 8) | ink.blue()
        pixels = np.ascontiguousarray((alpha << 24) | rgb)
        height, width = pixels.shape
        return QImage(pixels.tobytes(), width, height, width * 4, QImage.Format.Format_ARGB32).copy()

    def _hatch(self, painter: QPainter, area: QRectF, hidden: np.ndarray) -> None:
        """Lines over what is hidden, so that it does not rest on colour alone. Drawn over all, then cut out: stretch by stretch it
        would hold the window for a tenth of a second where much is hidden."""
        scale = self.devicePixelRatioF()
        lines = QPixmap((area.size() * scale).toSize())
        lines.setDevicePixelRatio(scale)
        lines.fill(Qt.GlobalColor.transparent)
        whole = QRectF(QPointF(0.0, 0.0), area.size())
        with QPainter(lines) as cut:
            cut.fillRect(whole, QBrush(colour("clash"), Qt.BrushStyle.BDiagPattern))
            cut.setCompositionMode(QPainter.CompositionMode.CompositionMode_DestinationIn)
            cut.drawImage(whole, self._image(hidden, "clash"))
        painter.drawPixmap(area.topLeft(), lines)

    def _axes(self, painter: QPainter, area: QRectF, view: OneView) -> None:
        painter.setFont(number_font(8.5))
        last = area.bottom() + 20.0
        for hz in _TICKS_HZ:
            y = area.bottom() - self._height_of(hz) * area.height()
            if not area.top() <= y <= area.bottom() or last - y < 14.0:
                continue
            last = y
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(colour("soft"))
            text = f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}"
            painter.drawText(
                QRectF(2, y - 8, 38, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text
            )
        every = max(1, view.bars // 16)
        for bar in range(0, view.bars, every):
            x = area.left() + bar / view.bars * area.width()
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            painter.setPen(colour("soft"))
            painter.drawText(
                QRectF(x + 3, area.bottom() + 2, 40, 16),
                Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
                str(view.first_bar + bar),
            )
        painter.setFont(text_font(8.5))
        painter.setPen(colour("soft"))
        painter.drawText(QRectF(8, 4, 60, 16), Qt.AlignmentFlag.AlignLeft, "Hz")
        painter.drawText(QRectF(8, area.bottom() + 2, 36, 16), Qt.AlignmentFlag.AlignLeft, "bar")

    @staticmethod
    def _height_of(hz: float) -> float:
        erb = hz_to_erb_rate(np.array([bands_hz()[0], bands_hz()[-1], hz]))
        return float((erb[2] - erb[0] + 0.25) / (erb[1] - erb[0] + 0.5))

    def _legend(self, painter: QPainter, area: QRectF, view: OneView) -> None:
        painter.setFont(text_font(8.5))
        words = (
            f"hidden {100 * view.share:.0f} %"
            if self._other is None
            else f"hidden (B: {100 * view.share:.0f} %, A: {100 * self._other:.0f} %)"
        )
        metrics = painter.fontMetrics()
        x = area.right() - metrics.horizontalAdvance(self._title)
        painter.setPen(colour("ink"))
        painter.drawText(QPointF(x, 17), self._title)
        painter.fillRect(QRectF(x - 20, 10, 15, 5), colour("ink"))
        x -= 36 + metrics.horizontalAdvance(words)
        painter.setPen(colour("clash"))
        painter.drawText(QPointF(x, 17), words)
        painter.fillRect(QRectF(x - 20, 8, 14, 9), QBrush(colour("clash"), Qt.BrushStyle.BDiagPattern))

    # --- reading -------------------------------------------------------------------------------------------

    def readout(self, across: float, up: float) -> str:
        view = self._view
        if view is None:
            return ""
        bands, columns = view.level.shape
        band, at = min(bands - 1, int(up * bands)), min(columns - 1, int(across * columns))
        hz = float(bands_hz()[band])
        bar = view.first_bar + int(across * view.bars)
        what = "silent" if view.level[band, at] < 0.02 else f"hidden {100 * view.hidden[band, at]:.0f} %"
        return f"bar {bar}   {hz / 1000:.1f} kHz   {what}" if hz >= 1000 else f"bar {bar}   {hz:.0f} Hz   {what}"

    def _readout(self, painter: QPainter, area: QRectF) -> None:
        if self._cursor is None:
            return
        x, y = area.left() + self._cursor[0] * area.width(), area.bottom() - self._cursor[1] * area.height()
        painter.setPen(QPen(colour("ink"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        text = self.readout(*self._cursor)
        painter.setFont(number_font(8.5))
        width = painter.fontMetrics().horizontalAdvance(text) + 12
        box = QRectF(min(max(area.left(), x - width / 2), area.right() - width), area.top() + 2, width, 18)
        painter.setPen(QPen(colour("line"), 1))
        painter.setBrush(colour("ground"))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(colour("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        area, p = self._area(), event.position()
        inside = area.contains(p)
        self._cursor = (
            ((p.x() - area.left()) / area.width(), (area.bottom() - p.y()) / area.height()) if inside else None
        )
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        self._cursor = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {
            Qt.Key.Key_Left: (-0.01, 0.0), Qt.Key.Key_Right: (0.01, 0.0), Qt.Key.Key_Up: (0.0, 0.02), Qt.Key.Key_Down: (0.0, -0.02),
        }.get(Qt.Key(event.key()))  # fmt: skip
        if step is None:
            super().keyPressEvent(event)
            return
        x, y = self._cursor or (0.5, 0.5)
        self._cursor = min(0.999, max(0.0, x + step[0])), min(0.999, max(0.0, y + step[1]))
        self.setAccessibleDescription(self.readout(*self._cursor))
        self.update()
