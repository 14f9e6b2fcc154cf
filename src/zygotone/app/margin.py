"""The right margin: what is on trial, then the findings of this stage, then what the stage offers to add."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLineEdit, QScrollArea, QWidget

from zygotone.advise.findings import RULES, Finding
from zygotone.app.desk import Desk
from zygotone.app.stages import STAGES, StageWidget
from zygotone.app.widgets.basic import button, card, clear, column, label, row
from zygotone.app.widgets.readings import end_text
from zygotone.session.history import Reading

_BARS = {"strong": "▮▮▮", "fair": "▮▮▯", "slight": "▮▯▯"}


def _end(reading: Reading, value: float | None) -> str:
    return "–" if value is None else end_text(reading, value)


class Margin(QWidget):
    def __init__(self, desk: Desk, stages: dict[str, StageWidget], *, show_finding: Callable[[Finding], None]) -> None:
        super().__init__()
        self.setObjectName("margin")
        self._desk = desk
        self._stage = ""
        self._show_finding = show_finding
        self._trial_space, self._finding_space = column(spacing=6), column(spacing=8)
        self._reason: QLineEdit | None = None
        self._trial_for: object = None
        self._findings_for: object = None
        self._offers = {key: offer for key, stage in stages.items() if (offer := stage.offer()) is not None}
        inner = QWidget()
        inner.setLayout(
            column(
                self._trial_space, self._finding_space, *self._offers.values(), 1, spacing=12, margins=(14, 12, 12, 10)
            )
        )
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        self.setLayout(column(scroll))
        for signal in (desk.session_changed, desk.measuring.match_changed):
            signal.connect(self._show_trial)
        desk.measuring.findings_changed.connect(self._show_findings)
        desk.session_changed.connect(self._show_findings)

    def show_stage(self, stage: str) -> None:
        self._stage = stage
        for key, offer in self._offers.items():
            offer.setVisible(key == stage)
        self._show_trial()
        self._show_findings()

    # --- trial ---------------------------------------------------------------------------------------------

    def _show_trial(self) -> None:
        trial = self._desk.bench.trial
        readings: tuple[Reading, ...] = self._desk.measuring.readings_now() or (trial.readings if trial else ())
        second = self._desk.bench.second
        wanted = (None if trial is None else (trial.title, trial.finding, trial.fix, readings), second and second.title)
        if wanted == self._trial_for and self._trial_space.count():
            return
        self._trial_for = wanted
        typed = self._reason.text() if self._reason is not None and trial is not None else ""
        focused = self._reason is not None and self._reason.hasFocus()
        clear(self._trial_space)
        self._reason = None
        if trial is None:
            note = label(
                "Nothing on trial. Try a fix, and A and B can be compared at equal loudness.",
                "soft",
                wrap=True,
                name="trial.none",
            )
            self._trial_space.addWidget(label("On trial", "heading"))
            self._trial_space.addWidget(note)
            self._show_second()
            return
        title = label(trial.title, "heading", wrap=True, name="trial.title")
        grid = QGridLayout()
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(0, 1)
        grid.addWidget(label("A", "a"), 0, 1, Qt.AlignmentFlag.AlignRight)
        grid.addWidget(label("B", "b"), 0, 2, Qt.AlignmentFlag.AlignRight)
        for at, reading in enumerate(readings, 1):
            grid.addWidget(label(reading.label, "soft", wrap=True), at, 0)
            grid.addWidget(label(_end(reading, reading.before), "a"), at, 1, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(label(_end(reading, reading.after), "b"), at, 2, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(label(reading.unit, "soft"), at, 3)
        self._reason = QLineEdit(typed)
        self._reason.setObjectName("trial.reason")
        self._reason.setAccessibleName("Reason, may be left empty")
        self._reason.setPlaceholderText("Why? (may be left empty)")
        self._reason.setMaxLength(500)
        keep = button("Keep (K)", "trial.keep", self.keep, kind="keep", accessible="Keep the trial")
        drop = button("Drop (D)", "trial.drop", self.drop, accessible="Drop the trial")
        body = card(
            column(title, grid, self._reason, row(keep, drop, spacing=8), spacing=8, margins=(12, 10, 12, 12)),
            kind="trialcard",
            name="trial",
        )
        self._trial_space.addWidget(label("On trial", "b"))
        self._trial_space.addWidget(body)
        self._show_second()
        if focused:
            self._reason.setFocus()

    def _show_second(self) -> None:
        """What stands aside, and the way to put B there."""
        bench = self._desk.bench
        if bench.second is None and bench.trial is None:
            return
        words = "Nothing stands aside." if bench.second is None else f"C, aside: {bench.second.title}"
        self._trial_space.addWidget(label(words, "soft", wrap=True, name="trial.second"))
        swap = button(
            "Set B aside" if bench.second is None else "Swap B and C" if bench.trial is not None else "Bring C back", "trial.set_aside",
            self._desk.set_aside, tip="Two trials can stand side by side; Compare versions (Ctrl+Shift+V) says what differs",
        )  # fmt: skip
        row_ = row(swap, 1, spacing=8)
        if bench.second is not None:
            row_.insertWidget(1, button("Drop C", "trial.drop_second", bench.drop_second))
        self._trial_space.addLayout(row_)

    def _why(self) -> str:
        return self._reason.text().strip() if self._reason is not None else ""

    def keep(self) -> None:
        self._desk.keep(self._why())

    def drop(self) -> None:
        self._desk.drop(self._why())

    # --- findings ------------------------------------------------------------------------------------------

    def _show_findings(self) -> None:
        stage, findings = STAGES.get(self._stage), self._desk.measuring.findings
        known = {s.id for s in self._desk.session.strips()}
        here = [
            f for f in findings or () if f.stage == self._stage and f.on_purpose is None and known.issuperset(f.tracks)
        ]
        complete = self._desk.measuring.complete
        wanted = (self._stage, self._desk.selection.section.name, complete, here)
        if wanted == self._findings_for:
            return
        self._findings_for = wanted
        clear(self._finding_space)
        if stage is None or not stage.findings:
            return
        count = f"{stage.title} · {len(here)} in {self._desk.selection.section.name}"
        if not complete:
            count = f"{len(here)} so far, listening…" if here else "listening…"
        self._finding_space.addLayout(row(label("Findings", "heading"), label(count, "soft"), 1))
        if complete and not here:
            self._finding_space.addWidget(label("Nothing wrong was found here in this section.", "soft", wrap=True))
        for finding in here:
            self._finding_space.addWidget(self._card(finding))

    def _card(self, finding: Finding) -> QWidget:
        strength = label(f"{_BARS[finding.strength]} {finding.strength}", "soft")
        name = f"finding.{finding.id}"
        text = "Show" if RULES[finding.rule].ladder else "Try"
        tip = "Show its ladder of fixes" if text == "Show" else "Work out the fix and put it on trial"
        act = button(
            text, f"{name}.try", lambda: self._show_finding(finding), tip=tip, accessible=f"{text}: {finding.sentence}"
        )
        body = column(
            row(strength, 1, act), label(finding.sentence, "heading", wrap=True), label(finding.advice, "soft", wrap=True),
            spacing=3, margins=(12, 7, 10, 9),
        )  # fmt: skip
        return card(body, name=name)
