"""Automation of the selected track and device: the lanes it has, and the one that is being drawn."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QWidget

from zygotone.app import clipboard
from zygotone.app.desk import Desk
from zygotone.app.widgets.asking import Menu, menu_button
from zygotone.app.widgets.basic import button, clear, column, fill, label, row
from zygotone.app.widgets.lane_plot import LanePlot
from zygotone.app.widgets.lane_points import PointFields, PointHands
from zygotone.app.widgets.ruler import Ruler
from zygotone.app.widgets.target_words import device_target_title, target_title
from zygotone.music.tempo import COMMON_NOTE_VALUES
from zygotone.session import lane_edits
from zygotone.session.automation import SHAPES, Lane, Point, lane_values, offset_param, shifted
from zygotone.session.clipboard import CopiedLane
from zygotone.session.copies import give_lane, moved_as
from zygotone.session.edits import layer_of, make_id, put_lane, remove_lane
from zygotone.session.instruments import layer_params
from zygotone.session.models import LEVEL, PAN, SEND, Session, Strip, continuous_params, walk
from zygotone.session.params import Param

_SHAPE_WORDS = {
    "points": "points", "steps": "steps", "triangle": "triangle", "ramp_up": "ramp up", "ramp_down": "ramp down",
    "sine": "sine", "drawn": "drawn cycle",
}  # fmt: skip
_LOW_PX, _TALL_PX = 150, 340
_FEWER = 0.02  # of the ruler: how far off fewer points may be


def lane_title(session: Session, lane: Lane) -> str:
    """What it moves, by names: the device, the return that a send feeds, or the part of a layer."""
    param, strip = session.lane_target(lane), session.strip(lane.strip)
    if lane.layer is not None and lane.device is None:
        return target_title(lane.param, param)
    if lane.param.startswith("send."):
        return f"Send to {session.strip(lane.param.removeprefix('send.')).name}"
    chain = strip.chain if lane.layer is None else layer_of(session, lane.strip, lane.layer).chain
    return device_target_title(dict(walk(chain))[lane.device], lane.param, param) if lane.device else param.label


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
        self._tall = False
        self._writing_since: float | None = None  # the last beat that the hand wrote while the song plays
        self.plot = LanePlot(_LOW_PX)
        self.plot.holds.connect(self._hold)
        self.plot.added.connect(self._add_at)
        self.plot.moved.connect(self._move_to)
        self.plot.released.connect(desk.end_merge)
        self.hint = label(
            "Click adds a point, drag moves one, Delete takes the held one away; N goes to the next.", "soft"
        )
        self._limits: list[Ruler] = []
        hands = PointHands(
            self.step_point, self._set_beat, self._set_value, self._value_let_go, self._bend, self.add_point
        )
        self.points = PointFields(desk, hands)
        self.setLayout(column(self._head, self._settings, self.plot, self.points, self.hint, spacing=5))

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
            tuple((s.id, s.name) for s in session.song.sections), tuple(self._targets()),
        )  # fmt: skip
        if wanted != self._shown:
            self._shown = wanted
            self._make(lanes, lane)
        for each in (self.plot, self.hint, self.points):
            each.setVisible(lane is not None)
        if lane is not None:
            self.hint.setVisible(not lane.repeats or lane.shape == "drawn")
            self.points.setVisible(not lane.repeats)
            self._show_values(lane)
            self._draw(lane)

    def _show_values(self, lane: Lane) -> None:
        """Of what repeats its limits, of points the held one."""
        for ruler, value in zip(self._limits, (lane.low, lane.high), strict=False):
            ruler.show_value(value, None)
        if not lane.repeats:
            self.points.show_lane(lane, self._desk.session.lane_param(lane), self._point_of(lane))

    def _lanes(self) -> list[Lane]:
        lanes = self._desk.session.lanes
        return [lane for lane in lanes if lane.strip == self._strip_id and lane.layer == self._layer]

    def _lane(self) -> Lane | None:
        return next((lane for lane in self._lanes() if lane.id == self._chosen), None)

    def _targets(self) -> dict[tuple[str | None, str], Param]:
        """What can be moved here: the strip's own, and the selected device's."""
        if self._layer is not None:
            layer = layer_of(self._desk.session, self._strip_id, self._layer)
            of_layer: dict[tuple[str | None, str], Param] = {(None, path): p for path, p in layer_params(layer).items()}
            for at, device in walk(layer.chain):
                of_layer |= {(at, name): p for name, p in continuous_params(device).items()}
            return of_layer
        strip = self._desk.session.strip(self._strip_id)
        found: dict[tuple[str | None, str], Param] = {(None, p.name): p for p in (LEVEL, PAN)}
        found |= {(None, f"send.{send.to}"): SEND for send in strip.sends}
        if self._path is not None:
            found |= {(self._path, name): p for name, p in continuous_params(strip.device(self._path)).items()}
        return found

    def _title(self, lane: Lane) -> str:
        return lane_title(self._desk.session, lane) + (" ±" if lane.relative else "")

    def _make(self, lanes: list[Lane], lane: Lane | None) -> None:
        clear(self._head)
        clear(self._settings)
        self._limits = []
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
        targets = [
            (Lane(id="x", strip=self._strip_id, device=d, layer=self._layer, param=n), (d, n))
            for d, n in self._targets()
        ]
        fill(add, [("automate…", None), *((lane_title(self._desk.session, bare), at) for bare, at in targets)])
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
                self._limits.append(self._limit(param, name, word))
                self._settings.addWidget(self._limits[-1], 1)
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

    def _toggle_tall(self) -> None:
        self._tall = not self._tall
        self.show_strip(self._desk.session.strip(self._strip_id), self._path)

    def _box(
        self, name: str, accessible: str, items: Sequence[tuple[str, object]], value: object, field: str
    ) -> QComboBox:
        box = QComboBox()
        box.setObjectName(name)
        box.setAccessibleName(accessible)
        fill(box, items)
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
        held = self._point_of(lane) if not lane.repeats else None
        self.plot.show_lane(lane, self._desk.session.lane_param(lane), self._beats(lane), held)

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
        session = self._desk.session
        param = session.lane_param(lane)
        set_to = 0.0 if lane.relative else session.value_at(lane)
        rest = lane.points[0].value if lane.points else lane.low if lane.repeats else set_to
        begun = lane_edits.beginnings(
            lane, param, rest, length=self._beats(lane), bar_beats=self._desk.song.bar_beats
        )  # fmt: skip
        fewer = lane_edits.thinned(lane, param, within=_FEWER)
        return (
            "Begin with",
            *(
                (words, f"lane.shape.{key}", functools.partial(self._put_lane, words, made))
                for key, words, made in begun
            ),
            None,
            ("Fewer points", "lane.thin", lambda: self._put_lane("Fewer points", fewer)),
            None,
            ("Copy", "lane.copy", self.copy),
            ("Paste its movement here", "lane.paste", self.paste),
            ("To the other selected tracks", "lane.give", self.give),
        )

    def _put_lane(self, what: str, lane: Lane) -> None:
        self._held = None
        self._desk.edit(what, lambda s: put_lane(s, lane))

    def copy(self) -> None:
        lane = self._lane()
        if lane is not None:
            p = self._desk.session.lane_param(lane)
            what = CopiedLane(lane=lane, unit=p.unit, low=p.low, high=p.high, scale=p.scale)
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

    def give(self) -> None:
        """The selected tracks take this move too."""
        lane, others = self._lane(), sorted(self._desk.selection.tracks - {self._strip_id})
        if lane is None:
            return
        if not others:
            self._desk.refuse("No other track is selected. Ctrl and a click selects one beside this.")
            return
        self._desk.edit("Automation of several", lambda s: give_lane(s, lane.id, others))

    # --- points by number, and by hand while it plays ------------------------------------------------------

    def step_point(self, steps: int) -> None:
        lane = self._lane()
        if lane is not None and lane.points:
            self._held = (self._point_of(lane) + steps) % len(lane.points)
            self._show_values(lane)
            self._draw(lane)

    def add_point(self) -> None:
        """Half-way from the held one to the next, or to the end; it is held then."""
        lane = self._lane()
        if lane is None or lane.repeats:
            return
        session, at = self._desk.session, self._point_of(lane)
        if at < 0:
            beat, value = 0.0, 0.0 if lane.relative else session.value_at(lane)
        else:
            _, after = lane_edits.room_of(lane, min(at + 1, len(lane.points) - 1), self._beats(lane))
            after = lane.points[at + 1].beat if at + 1 < len(lane.points) else after
            beat = self.points.snapped((lane.points[at].beat + after) / 2)
            value = float(lane_values(lane, session.lane_param(lane), np.array([beat]))[0])
        self._put_point(*lane_edits.point_added(lane, beat, value), "add")
        self._desk.end_merge()

    def _move_point(self, what: str, **changes: float) -> None:
        lane = self._lane()
        if lane is None:
            return
        at = self._point_of(lane)
        if at >= 0:
            self._put_point(lane_edits.point_moved(lane, at, self._beats(lane), **changes), at, what)

    def _set_beat(self, beat: float) -> None:
        lane = self._lane()
        if lane is not None and lane.points:
            low, high = lane_edits.room_of(lane, self._point_of(lane), self._beats(lane))
            if not low <= beat <= high:
                self._desk.refuse(f"Points do not pass each other: this one lies from beat {low:g} to {high:g}.")
            self._move_point("beat", beat=beat)

    def _set_value(self, value: float) -> None:
        """Of the held point; while the song plays and it is to be written, where the song is."""
        lane = self._lane()
        if lane is None:
            return
        if self.points.writes and self._desk.listening.playing:
            self._write_down(lane, value)
        elif lane.points:
            self._move_point("value", value=value)
        else:
            self._put_point(*lane_edits.point_added(lane, 0.0, value), "value")

    def _bend(self, curve: float) -> None:
        self._move_point("bend", curve=curve)

    def _put_point(self, lane: Lane, held: int, merge: str) -> None:
        """What one does to one point within a moment is one step."""
        self._held = held
        key = ("lane", lane.id, merge, held)
        self._desk.edit("Automation", lambda s: put_lane(s, lane), merge_key=key)

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

    def _remove(self) -> None:
        lane = self._lane()
        if lane is not None:
            self._desk.edit("Remove automation", lambda s: remove_lane(s, lane.id))

    def _point_of(self, lane: Lane) -> int:
        """Place of the held point, of none the first; −1 where there is none."""
        return min(self._held if self._held is not None else 0, len(lane.points) - 1)

    # --- the hand in the picture ---------------------------------------------------------------------------

    def _hold(self, at: int) -> None:
        lane = self._lane()
        if lane is not None:
            self._held = at
            self._show_values(lane)
            self._draw(lane)

    def _add_at(self, x: float, y: float) -> None:
        lane = self._lane()
        if lane is None:
            return
        if lane.shape == "drawn":
            places = sorted([*((p.at, p.height) for p in lane.cycle), (x, y)])
            self._put_cycle(places, places.index((x, y)), "add")
        else:
            self._put_point(*lane_edits.point_added(lane, self.points.snapped(x), y), "add")

    def _move_to(self, x: float, y: float) -> None:
        lane, at = self._lane(), self._held
        if lane is None or at is None:
            return
        if lane.shape != "drawn":
            self._move_point("drag", beat=self.points.snapped(x), value=y)
            return
        places = [(p.at, p.height) for p in lane.cycle]
        if at < len(places):
            before = places[at - 1][0] if at > 0 else 0.0
            after = places[at + 1][0] if at + 1 < len(places) else 1.0
            places[at] = (min(after, max(before, x)), y)
            self._put_cycle(places, at, "drag")

    def _put_cycle(self, places: list[tuple[float, float]], held: int | None, merge: str) -> None:
        self._held = held
        self._change(merge=merge, cycle=[{"at": x, "height": y} for x, y in places])

    def _take_out(self, lane: Lane, at: int) -> None:
        """The held point, unless it is the last."""
        if lane.shape == "drawn" and 1 < len(lane.cycle) > at:
            self._put_cycle([(p.at, p.height) for n, p in enumerate(lane.cycle) if n != at], None, "delete")
        elif not lane.repeats and 1 < len(lane.points) > at:
            left = tuple(p for n, p in enumerate(lane.points) if n != at)
            self._put_lane("Remove point", lane.replace(points=left))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        lane, key = self._lane(), event.key()
        if key == Qt.Key.Key_Delete:  # here it is about points; the device above is not meant
            if lane is not None and self._held is not None:
                self._take_out(lane, self._held)
            event.accept()
        elif key == Qt.Key.Key_N:
            self.step_point(-1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
        elif key == Qt.Key.Key_Insert:
            self.add_point()
        else:
            super().keyPressEvent(event)
