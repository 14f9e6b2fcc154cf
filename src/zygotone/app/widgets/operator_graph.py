"""Who bends whom: the operators of an FM sound, their arrows, and which of them are heard."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.app.widgets.basic import framed
from zygotone.dsp.types import FloatArray
from zygotone.session.params import Values
from zygotone.sources.fm import connections

_RADIUS = 17.0


def depths(matrix: FloatArray) -> list[int]:
    """For each operator how many arrows lie between it and what is heard, the longest way; circles count once."""
    count = len(matrix)
    depth = [0] * count
    for _ in range(count):
        for a in range(count):
            for b in range(count):
                if a != b and matrix[a, b] > 0.0 and depth[a] <= depth[b] < count - 1:
                    depth[a] = depth[b] + 1
    return depth


class OperatorGraph(QWidget):
    """Operators stand over those that they bend; a line below leads out of those that are heard."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("sounds.operators")
        self.setAccessibleName("Operator graph")
        self.setMinimumHeight(150)
        self.setFixedWidth(210)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self._params: Values | None = None
        self.chosen = 0
        theme().changed.connect(self.update)

    def show_sound(self, params: Values, chosen: int) -> None:
        self._params, self.chosen = params, chosen
        matrix, heard = connections(params)
        arrows = [f"{a + 1} bends {b + 1}" for a in range(4) for b in range(4) if a != b and matrix[a, b] > 0.0]
        outs = ", ".join(str(k + 1) for k in range(4) if heard[k] > 0.0) or "none"
        self.setAccessibleDescription("; ".join([*arrows, f"heard: {outs}"]))
        self.update()

    def places(self) -> list[QPointF]:
        """Where each operator stands."""
        if self._params is None:
            return []
        matrix, _ = connections(self._params)
        depth = depths(matrix)
        rows = max(depth) + 1
        found = []
        for k in range(4):
            beside = [j for j in range(4) if depth[j] == depth[k]]
            x = self.width() * (beside.index(k) + 1) / (len(beside) + 1)
            y = (
                self.height() - 34.0 - depth[k] * (self.height() - 62.0) / max(1, rows - 1)
                if rows > 1
                else self.height() / 2
            )
            found.append(QPointF(x, y))
        return found

    def paintEvent(self, event: QPaintEvent) -> None:
        with framed(self) as painter:
            if self._params is None:
                return
            matrix, heard = connections(self._params)
            places = self.places()
            operators = self._params["operators"]
            for a in range(4):
                for b in range(4):
                    if a != b and matrix[a, b] > 0.0:
                        self._arrow(painter, places[a], places[b])
            own = any(matrix[k, k] > 0.0 for k in range(4)) or self._params["feedback"] > 0.0
            for k, p in enumerate(places):
                there = k < len(operators)
                if heard[k] > 0.0:
                    painter.setPen(QPen(colour("ink"), 1.6))
                    painter.drawLine(QPointF(p.x(), p.y() + _RADIUS), QPointF(p.x(), self.height() - 6.0))
                if own and (matrix[k, k] > 0.0 or k == 3):
                    painter.setPen(QPen(colour("soft"), 1.4))
                    painter.setBrush(Qt.BrushStyle.NoBrush)
                    painter.drawEllipse(QPointF(p.x() + _RADIUS, p.y() - _RADIUS + 4), 8.0, 8.0)
                painter.setPen(QPen(colour("a" if k == self.chosen else "ink" if there else "line"), 1.8))
                painter.setBrush(colour("fill" if k == self.chosen else "sheet"))
                painter.drawEllipse(p, _RADIUS, _RADIUS)
                painter.setPen(colour("ink" if there else "soft"))
                painter.setFont(text_font(10, bold=True))
                painter.drawText(QRectF(p.x() - 16, p.y() - 14, 32, 15), Qt.AlignmentFlag.AlignCenter, str(k + 1))
                if there:
                    op = operators[k]
                    word = f"{op['fixed_hz']:.0f} Hz" if op["fixed_hz"] > 0.0 else f"×{op['ratio']:g}"
                    painter.setFont(number_font(7))
                    painter.drawText(QRectF(p.x() - 17, p.y() + 1, 34, 12), Qt.AlignmentFlag.AlignCenter, word)
            painter.setPen(colour("soft"))
            painter.setFont(text_font(8))
            painter.drawText(QRectF(6, self.height() - 18, 60, 14), Qt.AlignmentFlag.AlignLeft, "heard ↓")

    def _arrow(self, painter: QPainter, a: QPointF, b: QPointF) -> None:
        angle = math.atan2(b.y() - a.y(), b.x() - a.x())
        tip = QPointF(b.x() - _RADIUS * math.cos(angle), b.y() - _RADIUS * math.sin(angle))
        painter.setPen(QPen(colour("soft"), 1.5))
        painter.drawLine(a, tip)
        sides = [QPointF(tip.x() - 8 * math.cos(angle + s), tip.y() - 8 * math.sin(angle + s)) for s in (0.4, -0.4)]
        painter.setBrush(colour("soft"))
        painter.drawPolygon(QPolygonF([tip, *sides]))
