"""Automation of the selected track and device: the lanes it has, and the one that is being drawn."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, clear, column, label, row
from zygotone.app.widgets.plot import Axis, Curve, Mark, Plot
from zygotone.app.widgets.ruler import Ruler, ruler_ticks
from zygotone.app.widgets.target_words import target_title
from zygotone.music.tempo import COMMON_NOTE_VALUES
from zygotone.session.automation import SHAPES, Lane, Point, lane_values
from zygotone.session.edits import layer_of, make_id, put_lane, remove_lane
from zygotone.session.instruments import layer_params, layer_value
from zygotone.session.models import LEVEL, PAN, SEND, Strip, continuous_params
from zygotone.session.params import Param

_SHAPE_WORDS = {
    "points": "points", "steps": "steps", "triangle": "triangle", "ramp_up": "ramp up", "ramp_down": "ramp down",
    "sine": "sine", "drawn": "drawn cycle",
}  # fmt: skip
_NEAR = 0.03  # of the plot's width: a press this close to a point takes hold of it


def lane_title(lane: Lane, param: Param, device: str | None) -> str:
    if lane.layer is not None:
        return target_title(lane.param, param)
    what = "Wet / dry" if lane.param == "mix" else param.label
    number = next((part for part in lane.param.split(".") if part.isdigit()), None)
    where = f"{device}: " if device else ""
    return f"{where}{what}{f' {int(number) + 1}' if number is not None else ''}"


BEND = Param(
    name="curve", label="Bend after the point", low=-1.0, high=1.0, default=0.0,
    help="Of the point that was held last: above 0 the way to the next is slow at first, below 0 quick at first.",
)  # fmt: skip


class LanePanel(QWidget):
    """Of a strip and one of its devices, or of one layer of a track."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("chains.lanes")
        self._desk = desk
        self._strip_id = ""
        self._path: str | None = None
        self._layer: str | None = None
        self._chosen: str | None = None
        self._held: int | None = None
        self._shown: object = None
        self._head, self._settings = row(spacing=6), row(spacing=8)
        self.plot = Plot(
            Axis(0, 16, "beat"),
            Axis(-60, 12, "dB"),
            name="lane.plot",
            accessible="Automation over the section",
            height=130,
        )
        self.plot.pressed.connect(self._press)
        self.plot.dragged.connect(self._drag)
        self.plot.released.connect(self._let_go)
        self.hint = label("Click adds a point, drag moves one, Delete takes the last held away.", "soft")
        self._rulers: list[Ruler] = []
        self.setLayout(column(self._head, self._settings, self.plot, self.hint, spacing=5))

    # --- showing -------------------------------------------------------------------------------------------

    def show_layer(self, strip: Strip, layer_id: str) -> None:
        self._layer = layer_id
        self.show_strip(strip, None)

    def show_strip(self, strip: Strip, path: str | None) -> None:
        self._strip_id, self._path = strip.id, path
        lanes = self._lanes()
        if self._chosen not in {lane.id for lane in lanes}:
            self._chosen = lanes[0].id if lanes else None
        lane = self._lane()
        session = self._desk.session
        wanted = (
            strip.id, path, self._layer, self._chosen, tuple((each.id, each.on, each.shape, each.section, each.period) for each in lanes),
            tuple((s.id, s.name) for s in session.song.sections), tuple(self._targets()),
        )  # fmt: skip
        if wanted != self._shown:
            self._shown = wanted
            self._make(lanes, lane)
        for each in (self.plot, self.hint):
            each.setVisible(lane is not None)
        if lane is not None:
            self.hint.setVisible(not lane.repeats or lane.shape == "drawn")
            if lane.shape == "points" and self._rulers:
                self._rulers[0].show_value(lane.points[self._bent(lane)].curve if lane.points else 0.0, None)
            else:
                for ruler, value in zip(self._rulers, (lane.low, lane.high), strict=False):
                    ruler.show_value(value, None)
            self._draw(lane)

    def _lanes(self) -> list[Lane]:
        lanes = self._desk.session.lanes
        return [lane for lane in lanes if lane.strip == self._strip_id and lane.layer == self._layer]

    def _lane(self) -> Lane | None:
        return next((lane for lane in self._lanes() if lane.id == self._chosen), None)

    def _targets(self) -> dict[tuple[str | None, str], Param]:
        """What can be moved here: the strip's own, and the selected device's."""
        if self._layer is not None:
            layer = layer_of(self._desk.session, self._strip_id, self._layer)
            return {(None, path): p for path, p in layer_params(layer).items()}
        strip = self._desk.session.strip(self._strip_id)
        found: dict[tuple[str | None, str], Param] = {(None, p.name): p for p in (LEVEL, PAN)}
        found |= {(None, f"send.{send.to}"): SEND for send in strip.sends}
        if self._path is not None:
            found |= {(self._path, name): p for name, p in continuous_params(strip.device(self._path)).items()}
        return found

    def _title(self, lane: Lane) -> str:
        session = self._desk.session
        device = session.strip(lane.strip).device(lane.device).title if lane.device else None
        return lane_title(lane, session.lane_param(lane), device)

    def _make(self, lanes: list[Lane], lane: Lane | None) -> None:
        clear(self._head)
        clear(self._settings)
        self._rulers = []
        self._head.addWidget(label("Automation", "heading"))
        for each in lanes:
            self._head.addWidget(
                button(
                    self._title(each), f"lane.{each.id}", lambda i=each.id: self._choose(i),
                    kind="chosen" if each.id == self._chosen else "", accessible=f"Automation of {self._title(each)}",
                )
            )  # fmt: skip
        add = QComboBox()
        add.setObjectName("lane.add")
        add.setAccessibleName("Automate a parameter")
        add.addItem("automate…", None)
        for (device, name), param in self._targets().items():
            title = self._desk.session.strip(self._strip_id).device(device).title if device else None
            add.addItem(
                lane_title(Lane(id="x", strip="x", layer=self._layer, param=name), param, title), (device, name)
            )
        add.activated.connect(lambda i: self.add_lane(*add.itemData(i)) if add.itemData(i) else None)
        self._head.addWidget(add)
        self._head.addStretch(1)
        if lane is None:
            return
        shape = self._box("lane.shape", "Shape", [(_SHAPE_WORDS[s], s) for s in SHAPES], lane.shape, "shape")
        section = self._box(
            "lane.section", "Where it plays",
            [("the whole song", None), *((s.name, s.id) for s in self._desk.session.song.sections)], lane.section, "section",
        )  # fmt: skip
        self._settings.addWidget(shape)
        self._settings.addWidget(section)
        if lane.repeats:
            periods = [(value, value) for value in ("4/1", "2/1", *COMMON_NOTE_VALUES)]
            self._settings.addWidget(self._box("lane.period", "Every", periods, lane.period, "period"))
            param = self._desk.session.lane_param(lane)
            for name, word in (("low", "From"), ("high", "To")):
                self._rulers.append(self._limit(param, name, word))
                self._settings.addWidget(self._rulers[-1], 1)
        if lane.shape == "points":
            self._rulers.append(
                Ruler(
                    BEND, "lane.bend", on_change=self._bend, on_release=self._desk.end_merge,
                    on_error=self._desk.message.emit,
                )
            )  # fmt: skip
            self._settings.addWidget(self._rulers[-1], 1)
        self._settings.addStretch(1)
        on = "On" if not lane.on else "Off"
        self._settings.addWidget(button(f"Switch {on.lower()}", "lane.on", lambda: self._change(on=not lane.on)))
        self._settings.addWidget(button("Remove lane", "lane.remove", self._remove))

    def _box(
        self, name: str, accessible: str, items: Sequence[tuple[str, object]], value: object, field: str
    ) -> QComboBox:
        box = QComboBox()
        box.setObjectName(name)
        box.setAccessibleName(accessible)
        for text, data in items:
            box.addItem(text, data)
        box.setCurrentIndex(next((i for i, (_, data) in enumerate(items) if data == value), 0))
        box.activated.connect(lambda i: self._change(**{field: items[i][1]}))
        return box

    def _limit(self, param: Param, field: str, word: str) -> Ruler:
        from dataclasses import replace

        return Ruler(
            replace(param, label=word), f"lane.{field}", on_change=lambda v: self._change(merge=field, **{field: v}),
            on_release=self._desk.end_merge, bpm=lambda: self._desk.song.tempo_bpm, on_error=self._desk.message.emit,
        )  # fmt: skip

    def _beats(self, lane: Lane) -> float:
        song = self._desk.song
        bars = song.section(lane.section).bars if lane.section is not None else song.bars
        return bars * song.bar_beats

    def _draw(self, lane: Lane) -> None:
        param = self._desk.session.lane_param(lane)
        beats = self._beats(lane)
        step = next(s for s in (1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024) if beats / s <= 12)
        if lane.shape == "drawn":
            self.plot.set_axes(
                Axis(0.0, 1.0, "", name="Share of a cycle", ticks=(0, 0.25, 0.5, 0.75, 1)),
                Axis(0.0, 1.0, "", ticks=(0, 0.5, 1)),
            )
            t = np.linspace(0.0, 1.0, 201)
            unit = Param(name="x", label="x", help="x.", default=0.0)
            shape = lane_values(lane.replace(low=0.0, high=1.0, period="1/4"), unit, np.minimum(t, 0.9999))
            marks = [Mark(str(i + 1), p.at, p.height, "ink") for i, p in enumerate(lane.cycle)]
            self.plot.show_curves([Curve("cycle", t, shape, "ink")], marks)
            return
        low, high = param.low, param.high
        log = param.scale == "log"
        ticks = _log_ticks(low, high) if log else tuple(ruler_ticks(param))
        self.plot.set_axes(
            Axis(0.0, beats, "beat", ticks=tuple(range(0, int(beats) + 1, step))),
            Axis(low, high, param.unit, log=log, ticks=tuple(round(t, 3) for t in ticks)),
        )
        x = np.linspace(0.0, beats * 0.9999, 800)
        curves = (
            [Curve(param.label, x, lane_values(lane, param, x), "ink" if lane.on else "soft")]
            if lane.moves or (not lane.on and (lane.points or lane.repeats))
            else []
        )
        marks = [Mark("", p.beat, p.value, "ink") for p in lane.points] if not lane.repeats else []
        self.plot.show_curves(curves, marks, empty="Click to set the first point.")

    # --- edits ---------------------------------------------------------------------------------------------

    def _choose(self, lane_id: str) -> None:
        self._chosen = lane_id
        self.show_strip(self._desk.session.strip(self._strip_id), self._path)

    def add_lane(self, device: str | None, param: str) -> None:
        """A lane that begins as the value is now: nothing changes until a point is moved."""
        desk, strip_id = self._desk, self._strip_id
        lane_id = make_id(param, (lane.id for lane in desk.session.lanes))
        bare = Lane(
            id=lane_id, strip=strip_id, device=device, layer=self._layer, param=param, section=desk.selection.section.id
        )
        if self._layer is not None:
            value = layer_value(layer_of(desk.session, strip_id, self._layer), param, bpm=desk.song.tempo_bpm)
        else:
            value = current_value(desk.session.strip(strip_id), device, param)
        declared = desk.session.lane_param(bare)
        value = declared.number_of(value, bpm=desk.song.tempo_bpm)
        lane = bare.replace(
            points=(Point(beat=0.0, value=value),), low=declared.value_at(max(0.0, declared.position_of(value) - 0.2)),
            high=declared.value_at(min(1.0, declared.position_of(value) + 0.2)),
        )  # fmt: skip
        self._chosen = lane_id
        desk.edit("Automate", lambda s: put_lane(s, lane))

    def _change(self, merge: object = None, **changes: object) -> None:
        lane = self._lane()
        if lane is None:
            return
        new = Lane.model_validate({**dict(lane), **changes})
        if new.shape == "drawn" and not new.cycle:
            new = Lane.model_validate(
                {
                    **dict(new),
                    "cycle": [{"at": 0.0, "height": 0.0}, {"at": 0.5, "height": 1.0}, {"at": 1.0, "height": 0.0}],
                }
            )
        key = ("lane", lane.id, merge) if merge is not None else None
        self._desk.edit("Automation", lambda s: put_lane(s, new), merge_key=key)

    def _remove(self) -> None:
        lane = self._lane()
        if lane is not None:
            self._desk.edit("Remove automation", lambda s: remove_lane(s, lane.id))

    def _bent(self, lane: Lane) -> int:
        """The point whose way onward the ruler bends."""
        return min(self._held if self._held is not None else 0, len(lane.points) - 1)

    def _bend(self, curve: float) -> None:
        lane = self._lane()
        if lane is not None and lane.points:
            at = self._bent(lane)
            points = [p.replace(curve=curve) if i == at else p for i, p in enumerate(lane.points)]
            self._change(merge=("bend", at), points=[dict(p) for p in points])

    def _places(self, lane: Lane) -> list[tuple[float, float]]:
        if lane.shape == "drawn":
            return [(p.at, p.height) for p in lane.cycle]
        return [(p.beat, p.value) for p in lane.points] if not lane.repeats else []

    def _press(self, x: float, y: float) -> None:
        lane = self._lane()
        if lane is None or (lane.repeats and lane.shape != "drawn"):
            return

        def distance(place: tuple[float, float]) -> float:
            across = abs(float(self.plot.x_axis.position(place[0]) - self.plot.x_axis.position(x)))
            up = abs(float(self.plot.y_axis.position(place[1]) - self.plot.y_axis.position(y)))
            return math.hypot(across, 0.4 * up)

        places = self._places(lane)
        nearest = min(range(len(places)), key=lambda i: distance(places[i]), default=None)
        if nearest is not None and distance(places[nearest]) < _NEAR:
            self._held = nearest
            return
        places.append(self._within(lane, x, y))
        places.sort()
        self._held = next(i for i, place in enumerate(places) if place == self._within(lane, x, y))
        self._put(lane, places, "add")

    def _drag(self, x: float, y: float) -> None:
        lane = self._lane()
        if lane is None or self._held is None:
            return
        places = self._places(lane)
        if self._held >= len(places):
            return
        before = places[self._held - 1][0] if self._held > 0 else 0.0
        after = places[self._held + 1][0] if self._held + 1 < len(places) else math.inf
        x, y = self._within(lane, x, y)
        places[self._held] = (min(after, max(before, x)), y)  # points do not pass each other
        self._put(lane, places, "drag")

    def _within(self, lane: Lane, x: float, y: float) -> tuple[float, float]:
        ax, ay = self.plot.x_axis, self.plot.y_axis
        x = min(ax.high, max(ax.low, x))
        if lane.shape != "drawn":
            x = round(4.0 * x) / 4.0  # sixteenths
        return x, min(ay.high, max(ay.low, y))

    def _put(self, lane: Lane, places: list[tuple[float, float]], merge: str) -> None:
        if lane.shape == "drawn":
            self._change(merge=merge, cycle=[{"at": x, "height": y} for x, y in places])
            return
        curves = {p.beat: p.curve for p in lane.points}
        self._change(merge=merge, points=[{"beat": x, "value": y, "curve": curves.get(x, 0.0)} for x, y in places])

    def _let_go(self) -> None:
        self._desk.end_merge()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        lane = self._lane()
        if event.key() == Qt.Key.Key_Delete and lane is not None and self._held is not None:
            places = self._places(lane)
            if self._held < len(places) and len(places) > 1:
                places.pop(self._held)
                self._held = None
                self._put(lane, places, "delete")
        if event.key() == Qt.Key.Key_Delete:
            event.accept()  # here it is about points; the device above is not meant
            return
        super().keyPressEvent(event)


def current_value(strip: Strip, device: str | None, param: str) -> float:
    """What a parameter is set to now."""
    if device is None:
        if param.startswith("send."):
            return next(s.level_db for s in strip.sends if s.to == param.removeprefix("send."))
        return float(getattr(strip, param))
    found = strip.device(device)
    if param == "mix":
        return found.mix
    value: Any = found.params
    for part in param.split("."):
        value = value[int(part)] if part.isdigit() else value[part]
    return float(value)


def _log_ticks(low: float, high: float) -> tuple[float, ...]:
    ticks = [s * 10.0**p for p in range(-2, 6) for s in (1, 2, 5) if low <= s * 10.0**p <= high]
    while len(ticks) > 6:
        ticks = ticks[::2]
    return tuple(ticks)
