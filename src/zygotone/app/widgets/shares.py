"""A table of shares: the darker a cell, the larger the share; a hand or the arrow keys read and choose one."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import framed, say_instead
from zygotone.dsp.types import FloatArray

LEFT, FOOT = 92, 58


def _between(one: QColor, other: QColor, share: float) -> QColor:
    def part(a: int, b: int) -> int:
        return round(a + (b - a) * share)

    return QColor(part(one.red(), other.red()), part(one.green(), other.green()), part(one.blue(), other.blue()))


class Shares(QWidget):
    """``rows`` and ``columns`` are words, ``values`` 0 to 1 or NaN; ``say`` puts a cell in words. ``steep``: the words of the columns
    stand at an angle below, as where they are names."""

    def __init__(
        self, *, name: str, accessible: str, say: Callable[[int, int], str], chosen: Callable[[int, int], None], row: int = 26, steep: bool = False
    ) -> None:  # fmt: skip
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(accessible)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(
            QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding if steep else QSizePolicy.Policy.Fixed
        )
        self._say, self._chosen, self._row, self._steep = say, chosen, row, steep
        self.rows: tuple[str, ...] = ()
        self.columns: tuple[str, ...] = ()
        self.values: tuple[tuple[float, ...], ...] = ()
        self._at: tuple[int, int] | None = None
        self._under: tuple[int, int] | None = None
        self._empty = ""
        theme().changed.connect(self.update)

    def show_values(
        self, rows: Sequence[str], columns: Sequence[str], values: Sequence[Sequence[float]] | FloatArray | Sequence[FloatArray], *, at: tuple[int, int] | None = None, empty: str = ""
    ) -> None:  # fmt: skip
        shown = tuple(rows), tuple(columns), tuple(tuple(map(float, line)) for line in values), empty
        if shown[:2] != (self.rows, self.columns):
            self._at = None
        self.rows, self.columns, self.values, self._empty = shown
        self._at = at if at is not None else self._at
        if not self._steep:
            self.setFixedHeight(self._row * max(1, len(self.rows)) + 22)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(420, self._row * max(1, len(self.rows)) + (FOOT if self._steep else 22))

    # --- geometry ------------------------------------------------------------------------------------------

    def _cells(self) -> tuple[QRectF, float, float]:
        foot = FOOT if self._steep else 18
        area = QRectF(LEFT, 4, self.width() - LEFT - (30 if self._steep else 6), self.height() - foot - 6)
        wide, high = area.width() / max(1, len(self.columns)), area.height() / max(1, len(self.rows))
        if self._steep:  # cells of a map are no wider than three times their height
            wide = min(wide, 2.8 * high)
        return area, wide, high

    def _cell(self, i: int, j: int) -> QRectF:
        area, wide, high = self._cells()
        return QRectF(area.left() + j * wide + 1, area.top() + i * high + 1, wide - 2, high - 2)

    def _at_pos(self, pos: QPointF) -> tuple[int, int] | None:
        area, wide, high = self._cells()
        if not self.rows or not self.columns:
            return None
        i, j = int((pos.y() - area.top()) // high), int((pos.x() - area.left()) // wide)
        return (i, j) if 0 <= i < len(self.rows) and 0 <= j < len(self.columns) else None

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        with framed(self) as painter:
            if not self.rows or not self.columns:
                say_instead(painter, QRectF(self.rect()), self._empty or "Measuring…")
                return
            area, wide, high = self._cells()
            plum, sheet = colour("clash"), colour("sheet")
            painter.setFont(number_font(8.5))
            numbers = wide > 24 and high > 13
            for i in range(len(self.rows)):
                for j in range(len(self.columns)):
                    value, box = self.values[i][j], self._cell(i, j)
                    if not math.isfinite(value):
                        continue
                    strength = min(1.0, max(0.0, value)) ** 0.8
                    ink = _between(sheet, plum, 0.06 + 0.94 * strength)
                    painter.fillRect(box, ink)
                    if numbers and value >= 0.005:
                        painter.setPen(colour("sheet" if strength > 0.5 else "ink"))
                        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{100 * value:.0f}")
            painter.setFont(text_font(8.5))
            painter.setPen(colour("ink"))
            for i, word in enumerate(self.rows):
                box = QRectF(8, area.top() + i * high, LEFT - 16, high)
                painter.drawText(
                    box,
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    self._short(painter, word, LEFT - 16),
                )
            painter.setPen(colour("soft"))
            for j, word in enumerate(self.columns):
                x = area.left() + (j + 0.5) * wide
                if self._steep:
                    painter.save()
                    painter.translate(x - 4, area.top() + high * len(self.rows) + 8)
                    painter.rotate(38)
                    painter.drawText(QPointF(0, 4), self._short(painter, word, 76))
                    painter.restore()
                else:
                    painter.drawText(
                        QRectF(x - wide / 2, area.bottom() + 1, wide, 16), Qt.AlignmentFlag.AlignCenter, word
                    )
            at = self._under or (self._at if self.hasFocus() else None)
            for place, pen in ((self._at, QPen(colour("ink"), 2)), (at, QPen(colour("ink"), 1, Qt.PenStyle.DotLine))):
                if place is not None and place[0] < len(self.rows) and place[1] < len(self.columns):
                    painter.setPen(pen)
                    painter.setBrush(Qt.BrushStyle.NoBrush)
                    painter.drawRect(self._cell(*place))

    @staticmethod
    def _short(painter: QPainter, text: str, width: int) -> str:
        return painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, width)

    # --- hand ----------------------------------------------------------------------------------------------

    def _tell(self, at: tuple[int, int] | None) -> None:
        words = "" if at is None or not math.isfinite(self.values[at[0]][at[1]]) else self._say(*at)
        self.setToolTip(words)
        if words:
            self.setAccessibleDescription(words)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._under = self._at_pos(event.position())
        self._tell(self._under)
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        self._under = None
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = self._at_pos(event.position())
        if at is not None and math.isfinite(self.values[at[0]][at[1]]):
            self._at = at
            self._tell(at)
            self.update()
            self._chosen(*at)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        step = {
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
        }.get(key)
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._at is not None:
            if math.isfinite(self.values[self._at[0]][self._at[1]]):
                self._chosen(*self._at)
            return
        if step is None or not self.rows or not self.columns:
            super().keyPressEvent(event)
            return
        i, j = self._at or (0, -1 if step[1] > 0 else 0)
        self._at = min(len(self.rows) - 1, max(0, i + step[0])), min(len(self.columns) - 1, max(0, j + step[1]))
        self._tell(self._at)
        self.update()
