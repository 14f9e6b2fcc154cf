"""Automation of the selected track and device: the lanes it has, and the one that is being drawn."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QLabel, QWidget

from zygotone.app import clipboard
from zygotone.app.desk import Desk
from zygotone.app.widgets.asking import Entry, Menu, menu_button
from zygotone.app.widgets.basic import button, clear, column, label, row
from zygotone.app.widgets.plot import Axis, Curve, Mark, Plot
from zygotone.app.widgets.ruler import NumberField, Ruler, ruler_ticks
from zygotone.app.widgets.target_words import target_title
from zygotone.music.tempo import COMMON_NOTE_VALUES, note_value_to_beats
from zygotone.session import lane_edits
from zygotone.session.automation import SHAPES, Lane, Point, lane_values, offset_param, shifted
from zygotone.session.clipboard import CopiedLane
from zygotone.session.copies import moved_as
from zygotone.session.edits import layer_of, make_id, put_lane, remove_lane
from zygotone.session.instruments import layer_params
from zygotone.session.models import LEVEL, PAN, SEND, Session, Strip, continuous_params
from zygotone.session.params import Param

_SNAPS = ("1/4", "1/8", "1/8t", "1/16", "1/16t", "1/32", "anywhere")
_SHAPE_WORDS = {
    "points": "points", "steps": "steps", "triangle": "triangle", "ramp_up": "ramp up", "ramp_down": "ramp down",
    "sine": "sine", "drawn": "drawn cycle",
}  # fmt: skip
_LOW_PX, _TALL_PX = 150, 340
_NEAR = 0.03  # of the plot's width: a press this close to a point takes hold of it


def lane_title(session: Session, lane: Lane) -> str:
    """What it moves, by names: the device, the return that a send feeds, or the part of a layer."""
    param, strip = session.lane_target(lane), session.strip(lane.strip)
    if lane.layer is not None:
        return target_title(lane.param, param)
    if lane.param.startswith("send."):
        return f"Send to {session.strip(lane.param.removeprefix('send.')).name}"
    device = strip.device(lane.device).title if lane.device else None
    what = "Wet / dry" if lane.param == "mix" else param.label
    number = next((part for part in lane.param.split(".") if part.isdigit()), None)
    where = f"{device}: " if device else ""
    return f"{where}{what}{f' {int(number) + 1}' if number is not None else ''}"


BEAT = Param(
    name="beat", label="At", unit="beats", low=0.0, high=1_000_000.0, default=0.0,
    help="Of the held point, in beats after the start of the section, or of the song where the lane plays throughout; or a note value.",
)  # fmt: skip
BEND = Param(
    name="curve", label="Bend after the point", low=-1.0, high=1.0, default=0.0,
    help="Of the point that was held last: above 0 the way to the next is slow at first, below 0 quick at first.",
)  # fmt: skip


def automation_offer(open_lane: Callable[[], None]) -> Callable[[], Menu]:
    """What a ruler offers whose value can be moved."""
    return lambda: (("Automate, or show its automation", "ruler.automate", open_lane),)


class LanePanel(QWidget):
    """Of a strip and one of its devices, or of one layer of a track."""

    shown = Signal()  # somebody asked to see it from elsewhere

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
        self._points_row, self._more_row = row(spacing=8), row(spacing=8)
        self._tall = False
        self.snap = 0.25  # beats, to which points are drawn; 0 is anywhere
        self._writing_since: float | None = None  # the last beat that the hand wrote while the song plays
        self.plot = Plot(
            Axis(0, 16, "beat"),
            Axis(-60, 12, "dB"),
            name="lane.plot",
            accessible="Automation over the section",
            height=_LOW_PX,
        )
        self.plot.pressed.connect(self._press)
        self.plot.dragged.connect(self._drag)
        self.plot.released.connect(self._let_go)
        self.hint = label(
            "Click adds a point, drag moves one, Delete takes the held one away; N goes to the next.", "soft"
        )
        self._rulers: list[Ruler] = []
        self._beat_field: NumberField | None = None
        self._value_ruler: Ruler | None = None
        self._which: QLabel | None = None
        self.write = QCheckBox("write as it plays")
        self.write.setObjectName("lane.write")
        self.write.setToolTip("While the song plays, what you do to the value is written where the song is")
        self.write.hide()
        self.setLayout(
            column(self._head, self._settings, self.plot, self._points_row, self._more_row, self.hint, spacing=5)
        )

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
            strip.id, path, self._layer, self._chosen, self._tall,
            tuple((each.id, each.on, each.shape, each.section, each.period, each.relative) for each in lanes),
            tuple((s.id, s.name) for s in session.song.sections), tuple(self._targets()), self.snap,
        )  # fmt: skip
        if wanted != self._shown:
            self._shown = wanted
            self._make(lanes, lane)
        for each in (self.plot, self.hint):
            each.setVisible(lane is not None)
        if lane is not None:
            self.hint.setVisible(not lane.repeats or lane.shape == "drawn")
            self._show_values(lane)
            self._draw(lane)

    def _show_values(self, lane: Lane) -> None:
        """The fields: of what repeats its ends, of points the held one."""
        for ruler, value in zip(self._rulers, self._ruler_values(lane), strict=False):
            ruler.show_value(value, None)
        if self._beat_field is None or self._value_ruler is None or self._which is None:
            return
        at = self._bent(lane)
        there = 0 <= at < len(lane.points)
        self._which.setText(f"point {at + 1} of {len(lane.points)}" if there else "no point yet")
        self._beat_field.show_value(lane.points[at].beat if there else None, None)
        if there:
            self._value_ruler.show_value(lane.points[at].value, None)

    def _ruler_values(self, lane: Lane) -> tuple[float, ...]:
        if lane.repeats:
            return lane.low, lane.high
        return (lane.points[self._bent(lane)].curve,) if lane.points else (0.0,)

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
        return lane_title(self._desk.session, lane) + (" ±" if lane.relative else "")

    def _make(self, lanes: list[Lane], lane: Lane | None) -> None:
        self._more_row.removeWidget(self.write)  # it outlives the others
        self.write.hide()
        for layout in (self._head, self._settings, self._points_row, self._more_row):
            clear(layout)
        self._rulers, self._beat_field, self._value_ruler, self._which = [], None, None, None
        self.plot.setFixedHeight(_TALL_PX if self._tall else _LOW_PX)
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
        for device, name in self._targets():
            bare = Lane(id="x", strip=self._strip_id, device=device, layer=self._layer, param=name)
            add.addItem(lane_title(self._desk.session, bare), (device, name))
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
        kind = self._box(
            "lane.relative", "What its values mean",
            [("in place of the ruler", False), ("added to the ruler", True)], lane.relative, "relative",
        )  # fmt: skip
        self._settings.addWidget(kind)
        self._settings.addStretch(1)
        self._settings.addWidget(menu_button("Lane", "lane.menu", lambda: self._entries(lane)))
        tall = button("Lower" if self._tall else "Taller", "lane.tall", self._toggle_tall)
        self._settings.addWidget(tall)
        on = "On" if not lane.on else "Off"
        self._settings.addWidget(button(on, "lane.on", lambda: self._change(on=not lane.on)))
        self._settings.addWidget(button("Remove", "lane.remove", self._remove, accessible="Remove lane"))
        if not lane.repeats:
            self._make_point_fields(lane)

    def _make_point_fields(self, lane: Lane) -> None:
        desk, param = self._desk, self._desk.session.lane_param(lane)
        self._which = label("", "soft", name="lane.which")
        self._beat_field = NumberField(
            BEAT, "lane.point.beat", step=self.snap or 0.25, on_change=self._set_beat, on_release=desk.end_merge,
            on_error=desk.message.emit,
        )  # fmt: skip
        self._beat_field.setFixedWidth(112)
        self._value_ruler = Ruler(
            replace(param, label="Value"), "lane.point.value", on_change=self._set_value, on_release=self._value_let_go,
            bpm=lambda: desk.song.tempo_bpm, on_error=desk.message.emit,
        )  # fmt: skip
        row_ = self._points_row
        for each in (
            button("‹", "lane.point.previous", lambda: self.step_point(-1), accessible="The point before"),
            button("›", "lane.point.next", lambda: self.step_point(1), accessible="The next point"),
            self._which, self._beat_field,
        ):  # fmt: skip
            row_.addWidget(each)
        row_.addWidget(self._value_ruler, 2)
        if lane.shape == "points":
            self._rulers.append(
                Ruler(BEND, "lane.bend", on_change=self._bend, on_release=desk.end_merge, on_error=desk.message.emit)
            )
            row_.addWidget(self._rulers[-1], 1)
        row_ = self._more_row
        row_.addWidget(button("Add point", "lane.point.add", self.add_point, tip="After the held one"))
        row_.addWidget(label("drawn to", "soft"))
        snap = QComboBox()
        snap.setObjectName("lane.snap")
        snap.setAccessibleName("Points are drawn to")
        for words in _SNAPS:
            snap.addItem(words, float(note_value_to_beats(words)) if "/" in words else 0.0)
        snap.setCurrentIndex(max(0, snap.findData(self.snap)))
        snap.activated.connect(lambda i: self._set_snap(snap.itemData(i)))
        row_.addWidget(snap)
        row_.addWidget(self.write)
        row_.addStretch(1)
        self.write.show()

    def _set_snap(self, beats: float) -> None:
        self.snap = beats

    def _toggle_tall(self) -> None:
        self._tall = not self._tall
        self.show_strip(self._desk.session.strip(self._strip_id), self._path)

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
        held = self._bent(lane) if not lane.repeats else -1
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
        knots = [p.beat for p in lane.points if p.beat <= beats] if not lane.repeats else []
        x = np.union1d(np.linspace(0.0, beats * 0.9999, 800), knots)
        curves = (
            [Curve(param.label, x, lane_values(lane, param, x), "ink" if lane.on else "soft")]
            if lane.moves or (not lane.on and (lane.points or lane.repeats))
            else []
        )
        marks = (
            [Mark("", p.beat, p.value, "a" if n == held else "ink") for n, p in enumerate(lane.points)]
            if not lane.repeats
            else []
        )
        self.plot.show_curves(curves, marks, empty="Click to set the first point.")

    # --- edits ---------------------------------------------------------------------------------------------

    def _choose(self, lane_id: str) -> None:
        self._chosen = lane_id
        self.show_strip(self._desk.session.strip(self._strip_id), self._path)

    def open(self, device: str | None, param: str) -> None:
        """Shows what moves a parameter in the present section, or else begins a lane that does."""
        section = self._desk.selection.section.id
        found = [lane for lane in self._lanes() if (lane.device, lane.param) == (device, param)]
        here = next((lane for lane in found if lane.section in (section, None)), None)
        if here is None:
            self.add_lane(device, param)
        else:
            self._choose(here.id)
        self.plot.setFocus()
        self.shown.emit()

    def add_lane(self, device: str | None, param: str) -> None:
        """A lane that begins as the value is now: nothing changes until a point is moved."""
        desk, strip_id = self._desk, self._strip_id
        lane_id = make_id(param, (lane.id for lane in desk.session.lanes))
        bare = Lane(
            id=lane_id, strip=strip_id, device=device, layer=self._layer, param=param, section=desk.selection.section.id
        )
        value = desk.session.value_at(bare)
        declared = desk.session.lane_param(bare)
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
        if "relative" in changes:
            changes = {**changes, **self._turned(lane, bool(changes["relative"]))}
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

    def _turned(self, lane: Lane, relative: bool) -> dict[str, object]:
        """The values of a lane that is to be added to the ruler, or no longer: what is heard stays as it is."""
        session = self._desk.session
        target, base = session.lane_target(lane), session.value_at(lane)
        added = offset_param(target)

        def value(v: float) -> float:
            if not relative:
                return float(shifted(target, np.array([base]), np.array([v]))[0])
            off = math.log2(v / base) if target.scale == "log" else v - base
            return min(added.high, max(added.low, off))

        if relative == lane.relative:
            return {}
        points = [{**dict(p), "value": value(p.value)} for p in lane.points]
        return {"points": points, "low": value(lane.low), "high": value(lane.high)}

    # --- movements to begin from, cut and paste ------------------------------------------------------------

    def _entries(self, lane: Lane) -> Menu:
        desk, song = self._desk, self._desk.song
        length, bar = self._beats(lane), song.bar_beats
        param = desk.session.lane_param(lane)
        rest = (
            lane.points[0].value
            if lane.points
            else (lane.low if lane.repeats else 0.0 if lane.relative else param.default)
        )
        share = param.position_of(rest)
        up = param.value_at(share + 0.2 if share < 0.8 else share - 0.2)
        count = int(length / bar + 1e-6)
        beats = [float(n) for n in range(int(length + 1e-6))]
        weak = [b for b in beats if round(b % bar) % 2 == 1]
        bars = [n * bar for n in range(count)]

        def shape(words: str, name: str, make: Callable[[], Lane]) -> Entry:
            return words, f"lane.shape.{name}", lambda: self._put_lane(words, make())

        return (
            "Begin with",
            shape("A ramp up", "ramp_up", lambda: lane_edits.ramp(lane, length, rest, up)),
            shape("A ramp down", "ramp_down", lambda: lane_edits.ramp(lane, length, up, rest)),
            shape("A push on each beat", "push_beats", lambda: lane_edits.pushes(lane, length, beats, rest, up)),
            shape("A push on the weak beats", "push_weak", lambda: lane_edits.pushes(lane, length, weak, rest, up)),
            shape("A push on each bar", "push_bars", lambda: lane_edits.pushes(lane, length, bars, rest, up, last=2.0)),
            shape("Two steps, a bar each", "steps", lambda: lane_edits.steps(lane, length, bar, (rest, up))),
            None,
            shape("Fewer points", "thin", lambda: lane_edits.thinned(lane, param, within=0.02)),
            None,
            ("Copy", "lane.copy", self.copy),
            ("Paste its movement here", "lane.paste", self.paste),
        )

    def _put_lane(self, what: str, lane: Lane) -> None:
        self._held = None
        self._desk.edit(what, lambda s: put_lane(s, lane))

    def copy(self) -> None:
        lane = self._lane()
        if lane is not None:
            p = self._desk.session.lane_param(lane)
            scale = p.scale
            what = CopiedLane(lane=lane, unit=p.unit, low=p.low, high=p.high, scale=scale)
            clipboard.copy(self._desk, what, f"the automation of {self._title(lane)}")

    def paste(self) -> None:
        """The copied movement in the place of this lane's own."""
        lane, found = self._lane(), clipboard.copied(self._desk)
        if lane is None or found is None:
            return
        if not isinstance(found.what, CopiedLane):
            clipboard.cannot_go_here(self._desk, found, "automation")
            return
        what, there = found.what, self._desk.session.lane_param(lane)
        here = Param(name="x", label="x", help="x.", unit=what.unit, low=what.low, high=what.high, scale=what.scale)
        self._put_lane("Paste automation", moved_as(lane, there, what.lane, here))

    # --- points by number, and by hand while it plays ------------------------------------------------------

    def step_point(self, steps: int) -> None:
        lane = self._lane()
        if lane is not None and lane.points:
            self._held = (self._bent(lane) + steps) % len(lane.points)
            self._show_values(lane)
            self._draw(lane)

    def add_point(self) -> None:
        """Half-way from the held one to the next, or to the end; it is held then."""
        lane = self._lane()
        if lane is None or lane.repeats:
            return
        at = self._bent(lane)
        begun = lane.points[at].beat if lane.points else 0.0
        after = lane.points[at + 1].beat if at + 1 < len(lane.points) else self._beats(lane)
        beat = self._snapped((begun + after) / 2)
        param = self._desk.session.lane_param(lane)
        value = float(lane_values(lane, param, np.array([beat]))[0]) if lane.points else param.default
        places = sorted([*self._places(lane), (beat, value)])
        self._held = places.index((beat, value))
        self._put(lane, places, "add")
        self._desk.end_merge()

    def _set_beat(self, beat: float) -> None:
        lane = self._lane()
        if lane is None or not lane.points:
            return
        at, places = self._bent(lane), self._places(lane)
        before = places[at - 1][0] if at > 0 else 0.0
        after = places[at + 1][0] if at + 1 < len(places) else self._beats(lane)
        wanted = min(after, max(before, beat))
        if wanted != beat:
            self._desk.message.emit(f"Points do not pass each other: this one lies from beat {before:g} to {after:g}.")
        places[at] = (wanted, places[at][1])
        self._held = at
        self._put(lane, places, "beat")

    def _set_value(self, value: float) -> None:
        """Of the held point; while the song plays and it is to be written, where the song is."""
        lane = self._lane()
        if lane is None:
            return
        if self.write.isChecked() and self._desk.listening.playing:
            self._write_down(lane, value)
            return
        if not lane.points:
            self._change(merge="value", points=[{"beat": 0.0, "value": value}])
            return
        at, places = self._bent(lane), self._places(lane)
        places[at] = (places[at][0], value)
        self._held = at
        self._put(lane, places, "value")

    def _write_down(self, lane: Lane, value: float) -> None:
        first, end = self._desk.session.section_span(lane.section)
        heard = self._desk.listening.player.heard_position()
        if not first <= heard < end:
            return
        beat = (heard - first) / self._desk.session.rate_hz * self._desk.song.tempo_bpm / 60.0
        since = self._writing_since
        if since is not None and beat < since:  # the loop began anew
            since = None
        self._writing_since = beat
        new = lane_edits.written(lane, round(beat, 3), value, since=since)
        self._held = None
        self._desk.edit("Write automation", lambda s: put_lane(s, new), merge_key=("write", lane.id))

    def _value_let_go(self) -> None:
        """What was written while it played becomes a few points."""
        lane = self._lane()
        if self._writing_since is not None and lane is not None:
            self._writing_since = None
            fewer = lane_edits.thinned(lane, self._desk.session.lane_param(lane))
            self._desk.edit("Write automation", lambda s: put_lane(s, fewer), merge_key=("write", lane.id))
        self._desk.end_merge()

    def _snapped(self, beat: float) -> float:
        return round(beat / self.snap) * self.snap if self.snap else beat

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
            x = min(ax.high, self._snapped(x))
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
        if event.key() == Qt.Key.Key_N:
            self.step_point(-1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
            return
        if event.key() == Qt.Key.Key_Insert:
            self.add_point()
            return
        if event.key() == Qt.Key.Key_Delete:
            event.accept()  # here it is about points; the device above is not meant
            return
        super().keyPressEvent(event)


def _log_ticks(low: float, high: float) -> tuple[float, ...]:
    ticks = [s * 10.0**p for p in range(-2, 6) for s in (1, 2, 5) if low <= s * 10.0**p <= high]
    while len(ticks) > 6:
        ticks = ticks[::2]
    return tuple(ticks)
