"""What a device did to its track, in numbers."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from zygotone.advise.views import Effect
from zygotone.app.desk import Desk
from zygotone.app.theme import colour, number_font, text_font
from zygotone.app.widgets.basic import column, label
from zygotone.measure.quantities import Quantity, find_quantity
from zygotone.session.models import Device

# What is told of every device, and what only of those whose gain moves.
_CHANGES = ("loudness_change_lu", "crest_change_db", "centroid_change_hz", "deepest_db")
_ALWAYS = _CHANGES[:3]
_COLUMNS, _TILE_HEIGHT, _GAP = 3, 44, 6
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
        self._tiles = _Tiles()
        self.setLayout(column(self._title, self._tiles, spacing=8))

    def show_effect(self, device: Device, effect: Effect | None, old: Effect | None) -> None:
        """``old`` is what it did in A, while there is a trial."""
        strip = self._desk.session.strip(self._desk.selection.track_id)
        self._title.setText(f"What {device.title} did to {strip.name}, {self._desk.selection.section.name}")
        trial = self._desk.bench.trial is not None
        tiles = []
        for name, read in _TILES if effect is not None else ():
            quantity = find_quantity(name)
            before, after = (read(e) if e is not None else None for e in (old, effect))
            if after is not None or name in _ALWAYS:
                tiles.append((quantity.label, _text(quantity, before) if trial else None, _text(quantity, after)))
        self._tiles.show_tiles(tiles)


class _Tiles(QWidget):
    """Name and number of each, three in a row. Painted by hand, as they change with each device and measurement."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("chains.effect")
        self._tiles: list[tuple[str, str | None, str]] | None = None
        self.show_tiles([])

    def show_tiles(self, tiles: list[tuple[str, str | None, str]]) -> None:
        if tiles == self._tiles:
            return
        self._tiles = tiles
        rows = max(1, -(-len(tiles) // _COLUMNS))
        self.setFixedHeight(rows * (_TILE_HEIGHT + _GAP) - _GAP)
        words = (
            f"{name}: " + (f"A {before}, B {after}" if before is not None else after) for name, before, after in tiles
        )
        self.setAccessibleName("; ".join(words) or "Measuring")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            if not self._tiles:
                painter.setPen(colour("soft"))
                painter.setFont(text_font(9))
                painter.drawText(QPointF(0, 14), "Measuring…")
                return
            width = (self.width() - _GAP * (_COLUMNS - 1)) / _COLUMNS
            for at, (name, before, after) in enumerate(self._tiles):
                x, y = (width + _GAP) * (at % _COLUMNS), (_TILE_HEIGHT + _GAP) * (at // _COLUMNS)
                painter.setPen(QPen(colour("line"), 1))
                painter.setBrush(colour("sheet"))
                painter.drawRoundedRect(QRectF(x + 0.5, y + 0.5, width - 1, _TILE_HEIGHT - 1), 5, 5)
                painter.setPen(colour("soft"))
                painter.setFont(text_font(9))
                painter.drawText(QPointF(x + 10, y + 17), name)
                painter.setFont(number_font(10))
                numbers = [(after, "ink")] if before is None else [(f"A {before}", "a"), (f"B {after}", "b")]
                for n, (text, ink) in enumerate(numbers):
                    painter.setPen(colour(ink))
                    painter.drawText(QPointF(x + 10 + n * (width - 10) / 2, y + 34), text)


def _text(quantity: Quantity, value: float | None) -> str:
    return quantity.text(value, signed=quantity.name in _CHANGES) if value is not None and math.isfinite(value) else "–"
