"""One against all: a track over time and frequency, where the others hide it, and who does."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QComboBox

from zygotone.advise.findings import Finding
from zygotone.advise.fit_views import OneOf, OneView
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.stages.fit.pair import fill_with_strips
from zygotone.app.stages.fit.view import FitView
from zygotone.app.widgets.basic import column, label, row, signed, stretch
from zygotone.app.widgets.over_time import OverTime
from zygotone.app.widgets.shares import Shares

_HARDLY_LU = -30.0  # how much softer a track may seem before a number says nothing any more


class OneAgainstAllView(FitView):
    def __init__(self, desk: Desk, open_pair: Callable[[str, str], None]) -> None:
        super().__init__(desk, "fit.one.page")
        self._open_pair = open_pair
        self._found: OneView | None = None
        self.box = QComboBox()
        self.box.setObjectName("fit.one.track")
        self.box.setAccessibleName("Track")
        self.box.activated.connect(self._ask)
        self.note = label("", "soft", name="fit.one.note")
        self.picture = OverTime(name="fit.one", height=170)
        self.bars = Shares(
            name="fit.one.bars", accessible="Who hides it, by bar", say=self._say, chosen=self._chosen, row=20
        )
        self.setLayout(
            column(
                row(self.box, self.note, 1, spacing=10), self.picture,
                row(label("Who hides it", "heading"), label("share of what it has in each bar, %; a cell opens the pair", "soft"), 1, spacing=12),
                self.bars, spacing=6,
            )
        )  # fmt: skip
        stretch(self, 1, 1)
        self._watch = WhileVisible(self, desk.measuring, self._question, self._show)

    def _ask(self) -> None:
        self._watch.ask()

    def bring_up_to_date(self) -> None:
        fill_with_strips(self.box, self.desk)
        self._watch.ask()

    @property
    def title(self) -> str:
        return f"{self.box.currentText()} against all the others"

    @property
    def tracks(self) -> tuple[str, ...]:
        return (self.box.currentData(),) if self.box.currentData() else ()

    @staticmethod
    def takes(finding: Finding) -> bool:
        return True

    def choose(self, strip_id: str) -> None:
        self.bring_up_to_date()
        self.box.setCurrentIndex(max(0, self.box.findData(strip_id)))
        self._watch.ask()

    def show_finding(self, finding: Finding) -> None:
        if self.box.findData(finding.tracks[0]) >= 0:
            self.choose(finding.tracks[0])

    def quiet_words(self) -> str:
        return "Nothing wrong was found with this track in this section."

    def _question(self) -> OneOf | None:
        if not self.tracks:
            return None
        bench = self.desk.bench
        return OneOf(bench.kept_graph, bench.trial_graph, self.desk.selection.section, self.tracks[0])

    def _show(self, both: tuple[OneView | None, OneView | None]) -> None:
        a, b = both
        self._found = now = b or a
        name = self.box.currentText()
        if now is None:
            self.picture.show_view(
                None, name, empty=f"{name} does not sound in this section. Choose another one in the ribbon above."
            )
            self.bars.show_values((), (), (), empty="–")
            self.note.setText("")
            return
        self.picture.show_view(now, name, a_share=a.share if a is not None and b is not None else None)
        among = (
            "hardly heard among the others"
            if now.left_lu < _HARDLY_LU
            else f"as loud as {signed(now.lufs + now.left_lu, 'LUFS')} among the others"
        )
        self.note.setText(f"{signed(now.lufs, 'LUFS')} alone, {among}")
        names = {s.id: s.name for s in self.desk.session.strips()}
        bars = [str(now.first_bar + i) for i in range(now.bars)]
        self.bars.show_values([names.get(m, m) for m in now.maskers], bars, now.masker_by_bar, empty="Nobody hides it.")

    def _say(self, i: int, j: int) -> str:
        assert self._found is not None
        return f"Bar {self._found.first_bar + j}: {self.bars.rows[i]} hides {100 * self._found.masker_by_bar[i, j]:.0f} % of {self.box.currentText()}"

    def _chosen(self, i: int, j: int) -> None:
        assert self._found is not None
        self._open_pair(self._found.strip, self._found.maskers[i])
