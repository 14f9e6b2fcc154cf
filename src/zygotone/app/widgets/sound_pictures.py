"""Pictures of a plucked string and of a drum."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from zygotone.advise.sound_views import PARTIALS, DrumView, StringView
from zygotone.app.widgets.basic import column
from zygotone.app.widgets.plot import Axis, Curve, Mark, Plot
from zygotone.dsp.types import FloatArray


def _time_axis(seconds: float) -> Axis:
    step = next(s for s in (5, 10, 20, 50, 100, 200, 500, 1000, 2000) if 1000.0 * seconds / s <= 6)
    return Axis(0.0, 1000.0 * seconds, "ms", ticks=tuple(float(t) for t in range(0, int(1000 * seconds) + 1, step)))


def _decades(low: float, high: float) -> tuple[float, ...]:
    """1, 2 and 5 of each decade between two values, and no more than five of them."""
    ticks = [
        float(f"{step}e{power}")
        for power in range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
        for step in (1, 2, 5)
        if low <= step * 10.0**power <= high
    ]
    return tuple(ticks[:: max(1, math.ceil(len(ticks) / 5))])


class StringPicture(QWidget):
    """The string pulled aside, at once and later, over how long each of its partials rings."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("sounds.string")
        self.string = Plot(
            Axis(0, 100, "%", ticks=(0, 25, 50, 75, 100)), Axis(-0.3, 1.15, "", ticks=(0, 0.5, 1)),
            name="sounds.string.shape", accessible="The string after the pluck, from bridge to nut", height=112,
        )  # fmt: skip
        self.decays = Plot(
            Axis(0.3, PARTIALS + 0.7, "partial", ticks=(1, 4, 8, 12, 16, 20, 24)), Axis(0.01, 10.0, "s", log=True),
            name="sounds.string.decays", accessible="Time of each partial to −60 dB", height=112,
        )  # fmt: skip
        self.setLayout(column(self.string, self.decays, spacing=4))

    def show_string(self, view: StringView) -> None:
        styles = (("ink", "line", 2.0), ("soft", "line", 1.4), ("soft", "dot", 1.4))
        names = ["pluck", *(f"{1000 * t:.0f} ms later" for t in view.times_s[1:])]
        self.string.show_curves(
            [
                Curve(name, 100.0 * view.places, shape, *style)
                for name, shape, style in zip(names, view.shapes, styles, strict=True)
            ],
            [
                Mark("bridge", 0.0, colour="soft"),
                Mark("pick", 100.0 * view.pick, colour="a"),
                Mark("nut", 100.0, colour="soft"),
            ],
        )
        self.string.set_axes(y=Axis(min(-0.1, 1.1 * float(view.shapes.min())), 1.15, "", ticks=(0, 0.5, 1)))
        low, high = 0.7 * float(view.decays_s.min()), 1.4 * float(view.decays_s.max())
        self.decays.set_axes(y=Axis(low, high, "s", log=True, ticks=_decades(low, high)))
        partials = np.arange(1.0, len(view.decays_s) + 1.0)
        self.decays.show_curves([Curve("to −60 dB", partials, view.decays_s, "soft", "bars")])


class DrumPicture(QWidget):
    """What a hit is made of as it dies away, over where its tone falls to."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("sounds.drum")
        self.levels = Plot(
            Axis(0, 1, "ms"), Axis(-60, 6, "dB", ticks=(-60, -40, -20, 0)), name="sounds.drum.levels",
            accessible="Levels of the parts of a hit", height=112,
        )  # fmt: skip
        self.pitch = Plot(
            Axis(0, 1, "ms"), Axis(20, 2000, "Hz", log=True), name="sounds.drum.pitch", accessible="Pitch of the tone",
            height=112,
        )  # fmt: skip
        self.setLayout(column(self.levels, self.pitch, spacing=4))

    def show_drum(self, view: DrumView) -> None:
        time = _time_axis(float(view.at_s[-1]))
        at = 1000.0 * view.at_s
        parts: tuple[tuple[str, FloatArray | None, str, str], ...] = (
            ("tone", view.tone_db, "ink", "line"), ("noise", view.noise_db, "soft", "dash"), ("click", view.click_db, "soft", "dot"),
        )  # fmt: skip
        self.levels.set_axes(time)
        self.levels.show_curves(
            [Curve(name, at, level, ink, style) for name, level, ink, style in parts if level is not None],
            empty="Every part is off.",
        )
        if view.tone_hz is None:
            self.pitch.show_curves([], empty="The tone is off.")
            return
        low, high = 0.8 * float(view.tone_hz.min()), 1.25 * float(view.tone_hz.max())
        self.pitch.set_axes(time, Axis(low, high, "Hz", log=True, ticks=_decades(low, high)))
        self.pitch.show_curves([Curve("tone", at, view.tone_hz, "ink")])
