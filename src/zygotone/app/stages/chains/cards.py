"""The cards of a chain's devices."""

from __future__ import annotations

import math
from typing import Any, Protocol

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFocusEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QCheckBox, QWidget

from zygotone.advise.views import Step
from zygotone.app.desk import Desk
from zygotone.app.theme import colour, number_font, text_font
from zygotone.app.widgets.basic import as_plain, signed
from zygotone.session.models import Device

_DRAG_PX = 8.0


class CardHost(Protocol):
    """The stage, as its cards know it."""

    desk: Desk

    def change(self, device_id: str, what: str, *, merge: object = "value", **changes: Any) -> None: ...
    def put_device_at(self, path: str, x: float) -> None: ...


class DeviceCard(QWidget):
    """A device in the row: number, name, what it changes. ``path`` is where it stands in the strip's chain."""

    # Painted by hand: a row of these is made anew for each track, and labels and layouts would take as long as all else.

    def __init__(self, at: int, device: Device, path: str, stage: CardHost) -> None:
        super().__init__()
        self.setObjectName(f"chains.device.{device.id}")
        self.setAccessibleName(f"Device {at}, {device.title}")
        self.setToolTip(as_plain(device.title))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedSize(150, 82)
        self._id, self._stage, self._at, self._title = path, stage, at, device.title
        self._key = stage.desk.session.strip(device.key.track).name if device.key is not None else ""
        self._pressed: QPointF | None = None
        self._dragged = False
        self._state: tuple[bool, bool, str, str] = (False, False, "–", "–")
        self.on = QCheckBox(self)
        self.on.setChecked(device.on)
        self.on.setObjectName(f"chains.device.{device.id}.on")
        self.on.setAccessibleName(f"{device.title} on")
        self.on.setToolTip("On or off (Shift+O)")
        self.on.toggled.connect(lambda on: stage.change(path, "Switch", on=on))
        self.on.move(self.width() - 26, 6)

    def show_state(self, *, selected: bool, trial: bool, step: Step | None) -> None:
        loudness, crest = (
            signed(value, unit) if value is not None and math.isfinite(value) else "–"
            for value, unit in ((step.lufs if step else None, "LU"), (step.crest_db if step else None, "dB"))
        )
        state = (selected, trial, loudness, crest)
        if state != self._state:
            self._state = state
            self.setAccessibleDescription(f"loudness {loudness}, crest {crest}")
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        selected, trial, loudness, crest = self._state
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            edge = 2.0 if selected else 1.0
            painter.setPen(
                QPen(colour("a" if self.hasFocus() else "b" if trial else "soft" if selected else "line"), edge)
            )
            painter.setBrush(colour("b_fill" if trial else "sheet"))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(edge / 2, edge / 2, -edge / 2, -edge / 2), 5, 5)
            soft, left, right = text_font(9), 10.0, self.width() - 9.0
            painter.setFont(soft)
            painter.setPen(colour("soft"))
            painter.drawText(QPointF(left, 20), str(self._at))
            for y, word in ((39, "loudness"), (55, "crest")):
                painter.drawText(QPointF(left, y), word)
            if self._key:
                key = painter.fontMetrics().elidedText(
                    f"key {self._key}", Qt.TextElideMode.ElideRight, int(right - left)
                )
                painter.drawText(QPointF(left, 72), key)
            after = left + painter.fontMetrics().horizontalAdvance(f"{self._at} ") + 2
            painter.setPen(colour("ink"))
            painter.setFont(text_font(10, bold=True))
            room = int(self.on.x() - after - 2)
            title = painter.fontMetrics().elidedText(self._title, Qt.TextElideMode.ElideRight, room)
            painter.drawText(QPointF(after, 20), title)
            painter.setFont(number_font(10))
            for y, number in ((39, loudness), (55, crest)):
                painter.drawText(QPointF(right - painter.fontMetrics().horizontalAdvance(number), y), number)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position() if event.button() == Qt.MouseButton.LeftButton else None
        self._stage.desk.selection.device(self._id)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is not None and (event.position() - self._pressed).manhattanLength() > _DRAG_PX:
            self._dragged = True
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        dragged, self._dragged, self._pressed = self._dragged, False, None
        self.unsetCursor()
        if dragged:
            self._stage.put_device_at(self._id, self.x() + event.position().x())

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        if event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason):
            self._stage.desk.selection.device(self._id)
