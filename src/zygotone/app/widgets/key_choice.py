"""Which track a device listens to."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox, QWidget

from zygotone.app.widgets.basic import column, fill, label, row
from zygotone.session.models import KeyInput, Session


class KeyChoice(QWidget):
    """Another track or bus, before or after its chain, or the device's own signal."""

    def __init__(self, session: Session, own: str, name: str, on_change: Callable[[KeyInput | None], None]) -> None:
        super().__init__()
        self._box = QComboBox()
        self._box.setObjectName(name)
        self._box.setAccessibleName("Key input")
        self._box.setToolTip("Which track this device listens to, before or after that track's chain")
        others = [other for other in (*session.tracks, *session.buses) if other.id != own]
        taps = [(f"{o.name}, {tap} its chain", (o.id, tap)) for o in others for tap in ("after", "before")]
        fill(self._box, [("its own signal", None), *taps])
        self._box.activated.connect(lambda i: on_change(self._key_at(i)))
        self.setLayout(column(row(label("Key", "soft"), 1), self._box, 1, spacing=3))

    def _key_at(self, index: int) -> KeyInput | None:
        data = self._box.itemData(index)
        return KeyInput(track=data[0], tap=data[1]) if data else None

    def show_value(self, value: KeyInput | None, kept: object) -> None:
        self._box.setCurrentIndex(
            next((i for i in range(self._box.count()) if self._key_at(i) == value), 0)
        )  # fmt: skip
