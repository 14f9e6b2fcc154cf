"""Pictures that are drawn by hand: an envelope by its corners, an LFO by the points of its cycle."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QWidget

from zygotone.app.widgets.basic import column
from zygotone.app.widgets.plot import Axis, Curve, Mark, Plot
from zygotone.music.tempo import COMMON_NOTE_VALUES, note_value_to_seconds
from zygotone.session.automation import DrawnPoint
from zygotone.session.instruments import Envelope, Lfo
from zygotone.sources.envelopes import envelope_curve
from zygotone.sources.modulation import lfo_heights

_RATE = 2000  # points a second; enough for a picture
_NEAR = 0.04


def snapped_ms(ms: float, bpm: float) -> float:
    """A time within a twentieth of a note value is that note value."""
    for value in COMMON_NOTE_VALUES:
        length = 1000.0 * note_value_to_seconds(value, bpm=bpm)
        if abs(ms - length) < 0.05 * length:
            return length
    return ms


class EnvelopePicture(QWidget):
    """Corners are dragged: attack, decay with sustain, release. Times near a note value snap to it."""

    def __init__(
        self, change: Callable[[dict[str, float]], None], release: Callable[[], None], bpm: Callable[[], float]
    ) -> None:
        super().__init__()
        self._change, self._bpm = change, bpm
        self._envelope = Envelope()
        self._held: str | None = None
        self._seconds = 1.0
        self.plot = Plot(
            Axis(0, 1, "s"), Axis(0.0, 1.05, "", ticks=(0, 0.5, 1)), name="sounds.envelope.picture", accessible="Envelope", height=170
        )  # fmt: skip
        self.setLayout(column(self.plot))
        self.plot.pressed.connect(self._press)
        self.plot.dragged.connect(self._drag)
        self.plot.released.connect(self._let_go)
        self.plot.released.connect(release)

    def _let_go(self) -> None:
        self._held = None

    def _corners(self) -> dict[str, tuple[float, float]]:
        e = self._envelope
        top = (e.delay_ms + e.attack_ms) * 1e-3
        decayed = top + (e.hold_ms + e.decay_ms) * 1e-3
        gate = self._gate()
        return {"attack": (top, 1.0), "decay": (decayed, e.sustain), "release": (gate + e.release_ms * 1e-3, 0.0)}

    def _gate(self) -> float:
        e = self._envelope
        return max(0.25, 1.25 * (e.delay_ms + e.attack_ms + e.hold_ms + e.decay_ms) * 1e-3)

    def show_envelope(self, envelope: Envelope, kept: Envelope | None) -> None:
        self._envelope = envelope
        gate = self._gate()
        if self._held is None:
            self._seconds = max(0.2, 1.08 * (gate + envelope.release_ms * 1e-3))
        step = next(s for s in (0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10) if self._seconds / s <= 8)
        self.plot.set_axes(
            Axis(0.0, self._seconds, "s", ticks=tuple(round(step * i, 3) for i in range(int(self._seconds / step) + 1)))
        )
        curves = []
        changed = kept is not None and kept != envelope
        if kept is not None and changed:
            curves.append(self._curve("A", kept, gate, "a", "dash"))
        curves.append(self._curve("envelope", envelope, gate, "b" if changed else "ink", "line"))
        names = {"attack": "A", "decay": "D", "release": "R"}
        marks = [Mark(names[k], x, y, "ink") for k, (x, y) in self._corners().items() if x <= self._seconds]
        self.plot.show_curves(curves, [*marks, Mark("key up", gate, None, "soft")])

    @staticmethod
    def _curve(name: str, envelope: Envelope, gate: float, colour: str, style: str) -> Curve:
        line = envelope_curve(envelope, round(gate * _RATE), _RATE)
        return Curve(name, np.arange(len(line)) / _RATE, line, colour, style, 2.0)

    def _press(self, x: float, y: float) -> None:
        near = {k: abs(cx - x) / self._seconds + 0.4 * abs(cy - y) for k, (cx, cy) in self._corners().items()}
        best = min(near, key=near.__getitem__)
        self._held = best if near[best] < 3 * _NEAR else None

    def _drag(self, x: float, y: float) -> None:
        e, bpm = self._envelope, self._bpm()
        if self._held == "attack":
            self._change({"attack_ms": min(10000.0, snapped_ms(max(0.0, 1000.0 * x - e.delay_ms), bpm))})
        elif self._held == "decay":
            since = max(1.0, 1000.0 * x - e.delay_ms - e.attack_ms - e.hold_ms)
            self._change({"decay_ms": min(30000.0, snapped_ms(since, bpm)), "sustain": round(min(1.0, max(0.0, y)), 3)})
        elif self._held == "release":
            self._change({"release_ms": min(30000.0, max(1.0, snapped_ms(1000.0 * (x - self._gate()), bpm)))})


class LfoPicture(QWidget):
    """Two cycles of an LFO; of a drawn one the points are dragged, made by a click and taken out by the button beside it."""

    def __init__(self, change: Callable[[tuple[DrawnPoint, ...]], None], release: Callable[[], None]) -> None:
        super().__init__()
        self._change = change
        self._lfo = Lfo()
        self.selected: int | None = None
        self.plot = Plot(
            Axis(0.0, 2.0, "cycles", ticks=(0, 0.5, 1, 1.5, 2)), Axis(-1.1, 1.1, "", ticks=(-1, 0, 1)), name="sounds.lfo.picture",
            accessible="LFO shape", height=170,
        )  # fmt: skip
        self.setLayout(column(self.plot))
        self.plot.pressed.connect(self._press)
        self.plot.dragged.connect(self._drag)
        self.plot.released.connect(release)

    def show_lfo(self, lfo: Lfo, kept: Lfo | None) -> None:
        self._lfo = lfo
        phase = np.linspace(0.0, 2.0, 481)[:-1]
        curves = []
        changed = kept is not None and kept != lfo
        if kept is not None and changed:
            curves.append(Curve("A", phase, lfo_heights(kept, phase + kept.phase_deg / 360.0), "a", "dash"))
        curves.append(
            Curve(
                "shape", phase, lfo_heights(lfo, phase + lfo.phase_deg / 360.0), "b" if changed else "ink", "line", 2.0
            )
        )
        marks = []
        if lfo.shape == "drawn":
            marks = [
                Mark(str(i + 1), p.at, 2.0 * p.height - 1.0, "ink" if i == self.selected else "soft")
                for i, p in enumerate(lfo.cycle)
            ]
        self.plot.show_curves(curves, marks)

    def _press(self, x: float, y: float) -> None:
        if self._lfo.shape != "drawn":
            return
        points = list(self._lfo.cycle)
        near = [abs(p.at - x) + 0.15 * abs(2.0 * p.height - 1.0 - y) for p in points]
        if near and min(near) < 0.06:
            self.selected = near.index(min(near))
        elif x <= 1.0 and len(points) < 64:
            made = DrawnPoint(at=round(x, 3), height=round(min(1.0, max(0.0, 0.5 * (y + 1.0))), 3))
            points = sorted([*points, made], key=lambda p: p.at)
            self.selected = points.index(made)
            self._change(tuple(points))

    def _drag(self, x: float, y: float) -> None:
        points = list(self._lfo.cycle)
        if self._lfo.shape != "drawn" or self.selected is None or self.selected >= len(points):
            return
        low = points[self.selected - 1].at if self.selected > 0 else 0.0
        high = points[self.selected + 1].at if self.selected + 1 < len(points) else 1.0
        # Sixteenths of the cycle hold on to the point a little.
        at = round(x * 16) / 16 if abs(x * 16 - round(x * 16)) < 0.2 else x
        points[self.selected] = DrawnPoint(at=min(high, max(low, at)), height=min(1.0, max(0.0, 0.5 * (y + 1.0))))
        self._change(tuple(points))
