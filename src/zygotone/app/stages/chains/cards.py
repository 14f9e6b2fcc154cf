"""The cards of a chain's devices."""

from __future__ import annotations

import math
from typing import Any, Protocol

from PySide6.QtCore import Qt
from PySide6.QtGui import QFocusEvent, QFontMetrics, QMouseEvent
from PySide6.QtWidgets import QCheckBox, QFrame

from zygotone.advise.views import Step
from zygotone.app.desk import Desk
from zygotone.app.theme import text_font
from zygotone.app.widgets.basic import column, label, restyle, row, signed
from zygotone.session.models import Device


class CardHost(Protocol):
    """The stage, as its cards know it."""

    desk: Desk

    def change(self, device_id: str, what: str, *, merge: object = "value", **changes: Any) -> None: ...


class DeviceCard(QFrame):
    """A device in the row: number, name, what it changes. ``path`` is where it stands in the strip's chain."""

    def __init__(self, at: int, device: Device, path: str, stage: CardHost) -> None:
        super().__init__()
        self.setProperty("kind", "card")
        self.setObjectName(f"chains.device.{device.id}")
        self.setAccessibleName(f"Device {at}, {device.title}")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedSize(150, 82)
        self._id, self._stage = path, stage
        self.on = QCheckBox()
        self.on.setChecked(device.on)
        self.on.setObjectName(f"chains.device.{device.id}.on")
        self.on.setAccessibleName(f"{device.title} on")
        self.on.setToolTip("On or off (Shift+O)")
        self.on.toggled.connect(lambda on: stage.change(path, "Switch", on=on))
        title = QFontMetrics(text_font(10, bold=True)).elidedText(device.title, Qt.TextElideMode.ElideRight, 98)
        name = label(title, "heading")
        name.setToolTip(device.title)
        self.loudness, self.crest = label("", "number"), label("", "number")
        key = ""
        if device.key is not None:
            key = f"key {stage.desk.session.strip(device.key.track).name}"
        self.key = label(key, "soft")
        self.setLayout(
            column(
                row(label(str(at), "soft"), name, 1, self.on, spacing=5),
                row(label("loudness", "soft"), 1, self.loudness),
                row(label("crest", "soft"), 1, self.crest),
                self.key, spacing=1, margins=(9, 5, 7, 4),
            )
        )  # fmt: skip
        self.key.setVisible(bool(key))

    def show_state(self, *, selected: bool, trial: bool, step: Step | None) -> None:
        restyle(self, trial="true" if trial else "false", selected="true" if selected else "false")
        for field, value, unit in (
            (self.loudness, step.lufs if step else None, "LU"),
            (self.crest, step.crest_db if step else None, "dB"),
        ):
            field.setText(signed(value, unit) if value is not None and math.isfinite(value) else "–")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._stage.desk.selection.device(self._id)

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        if event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason):
            self._stage.desk.selection.device(self._id)
