"""Fit: who hides whom. Four views of a section, the ladder of fixes under each, and a search for all of them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QLabel, QPushButton, QScrollArea, QStackedWidget, QWidget

from zygotone.advise.findings import Finding
from zygotone.app.desk import Desk
from zygotone.app.stages.base import STAGES, Action, Stage, StageWidget
from zygotone.app.stages.fit.dialogs import SettleDialog
from zygotone.app.stages.fit.ladder import Ladder, Rung
from zygotone.app.stages.fit.low_end import LowEndView
from zygotone.app.stages.fit.map import MapView
from zygotone.app.stages.fit.one import OneAgainstAllView
from zygotone.app.stages.fit.pair import PairFitView
from zygotone.app.stages.fit.view import FitView
from zygotone.app.widgets.basic import button, column, label, row, stretch
from zygotone.app.widgets.live_meters import LiveMetersView
from zygotone.app.widgets.plot import Plot

_VIEWS = (("map", "Map"), ("pair", "Pair"), ("one", "One against all"), ("low_end", "Low end"))


class FitStage(StageWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.setObjectName("stage.fit")
        self._findings: object = None  # those that were taken last
        self.low_end = LowEndView(desk)
        self.pair = PairFitView(desk)
        self.one = OneAgainstAllView(desk, self.open_pair)
        self.map = MapView(desk, self.open_pair, self.open_one)
        self.views: dict[str, FitView] = {"map": self.map, "pair": self.pair, "one": self.one, "low_end": self.low_end}
        self.stack = QStackedWidget()
        self._buttons: dict[str, QPushButton] = {}
        group = QButtonGroup(self)
        for key, word in _VIEWS:
            self.stack.addWidget(self.views[key])
            made = button(word, f"fit.view.{key}", lambda key=key: self.show_view(key))
            made.setCheckable(True)
            made.setProperty("kind", "choice")
            group.addButton(made)
            self._buttons[key] = made
        self.title = label("", "title", name="fit.title")
        self.where = label("", "soft", name="fit.where")
        self.ladder = Ladder(desk)
        self.ladder.chosen.connect(self._on_chosen)
        settle = button("Settle…", "fit.settle", self.settle, tip="Search for the fixes of this section, within limits")
        own = button(
            "Try my own", "fit.own", desk.try_own, tip="Open a trial from nothing; all you do then belongs to it"
        )
        listening = desk.listening
        self.meters = LiveMetersView(lambda: listening.transport.meters, lambda: listening.playing)
        inner = QWidget()
        inner.setLayout(
            column(
                row(self.title, self.where, 1, *self._buttons.values(), spacing=6), self.stack, self.ladder,
                row(own, settle, self.ladder.meant, 1, spacing=8), spacing=8, margins=(16, 10, 10, 10),
            )
        )  # fmt: skip
        stretch(inner, 1, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        self.setLayout(column(scroll, row(self.meters, margins=(16, 4, 10, 6)), spacing=0))
        stretch(self, 0, 1)
        self.view = "low_end"
        self._follows = True  # the view follows what is found, until a hand chooses
        self._switch("low_end")
        desk.opened.connect(self._on_opened)
        self.shown_by(
            self._on_session, desk.session_changed, desk.measuring.findings_changed, desk.selection.loop_changed
        )

    # --- views ---------------------------------------------------------------------------------------------

    def show_view(self, key: str) -> None:
        """One of map, pair, one and low_end."""
        self._follows = False
        self._switch(key)
        shown = self.views[key]
        shown.bring_up_to_date()
        self._name_it()

    def _switch(self, key: str) -> None:
        self.view = key
        self.stack.setCurrentWidget(self.views[key])
        for name, made in self._buttons.items():
            made.setChecked(name == key)

    def open_pair(self, one: str, other: str) -> None:
        self.pair.choose(one, other)
        self.show_view("pair")
        mine = next((f for f in self.desk.measuring.findings or () if set(f.tracks) == {one, other}), None)
        if mine is not None:
            self.ladder.follow(self.pair.quiet_words(), mine)

    def open_one(self, strip_id: str) -> None:
        self.one.choose(strip_id)
        self.show_view("one")

    def show_finding(self, finding: Finding) -> None:
        self._bring(finding)
        self.ladder.follow(self.views[self.view].quiet_words(), finding)
        self._name_it()

    def _on_chosen(self, finding: Finding) -> None:
        if self.view != "map":
            self._bring(finding)
        self._name_it()

    def _bring(self, finding: Finding) -> None:
        """The view that shows most of a finding."""
        key = "low_end" if LowEndView.takes(finding) else "pair" if PairFitView.takes(finding) else "one"
        self._switch(key)
        self.views[key].bring_up_to_date()
        self.views[key].show_finding(finding)

    def choose(self, kick_id: str, bass_id: str, rule: str = "") -> None:
        """Shows a kick and a bass, and the ladder of ``rule`` where it has more than one."""
        self.low_end.kick_box.setCurrentIndex(self.low_end.kick_box.findData(kick_id))
        self.low_end.bass_box.setCurrentIndex(self.low_end.bass_box.findData(bass_id))
        self.show_view("low_end")
        found = [
            f for f in self.desk.measuring.findings or () if f.tracks == (kick_id, bass_id) and rule in ("", f.rule)
        ]
        if found:
            self.ladder.follow(self.low_end.quiet_words(), found[0])

    def _name_it(self) -> None:
        section = self.desk.selection.section
        first = next(f for s, f, _ in self.desk.song.spans() if s.id == section.id)
        self.title.setText(self.views[self.view].title)
        self.where.setText(f"{section.name}, bars {first + 1}–{first + section.bars}")

    def _on_opened(self) -> None:
        """Another project: nothing of the last one was chosen in it."""
        self._follows, self._findings, self.ladder.finding = True, None, None
        self._switch("low_end")
        self._on_session()

    # --- what changes --------------------------------------------------------------------------------------

    def _on_session(self) -> None:
        self.views[self.view].bring_up_to_date()
        if self.desk.measuring.findings is not self._findings or self.desk.measuring.findings is None:
            # Those of before an edit are not worked out again.
            self._findings = self.desk.measuring.findings
            before = self.ladder.finding
            self.ladder.follow(self.views[self.view].quiet_words())
            now = self.ladder.finding
            if self._follows and now is not None and (before is None or before.id != now.id):
                self._bring(now)
        else:
            self.ladder.show_state()
        self._name_it()

    def settle(self) -> None:
        dialog = SettleDialog(self, self.desk)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def actions_offered(self) -> tuple[Action, ...]:
        return (
            Action("Settle the section…", "fit.settle.action", self.settle),
            Action("Try my own", "fit.own.action", self.desk.try_own),
            *(
                Action(f"Fit: {word.lower()}", f"fit.show.{key}", lambda key=key: self.show_view(key))
                for key, word in _VIEWS
            ),
        )

    # --- for others ----------------------------------------------------------------------------------------

    @property
    def finding(self) -> Finding | None:
        return self.ladder.finding

    @property
    def rungs(self) -> list[Rung]:
        return self.ladder.rungs

    @property
    def spectra(self) -> Plot:
        return self.low_end.spectra

    @property
    def bar(self) -> Plot:
        return self.low_end.bar

    @property
    def state(self) -> QLabel:
        return self.ladder.state

    @property
    def pair_ids(self) -> tuple[str, str] | None:
        return self.low_end.pair_ids

    def try_rung(self, number: int) -> None:
        self.ladder.try_rung(number)


STAGES.enter(Stage(key="fit", title="Fit", order=40, make=FitStage, leads=True, ladders=True))
