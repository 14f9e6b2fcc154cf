"""What is measured in the background, and the questions that stages ask while somebody looks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QEvent, QObject, QTimer, Signal
from PySide6.QtWidgets import QWidget

from zygotone.advise.findings import RULES, Finding, loudness_of, reading_of
from zygotone.advise.questions import FindingsIn, FixesOf, LevelMatch, Match, TrackLevels, TrialNumbers
from zygotone.app.listening import Listening
from zygotone.app.selection import Selection
from zygotone.app.work import Worker
from zygotone.engine.bench import Bench
from zygotone.engine.measurer import Answers, Question
from zygotone.session.history import Reading
from zygotone.session.models import Section

_REST_MS = 60  # an edit that is followed by another one this soon is not measured


class Measuring(QObject):
    match_changed = Signal()
    findings_changed = Signal()
    levels_changed = Signal()
    message = Signal(str)

    def __init__(self, bench: Bench, answers: Answers, selection: Selection, listening: Listening) -> None:
        super().__init__()
        self._answers = answers
        self.worker = Worker(gives_way=True)
        self.worker.failed.connect(self.message)
        self._selection, self._listening = selection, listening
        self._rest = QTimer(self, singleShot=True, interval=_REST_MS)
        self._rest.timeout.connect(self._measure)
        self._take(bench)

    def _take(self, bench: Bench) -> None:
        self._bench = bench
        self.match: Match | None = None
        self._live_numbers: tuple[dict[str, float], dict[str, float]] | None = None
        self.findings: tuple[Finding, ...] | None = None
        self.complete = False  # whether these are all findings, and not only the first
        self.levels: dict[str, float] = {}

    def reset(self, bench: Bench) -> None:
        """Another project; what was asked about the last one is not wanted any more."""
        self.worker.forget_all()
        self._take(bench)

    @property
    def settled(self) -> bool:
        """Whether nothing is being measured, nor about to be."""
        return not self._rest.isActive() and self.worker.idle

    def ask(self, question: Question, done: Callable[[Any], None], *, urgency: int = 5) -> None:
        """Has a question answered in the background; an older one of its name is given up, its answer dropped."""
        answers = self._answers
        self.worker.submit(question.name, lambda unwanted: answers.answer(question, unwanted), done, urgency=urgency)

    def soon(self) -> None:
        """Measure what is heard anew, as soon as the hand rests. What is being found now is wanted no more."""
        for name in ("first findings", "findings", "levels"):
            self.worker.cancel(name)
        self._rest.start()

    def forget_loop(self) -> None:
        """Another stretch of the song: nothing that was measured is about it."""
        self.findings, self.match, self.levels = None, None, {}
        self.complete = False
        self._listening.match_levels(None)
        self.findings_changed.emit()
        self.soon()

    def forget_match(self) -> None:
        """Another trial: what was measured is not about it."""
        self.match = self._live_numbers = None
        self._listening.match_levels(None)

    def _measure(self) -> None:
        """After a change: level match first, where there are two to be compared, then the findings, then the tracks' levels."""
        bench, section = self._bench, self._selection.section
        a, b = bench.kept_graph, bench.trial_graph
        heard_a, heard_b = self._listening.heard_graphs()
        heard = (heard_a, heard_b) if heard_b is not None and heard_a is not a else None
        match = LevelMatch(a, b, self._selection.loop_span(), heard)
        if b is not None:
            self.ask(match, self._on_match, urgency=2)
        self._measure_trial()
        if self.findings is None:
            self.ask(FindingsIn(bench.graph, section, first=True), self._on_first_findings, urgency=4)
        if b is None:
            self.ask(match, self._on_match, urgency=5)
        self.ask(FindingsIn(bench.graph, section), self._on_findings, urgency=6)
        self.ask(TrackLevels(bench.graph, section), self._on_levels, urgency=7)

    def _measure_trial(self) -> None:
        """The numbers a trial is judged by, of A and of B as they are now."""
        bench, trial = self._bench, self._bench.trial
        if trial is None or trial.rule not in RULES or bench.trial_graph is None:
            self._live_numbers = None
            return
        section = self._section(trial.section)

        def measured(both: tuple[dict[str, float], dict[str, float]]) -> None:
            self._live_numbers = both
            self.match_changed.emit()

        question = TrialNumbers(
            bench.kept_graph, bench.trial_graph, str(trial.rule), trial.tracks, trial.layers, section
        )
        self.ask(question, measured, urgency=4)

    def _section(self, section_id: str | None) -> Section:
        sections = self._bench.session.song.sections
        return next((s for s in sections if s.id == section_id), self._selection.section)

    def _on_match(self, match: Match) -> None:
        self.match = match
        self._listening.match_levels(match)
        self.match_changed.emit()

    def _on_first_findings(self, findings: tuple[Finding, ...]) -> None:
        if self.findings is None and findings:
            self.findings = findings
            self.findings_changed.emit()

    def _on_findings(self, findings: tuple[Finding, ...]) -> None:
        self.findings, self.complete = findings, True
        self.findings_changed.emit()

    def _on_levels(self, levels: dict[str, float]) -> None:
        self.levels = levels
        self.levels_changed.emit()

    def work_out(self, finding: Finding, done: Callable[[Finding], None]) -> None:
        """The fixes of a finding, measured against the kept version; anew if that changes meanwhile."""
        kept = self._bench.kept

        def deliver(worked_out: Finding) -> None:
            if self._bench.kept != kept:
                self.work_out(finding, done)
            else:
                done(worked_out)

        self.ask(FixesOf(kept, replace(finding, fixes=())), deliver)

    def readings_now(self) -> tuple[Reading, ...] | None:
        """The trial's readings with the mix as it is measured now."""
        trial = self._bench.trial
        if trial is None:
            return None
        readings = trial.readings
        if self._live_numbers is not None:
            # Edits by hand belong to the trial, so its numbers are those of B as it is now, not as it was promised.
            a, b = self._live_numbers
            readings = tuple(_renewed(r, a, b) for r in readings)
        if self.match is None or self.match.b is None:
            return readings
        mix = reading_of("mix_dbtp", self.match.a.dbtp, self.match.b.dbtp)
        return (*(r for r in readings if r.name != "mix_dbtp"), mix)

    def close(self) -> None:
        self._rest.stop()
        self.worker.close()


def _renewed(reading: Reading, a: dict[str, float], b: dict[str, float]) -> Reading:
    name = loudness_of(reading.of) if reading.of else reading.name
    if name not in a and name not in b:
        return reading
    new = reading_of(reading.name, a.get(name), b.get(name))
    return reading.replace(
        before=reading.before if new.before is None else new.before,
        after=reading.after if new.after is None else new.after,
    )


class WhileVisible(QObject):
    """Asks a question whenever what it is about may have changed, but only while somebody looks, and shows the answer."""

    def __init__(
        self, widget: QWidget, measuring: Measuring, question: Callable[[], Question | None], show: Callable[[Any], None],
        *, urgency: int = 3,
    ) -> None:  # fmt: skip
        super().__init__(widget)
        self._widget, self._measuring, self._question, self._show, self._urgency = (
            widget, measuring, question, show, urgency,
        )  # fmt: skip
        widget.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self._widget and event.type() == QEvent.Type.Show:
            self.ask()
        return False

    def ask(self) -> None:
        """Now, if the widget is visible; else as soon as it is shown."""
        question = self._question() if self._widget.isVisible() else None
        if question is not None:
            self._measuring.ask(question, self._show, urgency=self._urgency)
