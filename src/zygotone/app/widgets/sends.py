"""Where a strip leads besides its own way: group, and copies to returns."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QGridLayout, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, clear, column, fill, label, row
from zygotone.app.widgets.lanes import automation_offer
from zygotone.app.widgets.ruler import Fields, Ruler
from zygotone.session.edits import add_bus, change_strip, remove_send, set_send
from zygotone.session.models import LEVEL, NUDGE, PAN, SEND, Session, Strip, Track
from zygotone.session.params import Param

_NEW = "new return…"
_COLUMNS = 4


class SendsPanel(QWidget):
    """Level, pan and nudge of the track itself, the group it goes to, a ruler for each send, and a way to add one."""

    def __init__(self, desk: Desk, open_lane: Callable[[str | None, str], None]) -> None:
        """``open_lane`` shows what moves a parameter of the strip."""
        super().__init__()
        self.setObjectName("chains.sends")
        self._desk = desk
        self._shown: object = None
        self._parts = Fields(self)
        self._open_lane = open_lane
        self._rulers: dict[str, Ruler] = {}
        self._own: dict[str, Ruler] = {}  # by the strip's field
        self._head = row(spacing=8)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(12)
        for i in range(_COLUMNS):
            self._grid.setColumnStretch(i, 1)
        self.setLayout(column(self._head, self._grid, spacing=4))

    def show_strip(self, strip: Strip) -> None:
        session = self._desk.session
        wanted = (
            strip.id, tuple((s.to, s.tap) for s in strip.sends), tuple((b.id, b.name) for b in session.buses),
            strip.bus if isinstance(strip, Track) else None,
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
        for send in strip.sends:
            ruler = self._rulers[send.to]
            ruler.show_value(send.level_db, old.get(send.to))
            ruler.show_moves(self._desk.session.automated_range(strip.id, f"send.{send.to}"))

    def _make(self, strip: Strip) -> None:
        desk, session = self._desk, self._desk.session
        clear(self._head)
        self._parts.take_back()
        self._rulers, self._own = {}, {}
        cells: list[QWidget] = [
            self._own_ruler(strip, p) for p in (LEVEL, PAN, *([NUDGE] if isinstance(strip, Track) else []))
        ]
        self._head.addWidget(label("The track itself" if isinstance(strip, Track) else "The bus itself", "heading"))
        self._head.addStretch(1)
        if strip.id == session.mix.id:
            self._parts.put(cells, self._grid, _COLUMNS, Qt.AlignmentFlag.AlignTop)
            return
        self._head.addWidget(label("goes to", "soft"))
        if isinstance(strip, Track):
            group = QComboBox()
            group.setObjectName("chains.group")
            group.setAccessibleName("Group")
            fill(group, [(session.mix.name, None), *((bus.name, bus.id) for bus in session.buses)])
            group.setCurrentIndex(max(0, group.findData(strip.bus)))
            group.activated.connect(
                lambda i: desk.edit("Group", lambda s: change_strip(s, strip.id, bus=group.itemData(i)))
            )
            self._head.addWidget(group)
        sent = {s.to for s in strip.sends}
        add = QComboBox()
        add.setObjectName("chains.send.add")
        add.setAccessibleName("Add a send")
        add.setToolTip("A copy of this signal to a return, such as a reverb that several tracks share")
        returns = [(bus.name, bus.id) for bus in session.buses if bus.id != strip.id and bus.id not in sent]
        fill(add, [("add a send…", None), *returns, (_NEW, _NEW)])
        add.activated.connect(lambda i: self._add(strip.id, add.itemData(i)))
        self._head.addWidget(add)
        for send in strip.sends:
            name = session.strip(send.to).name

            def change(level_db: float, to: str = send.to) -> None:
                desk.edit(
                    "Send", lambda s: set_send(s, strip.id, to, level_db=level_db), merge_key=("send", strip.id, to)
                )

            ruler = Ruler(
                replace(SEND, label=f"Send: {name}"), f"chains.send.{send.to}", on_change=change,
                on_release=desk.end_merge, on_error=desk.message.emit,
            )  # fmt: skip
            tap = QComboBox()
            tap.setObjectName(f"chains.send.{send.to}.tap")
            tap.setAccessibleName(f"Send to {name}, taken")
            fill(tap, [("after level and pan", "after"), ("before level and pan", "before")])
            tap.setCurrentIndex(tap.findData(send.tap))
            tap.activated.connect(
                lambda i, to=send.to, b=tap: desk.edit("Send", lambda s: set_send(s, strip.id, to, tap=b.itemData(i)))
            )
            gone = button(
                "Remove", f"chains.send.{send.to}.remove",
                lambda to=send.to: desk.edit("Remove send", lambda s: remove_send(s, strip.id, to)),
                kind="plain", accessible=f"Remove the send to {name}",
            )  # fmt: skip
            cell = QWidget()
            cell.setLayout(column(ruler, row(tap, 1, gone), spacing=2))
            self._rulers[send.to] = ruler
            ruler.offers = automation_offer(lambda to=send.to: self._open_lane(None, f"send.{to}"))
            cells.append(cell)
        self._parts.put(cells, self._grid, _COLUMNS, Qt.AlignmentFlag.AlignTop)

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
