"""What a device did to its track, in numbers."""

from __future__ import annotations

import math

from PySide6.QtWidgets import QGridLayout, QSizePolicy, QWidget

from zygotone.advise.views import Effect
from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import card, clear, column, label, row, signed
from zygotone.session.models import Device


class EffectTiles(QWidget):
    """Tiles of measured changes, A beside B while there is a trial."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._title = label("", "heading")
        self._tiles = QGridLayout()
        self._tiles.setSpacing(6)
        self.setLayout(column(self._title, self._tiles, spacing=8))

    def show_effect(self, device: Device, effect: Effect | None, old: Effect | None) -> None:
        """``old`` is what it did in A, while there is a trial."""
        clear(self._tiles)
        strip = self._desk.session.strip(self._desk.selection.track_id)
        self._title.setText(f"What {device.title} did to {strip.name}, {self._desk.selection.section.name}")
        if effect is None:
            self._tiles.addWidget(label("Measuring…", "soft"), 0, 0)
            return

        def change(read, unit, digits=1):
            return [
                (signed(read(e), unit, digits) if e is not None and math.isfinite(read(e)) else "–")
                for e in (old, effect)
            ]

        tiles = [
            ("Loudness", *change(lambda e: e.after.lufs - e.before.lufs, "LU")),
            ("Crest", *change(lambda e: e.after.crest_db - e.before.crest_db, "dB")),
            ("Brightness (centroid)", *change(lambda e: e.after.centroid_hz - e.before.centroid_hz, "Hz", 0)),
        ]
        if effect.deepest_db is not None:
            tiles += [
                ("Deepest change", *change(lambda e: math.nan if e.deepest_db is None else e.deepest_db, "dB")),
                (
                    "Time at work",
                    *(
                        f"{100 * e.reduced_share:.0f} %" if e is not None and e.reduced_share is not None else "–"
                        for e in (old, effect)
                    ),
                ),
                (
                    "Pumping",
                    *(
                        f"{e.pumping_db:.1f} dB" if e is not None and e.pumping_db is not None else "–"
                        for e in (old, effect)
                    ),
                ),
            ]
        trial = self._desk.bench.trial is not None
        for at, (name, before, after) in enumerate(tiles):
            numbers = (
                row(label(f"A {before}", "a"), 1, label(f"B {after}", "b"), 1)
                if trial
                else row(label(after, "number"), 1)
            )
            tile = card(column(label(name, "soft"), numbers, spacing=2, margins=(10, 5, 10, 5)))
            tile.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            self._tiles.addWidget(tile, at // 3, at % 3)
