"""Where a strip leads besides its own way: group, and copies to returns."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QGridLayout, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, column, fill, label, last_by_tab, let_go_of_focus, row
from zygotone.app.widgets.lanes import automation_offer
from zygotone.app.widgets.ruler import Fields, Ruler
from zygotone.session.edits import add_bus, change_strip, remove_send, set_send
from zygotone.session.models import LEVEL, NUDGE, PAN, SEND, Send, Session, Strip, Track
from zygotone.session.params import Param

_NEW = "new return…"
_COLUMNS = 4


class _SendCell(QWidget):
    """One send: its level, where it is taken, and a way to remove it. It stands for another as pages change."""

    def __init__(self, desk: Desk, open_lane: Callable[[str | None, str], None]) -> None:
        super().__init__()
        self._desk = desk
        self._strip_id = self._to = ""
        self.ruler = Ruler(SEND, "", on_change=self._change, on_release=desk.end_merge, on_error=desk.message.emit)
        self.ruler.offers = automation_offer(lambda: open_lane(None, f"send.{self._to}"))
        self.tap = QComboBox()
        fill(self.tap, [("after level and pan", "after"), ("before level and pan", "before")])
        self.tap.activated.connect(
            lambda i: desk.edit("Send", lambda s: set_send(s, self._strip_id, self._to, tap=self.tap.itemData(i)))
        )
        self.gone = button("Remove", "", self._remove, kind="plain")
        self.setLayout(column(self.ruler, row(self.tap, 1, self.gone), spacing=2))

    def stand_for(self, strip: Strip, send: Send, name: str) -> None:
        """``name`` of the bus that it goes to."""
        self._strip_id, self._to = strip.id, send.to
        self.ruler.stand_for(
            replace(SEND, label=f"Send: {name}"), f"chains.send.{send.to}", on_change=self._change,
            on_release=self._desk.end_merge, on_error=self._desk.message.emit,
        )  # fmt: skip
        for part, which, words in (
            (self.tap, "tap", f"Send to {name}, taken"), (self.gone, "remove", f"Remove the send to {name}"),
        ):  # fmt: skip
            part.setObjectName(f"chains.send.{send.to}.{which}")
            part.setAccessibleName(words)
        self.tap.setCurrentIndex(self.tap.findData(send.tap))

    def _change(self, level_db: float) -> None:
        strip_id, to = self._strip_id, self._to
        self._desk.edit(
            "Send", lambda s: set_send(s, strip_id, to, level_db=level_db), merge_key=("send", strip_id, to)
        )

    def _remove(self) -> None:
        strip_id, to = self._strip_id, self._to
        self._desk.edit("Remove send", lambda s: remove_send(s, strip_id, to))


class SendsPanel(QWidget):
    """Level, pan and nudge of the track itself, the group it goes to, a ruler for each send, and a way to add one."""

    def __init__(self, desk: Desk, open_lane: Callable[[str | None, str], None]) -> None:
        """``open_lane`` shows what moves a parameter of the strip."""
        super().__init__()
        self.setObjectName("chains.sends")
        self._desk = desk
        self._shown: object = None
        self._strip_id = ""
        self._parts = Fields(self)
        self._open_lane = open_lane
        self._cells: list[_SendCell] = []  # those of other strips wait, hidden, behind those of this one
        self._own: dict[str, Ruler] = {}  # by the strip's field
        self._title, self._goes = label("", "heading"), label("goes to", "soft")
        self._group, self._add_to = QComboBox(), QComboBox()
        for box, name, words in (
            (self._group, "chains.group", "Group"),
            (self._add_to, "chains.send.add", "Add a send"),
        ):
            box.setObjectName(name)
            box.setAccessibleName(words)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self._add_to.setToolTip("A copy of this signal to a return, such as a reverb that several tracks share")
        self._group.activated.connect(self._regroup)
        self._add_to.activated.connect(lambda i: self._add(self._strip_id, self._add_to.itemData(i)))
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(12)
        for i in range(_COLUMNS):
            self._grid.setColumnStretch(i, 1)
        head = row(self._title, 1, self._goes, self._group, self._add_to, spacing=8)
        self.setLayout(column(head, self._grid, spacing=4))

    def show_strip(self, strip: Strip) -> None:
        session = self._desk.session
        wanted = (
            strip.id, tuple((s.to, s.tap) for s in strip.sends), tuple((b.id, b.name) for b in session.buses),
            strip.bus if isinstance(strip, Track) else None, session.mix.name,
        )  # fmt: skip
        if wanted != self._shown:
            self._shown = wanted
            self._make(strip)
        kept = {s.id: s for s in self._desk.bench.kept.strips()}.get(strip.id)
        for name, ruler in self._own.items():
            ruler.show_value(getattr(strip, name), getattr(kept, name) if kept is not None else None)
            if name != NUDGE.name:
                ruler.show_moves(session.automated_range(strip.id, name))
        old = {s.to: s.level_db for s in kept.sends} if kept else {}
        for send, cell in zip(strip.sends, self._cells, strict=False):
            cell.ruler.show_value(send.level_db, old.get(send.to))
            cell.ruler.show_moves(session.automated_range(strip.id, f"send.{send.to}"))

    def _make(self, strip: Strip) -> None:
        session, is_track, is_mix = self._desk.session, isinstance(strip, Track), strip.id == self._desk.session.mix.id
        self._strip_id = strip.id
        self._parts.take_back(spare=self._cells)
        self._own = {}
        rulers = [self._own_ruler(strip, p) for p in (LEVEL, PAN, *([NUDGE] if is_track else []))]
        self._title.setText("The track itself" if is_track else "The bus itself")
        for part, shown in ((self._goes, not is_mix), (self._group, is_track), (self._add_to, not is_mix)):
            if not shown:
                let_go_of_focus(part)
            part.setVisible(shown)
        for box in (self._group, self._add_to):
            box.clear()
            if (
                last := last_by_tab(self.window())
            ) is not None:  # Tab comes to them after what is above, which may be new
                QWidget.setTabOrder(last, box)
        fill(self._group, [(session.mix.name, None), *((bus.name, bus.id) for bus in session.buses)])
        self._group.setCurrentIndex(max(0, self._group.findData(strip.bus)) if isinstance(strip, Track) else 0)
        sent = {s.to for s in strip.sends}
        returns = [(bus.name, bus.id) for bus in session.buses if bus.id != strip.id and bus.id not in sent]
        fill(self._add_to, [("add a send…", None), *returns, (_NEW, _NEW)])
        while len(self._cells) < len(strip.sends):
            self._cells.append(_SendCell(self._desk, self._open_lane))
        for send, cell in zip(strip.sends, self._cells, strict=False):
            cell.stand_for(strip, send, session.strip(send.to).name)
        self._parts.put([*rulers, *self._cells[: len(strip.sends)]], self._grid, _COLUMNS, Qt.AlignmentFlag.AlignTop)

    def _regroup(self, at: int) -> None:
        strip_id, bus = self._strip_id, self._group.itemData(at)
        self._desk.edit("Group", lambda s: change_strip(s, strip_id, bus=bus))

    def _own_ruler(self, strip: Strip, p: Param) -> Ruler:
        desk = self._desk
        made = self._parts.ruler(
            p, f"chains.ruler.{p.name}", on_change=lambda v: self._set_own(p, v), on_release=desk.end_merge,
            bpm=lambda: desk.song.tempo_bpm, on_error=desk.message.emit,
        )  # fmt: skip
        if p is not NUDGE:
            made.offers = automation_offer(lambda: self._open_lane(None, p.name))
        self._own[p.name] = made
        return made

    def _set_own(self, p: Param, value: float) -> None:
        """Of several selected tracks all move by as much, each as far as its ruler goes."""
        desk = self._desk
        lead = desk.selection.track_id
        by = value - getattr(desk.session.strip(lead), p.name)
        others = [s for s in desk.session.strips() if s.id in desk.selection.also and hasattr(s, p.name)]

        def change(session: Session) -> Session:
            session = change_strip(session, lead, **{p.name: value})
            for strip in others:
                moved = min(p.high, max(p.low, getattr(strip, p.name) + by))
                session = change_strip(session, strip.id, **{p.name: moved})
            return session

        desk.edit(p.label, change, merge_key=(lead, desk.selection.tracks, p.name))

    def _add(self, strip_id: str, target: str | None) -> None:
        if target is None:
            return
        desk = self._desk
        if target != _NEW:
            desk.edit("Add send", lambda s: set_send(s, strip_id, target))
            return

        def with_return(session: Session) -> Session:
            grown = add_bus(session, "Return")
            return set_send(grown, strip_id, grown.buses[-1].id)

        desk.edit("Add return", with_return)
