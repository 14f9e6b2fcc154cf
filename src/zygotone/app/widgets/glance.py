"""The sound at a glance: a small live picture for each of its pages, which it opens."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QPushButton, QSizePolicy

from zygotone.app.theme import colour, number_font, text_font, theme
from zygotone.dsp.types import FloatArray
from zygotone.dsp.voice_filters import analog_response
from zygotone.session.automation import Lane, lane_values
from zygotone.session.instruments import InstrumentSource, Layer, Lfo, Phrase
from zygotone.session.params import Param
from zygotone.sources.envelopes import envelope_curve
from zygotone.sources.instrument import filter_stages
from zygotone.sources.modulation import lfo_heights

_WIDTH, _LEAST_WIDTH, _HEIGHT = 84, 56, 58
_POINTS = 64
_RATE_HZ = 1000  # of the curves: a picture needs no more


@dataclass(frozen=True, slots=True, eq=False)
class Glance:
    """What all the pictures are of. ``levels_db`` are the layer's third octaves, where they are measured."""

    source: InstrumentSource
    layer: Layer | None
    levels_db: FloatArray | None
    phrase: Phrase | None
    lanes: tuple[tuple[Lane, Param], ...]

    def looks_like(self, other: Glance | None) -> bool:
        if other is None or (self.source, self.layer, self.phrase, self.lanes) != (
            other.source, other.layer, other.phrase, other.lanes,
        ):  # fmt: skip
            return False
        mine, theirs = self.levels_db, other.levels_db
        return mine is theirs or (mine is not None and theirs is not None and np.array_equal(mine, theirs))


class GlanceButton(QPushButton):
    """A page's name under its picture. ``draw`` paints into a box what is to be seen, and says a word about it."""

    def __init__(self, title: str, name: str, draw: Callable[[QPainter, QRectF, Glance], str], open_page: Callable[[], None]) -> None:  # fmt: skip
        super().__init__(title)
        self.setObjectName(name)
        self.setAccessibleName(title)
        self.setFixedHeight(_HEIGHT)
        self.setMinimumWidth(_LEAST_WIDTH)
        self.setMaximumWidth(_WIDTH)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.clicked.connect(lambda _=False: open_page())
        self._draw = draw
        self._glance: Glance | None = None
        self._chosen = False
        theme().changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(_WIDTH, _HEIGHT)

    def show_glance(self, glance: Glance, *, chosen: bool) -> None:
        if chosen != self._chosen or not glance.looks_like(self._glance):
            self._glance, self._chosen = glance, chosen
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            edge = "a" if self.hasFocus() else "ink" if self._chosen else "line"
            painter.setPen(QPen(colour(edge), 2.0 if self._chosen or self.hasFocus() else 1.0))
            painter.setBrush(colour("fill" if self._chosen else "sheet"))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)
            words = ""
            if self._glance is not None:
                painter.save()
                words = self._draw(painter, QRectF(8, 7, self.width() - 16, 28), self._glance)
                painter.restore()
            self.setAccessibleDescription(words)
            if words:
                self.setToolTip(words)
            painter.setPen(colour("ink"))
            painter.setFont(text_font(9, bold=self._chosen))
            painter.drawText(QRectF(0, 38, self.width(), 16), Qt.AlignmentFlag.AlignCenter, self.text())


def _line(painter: QPainter, box: QRectF, heights: FloatArray, ink: str = "ink") -> None:
    """A curve of 0 (bottom) to 1 over the width."""
    xs = np.linspace(box.left(), box.right(), len(heights))
    points = [QPointF(float(x), box.bottom() - float(h) * box.height()) for x, h in zip(xs, heights, strict=True)]
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(colour(ink), 1.4))
    painter.drawPolyline(QPolygonF(points))


def _word(painter: QPainter, box: QRectF, text: str) -> None:
    painter.setPen(colour("soft"))
    painter.setFont(number_font(8.5))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def draw_source(painter: QPainter, box: QRectF, glance: Glance) -> str:
    """The third octaves of the layer, as it is played in the section."""
    layer = glance.layer
    if layer is None:
        return ""
    levels = glance.levels_db
    if levels is None or not np.any(levels > -100.0):
        _word(painter, box, layer.sound.spec.title.split(" ")[0].lower())
        return layer.sound.spec.title
    heights = np.clip((levels - np.max(levels) + 48.0) / 48.0, 0.0, 1.0)
    wide = box.width() / len(heights)
    for n, h in enumerate(heights):
        if h > 0.0:
            painter.fillRect(QRectF(box.left() + n * wide, box.bottom() - h * box.height(), wide - 0.6, h * box.height()), colour("ink"))  # fmt: skip
    return f"{layer.sound.spec.title}; level by third octaves, 20 Hz to 20 kHz"


def draw_envelopes(painter: QPainter, box: QRectF, glance: Glance) -> str:
    """The level envelope; behind it, faint, that of the filter."""
    layer = glance.layer
    if layer is None:
        return ""
    behind = [f.envelope for f in (layer.filter, layer.filter2) if f is not None]
    for envelope, ink in (*((each, "soft") for each in behind), (layer.envelope, "ink")):
        held = envelope.delay_ms + envelope.attack_ms + envelope.hold_ms + min(600.0, 1.3 * envelope.decay_ms) + 40.0
        line = envelope_curve(envelope, max(1, round(held)), _RATE_HZ)
        _line(painter, box, line[np.linspace(0, len(line) - 1, _POINTS).astype(int)], ink)
    e = layer.envelope
    return f"Level: attack {e.attack_ms:.3g} ms, decay {e.decay_ms:.3g} ms, sustain {e.sustain:.2g}, release {e.release_ms:.3g} ms"


def _two_cycles(lfo: Lfo) -> FloatArray:
    heights = lfo_heights(lfo, np.linspace(0.0, 2.0, _POINTS) + lfo.phase_deg / 360.0)
    return 0.5 + 0.5 * heights


def draw_lfos(painter: QPainter, box: QRectF, glance: Glance) -> str:
    """Two cycles of each LFO that moves something; else the first, faint."""
    layer = glance.layer
    if layer is None:
        return ""
    used = {s for r in layer.routes for s in (r.source, r.scaled_by) if s is not None}
    named = {
        "lfo1": layer.lfos[0],
        "lfo2": layer.lfos[1],
        "shared1": glance.source.lfos[0],
        "shared2": glance.source.lfos[1],
    }
    moving = [(name, lfo) for name, lfo in named.items() if name in used]
    if not moving:
        _line(painter, box, _two_cycles(layer.lfos[0]), "line")
        return "No LFO moves anything yet"
    for n, (_, lfo) in enumerate(moving[:2]):
        _line(painter, box, _two_cycles(lfo), "ink" if n == 0 else "soft")
    words = [f"{name.replace('lfo', 'LFO ').replace('shared', 'shared LFO ')} at {lfo.rate if isinstance(lfo.rate, str) else f'{lfo.rate:.3g} Hz'}" for name, lfo in moving]  # fmt: skip
    return ", ".join(words)


def response_db(layer: Layer, hz: FloatArray) -> FloatArray:
    """Level of a layer's filters at rest, of both together where it has two."""
    found = [
        analog_response(hz, f.mode, f.cutoff_hz, f.resonance, filter_stages(f))
        for f in (layer.filter, layer.filter2)
        if f is not None
    ]
    whole = np.mean(found, axis=0) if layer.filters_beside else np.prod(found, axis=0)
    return np.asarray(20.0 * np.log10(np.abs(whole) + 1e-4))


def draw_filter(painter: QPainter, box: QRectF, glance: Glance) -> str:
    layer = glance.layer
    found = [] if layer is None else [f for f in (layer.filter, layer.filter2) if f is not None]
    if layer is None or not found:
        _word(painter, box, "none")
        return "No filter"
    level = response_db(layer, np.geomspace(20.0, 20000.0, _POINTS))
    _line(painter, box, np.clip((level + 36.0) / 54.0, 0.0, 1.0))
    words = (" beside " if layer.filters_beside else ", then ").join(f"{f.mode} at {f.cutoff_hz:.4g} Hz" for f in found)
    return words[0].upper() + words[1:]


def draw_routes(painter: QPainter, box: QRectF, glance: Glance) -> str:
    """A line for each route, from what moves to what is moved."""
    layer = glance.layer
    routes = layer.routes if layer is not None else ()
    if not routes:
        _word(painter, box, "none")
        return "No routes"
    sources, targets = (
        list(dict.fromkeys(r.source for r in routes)),
        list(dict.fromkeys((r.device, r.target) for r in routes)),
    )

    def place(at: int, of: int) -> float:
        return box.top() + box.height() * (at + 0.5) / of

    painter.setPen(QPen(colour("ink"), 1.2))
    for r in routes:
        ends = (
            QPointF(box.left() + 6, place(sources.index(r.source), len(sources))),
            QPointF(box.right() - 6, place(targets.index((r.device, r.target)), len(targets))),
        )
        painter.drawLine(*ends)
        painter.setBrush(colour("ink"))
        for end in ends:
            painter.drawEllipse(end, 1.8, 1.8)
    return f"{len(routes)} route{'s' if len(routes) != 1 else ''}"


def draw_zones(painter: QPainter, box: QRectF, glance: Glance) -> str:
    """Every layer's keys (across) and velocities (up); the one that is shown, filled."""
    for layer in glance.source.layers:
        left = box.left() + box.width() * layer.key_low / 127.0
        right = box.left() + box.width() * layer.key_high / 127.0
        top = box.bottom() - box.height() * layer.velocity_high
        low = box.bottom() - box.height() * layer.velocity_low
        zone = QRectF(left, top, max(1.5, right - left), max(1.5, low - top))
        mine = glance.layer is not None and layer.id == glance.layer.id
        painter.setPen(QPen(colour("ink" if mine else "soft"), 1))
        fill = colour("ink")
        fill.setAlphaF(0.18)
        painter.setBrush(fill if mine else Qt.BrushStyle.NoBrush)
        painter.drawRect(zone)
    return "Keys across, velocities up"


def draw_chain(painter: QPainter, box: QRectF, glance: Glance) -> str:
    devices = glance.layer.chain if glance.layer is not None else ()
    if not devices:
        _word(painter, box, "none")
        return "No devices on this layer"
    wide = min(14.0, box.width() / len(devices) - 2.0)
    painter.setPen(QPen(colour("ink"), 1))
    painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
    for n, device in enumerate(devices):
        painter.setBrush(colour("ink" if device.on else "sheet"))
        x = box.left() + (n + 0.5) * box.width() / len(devices)
        painter.drawRect(QRectF(x - wide / 2, box.center().y() - 7, wide, 14))
    return ", ".join(d.title + ("" if d.on else " (off)") for d in devices)


def draw_moves(painter: QPainter, box: QRectF, glance: Glance) -> str:
    lanes = [(lane, p) for lane, p in glance.lanes if lane.moves]
    if not lanes:
        _word(painter, box, "none")
        return "Nothing moves by itself"
    for n, (lane, p) in reversed(list(enumerate(lanes[:2]))):
        end = max((q.beat for q in lane.points), default=4.0) if not lane.repeats else 4.0
        values = lane_values(lane, p, np.linspace(0.0, max(0.25, end), _POINTS))
        low, high = float(np.min(values)), float(np.max(values))
        flat = math.isclose(low, high)
        heights = np.full(_POINTS, 0.5) if flat else np.array([(p.position_of(v) - p.position_of(low)) / (p.position_of(high) - p.position_of(low)) for v in values])  # fmt: skip
        _line(painter, box, heights, "ink" if n == 0 else "soft")
    return f"{len(lanes)} lane{'s' if len(lanes) != 1 else ''}"


def draw_notes(painter: QPainter, box: QRectF, glance: Glance) -> str:
    phrase = glance.phrase
    if phrase is None or not phrase.notes:
        _word(painter, box, "none")
        return "No notes in this section"
    low, high = min(n.pitch for n in phrase.notes), max(n.pitch for n in phrase.notes)
    rows = max(6, high - low + 1)
    for note in phrase.notes[:400]:
        if note.start_beat >= phrase.beats:
            continue
        x = box.left() + box.width() * note.start_beat / phrase.beats
        wide = max(1.0, box.width() * min(note.length_beats, phrase.beats - note.start_beat) / phrase.beats - 0.4)
        y = box.bottom() - box.height() * (note.pitch - low + 1 + (rows - (high - low + 1)) / 2) / rows
        painter.fillRect(QRectF(x, y, wide, max(1.2, box.height() / rows)), colour("ink"))
    return f"{len(phrase.notes)} notes in {phrase.beats:g} beats"


DRAWN: dict[str, Callable[[QPainter, QRectF, Glance], str]] = {
    "Source": draw_source, "Envelopes": draw_envelopes, "LFOs": draw_lfos, "Filter": draw_filter, "Routes": draw_routes,
    "Zones": draw_zones, "Chain": draw_chain, "Moves": draw_moves, "Notes": draw_notes,
}  # fmt: skip
