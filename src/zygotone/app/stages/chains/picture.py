"""The picture of whichever device is shown, by the kind of picture that it declares."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QWidget

from zygotone.advise.questions import ClicksThrough
from zygotone.advise.views import Effect
from zygotone.app.desk import Desk
from zygotone.app.stages.chains.fields import DeviceFields
from zygotone.app.widgets.basic import column
from zygotone.app.widgets.pictures import (
    CompressorPicture,
    CurvePicture,
    DuckPicture,
    Picture,
    ResponsePicture,
    SaturationPicture,
    SpectraPicture,
    TailPicture,
)
from zygotone.session.models import Device


class DevicePicture(QWidget):
    """Beside ``fields``, whose entries are dragged in it."""

    def __init__(self, desk: Desk, fields: DeviceFields) -> None:
        super().__init__()
        self._desk, self._fields = desk, fields
        self.by_kind: dict[str, Picture] = {}
        self._space = column()
        self.setLayout(self._space)

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        """``kept``: the device in A, None where it is not there; ``effect``: what was measured of it, as far as that is known."""
        picture = self._of(device)
        if isinstance(picture, (CurvePicture, DuckPicture)):
            picture.selected = self._fields.band
        if hasattr(picture, "section_s"):
            picture.section_s = self._desk.selection.section.bars * self._desk.song.bar_s
        picture.show_device(device, kept if self._desk.bench.trial else (kept or device), effect)
        self.show()

    def _of(self, device: Device) -> Picture:
        kind = device.spec.picture
        if kind not in self.by_kind:
            let_go, fields = self._desk.end_merge, self._fields
            makers: dict[str, Callable[[], Picture]] = {
                "curve": lambda: CurvePicture(fields.handle_dragged, fields.select_band, let_go),
                "duck": lambda: DuckPicture(fields.point_dragged, fields.select_band, let_go),
                "response": lambda: ResponsePicture(self._tempo_and_rate, self._ask_answer),
                "tail": lambda: TailPicture(self._tempo_and_rate, self._ask_answer),
                "compressor": CompressorPicture,
                "saturation": SaturationPicture,
            }
            self.by_kind[kind] = makers.get(kind, SpectraPicture)()
            self._space.addWidget(self.by_kind[kind])
        for name, picture in self.by_kind.items():
            picture.setVisible(name == kind)
        return self.by_kind[kind]

    def _ask_answer(self, devices: tuple[Device, ...], done: Callable[[Any], None]) -> None:
        self._desk.measuring.ask(ClicksThrough(self._desk.session, devices), done, urgency=2)

    def _tempo_and_rate(self) -> tuple[float, int]:
        return self._desk.song.tempo_bpm, self._desk.session.rate_hz
