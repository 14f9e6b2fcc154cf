"""The picture of a lane, and the hand in it: a press holds a point or asks for a new one, a drag moves it."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import Signal

from zygotone.app.widgets.plot import Axis, Curve, Mark, Plot
from zygotone.app.widgets.ruler import ruler_ticks
from zygotone.session.automation import Lane, lane_values
from zygotone.session.params import Param

_NEAR = 0.03  # of the plot's width: a press this close to a point takes hold of it
_STEPS = (1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024)  # beats between numbers


class LanePlot(Plot):
    """Over beats, or, of a drawn cycle, over its length; a cycle's points count from 0 to 1 both ways."""

    holds = Signal(int)  # a point, by its place
    added = Signal(float, float)
    moved = Signal(float, float)  # the held one

    def __init__(self, height: int) -> None:
        super().__init__(
            Axis(0, 16, "beat"), Axis(-60, 12, "dB"), name="lane.plot", accessible="Automation over the section", height=height,
        )  # fmt: skip
        self._places: list[tuple[float, float]] | None = None  # None: nothing to take hold of
        self.pressed.connect(self._press)
        self.dragged.connect(self._drag)

    def show_lane(self, lane: Lane, param: Param, beats: float, held: int | None) -> None:
        """``param`` declares its values; ``beats`` is how long it is."""
        if lane.shape == "drawn":
            self._show_cycle(lane)
            return
        self._places = None if lane.repeats else [(p.beat, p.value) for p in lane.points]
        step = next(s for s in _STEPS if beats / s <= 12 or s == _STEPS[-1])
        log = param.scale == "log"
        ticks = _log_ticks(param.low, param.high) if log else tuple(ruler_ticks(param))
        self.set_axes(
            Axis(0.0, beats, "beat", ticks=tuple(range(0, int(beats) + 1, step))),
            Axis(param.low, param.high, param.unit, log=log, ticks=tuple(round(t, 3) for t in ticks)),
        )
        if not (lane.repeats or lane.points):
            self.show_curves([], [], empty="Click to set the first point.")
            return
        knots = [p.beat for p in lane.points if p.beat <= beats] if not lane.repeats else []
        x = np.union1d(np.linspace(0.0, beats * 0.9999, 800), knots)  # a quick turn is drawn to its corner
        curve = Curve(param.label, x, lane_values(lane, param, x), "ink" if lane.on else "soft")
        marks = [Mark("", *place, "a" if n == held else "ink") for n, place in enumerate(self._places or ())]
        self.show_curves([curve], marks)

    def _show_cycle(self, lane: Lane) -> None:
        self._places = [(p.at, p.height) for p in lane.cycle]
        self.set_axes(
            Axis(0.0, 1.0, "", name="Share of a cycle", ticks=(0, 0.25, 0.5, 0.75, 1)),
            Axis(0.0, 1.0, "", ticks=(0, 0.5, 1)),
        )
        t = np.linspace(0.0, 1.0, 201)
        unit = Param(name="x", label="x", help="x.", default=0.0)
        shape = lane_values(lane.replace(low=0.0, high=1.0, period="1/4"), unit, np.minimum(t, 0.9999))
        marks = [Mark(str(n + 1), *place, "ink") for n, place in enumerate(self._places)]
        self.show_curves([Curve("cycle", t, shape, "ink")], marks)

    # --- hand ----------------------------------------------------------------------------------------------

    def _press(self, x: float, y: float) -> None:
        if self._places is None:
            return

        def distance(place: tuple[float, float]) -> float:
            across = abs(float(self.x_axis.position(place[0]) - self.x_axis.position(x)))
            up = abs(float(self.y_axis.position(place[1]) - self.y_axis.position(y)))
            return math.hypot(across, 0.4 * up)

        distances = [distance(place) for place in self._places]
        nearest = min(distances, default=math.inf)
        if nearest < _NEAR:
            self.holds.emit(distances.index(nearest))
        else:
            self.added.emit(*self._within(x, y))

    def _drag(self, x: float, y: float) -> None:
        if self._places is not None:
            self.moved.emit(*self._within(x, y))

    def _within(self, x: float, y: float) -> tuple[float, float]:
        ax, ay = self.x_axis, self.y_axis
        return min(ax.high, max(ax.low, x)), min(ay.high, max(ay.low, y))


def _log_ticks(low: float, high: float) -> tuple[float, ...]:
    ticks = [s * 10.0**p for p in range(-2, 6) for s in (1, 2, 5) if low <= s * 10.0**p <= high]
    while len(ticks) > 6:
        ticks = ticks[::2]
    return tuple(ticks)
