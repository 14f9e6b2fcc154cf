"""The points of a lane in numbers: which one is held, where it is, what it says, and how the way onward bends."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, clear, column, label, row
from zygotone.app.widgets.ruler import NumberField, Ruler
from zygotone.music.tempo import note_value_to_beats
from zygotone.session.automation import Lane
from zygotone.session.params import Param

_SNAPS = ("1/4", "1/8", "1/8t", "1/16", "1/16t", "1/32", "anywhere")

AT = Param(
    name="beat", label="At", unit="beats", low=0.0, high=1_000_000.0, default=0.0,
    help="Of the held point, in beats after the start of the section, or of the song where the lane plays throughout; or a note value.",
)  # fmt: skip
BEND = Param(
    name="curve", label="Bend after the point", low=-1.0, high=1.0, default=0.0,
    help="Of the point that was held last: above 0 the way to the next is slow at first, below 0 quick at first.",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class PointHands:
    """What the fields do."""

    step: Callable[[int], None]  # to the next point, or the one before
    beat: Callable[[float], None]
    value: Callable[[float], None]
    value_let_go: Callable[[], None]
    bend: Callable[[float], None]
    add: Callable[[], None]


class PointFields(QWidget):
    """``snap`` is the beats to which points are drawn, 0 anywhere; ``writes`` whether the value is written while the song plays."""

    def __init__(self, desk: Desk, hands: PointHands) -> None:
        super().__init__()
        self._desk, self._hands = desk, hands
        self.snap = 0.25
        self._value: Ruler | None = None
        self._made_for: object = None
        self._which = label("", "soft", name="lane.which")
        self._beat = NumberField(AT, "lane.point.beat", step=0.25, on_change=hands.beat, **self._ends(desk.end_merge))
        self._beat.setFixedWidth(112)
        self._bend = Ruler(BEND, "lane.bend", on_change=hands.bend, **self._ends(desk.end_merge))
        self._value_place = row()
        numbers = row(
            button("‹", "lane.point.previous", lambda: hands.step(-1), accessible="The point before"),
            button("›", "lane.point.next", lambda: hands.step(1), accessible="The next point"),
            self._which, self._beat, self._value_place, self._bend, spacing=8,
        )  # fmt: skip
        numbers.setStretch(4, 2)
        numbers.setStretch(5, 1)
        self._write = QCheckBox("write as it plays")
        self._write.setObjectName("lane.write")
        self._write.setToolTip("While the song plays, what you do to the value is written where the song is")
        snaps = QComboBox()
        snaps.setObjectName("lane.snap")
        snaps.setAccessibleName("Points are drawn to")
        for words in _SNAPS:
            snaps.addItem(words, float(note_value_to_beats(words)) if "/" in words else 0.0)
        snaps.setCurrentIndex(snaps.findData(self.snap))
        snaps.activated.connect(lambda i: setattr(self, "snap", snaps.itemData(i)))
        more = row(
            button("Add point", "lane.point.add", hands.add, tip="After the held one"), label("drawn to", "soft"), snaps, self._write, 1,
            spacing=8,
        )  # fmt: skip
        self.setLayout(column(numbers, more, spacing=5))

    def _ends(self, on_release: Callable[[], None]) -> dict[str, Any]:
        desk = self._desk
        return {"on_release": on_release, "bpm": lambda: desk.song.tempo_bpm, "on_error": desk.message.emit}

    @property
    def writes(self) -> bool:
        return self._write.isChecked()

    def snapped(self, beat: float) -> float:
        return round(beat / self.snap) * self.snap if self.snap else beat

    def show_lane(self, lane: Lane, param: Param, held: int) -> None:
        """``param`` declares the lane's values; ``held`` is a place of its points, below 0 where it has none."""
        if (lane.id, param) != self._made_for:
            self._made_for = (lane.id, param)
            clear(self._value_place)
            self._value = Ruler(
                replace(param, label="Value"), "lane.point.value", on_change=self._hands.value, **self._ends(self._hands.value_let_go)
            )  # fmt: skip
            self._value_place.addWidget(self._value)
        point = lane.points[held] if held >= 0 else None
        self._which.setText("no point yet" if point is None else f"point {held + 1} of {len(lane.points)}")
        self._beat.show_value(None if point is None else point.beat, None)
        self._bend.setVisible(lane.shape == "points")
        self._bend.show_value(0.0 if point is None else point.curve, None)
        if point is not None and self._value is not None:
            self._value.show_value(point.value, None)
