"""What a device did to its track, in numbers."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtWidgets import QGridLayout, QSizePolicy, QWidget

from zygotone.advise.views import Effect
from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import card, clear, column, label, row
from zygotone.measure.quantities import Quantity, find_quantity
from zygotone.session.models import Device

# What is told of every device, and what only of those whose gain moves.
_CHANGES = ("loudness_change_lu", "crest_change_db", "centroid_change_hz", "deepest_db")
_ALWAYS = _CHANGES[:3]
_TILES: tuple[tuple[str, Callable[[Effect], float | None]], ...] = (
    ("loudness_change_lu", lambda e: e.after.lufs - e.before.lufs),
    ("crest_change_db", lambda e: e.after.crest_db - e.before.crest_db),
    ("centroid_change_hz", lambda e: e.after.centroid_hz - e.before.centroid_hz),
    ("deepest_db", lambda e: e.deepest_db),
    ("reduced_share", lambda e: e.reduced_share),
    ("pumping_db", lambda e: e.pumping_db),
)


class EffectTiles(QWidget):
    """Tiles of measured changes, A beside B while there is a trial."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._title = label("", "heading")
        self._shown: object = None
        self._tiles = QGridLayout()
        self._tiles.setSpacing(6)
        self.setLayout(column(self._title, self._tiles, spacing=8))

    def show_effect(self, device: Device, effect: Effect | None, old: Effect | None) -> None:
        """``old`` is what it did in A, while there is a trial."""
        strip = self._desk.session.strip(self._desk.selection.track_id)
        self._title.setText(f"What {device.title} did to {strip.name}, {self._desk.selection.section.name}")
        tiles = []
        for name, read in _TILES if effect is not None else ():
            quantity = find_quantity(name)
            values = [read(e) if e is not None else None for e in (old, effect)]
            if values[1] is not None or name in _ALWAYS:
                tiles.append((quantity.label, *(_text(quantity, value) for value in values)))
        trial = self._desk.bench.trial is not None
        if (trial, tiles) == self._shown:
            return
        self._shown = trial, tiles
        clear(self._tiles)
        if not tiles:
            self._tiles.addWidget(label("Measuring…", "soft"), 0, 0)
        for at, (name, before, after) in enumerate(tiles):
            numbers = (
                row(label(f"A {before}", "a"), 1, label(f"B {after}", "b"), 1)
                if trial
                else row(label(after, "number"), 1)
            )
            tile = card(column(label(name, "soft"), numbers, spacing=2, margins=(10, 5, 10, 5)))
            tile.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            self._tiles.addWidget(tile, at // 3, at % 3)


def _text(quantity: Quantity, value: float | None) -> str:
    return quantity.text(value, signed=quantity.name in _CHANGES) if value is not None and math.isfinite(value) else "–"
