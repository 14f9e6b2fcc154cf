"""The layer map: rows are layers, columns are third octaves; ink is level, the owner is framed, a shared band is hatched."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from zygotone.advise.sound_views import LayerMapView
from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.measure.layers import BANDS_HZ
from zygotone.music.pitch import midi_to_note
from zygotone.session.models import InstrumentSource, Layer
from zygotone.session.params import format_number

ROW, HEAD, LEFT, RIGHT = 30, 20, 150, 236
_SHOWN_DB = 48.0  # below the loudest band nothing is drawn
_TICKS = (31.5, 63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16000.0)


# What a layer that is chosen makes of those that are: it takes their place, goes in or out, or comes with all between.
Together = Literal["alone", "toggle", "as far as", "and"]


class LayerMap(QWidget):
    """Chooses a layer by a click or the arrow keys, and with Ctrl or Shift more of them; M and S mute and solo."""

    def __init__(
        self,
        choose: Callable[[str, Together], None],
        change: Callable[[str, str, dict[str, Any]], None],
        *,
        name: str = "sounds.map",
    ) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName("Layer map: which layer owns which frequencies")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self._choose, self._change = choose, change
        self._source: InstrumentSource | None = None
        self._view: LayerMapView | None = None
        self.selected: str | None = None
        self.others: tuple[str, ...] = ()  # that are changed with it
        self._under: tuple[int, int] | None = None
        theme().changed.connect(self.update)

    def show_layers(
        self, source: InstrumentSource, view: LayerMapView | None, selected: str | None, others: tuple[str, ...] = ()
    ) -> None:
        # What was measured of other layers says nothing about these.
        fits = view is not None and view.layers == tuple(layer.id for layer in source.layers)
        shown = source, selected, view if fits else None
        as_before = self._source is source and self._view is shown[2]
        if as_before and (self.selected, self.others) == (selected, others):
            return
        self._source, self.selected, self._view = shown
        self.others = others
        self.setFixedHeight(HEAD + ROW * (len(source.layers) + 1) + 18)
        names = ", ".join(f"{layer.name} ({layer.job})" for layer in source.layers)
        self.setAccessibleDescription(names)
        self.update()

    # --- geometry ------------------------------------------------------------------------------------------

    def _columns(self) -> tuple[float, float]:
        width = max(200.0, self.width() - LEFT - RIGHT)
        return float(LEFT), width / len(BANDS_HZ)

    def _row_at(self, y: float) -> int | None:
        """0 is the sum, then the layers."""
        at = int((y - HEAD) // ROW)
        return at if self._source is not None and 0 <= at <= len(self._source.layers) else None

    # --- drawing -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._source is None:
            return
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            left, step = self._columns()
            layers = self._source.layers
            view = self._view
            top = float(np.max(view.levels_db)) if view is not None and len(layers) else 0.0
            painter.setFont(number_font(8))
            painter.setPen(colour("soft"))
            for hz in _TICKS:
                column = int(np.argmin(np.abs(BANDS_HZ - hz)))
                x = left + (column + 0.5) * step
                text = f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}"
                painter.drawText(QRectF(x - 22, 2, 44, HEAD - 4), Qt.AlignmentFlag.AlignCenter, text)
            painter.drawText(
                QRectF(left - 26, 2, 20, HEAD - 4), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, "Hz"
            )
            right = left + step * len(BANDS_HZ)
            for x, word, width in ((right + 12, "keys", 74), (right + 88, "velocity", 50), (right + 140, "level", 52)):
                painter.drawText(
                    QRectF(x, 2, width, HEAD - 4), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, word
                )
            self._row_frame(painter, 0, "Sum", "what is heard", False, True, False)
            if view is not None:
                self._cells(painter, 0, view.sum_db, top, set(), set())
            for n, layer in enumerate(layers, 1):
                sounding = layer in self._source.sounding
                self._row_frame(
                    painter, n, layer.name, layer.job, layer.id == self.selected, sounding, layer.id in self.others
                )
                self._facts(painter, n, layer, sounding)
                if view is not None:
                    own = {b for b, o in enumerate(view.owned) if (n - 1) in o}
                    shared = {b for b in own if len(view.owned[b]) > 1}
                    self._cells(painter, n, view.levels_db[n - 1], top, own, shared)
            if view is None and layers:
                painter.setPen(colour("soft"))
                painter.setFont(text_font(9.5))
                painter.drawText(QRectF(left, HEAD, right - left, ROW), Qt.AlignmentFlag.AlignCenter, "Measuring…")
            self._footer(painter, left, right)

    def _row_frame(
        self, painter: QPainter, row: int, name: str, job: str, selected: bool, sounding: bool, beside: bool
    ) -> None:  # fmt: skip
        y = HEAD + ROW * row
        left, step = self._columns()
        right = left + step * len(BANDS_HZ)
        if selected or beside:
            painter.fillRect(QRectF(0, y, self.width(), ROW), colour("fill"))
        if selected:
            painter.fillRect(QRectF(0, y, 3, ROW), colour("a" if self.hasFocus() else "ink"))
        painter.setPen(QPen(colour("line"), 1))
        painter.drawLine(QPointF(0, y + ROW), QPointF(self.width(), y + ROW))
        painter.setPen(colour("ink" if sounding else "soft"))
        painter.setFont(text_font(10, bold=selected or row == 0))
        elided = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, LEFT - 66)
        painter.drawText(QRectF(10, y, LEFT - 64, ROW), Qt.AlignmentFlag.AlignVCenter, elided)
        painter.setPen(colour("soft"))
        painter.setFont(text_font(8.5))
        box = QRectF(LEFT - 62, y, 56, ROW) if row else QRectF(60, y, LEFT - 66, ROW)
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, job)
        painter.drawLine(QPointF(right + 4, y + 4), QPointF(right + 4, y + ROW - 4))

    def _cells(
        self, painter: QPainter, row: int, levels: np.ndarray, top: float, own: set[int], shared: set[int]
    ) -> None:
        left, step = self._columns()
        y = HEAD + ROW * row
        ink = colour("ink")
        for b, level in enumerate(levels):
            share = min(1.0, max(0.0, 1.0 - (top - float(level)) / _SHOWN_DB))
            if share <= 0.0:
                continue
            height = 3.0 + (ROW - 9.0) * share
            cell = QRectF(left + b * step + 0.5, y + ROW - 3 - height, step - 1.0, height)
            tint = colour("ink" if row == 0 else "soft")
            tint.setAlphaF(0.20 + 0.5 * share if b not in own or row == 0 else 0.35 + 0.6 * share)
            painter.fillRect(cell, tint)
            if b in own and b not in shared and row:
                painter.fillRect(QRectF(cell.left(), y + ROW - 3, cell.width(), 2.0), ink)
            if b in shared:
                painter.fillRect(cell, QBrush(colour("clash"), Qt.BrushStyle.BDiagPattern))
                painter.fillRect(QRectF(cell.left(), y + ROW - 3, cell.width(), 2.0), colour("clash"))

    def _facts(self, painter: QPainter, row: int, layer: Layer, sounding: bool) -> None:
        left, step = self._columns()
        x, y = left + step * len(BANDS_HZ) + 12, HEAD + ROW * row
        painter.setFont(number_font(8.5))
        painter.setPen(colour("ink" if sounding else "soft"))
        keys = (
            "all"
            if (layer.key_low, layer.key_high) == (0, 127)
            else f"{midi_to_note(layer.key_low)}–{midi_to_note(layer.key_high)}"
        )
        hard = (
            "all"
            if (layer.velocity_low, layer.velocity_high) == (0.0, 1.0)
            else f"{layer.velocity_low:.2f}–{layer.velocity_high:.2f}".replace("0.", ".")
        )
        flags = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(x, y, 74, ROW), flags, keys)
        painter.drawText(QRectF(x + 76, y, 60, ROW), flags, hard)
        painter.drawText(QRectF(x + 128, y, 54, ROW), flags, format_number(layer.level_db, "dB"))
        for at, (word, on) in enumerate((("M", layer.mute), ("S", layer.solo))):
            box = self._switch_box(row, at)
            painter.setPen(QPen(colour("ink" if on else "line"), 1.2))
            painter.setBrush(colour("ink") if on else Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 3, 3)
            painter.setPen(colour("sheet" if on else "soft"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, word)
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _switch_box(self, row: int, which: int) -> QRectF:
        return QRectF(self.width() - 46 + 22 * which, HEAD + ROW * row + 6, 19, ROW - 12)

    def _footer(self, painter: QPainter, left: float, right: float) -> None:
        if self._source is None:
            return
        y = HEAD + ROW * (len(self._source.layers) + 1) + 2
        painter.setFont(text_font(8.5))
        painter.setPen(colour("soft"))
        text = (
            "bars: level in each third octave · line below: the layer that owns it · hatched: shared by more than one"
        )
        if self._under is not None and self._view is not None:
            row, band = self._under
            level = self._view.sum_db[band] if row == 0 else self._view.levels_db[row - 1][band]
            who = "Sum" if row == 0 else self._source.layers[row - 1].name
            owned = ", ".join(self._source.layers[i].name for i in self._view.owned[band]) or "nobody"
            text = f"{who} at {format_number(round(float(BANDS_HZ[band]), 1), 'Hz')}: {format_number(float(level), 'dB')} · owned by {owned}"
            painter.setPen(colour("ink"))
        painter.drawText(QRectF(left, y, self.width() - left, 16), Qt.AlignmentFlag.AlignVCenter, text)

    # --- hand ----------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        row = self._row_at(event.position().y())
        if not row or self._source is None:
            return
        layer = self._source.layers[row - 1]
        for at, field in enumerate(("mute", "solo")):
            if self._switch_box(row, at).contains(event.position()):
                self._change(layer.id, field.capitalize(), {field: not getattr(layer, field)})
                return
        modifiers = event.modifiers()
        together: Together = "toggle" if modifiers & Qt.KeyboardModifier.ControlModifier else "alone"
        if modifiers & Qt.KeyboardModifier.ShiftModifier:
            together = "as far as"
        self._choose(layer.id, together)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        row = self._row_at(event.position().y())
        left, step = self._columns()
        band = int((event.position().x() - left) // step)
        self._under = (row, band) if row is not None and 0 <= band < len(BANDS_HZ) else None
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        self._under = None
        self.update()

    def event(self, event: QEvent) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and event.key() in (Qt.Key.Key_M, Qt.Key.Key_S)
        ):
            event.accept()  # mute and solo of the layer, not of the track
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        layers = self._source.layers if self._source is not None else ()
        ids = [layer.id for layer in layers]
        if not ids:
            super().keyPressEvent(event)
            return
        at = ids.index(self.selected) if self.selected in ids else 0
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            to = ids[max(0, min(len(ids) - 1, at + (1 if event.key() == Qt.Key.Key_Down else -1)))]
            self._choose(to, "and" if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else "alone")
        elif event.key() == Qt.Key.Key_M:
            self._change(ids[at], "Mute", {"mute": not layers[at].mute})
        elif event.key() == Qt.Key.Key_S:
            self._change(ids[at], "Solo", {"solo": not layers[at].solo})
        else:
            super().keyPressEvent(event)
