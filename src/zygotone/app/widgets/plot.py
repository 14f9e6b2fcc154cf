"""A plot: axes with units, curves, a readout under the pointer, and the same by keyboard."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.drawn import drawn_once
from zygotone.dsp.types import FloatArray
from zygotone.session.params import format_number


@dataclass(frozen=True)
class Axis:
    """A range with a unit; ``log`` for frequency. ``ticks`` are the values that get a line and a number."""

    low: float
    high: float
    unit: str
    log: bool = False
    ticks: tuple[float, ...] = ()
    name: str = ""

    def position(self, value: float | FloatArray) -> FloatArray:
        """0 to 1 along the axis; works on arrays."""
        if self.log:
            return np.asarray(np.log(np.maximum(value, 1e-12) / self.low) / math.log(self.high / self.low))
        return np.asarray((np.asarray(value) - self.low) / (self.high - self.low))

    def value(self, position: float) -> float:
        if self.log:
            return float(self.low * (self.high / self.low) ** position)
        return self.low + position * (self.high - self.low)

    def format(self, value: float) -> str:
        if self.unit == "Hz":
            return format_number(round(value, 1), "Hz")
        return f"{value:.1f} {self.unit}".replace("-", "−").strip()

    def tick_text(self, value: float) -> str:
        if self.unit == "Hz" and value >= 1000:
            return f"{value / 1000:g}k"
        return f"{value:g}".replace("-", "−")


FREQUENCY = Axis(
    25.0, 16000.0, "Hz", log=True, ticks=(30, 60, 100, 200, 500, 1000, 2000, 5000, 10000), name="Frequency"
)


@dataclass(frozen=True)
class Curve:
    """Points of a curve. ``style``: line, dash, dot, fill (to the bottom), hatch (to the bottom) or bars."""

    name: str
    x: np.ndarray
    y: np.ndarray
    colour: str
    style: str = "line"
    width: float = 1.8
    in_legend: bool = True


@dataclass(frozen=True)
class Mark:
    """A word at a place: a vertical line where ``y`` is None."""

    text: str
    x: float
    y: float | None = None
    colour: str = "clash"


def _same_curves(one: Sequence[Curve], other: Sequence[Curve]) -> bool:
    return len(one) == len(other) and all(map(_same_curve, one, other))


def _same_curve(one: Curve, other: Curve) -> bool:
    looks = all(
        getattr(one, name) == getattr(other, name) for name in ("name", "colour", "style", "width", "in_legend")
    )
    return looks and np.array_equal(one.x, other.x) and np.array_equal(one.y, other.y)


class Plot(QWidget):
    """Draws curves; the pointer or the arrow keys move a cursor that reads them."""

    pressed = Signal(float, float)
    dragged = Signal(float, float)
    released = Signal()

    def __init__(self, x: Axis, y: Axis, *, name: str, accessible: str, height: int = 200) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(accessible)
        self.setMinimumHeight(height)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.x_axis, self.y_axis = x, y
        self._curves: tuple[Curve, ...] = ()
        self._marks: tuple[Mark, ...] = ()
        self._empty = "Nothing measured yet."
        self._cursor: float | None = None
        theme().changed.connect(self.update)

    def show_curves(self, curves: Sequence[Curve], marks: Sequence[Mark] = (), *, empty: str = "") -> None:
        shown = tuple(curves), tuple(marks), empty or self._empty
        # Pages show all they have after each edit; what is as it was need not be drawn again.
        if shown[1:] != (self._marks, self._empty) or not _same_curves(shown[0], self._curves):
            self._curves, self._marks, self._empty = shown
            self.update()

    def set_axes(self, x: Axis | None = None, y: Axis | None = None) -> None:
        axes = x or self.x_axis, y or self.y_axis
        if axes != (self.x_axis, self.y_axis):
            self.x_axis, self.y_axis = axes
            self.update()

    @property
    def curves(self) -> tuple[Curve, ...]:
        return self._curves

    def readout(self, position: float) -> str:
        """What the curves say at ``position`` 0 to 1."""
        x = self.x_axis.value(position)
        parts = [self.x_axis.format(x)]
        for curve in self._curves:
            if len(curve.x) > 1 and curve.in_legend and curve.x[0] <= x <= curve.x[-1]:
                y = float(np.interp(x, curve.x, curve.y))
                if y > self.y_axis.low:
                    parts.append(f"{curve.name} {self.y_axis.format(y)}")
        return "   ".join(parts)

    # --- geometry ------------------------------------------------------------------------------------------

    def area(self) -> QRectF:
        return QRectF(46, 24, self.width() - 58, self.height() - 48)

    def _to_screen(self, x: float | FloatArray, y: float | FloatArray) -> tuple[FloatArray, FloatArray]:
        area = self.area()
        return area.left() + self.x_axis.position(x) * area.width(), area.bottom() - np.clip(
            self.y_axis.position(y), -0.5, 1.5
        ) * area.height()

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            outer = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
            painter.setPen(QPen(colour("a" if self.hasFocus() else "line"), 1))
            painter.setBrush(colour("sheet"))
            painter.drawRoundedRect(outer, 5, 5)
            area = self.area()
            key = f"axes {self.x_axis} {self.y_axis} {colour('soft').name()}"
            painter.drawPixmap(0, 0, drawn_once(self, key, lambda p: self._draw_axes(p, area)))
            if not self._curves:
                painter.setPen(colour("soft"))
                painter.setFont(text_font(10))
                painter.drawText(area, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._empty)
                return
            painter.save()
            painter.setClipRect(area)
            for curve in self._curves:
                self._draw_curve(painter, area, curve)
            painter.restore()
            self._draw_marks(painter, area)
            self._draw_legend(painter, area)
            if self._cursor is not None:
                at = area.left() + self._cursor * area.width()
                painter.setPen(QPen(colour("ink"), 1, Qt.PenStyle.DotLine))
                painter.drawLine(QPointF(at, area.top()), QPointF(at, area.bottom()))
                self._draw_readout(painter, area, at)

    def _draw_axes(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(number_font(8.5))
        for value in self.x_axis.ticks:
            at = area.left() + float(self.x_axis.position(value)) * area.width()
            if not area.left() - 1 <= at <= area.right() + 1:
                continue
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(at, area.top()), QPointF(at, area.bottom()))
            painter.setPen(colour("soft"))
            painter.drawText(
                QRectF(at - 26, area.bottom() + 3, 52, 16), Qt.AlignmentFlag.AlignCenter, self.x_axis.tick_text(value)
            )
        for value in self.y_axis.ticks:
            at = area.bottom() - float(self.y_axis.position(value)) * area.height()
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(area.left(), at), QPointF(area.right(), at))
            painter.setPen(colour("soft"))
            painter.drawText(
                QRectF(2, at - 8, 38, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                self.y_axis.tick_text(value),
            )
        painter.setPen(colour("soft"))
        painter.setFont(text_font(8.5))
        painter.drawText(QRectF(8, 4, 60, 16), Qt.AlignmentFlag.AlignLeft, self.y_axis.unit)
        painter.drawText(QRectF(5, area.bottom() + 3, 60, 16), Qt.AlignmentFlag.AlignLeft, self.x_axis.unit)

    def _draw_curve(self, painter: QPainter, area: QRectF, curve: Curve) -> None:
        if not len(curve.x):
            return
        xs, ys = self._to_screen(curve.x, curve.y)
        ink = colour(curve.colour)
        if curve.style == "bars":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(ink)
            for x, y in zip(xs, ys, strict=True):
                painter.drawRect(QRectF(x - 3, y, 6, area.bottom() - y))
            return
        path = QPainterPath()
        path.addPolygon(QPolygonF(list(map(QPointF, xs.tolist(), ys.tolist()))))
        if curve.style in ("fill", "hatch"):
            path.lineTo(xs[-1], area.bottom() + 2)
            path.lineTo(xs[0], area.bottom() + 2)
            path.closeSubpath()
            if curve.style == "fill":
                painter.fillPath(path, ink)
            else:
                painter.save()
                painter.setClipPath(path, Qt.ClipOperation.IntersectClip)
                painter.setPen(QPen(ink, 1.2))
                for offset in range(int(area.left() - area.height()), int(area.right()), 7):
                    painter.drawLine(QPointF(offset, area.bottom()), QPointF(offset + area.height(), area.top()))
                painter.restore()
            return
        styles = {"line": Qt.PenStyle.SolidLine, "dash": Qt.PenStyle.DashLine, "dot": Qt.PenStyle.DotLine}
        painter.setBrush(QBrush(Qt.BrushStyle.NoBrush))
        painter.setPen(QPen(ink, curve.width, styles[curve.style]))
        painter.drawPath(path)

    def _draw_marks(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(number_font(8.5))
        for mark in self._marks:
            x = area.left() + float(self.x_axis.position(mark.x)) * area.width()
            ink = colour(mark.colour)
            if mark.y is None:
                painter.setPen(QPen(ink, 1, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
                width = painter.fontMetrics().horizontalAdvance(mark.text)
                left = min(x + 4, area.right() - width)
                if mark.text:
                    painter.fillRect(QRectF(left - 2, area.top() + 1, width + 4, 14), colour("sheet"))
                painter.setPen(ink)
                painter.drawText(QPointF(left, area.top() + 12), mark.text)
            else:
                y = float(self._to_screen(mark.x, mark.y)[1])
                painter.setPen(QPen(ink, 1.5))
                painter.setBrush(colour("sheet"))
                painter.drawEllipse(QPointF(x, y), 6.5, 6.5)
                painter.drawText(QRectF(x - 7, y - 7, 14, 14), Qt.AlignmentFlag.AlignCenter, mark.text)

    def _draw_legend(self, painter: QPainter, area: QRectF) -> None:
        painter.setFont(text_font(8.5))
        metrics = painter.fontMetrics()
        x = area.right()
        for curve in reversed([c for c in self._curves if c.in_legend]):
            width = metrics.horizontalAdvance(curve.name)
            x -= width
            painter.setPen(colour("ink" if curve.colour in ("fill", "line") else curve.colour))
            painter.drawText(QPointF(x, 17), curve.name)
            # The line's style is the second sign, beside its colour.
            x -= 20
            styles = {"dash": Qt.PenStyle.DashLine, "dot": Qt.PenStyle.DotLine}
            if curve.style in ("fill", "bars"):
                painter.fillRect(QRectF(x, 9, 14, 8), colour(curve.colour))
            elif curve.style == "hatch":
                painter.fillRect(QRectF(x, 9, 14, 8), QBrush(colour(curve.colour), Qt.BrushStyle.BDiagPattern))
            else:
                painter.setPen(QPen(colour(curve.colour), curve.width, styles.get(curve.style, Qt.PenStyle.SolidLine)))
                painter.drawLine(QPointF(x, 13), QPointF(x + 15, 13))
            x -= 14

    def _draw_readout(self, painter: QPainter, area: QRectF, at: float) -> None:
        text = self.readout(self._cursor or 0.0)
        painter.setFont(number_font(8.5))
        width = painter.fontMetrics().horizontalAdvance(text) + 12
        left = min(max(area.left(), at - width / 2), area.right() - width)
        box = QRectF(left, area.top() + 2, width, 18)
        painter.setPen(QPen(colour("line"), 1))
        painter.setBrush(colour("ground"))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(colour("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    # --- hand ----------------------------------------------------------------------------------------------

    def _at(self, event: QMouseEvent) -> tuple[float, float]:
        area, p = self.area(), event.position()
        x = min(1.0, max(0.0, (p.x() - area.left()) / area.width()))
        y = min(1.0, max(0.0, (area.bottom() - p.y()) / area.height()))
        return x, y

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x, y = self._at(event)
        self._cursor = x
        if event.buttons() & Qt.MouseButton.LeftButton:
            self.dragged.emit(self.x_axis.value(x), self.y_axis.value(y))
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        x, y = self._at(event)
        self.pressed.emit(self.x_axis.value(x), self.y_axis.value(y))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.released.emit()

    def leaveEvent(self, event: QEvent) -> None:
        self._cursor = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -0.005, Qt.Key.Key_Right: 0.005}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            step *= 8
        self._cursor = min(1.0, max(0.0, (0.5 if self._cursor is None else self._cursor) + step))
        self.setAccessibleDescription(self.readout(self._cursor))
        self.update()
