"""Fit: kick against bass. Both spectra, who is on top over one bar, and the ladder of fixes."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFrame, QLabel, QPushButton, QScrollArea, QWidget

from zygotone.advise.findings import RULES, Finding, Fix
from zygotone.advise.questions import PairOf
from zygotone.advise.views import FREQS_HZ, PairView
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.stages.base import STAGES, Stage, StageWidget
from zygotone.app.widgets.basic import button, clear, column, label, restyle, row, signed, stretch
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Mark, Plot
from zygotone.measure.low_end import CLEAR_DB
from zygotone.music.pitch import name_pitch
from zygotone.session.models import LOW_ROLES

LEVEL = Axis(-80.0, -5.0, "dB", ticks=(-70, -50, -30, -10), name="Level")
BAR = Axis(0.0, 4.0, "beat", ticks=(0, 1, 2, 3, 4), name="Beat")

_COLUMN = 64  # width of the numbers


class Rung(QFrame):
    """One fix of the ladder."""

    def __init__(self, number: int, stage: FitStage) -> None:
        super().__init__()
        self.setProperty("kind", "card")
        self.setObjectName(f"fit.ladder.{number}")
        self.number = number
        self.name = label("", "heading")
        self.name.setFixedWidth(196)
        self.detail = label("", "soft", wrap=True)
        self.gain, self.lost, self.pumping = (label("", "number") for _ in range(3))
        for each in (self.gain, self.lost, self.pumping):
            each.setFixedWidth(_COLUMN)
            each.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.why = label("", "soft", wrap=True)
        self.action: QPushButton = button("Try", f"fit.ladder.{number}.try", lambda: stage.try_rung(number))
        self.action.setFixedWidth(84)
        self.setLayout(
            row(label(str(number), "soft"), self.name, self.detail, self.why, self.gain, self.lost, self.pumping, self.action,
                spacing=8, margins=(12, 4, 10, 4))
        )  # fmt: skip
        stretch(self, 2, 1)
        stretch(self, 3, 1)
        self.setFixedHeight(42)

    def show_fix(self, fix: Fix, state: str) -> None:
        """``state``: "", "kept" or "trial"."""
        self.name.setText(fix.label)
        self.detail.setText(fix.detail)
        self.detail.setVisible(fix.applies)
        self.why.setVisible(not fix.applies)
        self.why.setText("" if fix.applies else f"Not here: {fix.why_not}.")
        for each in (self.gain, self.lost, self.pumping):
            each.setVisible(fix.applies)
        if fix.applies:
            name = "click_clear_db" if "click_clear_db" in fix.gain else "kick_clear_db"
            reading = next(r for r in fix.readings if r.name == name)
            gain = fix.gain[name]
            self.gain.setText(signed(gain, "dB"))
            restyle(self.gain, good=bool(gain > 0.05))
            self.gain.setToolTip(
                f"{reading.label} would be {signed(gain if reading.after is None else reading.after, 'dB')}"
                + ("; clear from +3 dB." if name == "kick_clear_db" else ".")
            )
            self.lost.setText(signed(fix.cost["bass_lost_lu"], "LU").lstrip("+"))
            pumping = fix.cost["pumping_db"]
            self.pumping.setText("none" if pumping < 0.05 else f"{pumping:.1f} dB")
        words = {"": "Try", "kept": "kept", "trial": "on trial"}
        self.action.setText(words[state] if fix.applies or state else "Try")
        self.action.setEnabled(fix.applies and state != "trial")
        self.action.setAccessibleName(f"{words[state]} {fix.label}")
        restyle(self.action, kind={"": "", "kept": "kept", "trial": "ontrial"}[state])
        restyle(self, trial="true" if state == "trial" else "false")


def _start_words(gap_ms: float) -> str:
    if not np.isfinite(gap_ms):
        return ""
    return f", bass starts {abs(gap_ms):.1f} ms {'before' if gap_ms < 0 else 'after'} it"


class FitStage(StageWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.setObjectName("stage.fit")
        self._finding: Finding | None = None
        self._findings: object = None  # those that were taken last
        self._worked_for: tuple[object, ...] | None = None  # kept version, pair and section of the fixes shown
        self._worked_out: Finding | None = None  # with those fixes
        self._pair: tuple[PairView | None, PairView | None] = (None, None)  # in A and in B
        self._wanted_rule = ""  # whose ladder was asked for

        self.kick_box, self.bass_box = QComboBox(), QComboBox()
        for box, name, text in ((self.kick_box, "fit.kick", "Kick track"), (self.bass_box, "fit.bass", "Bass track")):
            box.setObjectName(name)
            box.setAccessibleName(text)
            box.activated.connect(lambda _: self._pair_chosen())
        self.where = label("", "soft", name="fit.where")
        head = row(self.kick_box, label("against", "soft"), self.bass_box, self.where, 1, spacing=10)

        self.spectra = Plot(FREQUENCY, LEVEL, name="fit.spectra", accessible="Spectra of kick and bass", height=190)
        self.bar = Plot(
            BAR, Axis(0.0, 1.0, "", ticks=()), name="fit.bar", accessible="Low end over one bar", height=116
        )
        self.bar_title = label("Low end over one bar", "heading")
        self.bar_note = label("30–120 Hz, who is on top", "soft")
        ladder_head = row(
            label("Fix ladder", "heading"),
            label("work down, stop when the kick is clear; measured here", "soft"), 1,
            *(self._column(text) for text in ("kick clear", "bass lost", "pumping")), spacing=8, margins=(0, 0, 102, 0),
        )  # fmt: skip
        self.state = label("", "soft", name="fit.state", wrap=True)
        self.rungs: list[Rung] = []
        self._rung_space = column(spacing=5)
        inner = QWidget()
        inner.setLayout(
            column(
                head, self.spectra, row(self.bar_title, self.bar_note, 1, spacing=12), self.bar, ladder_head, self.state,
                self._rung_space, spacing=7, margins=(16, 10, 10, 10),
            )
        )  # fmt: skip
        stretch(inner, 1, 3)
        stretch(inner, 3, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        self.setLayout(column(scroll))

        self._watch = WhileVisible(self, desk.measuring, self._question, self._show_pair)
        self.shown_by(
            self._on_session, desk.session_changed, desk.measuring.findings_changed, desk.selection.loop_changed
        )

    @staticmethod
    def _column(text: str) -> QLabel:
        made = label(text, "soft")
        made.setFixedWidth(_COLUMN)
        made.setAlignment(Qt.AlignmentFlag.AlignRight)
        return made

    # --- which pair ----------------------------------------------------------------------------------------

    def _on_session(self) -> None:
        session = self.desk.session
        for box, roles in ((self.kick_box, ("kick",)), (self.bass_box, LOW_ROLES)):
            tracks = session.with_role(*roles)
            wanted = [(t.name, t.id) for t in tracks]
            if [(box.itemText(i), box.itemData(i)) for i in range(box.count())] != wanted:
                chosen = box.currentData()
                box.clear()
                for name, track_id in wanted:
                    box.addItem(name, track_id)
                at = box.findData(chosen)
                if at < 0 and box is self.bass_box:
                    at = next((i for i, t in enumerate(tracks) if t.role == "bass"), 0)
                box.setCurrentIndex(max(0, at))
        section = self.desk.selection.section
        first = next(f for s, f, _ in self.desk.song.spans() if s.id == section.id)
        self.where.setText(f"{section.name}, bars {first + 1}–{first + section.bars}")
        self._watch.ask()
        if self.desk.measuring.findings is not self._findings:  # those of before an edit are not worked out again
            self._on_findings()
        self._show_ladder()

    @property
    def pair_ids(self) -> tuple[str, str] | None:
        kick, bass = self.kick_box.currentData(), self.bass_box.currentData()
        return (kick, bass) if kick and bass else None

    def choose(self, kick_id: str, bass_id: str, rule: str = "") -> None:
        """Shows a pair, and the ladder of ``rule`` where it has more than one."""
        self._wanted_rule = rule
        self.kick_box.setCurrentIndex(self.kick_box.findData(kick_id))
        self.bass_box.setCurrentIndex(self.bass_box.findData(bass_id))
        self._pair_chosen()

    def _pair_chosen(self) -> None:
        self._finding = self._worked_out = self._worked_for = None
        self._watch.ask()
        self._on_findings()

    def show_finding(self, finding: Finding) -> None:
        kick, bass = finding.tracks
        self.choose(kick, bass, finding.rule)

    def _question(self) -> PairOf | None:
        if self.pair_ids is None:
            self._show_pair((None, None))
            return None
        bench = self.desk.bench
        return PairOf(bench.kept_graph, bench.trial_graph, self.desk.selection.section, self.pair_ids)

    # --- pictures ------------------------------------------------------------------------------------------

    def _show_pair(self, pair: tuple[PairView | None, PairView | None]) -> None:
        self._pair = a, b = pair
        first, now = a or b, b or a
        if first is None or now is None:
            words = (
                "Give one track the role kick and one the role bass or sub, in Brief."
                if self.pair_ids is None
                else "The two do not sound together in this section. Pick another one in the ribbon above."
            )
            self.spectra.show_curves((), empty=words)
            self.bar.show_curves((), empty="")
            return
        shared = np.minimum(first.kick_spectrum_db, now.bass_spectrum_db)
        curves = [
            Curve("shared", FREQS_HZ, shared, "clash", "hatch"),
            Curve("Kick", FREQS_HZ, first.kick_spectrum_db, "ink", "line"),
        ]
        if a is not None:
            curves.append(Curve("Bass A", FREQS_HZ, a.bass_spectrum_db, "a", "line" if b is None else "dash"))
        if b is not None:
            curves.append(Curve("Bass B", FREQS_HZ, b.bass_spectrum_db, "b", "line", 2.2))
        top = float(max(first.kick_spectrum_db.max(), now.bass_spectrum_db.max()))
        high = 10.0 * np.ceil((top + 4.0) / 10.0)
        ticks = tuple(high - 10 - 20 * i for i in range(4))
        self.spectra.set_axes(y=Axis(high - 75.0, high, "dB", ticks=ticks, name="Level"))
        hz = first.kick_hz
        self.spectra.show_curves(curves, [Mark(f"{hz:.1f} Hz  {name_pitch(hz, a4_hz=self.desk.song.a4_hz)}", hz)])

        beats = self.desk.song.bar_beats
        self.bar.set_axes(x=Axis(0.0, beats, "beat", ticks=tuple(range(int(beats) + 1)), name="Beat"))
        lows = [first.kick_low, *(view.bass_low for view in (a, b) if view is not None)]
        scale = 1.15 * max(float(max(low.max() for low in lows)), 1e-9)
        x = np.linspace(0.0, beats, len(first.kick_low))
        curves = [Curve("Kick", x, first.kick_low / scale, "line", "fill")]
        if a is not None:
            curves.append(Curve("Bass A", x, a.bass_low / scale, "a"))
        if b is not None:
            curves.append(Curve("Bass B", x, b.bass_low / scale, "b", "dash", 2.0))
        self.bar.show_curves(curves, [Mark("kick", hit * beats, colour="soft") for hit in first.hits])
        self.bar_note.setText(
            f"30–120 Hz, who is on top; bar {first.bar + 1} of the section.  Kick is {signed(now.clear_db, 'dB')} clear"
            + _start_words(now.gap_ms)
        )

    # --- ladder --------------------------------------------------------------------------------------------

    def _on_findings(self) -> None:
        """Take the finding of this pair, and have its fixes worked out when the kept session has changed."""
        desk, ids = self.desk, self.pair_ids
        self._findings = desk.measuring.findings
        if desk.measuring.findings is None or ids is None:
            self._show_ladder()
            return
        if desk.bench.trial is None or self._finding is None:
            found = [
                f
                for f in desk.measuring.findings
                if f.stage == "fit" and f.tracks == ids and f.section.id == desk.selection.section.id
            ]
            found.sort(
                key=lambda f: (f.rule != self._wanted_rule, not RULES[f.rule].ladder)
            )  # the clash has the whole ladder
            self._finding = found[0] if found else None
        wanted = (desk.bench.kept, ids, desk.selection.section.id)
        if self._finding is not None and not self._finding.fixes:
            done = self._worked_out if self._worked_for == wanted else None
            if done is not None and done.id == self._finding.id:
                self._finding = done
            else:
                self._worked_for, self._worked_out = wanted, None
                desk.measuring.work_out(self._finding, self._on_worked_out)
        self._show_ladder()

    def _on_worked_out(self, finding: Finding) -> None:
        if self.pair_ids == finding.tracks and finding.section.id == self.desk.selection.section.id:
            self._finding = self._worked_out = finding
            self._show_ladder()

    def _show_ladder(self) -> None:
        desk, finding = self.desk, self._finding
        if self.pair_ids is None:
            words = "The ladder needs a kick and a bass."
        elif desk.measuring.findings is None and finding is None:
            words = "Listening to this section…"
        elif finding is None:
            view = self._pair[1] or self._pair[0]
            how = f"The kick is {signed(view.clear_db, 'dB')} clear of the bass" if view else "Nothing clashes here"
            words = f"{how}; nothing to do. Clear from {signed(CLEAR_DB, 'dB', 0)}."
        elif not finding.fixes:
            words = f"{finding.sentence}. Working out the fixes on the real audio…"
        else:
            words = f"{finding.sentence}. {finding.advice}"
        self.state.setText(words)
        fixes = finding.fixes if finding is not None else ()
        if len(self.rungs) != len(fixes):
            clear(self._rung_space)
            self.rungs = [Rung(n, self) for n in range(1, len(fixes) + 1)]
            for rung in self.rungs:
                self._rung_space.addWidget(rung)
        trial = desk.bench.trial
        if finding is None:
            return
        for rung, fix in zip(self.rungs, fixes, strict=True):
            on_trial = trial is not None and trial.finding == finding.id and trial.fix == rung.number
            rung.show_fix(fix, "trial" if on_trial else "kept" if self._was_kept(finding, fix) else "")

    def _was_kept(self, finding: Finding, fix: Fix) -> bool:
        """Whether this rung was kept, and its version is one that the present one came from."""
        kept = self.desk.bench.kept
        for entry in self.desk.bench.log:
            if (
                entry.action == "kept"
                and entry.finding == finding.id
                and entry.title.startswith(fix.label)
                and entry.session
            ):
                track = next((t for t in entry.session.tracks if t.id == finding.tracks[1]), None)
                now = next((t for t in kept.tracks if t.id == finding.tracks[1]), None)
                if track is not None and now is not None:
                    labels = {d.label for d in now.chain}
                    if {d.label for d in track.chain} <= labels and track.nudge_ms == now.nudge_ms:
                        return True
        return False

    def try_rung(self, number: int) -> None:
        finding, desk = self._finding, self.desk
        if self._worked_for is None or self._worked_for[0] != desk.bench.kept:
            # A fix holds the version it was worked out from; an edit since then must not be lost by trying it.
            desk.message.emit("The kept version has changed; the fixes are being worked out again.")
            return
        if finding is not None and number <= len(finding.fixes) and finding.fixes[number - 1].applies:
            desk.try_fix(finding, number)

    @property
    def finding(self) -> Finding | None:
        return self._finding


STAGES.enter(Stage(key="fit", title="Fit", order=40, make=FitStage, leads=True))
