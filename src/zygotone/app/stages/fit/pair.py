"""A pair: both spectra, what lies in one place, and what each hides of the other, bar by bar."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QComboBox

from zygotone.advise.findings import Finding
from zygotone.advise.fit_views import PairFit, PairFitOf
from zygotone.advise.masking import groups_of, returns_of
from zygotone.advise.views import FREQS_HZ
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.stages.fit.view import FitView
from zygotone.app.widgets.basic import column, label, row, stretch
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Mark, Plot
from zygotone.app.widgets.shares import Shares

LEVEL = Axis(-80.0, -5.0, "dB", ticks=(-70, -50, -30, -10), name="Level")


def fill_with_strips(box: QComboBox, desk: Desk) -> None:
    """Tracks, returns and groups to choose from, by id; what was chosen stays, as far as it is there."""
    session = desk.session
    wanted = [
        (s.name, s.id) for s in {s.id: s for s in (*session.tracks, *returns_of(session), *groups_of(session))}.values()
    ]
    if [(box.itemText(i), box.itemData(i)) for i in range(box.count())] == wanted:
        return
    chosen = box.currentData()
    box.clear()
    for name, strip_id in wanted:
        box.addItem(name, strip_id)
    box.setCurrentIndex(max(0, box.findData(chosen)))


class PairFitView(FitView):
    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "fit.pair.page")
        self._found: PairFit | None = None
        self.first, self.second = QComboBox(), QComboBox()
        for box, name, text in ((self.first, "fit.pair.one", "Track"), (self.second, "fit.pair.other", "Other track")):
            box.setObjectName(name)
            box.setAccessibleName(text)
            box.activated.connect(self._ask)
        self.note = label("", "soft", name="fit.pair.note")
        self.spectra = Plot(FREQUENCY, LEVEL, name="fit.pair.spectra", accessible="Spectra of both", height=190)
        self.bars = Shares(
            name="fit.pair.bars",
            accessible="What each hides of the other, by bar",
            say=self._say,
            chosen=lambda i, j: None,
        )
        self.setLayout(
            column(
                row(self.first, label("and", "soft"), self.second, self.note, 1, spacing=10), self.spectra,
                row(label("Who hides whom", "heading"), label("share hidden in each bar, %", "soft"), 1, spacing=12), self.bars, spacing=6,
            )
        )  # fmt: skip
        stretch(self, 1, 1)
        self._watch = WhileVisible(self, desk.measuring, self._question, self._show)

    def _ask(self) -> None:
        self._watch.ask()

    def bring_up_to_date(self) -> None:
        for box in (self.first, self.second):
            fill_with_strips(box, self.desk)
        if self.first.currentIndex() == self.second.currentIndex() and self.second.count() > 1:
            self.second.setCurrentIndex((self.first.currentIndex() + 1) % self.second.count())
        self._watch.ask()

    @property
    def title(self) -> str:
        return f"{self.first.currentText()} and {self.second.currentText()}"

    @property
    def tracks(self) -> tuple[str, ...]:
        return tuple(box.currentData() for box in (self.first, self.second) if box.currentData())

    @staticmethod
    def takes(finding: Finding) -> bool:
        return len(finding.tracks) == 2

    def choose(self, one: str, other: str) -> None:
        self.bring_up_to_date()
        self.first.setCurrentIndex(max(0, self.first.findData(one)))
        self.second.setCurrentIndex(max(0, self.second.findData(other)))
        self._watch.ask()

    def show_finding(self, finding: Finding) -> None:
        self.choose(*finding.tracks[:2])

    def quiet_words(self) -> str:
        return "Nothing wrong was found between these two."

    def _question(self) -> PairFitOf | None:
        if len(self.tracks) < 2:
            return None
        bench = self.desk.bench
        return PairFitOf(
            bench.kept_graph, bench.trial_graph, self.desk.selection.section, (self.tracks[0], self.tracks[1])
        )

    def _show(self, pair: tuple[PairFit | None, PairFit | None]) -> None:
        a, b = pair
        self._found = now = b or a
        if now is None:
            self.spectra.show_curves(
                (),
                empty="The two do not sound together in this section. Choose others, or another section in the ribbon.",
            )
            self.bars.show_values((), (), (), empty="–")
            self.note.setText("")
            return
        one, other = self.first.currentText(), self.second.currentText()
        shared = np.minimum(*now.spectra_db)
        curves = [Curve("in one place", FREQS_HZ, shared, "clash", "hatch")]
        curves.append(Curve(one, FREQS_HZ, now.spectra_db[0], "ink"))
        if a is not None and b is not None:
            for i, word in enumerate((one, other)):
                if not np.array_equal(a.spectra_db[i], b.spectra_db[i]):
                    curves.append(Curve(f"{word} A", FREQS_HZ, a.spectra_db[i], "a", "dash"))
        curves.append(
            Curve(other, FREQS_HZ, now.spectra_db[1], "soft" if b is None else "b", "dot" if b is None else "line")
        )
        top = float(max(c.max() for c in now.spectra_db))
        high = 10.0 * np.ceil((top + 4.0) / 10.0)
        self.spectra.set_axes(
            y=Axis(high - 75.0, high, "dB", ticks=tuple(high - 10 - 20 * i for i in range(4)), name="Level")
        )
        self.spectra.show_curves(curves, self._marks(now))

        def told(i: int) -> str:
            word = f"{100 * now.shares[i]:.0f} %"
            return word if a is None or b is None else f"{word} (A {100 * a.shares[i]:.0f} %)"

        self.note.setText(f"{other} hides {told(0)} of {one}, {one} hides {told(1)} of {other}")
        bars = [str(now.first_bar + i) for i in range(len(now.by_bar[0]))]
        self.bars.show_values((f"of {one}", f"of {other}"), bars, now.by_bar)

    def _marks(self, now: PairFit) -> list[Mark]:
        finding = self.desk.measuring.findings or ()
        mine = next((f for f in finding if f.band_hz and set(f.tracks) == set(now.strips)), None)
        return [] if mine is None or mine.band_hz is None else [Mark("", hz) for hz in mine.band_hz]

    def _say(self, i: int, j: int) -> str:
        assert self._found is not None
        names = (self.first.currentText(), self.second.currentText())
        return f"Bar {self._found.first_bar + j}: {names[1 - i]} hides {100 * self._found.by_bar[i][j]:.0f} % of {names[i]}"
