"""The fix ladder of a finding: which finding, its rungs with what each gains and costs, and what else can be done."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QFrame, QLabel, QPushButton, QSizePolicy, QWidget

from zygotone.advise.findings import RULES, Finding, Fix
from zygotone.advise.ladder import worth
from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import (
    SentenceBox,
    as_plain,
    button,
    clear,
    column,
    label,
    restyle,
    row,
    signed,
    stretch,
)
from zygotone.measure.quantities import find_quantity

_COLUMN = 66  # width of the numbers
_BARS = {"strong": "▮▮▮", "fair": "▮▮▯", "slight": "▮▯▯"}
# What is filtered by: word and the range of frequencies that a finding's band must meet.
_BANDS = (
    ("all frequencies", None),
    ("lows", (20.0, 200.0)),
    ("low mids", (200.0, 800.0)),
    ("mids", (800.0, 5000.0)),
    ("top", (5000.0, 20000.0)),
)


class Rung(QFrame):
    """One fix of the ladder."""

    def __init__(self, number: int, ladder: Ladder) -> None:
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
        self.action: QPushButton = button("Try", f"fit.ladder.{number}.try", lambda: ladder.try_rung(number))
        self.action.setFixedWidth(84)
        self.setLayout(
            row(label(str(number), "soft"), self.name, self.detail, self.why, self.gain, self.lost, self.pumping, self.action,
                spacing=8, margins=(12, 4, 10, 4))
        )  # fmt: skip
        stretch(self, 2, 1)
        stretch(self, 3, 1)
        self.setFixedHeight(40)

    def show_fix(self, fix: Fix, state: str, *, best: bool) -> None:
        """``state``: "", "kept" or "trial"; ``best``: whether it gains most for what it costs."""
        self.name.setText(fix.label)
        self.name.setToolTip("Of these it gains most for what it costs." if best else "")
        self.detail.setText(fix.detail)
        self.detail.setVisible(fix.applies)
        self.why.setVisible(not fix.applies)
        self.why.setText("" if fix.applies else f"Not here: {fix.why_not}.")
        for each in (self.gain, self.lost, self.pumping):
            each.setVisible(fix.applies)
        if fix.applies and fix.gain:
            name, gain = gain_of(fix)
            quantity = find_quantity(name)
            self.gain.setText(quantity.text(gain, signed=True))
            better = gain < 0.0 if quantity.better == "lower" else gain > 0.0
            restyle(self.gain, good=bool(better and self.gain.text().strip("+−") != quantity.text(0.0)))
            reading = next((r for r in fix.readings if r.name == name), None)
            if reading is not None and reading.after is not None:
                self.gain.setToolTip(
                    f"{reading.label} would be {reading.after:.{quantity.digits}f} {quantity.unit}".strip().replace(
                        "-", "−"
                    )
                    + "."
                )
            lost = fix.cost.get("lost_lu", fix.cost.get("bass_lost_lu", 0.0))
            self.lost.setText(
                "all of it" if lost >= 59.0 else "none" if abs(lost) < 0.05 else signed(lost, "LU").lstrip("+")
            )
            pumping = fix.cost.get("pumping_db", 0.0)
            self.pumping.setText("none" if pumping < 0.05 else f"{pumping:.1f} dB")
        words = {"": "Try", "kept": "kept", "trial": "on trial"}
        self.action.setText(words[state] if fix.applies or state else "Try")
        self.action.setEnabled(fix.applies and state != "trial")
        self.action.setAccessibleName(f"{words[state]} {fix.label}")
        restyle(self.action, kind={"": "", "kept": "kept", "trial": "ontrial"}[state])
        restyle(self, trial="true" if state == "trial" else "false")


def gain_of(fix: Fix) -> tuple[str, float]:
    """The quantity that a fix is for, and its change."""
    name = "click_clear_db" if "click_clear_db" in fix.gain else next(iter(fix.gain))
    return name, fix.gain[name]


class Ladder(QWidget):
    """``chosen`` tells which finding a hand picked, for the view to show it."""

    chosen = Signal(object)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.finding: Finding | None = None
        self._listed: tuple[Finding, ...] = ()
        self._worked_for: tuple[object, ...] | None = None  # kept version, finding and section of the fixes shown
        self._worked_out: Finding | None = None  # with those fixes
        self._quiet = ""  # what is said where there is nothing
        self.box = SentenceBox()
        self.of_track, self.of_band, self.of_kind = (QComboBox() for _ in range(3))
        for box, name, text in (
            (self.box, "fit.finding", "Finding"), (self.of_track, "fit.filter.track", "Only of a track"),
            (self.of_band, "fit.filter.band", "Only in a range of frequencies"), (self.of_kind, "fit.filter.kind", "Only of a kind"),
        ):  # fmt: skip
            box.setObjectName(name)
            box.setAccessibleName(text)
        for word, band in _BANDS:
            self.of_band.addItem(word, band)
        self.of_kind.addItem("all kinds", None)
        self.of_kind.addItems(("between tracks", "of one track", "of the mix"))
        self.box.activated.connect(self._picked)
        for box in (self.of_track, self.of_band, self.of_kind):
            box.activated.connect(lambda _: self._fill())
        self.state = label("", "soft", name="fit.state", wrap=True)
        self.head = label("gain", "soft")
        self.rungs: list[Rung] = []
        self._space = column(spacing=4)
        self.meant = button(
            "On purpose…",
            "fit.on_purpose",
            self._on_purpose,
            tip="It is meant: keep quiet about it until it gets worse",
        )
        heads = [self.head, *(self._column(text) for text in ("lost", "pumping"))]
        self.head.setFixedWidth(_COLUMN + 60)
        self.head.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.box.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.state.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        self.setLayout(
            column(
                row(label("Fix ladder", "heading"), self.box, self.of_track, self.of_band, self.of_kind, spacing=6),
                row(self.state, *heads, spacing=8, margins=(0, 0, 102, 0)), self._space, spacing=5,
            )
        )  # fmt: skip
        self.box.setMinimumContentsLength(24)
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        for box in (self.of_track, self.of_band, self.of_kind):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)

    @staticmethod
    def _column(text: str) -> QLabel:
        made = label(text, "soft")
        made.setFixedWidth(_COLUMN)
        made.setAlignment(Qt.AlignmentFlag.AlignRight)
        return made

    # --- which finding -------------------------------------------------------------------------------------

    def follow(self, quiet: str, wanted: Finding | None = None) -> None:
        """After an edit, or where another finding is wanted."""
        self._quiet = quiet
        if wanted is not None:
            for box in (self.of_track, self.of_band, self.of_kind):
                box.setCurrentIndex(0)
            self.finding = wanted
        self._fill()

    def _fill(self) -> None:
        """The list of findings of the section that have a ladder, as they are filtered; the chosen one stays."""
        desk = self.desk
        tracks = [(s.name, s.id) for s in desk.session.strips()]
        if [(self.of_track.itemText(i), self.of_track.itemData(i)) for i in range(1, self.of_track.count())] != tracks:
            track = self.of_track.currentData()
            self.of_track.clear()
            self.of_track.addItem("all tracks", None)
            for name, strip_id in tracks:
                self.of_track.addItem(name, strip_id)
            self.of_track.setCurrentIndex(max(0, self.of_track.findData(track)))
        known = {s.id for s in desk.session.strips()}
        found = [
            f for f in desk.measuring.findings or ()
            if RULES[f.rule].ladder and known.issuperset(f.tracks) and f.section.id == desk.selection.section.id
        ]  # fmt: skip
        self._listed = tuple(filter(self._shown, found))
        if desk.bench.trial is None or self.finding is None:
            mine = self.finding.id if self.finding is not None else ""
            self.finding = next((f for f in self._listed if f.id == mine), None) or self._first()
        elif all(
            f.id != self.finding.id for f in self._listed
        ):  # mended by what is on trial, and followed all the same
            self._listed = (self.finding, *self._listed)
        self._name_them()
        at = next((i for i, f in enumerate(self._listed) if self.finding is not None and f.id == self.finding.id), -1)
        self.box.setCurrentIndex(at)
        self.box.setEnabled(bool(self._listed))
        self._work_out()
        self.show_state()

    def _name_them(self) -> None:
        words = [self._words(f) for f in self._listed]
        if self.box.count() != len(words):
            self.box.clear()
            self.box.addItems(words)
        for at, text in enumerate(words):
            if self.box.itemText(at) != text:
                self.box.setItemText(at, text)

    def _first(self) -> Finding | None:
        """Of this stage the gravest, of all of them where it has none."""
        open_ones = [f for f in self._listed if f.on_purpose is None]
        return next((f for f in open_ones if f.stage == "fit"), next(iter(open_ones), None))

    def _shown(self, finding: Finding) -> bool:
        track, band, kind = self.of_track.currentData(), self.of_band.currentData(), self.of_kind.currentIndex()
        if track is not None and track not in finding.tracks:
            return False
        if band is not None and (
            finding.band_hz is None or finding.band_hz[1] <= band[0] or finding.band_hz[0] >= band[1]
        ):
            return False
        over_mix = self.desk.session.mix.id in finding.subject
        mine = 3 if over_mix else 1 if len(finding.tracks) > 1 else 2
        return kind in (0, mine)

    def _words(self, finding: Finding) -> str:
        trial = self.desk.bench.trial
        tried = "On trial: " if trial is not None and trial.finding == finding.id else ""
        meant = " (on purpose)" if finding.on_purpose is not None else ""
        return f"{_BARS[finding.strength]}  {tried}{finding.sentence}{meant}"

    def _picked(self, at: int) -> None:
        if 0 <= at < len(self._listed):
            self.finding = self._listed[at]
            self._work_out()
            self.show_state()
            self.chosen.emit(self.finding)

    # --- fixes ---------------------------------------------------------------------------------------------

    def _work_out(self) -> None:
        """Have its fixes worked out when the kept session has changed."""
        desk, finding = self.desk, self.finding
        if finding is None or finding.fixes:
            return
        wanted = (desk.bench.kept, finding.id, desk.selection.section.id)
        if self._worked_for == wanted:
            if self._worked_out is not None:
                self.finding = self._worked_out
            return
        self._worked_for, self._worked_out = wanted, None
        desk.measuring.work_out(finding, self._on_worked_out)

    def _on_worked_out(self, finding: Finding) -> None:
        if (
            self.finding is not None
            and self.finding.id == finding.id
            and finding.section.id == self.desk.selection.section.id
        ):
            self.finding = self._worked_out = finding
            self.show_state()

    def show_state(self) -> None:
        desk, finding = self.desk, self.finding
        self._name_them()
        if desk.measuring.findings is None and finding is None:
            words = "Listening to this section…"
        elif finding is None:
            words = self._quiet
        elif finding.on_purpose is not None:
            words = f"On purpose: {finding.on_purpose}. {finding.sentence}."
        elif not finding.fixes:
            words = f"{finding.sentence}. Working out the fixes on the real audio…"
        else:
            words = f"{finding.sentence}. {finding.advice}"
        self.state.setText(words)
        self.meant.setVisible(finding is not None)
        self.meant.setText(
            "Judge it again" if finding is not None and finding.on_purpose is not None else "On purpose…"
        )
        fixes = finding.fixes if finding is not None else ()
        if len(self.rungs) != len(fixes):
            clear(self._space)
            self.rungs = [Rung(n, self) for n in range(1, len(fixes) + 1)]
            for rung in self.rungs:
                self._space.addWidget(rung)
        if finding is None:
            self.head.setText("")
            return
        gain = next((gain_of(fix)[0] for fix in fixes if fix.applies and fix.gain), RULES[finding.rule].reads[0])
        self.head.setText(self._short(find_quantity(gain).label))
        self.head.setToolTip(find_quantity(gain).label)
        trial = desk.bench.trial
        best = max((worth(fix) for fix in fixes if fix.applies), default=0.0)
        for rung, fix in zip(self.rungs, fixes, strict=True):
            on_trial = trial is not None and trial.finding == finding.id and trial.fix == rung.number
            state = "trial" if on_trial else "kept" if self._was_kept(finding, fix) else ""
            rung.show_fix(fix, state, best=fix.applies and worth(fix) == best > 0.0)
            rung.lost.setToolTip(as_plain(self._losses(fix)) if fix.applies else "")

    def _losses(self, fix: Fix) -> str:
        """What a fix costs every track and the mix, in words."""
        names = {strip.id: strip.name for strip in self.desk.bench.kept.strips()}
        lost = sorted(fix.losses_lu.items(), key=lambda each: -each[1])
        said = [f"{names[s]} {'all of it' if lu >= 59.0 else f'{lu:.1f} LU'}" for s, lu in lost if s in names]
        mix = signed(fix.cost.get("mix_change_lu", 0.0), "LU")
        return f"Softer: {', '.join(said) or 'no track'}. The mix changes by {mix}."

    def _short(self, text: str) -> str:
        return self.head.fontMetrics().elidedText(text.lower(), Qt.TextElideMode.ElideRight, self.head.width())

    def _was_kept(self, finding: Finding, fix: Fix) -> bool:
        """Whether this rung was kept, and not undone since."""
        kept = False
        for entry in self.desk.bench.log:
            mine = entry.finding == finding.id and entry.title.startswith(fix.label)
            if entry.action == "kept" and mine:
                kept, title = True, entry.title
            elif kept and entry.action in ("undone", "redone") and entry.title == f"Keep: {title}":
                kept = entry.action == "redone"
            elif kept and entry.action == "restored":
                kept = False
        return kept

    def try_rung(self, number: int) -> None:
        finding, desk = self.finding, self.desk
        if self._worked_for is None or self._worked_for[0] != desk.bench.kept:
            # A fix holds the version it was worked out from; an edit since then must not be lost by trying it.
            desk.message.emit("The kept version has changed; the fixes are being worked out again.")
            return
        if finding is not None and number <= len(finding.fixes) and finding.fixes[number - 1].applies:
            desk.try_fix(finding, number)

    def _on_purpose(self) -> None:
        from zygotone.app.stages.fit.dialogs import ask_reason

        finding = self.finding
        if finding is None:
            return
        if finding.on_purpose is not None:
            self.desk.judge_again(finding)
        elif (said := ask_reason(self, finding)) is not None:
            self.desk.accept_finding(finding, *said)
