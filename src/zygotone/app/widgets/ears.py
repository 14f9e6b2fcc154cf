"""How one listens: both sides, mono, the difference, one side, one band, dimmed. Always at hand, and in no file."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QWidget

from zygotone.app.widgets.basic import button, restyle, row
from zygotone.engine.ears import BANDS, DIM_DB, Listen, Way

_WORDS: dict[Way, tuple[str, str]] = {
    "stereo": ("Both", "Both sides, as they are"), "mono": ("Mono", "Both sides summed, as one loudspeaker plays them"),
    "side": ("Side", "What the sides do not share: what is gone in mono"), "left": ("L", "The left side alone, on both"),
    "right": ("R", "The right side alone, on both"),
}  # fmt: skip


class EarsBar(QWidget):
    """Tells ``listens`` what is wanted. ``wanted`` stays what it is when another project is opened."""

    listens = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("ears")
        self.wanted = Listen()
        self.ways = {
            way: button(
                words, f"ears.{way}", lambda w=way: self.toggle(w), kind="ear", tip=f"{tip}. Never in an export.",
                accessible=f"Listen: {tip}",
            )
            for way, (words, tip) in _WORDS.items()
        }  # fmt: skip
        self.dim = button(
            "Dim", "ears.dim", self.toggle_dim, kind="ear", tip=f"{DIM_DB:g} dB, to talk".replace("-", "−")
        )
        self.bands = QComboBox()
        self.bands.setObjectName("ears.band")
        self.bands.setAccessibleName("Listen to one band")
        self.bands.setToolTip("One band alone. Never in an export.")
        self.bands.addItem("all bands", "")
        for name, (low, high) in BANDS.items():
            self.bands.addItem(name, name)
            self.bands.setItemData(self.bands.count() - 1, f"{low:g} to {high:g} Hz", Qt.ItemDataRole.ToolTipRole)
        self.bands.activated.connect(lambda i: self._want(replace(self.wanted, band=self.bands.itemData(i))))
        self.bands.setProperty("kind", "ear")
        self.setLayout(row(*self.ways.values(), self.bands, self.dim, spacing=2))
        for each in (*self.ways.values(), self.bands, self.dim):
            each.setMinimumWidth(each.sizeHint().width())
        self._show()

    def toggle(self, way: Way) -> None:
        """That way, or both sides again where it is in force already."""
        self._want(replace(self.wanted, way="stereo" if self.wanted.way == way else way))

    def toggle_dim(self) -> None:
        self._want(replace(self.wanted, dim=not self.wanted.dim))

    def _want(self, wanted: Listen) -> None:
        self.wanted = wanted
        self._show()
        self.listens.emit(self.wanted)

    def _show(self) -> None:
        for way, each in self.ways.items():
            restyle(each, heard=way == self.wanted.way, plain=self.wanted.way == "stereo")
        restyle(self.dim, heard=self.wanted.dim, plain=False)
        self.bands.setCurrentIndex(self.bands.findData(self.wanted.band))
        words = [_WORDS[self.wanted.way][1]]
        words += [f"{self.wanted.band} only"] * bool(self.wanted.band) + ["dimmed"] * self.wanted.dim
        self.setAccessibleName(f"How you listen: {', '.join(words)}")
