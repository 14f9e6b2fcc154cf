"""A picture for each kind of device: what it does, drawn over what it does it to."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtWidgets import QWidget

from zygotone.advise.views import FREQS_HZ, TIME_POINTS, ClickAnswer, Effect, harmonics_db
from zygotone.app.widgets.basic import row, stretch
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Mark, Plot
from zygotone.devices import compressor, ducker, saturation
from zygotone.session.models import Device

CHANGE = Axis(-24.0, 24.0, "dB", ticks=(-18, -12, -6, 0, 6, 12, 18), name="Change")
_SHIFT_DB = 24.0 - 4.0  # spectra are drawn with their top this far up the scale of changes


def spectrum_curve(name: str, db: np.ndarray, colour: str, style: str) -> Curve:
    """A spectrum on the scale of changes: only its shape counts there, 1 dB of the scale to 1.5 dB of it."""
    return Curve(name, FREQS_HZ, _SHIFT_DB + (db - db.max()) / 1.5, colour, style)


class Picture(QWidget):
    """Base: ``show`` draws a device, its kept version beside it, and its measured effect where there is one."""

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        raise NotImplementedError


class CurvePicture(Picture):
    """Curve of an EQ or keyed EQ over the spectra of the track and the key. Bands are dragged by their numbers."""

    def __init__(
        self,
        on_band: Callable[[int, float, float], None],
        on_select: Callable[[int], None],
        on_release: Callable[[], None],
    ) -> None:
        super().__init__()
        self.plot = Plot(FREQUENCY, CHANGE, name="chains.picture", accessible="Curve over the spectrum", height=190)
        self.setLayout(row(self.plot))
        self._device: Device | None = None
        self._on_band, self._on_select = on_band, on_select
        self._held: int | None = None
        self.selected = 0
        self.plot.pressed.connect(self._press)
        self.plot.dragged.connect(self._drag)
        self.plot.released.connect(on_release)
        self.plot.released.connect(self._let_go)

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        curve = device.spec.hand_curve
        assert curve is not None, "a device with this picture declares its curve"
        self._device = device
        curves = []
        if effect is not None:
            curves.append(spectrum_curve("track here", effect.before.spectrum_db, "fill", "fill"))
            if effect.key is not None:
                curves.append(spectrum_curve("key", effect.key.spectrum_db, "clash", "dot"))
        now = curve.response_db(device.params, FREQS_HZ)
        if kept is not None and kept.params != device.params:
            curves.append(Curve(f"A {curve.word}", FREQS_HZ, curve.response_db(kept.params, FREQS_HZ), "a", "dash"))
            curves.append(Curve(f"B {curve.word}", FREQS_HZ, now, "b", "line", 2.2))
        else:
            curves.append(Curve(curve.word, FREQS_HZ, now, "b" if kept is None else "ink", "line", 2.0))
        handles = curve.handles(device.params)
        numbered = any(p.type == "list" for p in device.spec.params)  # the entries below are
        marks = [
            Mark(
                str(i + 1) if numbered else "",
                h.freq_hz,
                h.level_db,
                "ink" if i == self.selected or not numbered else "soft",
            )
            for i, h in enumerate(handles)
        ]
        self.plot.show_curves(curves, marks)

    def _handles(self) -> list[tuple[float, float]]:
        if self._device is None or self._device.spec.hand_curve is None:
            return []
        return [(h.freq_hz, h.level_db) for h in self._device.spec.hand_curve.handles(self._device.params)]

    def _press(self, hz: float, db: float) -> None:
        def distance(handle: tuple[float, float]) -> float:
            return math.hypot(math.log2(handle[0] / hz) * 1.6, (handle[1] - db) / 6.0)

        handles = self._handles()
        if handles:
            nearest = min(range(len(handles)), key=lambda i: distance(handles[i]))
            if distance(handles[nearest]) < 1.0:
                self._held = nearest
                self._on_select(nearest)

    def _drag(self, hz: float, db: float) -> None:
        if self._held is not None:
            self._on_band(self._held, min(20000.0, max(20.0, hz)), min(24.0, max(-24.0, db)))

    def _let_go(self) -> None:
        self._held = None


class CompressorPicture(Picture):
    """Transfer curve, and the reduction over the section."""

    def __init__(self) -> None:
        super().__init__()
        ticks = (-60, -48, -36, -24, -12, 0)
        self.transfer = Plot(
            Axis(-60, 0, "dB in", ticks=ticks),
            Axis(-60, 6, "dB out", ticks=ticks),
            name="chains.transfer",
            accessible="Transfer curve",
            height=190,
        )
        self.reduction = Plot(
            Axis(0, 1, "s"),
            Axis(-18, 3, "dB", ticks=(-18, -12, -6, 0)),
            name="chains.reduction",
            accessible="Gain over time",
            height=190,
        )
        self.setLayout(row(self.transfer, self.reduction, spacing=8))
        stretch(self, 0, 2)
        stretch(self, 1, 3)
        self.section_s = 1.0

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        levels = np.linspace(-60.0, 0.0, 241)
        curves = [Curve("unchanged", levels, levels, "line", "dot", in_legend=False)]
        if kept is not None and kept.params != device.params:
            curves.append(Curve("A", levels, compressor.transfer_db(kept.params, levels), "a", "dash"))
        colour = "ink" if kept is not None and kept.params == device.params else "b"
        curves.append(Curve("curve", levels, compressor.transfer_db(device.params, levels), colour, "line", 2.0))
        self.transfer.show_curves(curves, [Mark("threshold", device.params["threshold_db"], colour="soft")])
        show_gain(self.reduction, effect, self.section_s, colour)


def show_gain(plot: Plot, effect: Effect | None, section_s: float, colour: str) -> None:
    """Gain over the section's time."""
    if effect is None or effect.gain_db is None:
        plot.show_curves((), empty="Switched off, or not measured yet.")
        return
    step = next(s for s in (1, 2, 5, 10, 20, 30, 60, 120, 300, 600) if section_s / s <= 8)
    depth = max(6.0, 3.0 * math.ceil(-float(effect.gain_db.min()) / 3.0 + 0.01))
    high = max(3.0, 3.0 * math.ceil(float(effect.gain_db.max()) / 3.0 + 0.01))
    tick = 3 if depth + high <= 18 else 6 if depth + high <= 36 else 12
    first = -tick * int(depth // tick)
    plot.set_axes(
        Axis(0.0, section_s, "s", ticks=tuple(range(0, int(section_s) + 1, step))),
        Axis(-depth, high, "dB", ticks=tuple(range(first, int(high) + 1, tick))),
    )
    x = np.linspace(0.0, section_s, TIME_POINTS)
    plot.show_curves([Curve("gain", x, effect.gain_db, colour, "line", 1.2)])


class SaturationPicture(Picture):
    """Transfer curve, and the harmonics it gives a sine at −12 dB."""

    def __init__(self) -> None:
        super().__init__()
        ticks = (-1, -0.5, 0, 0.5, 1)
        self.transfer = Plot(
            Axis(-1, 1, "in", ticks=ticks),
            Axis(-1.2, 1.2, "out", ticks=ticks),
            name="chains.transfer",
            accessible="Transfer curve",
            height=190,
        )
        self.harmonics = Plot(
            Axis(0.3, 10.7, "harmonic", ticks=tuple(range(1, 11))),
            Axis(-90, 6, "dB", ticks=(-80, -60, -40, -20, 0)),
            name="chains.harmonics",
            accessible="Harmonics of a sine at −12 dB",
            height=190,
        )
        self.setLayout(row(self.transfer, self.harmonics, spacing=8))

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        x = np.linspace(-1.0, 1.0, 401)
        curves = [Curve("unchanged", x, x, "line", "dot", in_legend=False)]
        changed = kept is None or kept.params != device.params
        if kept is not None and changed:
            curves.append(Curve("A", x, saturation.transfer(kept.params, x), "a", "dash"))
        curves.append(Curve("curve", x, saturation.transfer(device.params, x), "b" if changed else "ink", "line", 2.0))
        self.transfer.show_curves(curves)
        sine = 10.0 ** (-12.0 / 20.0) * np.sin(2.0 * np.pi * np.arange(1024) / 1024)
        levels = harmonics_db(saturation.transfer(device.params, sine))
        self.harmonics.show_curves(
            [Curve("sine at −12 dB", np.arange(1.0, 11.0), levels, "b" if changed else "ink", "bars")]
        )


class SpectraPicture(Picture):
    """For everything else: the track before and after, and the gain where one moves."""

    def __init__(self) -> None:
        super().__init__()
        self.spectra = Plot(
            FREQUENCY,
            Axis(-90, 0, "dB", ticks=(-80, -60, -40, -20)),
            name="chains.picture",
            accessible="Spectrum before and after",
            height=190,
        )
        self.gain = Plot(
            Axis(0, 1, "s"),
            Axis(-18, 3, "dB", ticks=(-18, -12, -6, 0)),
            name="chains.gain",
            accessible="Gain over time",
            height=190,
        )
        self.setLayout(row(self.spectra, self.gain, spacing=8))
        self.section_s = 1.0

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        moving = effect is not None and effect.gain_db is not None
        self.gain.setVisible(moving)
        changed = kept is None or kept.params != device.params
        show_spectra(self.spectra, effect, changed)
        if moving:
            show_gain(self.gain, effect, self.section_s, "b" if changed else "ink")


def show_spectra(plot: Plot, effect: Effect | None, changed: bool) -> None:
    """The track before and after a device."""
    if effect is None:
        plot.show_curves((), empty="Measuring…")
        return
    top = 10.0 * math.ceil(float(max(effect.before.spectrum_db.max(), effect.after.spectrum_db.max())) / 10.0 + 0.2)
    plot.set_axes(y=Axis(top - 75.0, top, "dB", ticks=tuple(top - 10 - 20 * i for i in range(4))))
    plot.show_curves(
        [
            Curve("before", FREQS_HZ, effect.before.spectrum_db, "fill", "fill"),
            Curve("after", FREQS_HZ, effect.after.spectrum_db, "b" if changed else "ink"),
        ]
    )


# Has a click sent through devices in the background, and hears of the results in the interface's thread.
Ask = Callable[[tuple[Device, ...], Callable[[Any], None]], None]
TempoAndRate = Callable[[], tuple[float, int]]


class _ClickPicture(Picture):
    """Base of pictures of what a click gives. It is worked out in the background, and only when the device has changed;
    until then the last answer stays."""

    def __init__(self, song: TempoAndRate, ask: Ask) -> None:
        super().__init__()
        self._song, self._ask = song, ask
        self._known: dict[object, ClickAnswer] = {}
        self._shown: tuple[Device, Device | None, Effect | None] | None = None
        self._last: ClickAnswer | None = None

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        if self._shown is not None and self._shown[0].id != device.id:
            self._last = None
        self._shown = (device, kept, effect)
        missing = {key: d for d in (device, kept) if d is not None and (key := self._key(d)) not in self._known}
        self._draw(device, kept, effect)
        if missing:
            self._ask(tuple(missing.values()), lambda answers: self._learn(dict(zip(missing, answers, strict=True))))

    def _learn(self, answers: dict[object, ClickAnswer]) -> None:
        if len(self._known) > 16:
            self._known.clear()
        self._known |= answers
        if self._shown is not None:
            self._draw(*self._shown)

    def _key(self, device: Device) -> object:
        return device.kind, device.params, device.mix, *self._song()

    def _answer(self, device: Device) -> ClickAnswer | None:
        return self._known.get(self._key(device))

    def _draw(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        raise NotImplementedError


class ResponsePicture(_ClickPicture):
    """Frequency response over the track's spectrum."""

    def __init__(self, song: TempoAndRate, ask: Ask) -> None:
        super().__init__(song, ask)
        self.plot = Plot(FREQUENCY, CHANGE, name="chains.picture", accessible="Response over the spectrum", height=190)
        self.setLayout(row(self.plot))

    def _draw(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        curves = []
        if effect is not None:
            curves.append(spectrum_curve("track here", effect.before.spectrum_db, "fill", "fill"))
        changed = kept is None or kept.params != device.params or kept.mix != device.mix
        before = self._answer(kept) if kept is not None and changed else None
        if before is not None:
            curves.append(Curve("A response", FREQS_HZ, before.response_db, "a", "dash"))
        self._last = self._answer(device) or self._last
        if self._last is not None:
            colour = "b" if changed else "ink"
            curves.append(Curve("response", FREQS_HZ, self._last.response_db, colour, "line", 2.0))
        self.plot.show_curves(curves)


class TailPicture(_ClickPicture):
    """What follows a click, over time, and the spectrum before and after."""

    def __init__(self, song: TempoAndRate, ask: Ask) -> None:
        super().__init__(song, ask)
        self.tail = Plot(
            Axis(0, 1, "s"), Axis(-80, 6, "dB", ticks=(-72, -60, -48, -36, -24, -12, 0)), name="chains.tail",
            accessible="What follows a click", height=190,
        )  # fmt: skip
        self.spectra = Plot(
            FREQUENCY, Axis(-90, 0, "dB", ticks=(-80, -60, -40, -20)), name="chains.picture",
            accessible="Spectrum before and after", height=190,
        )  # fmt: skip
        self.setLayout(row(self.tail, self.spectra, spacing=8))
        stretch(self, 0, 3)
        stretch(self, 1, 2)

    def _draw(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        changed = kept is None or kept.params != device.params or kept.mix != device.mix
        show_spectra(self.spectra, effect, changed)
        self._last = answer = self._answer(device) or self._last
        if answer is None:
            self.tail.show_curves((), empty="Measuring…")
            return
        step = next(s for s in (0.05, 0.1, 0.2, 0.5, 1, 2, 5) if answer.seconds / s <= 8)
        self.tail.set_axes(
            Axis(
                0.0, answer.seconds, "s", ticks=tuple(round(step * i, 2) for i in range(int(answer.seconds / step) + 1))
            )
        )
        x = np.linspace(0.0, answer.seconds, TIME_POINTS)
        curves = [Curve("left", x, answer.level_db[0], "b" if changed else "ink", "line", 1.2)]
        if not np.allclose(answer.level_db[0], answer.level_db[1], atol=0.5):
            curves.append(Curve("right", x, answer.level_db[1], "soft", "line", 1.0))
        self.tail.show_curves(curves)


class DuckPicture(Picture):
    """The drawn curve, whose points are dragged, and the gain over the section."""

    def __init__(
        self,
        on_point: Callable[[int, float, float], None],
        on_select: Callable[[int], None],
        on_release: Callable[[], None],
    ) -> None:
        super().__init__()
        self.curve = Plot(
            Axis(0.0, 1.0, "", ticks=(0, 0.25, 0.5, 0.75, 1), name="Share of the length"), Axis(0.0, 1.0, "depth", ticks=(0, 0.5, 1)),
            name="chains.picture", accessible="The ducking curve", height=190,
        )  # fmt: skip
        self.gain = Plot(
            Axis(0, 1, "s"), Axis(-18, 3, "dB", ticks=(-18, -12, -6, 0)), name="chains.gain", accessible="Gain over time",
            height=190,
        )  # fmt: skip
        self.setLayout(row(self.curve, self.gain, spacing=8))
        stretch(self, 0, 2)
        stretch(self, 1, 3)
        self.section_s = 1.0
        self.selected = 0
        self._held: int | None = None
        self._points: list[tuple[float, float]] = []
        self._on_point, self._on_select = on_point, on_select
        self.curve.pressed.connect(self._press)
        self.curve.dragged.connect(self._drag)
        self.curve.released.connect(on_release)

    def show_device(self, device: Device, kept: Device | None, effect: Effect | None) -> None:
        t = np.linspace(0.0, 1.0, 201)
        changed = kept is None or kept.params != device.params
        curves = []
        if kept is not None and changed:
            curves.append(Curve("A", t, ducker.curve_of(kept.params, t), "a", "dash"))
        curves.append(Curve("curve", t, ducker.curve_of(device.params, t), "b" if changed else "ink", "line", 2.0))
        self._points = [(p["at"], p["depth"]) for p in device.params["points"]]
        marks = [
            Mark(str(i + 1), at, depth, "ink" if i == self.selected else "soft")
            for i, (at, depth) in enumerate(self._points)
        ]
        self.curve.show_curves(curves, marks)
        show_gain(self.gain, effect, self.section_s, "b" if changed else "ink")

    def _press(self, at: float, depth: float) -> None:
        self._held = None
        near = [math.hypot(a - at, 0.5 * (d - depth)) for a, d in self._points]
        if near and min(near) < 0.06:
            self._held = near.index(min(near))
            self._on_select(self._held)

    def _drag(self, at: float, depth: float) -> None:
        if self._held is not None:
            self._on_point(self._held, at, depth)
