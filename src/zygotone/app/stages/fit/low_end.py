"""Low end over time: kick against bass, both spectra, and who is on top over one bar."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QComboBox

from zygotone.advise.findings import Finding
from zygotone.advise.questions import PairOf
from zygotone.advise.views import FREQS_HZ, PairView
from zygotone.app.desk import Desk
from zygotone.app.measuring import WhileVisible
from zygotone.app.stages.fit.view import FitView
from zygotone.app.widgets.basic import column, label, row, signed, stretch
from zygotone.app.widgets.plot import FREQUENCY, Axis, Curve, Mark, Plot
from zygotone.measure.low_end import CLEAR_DB
from zygotone.music.pitch import name_pitch
from zygotone.session.models import LOW_ROLES

LEVEL = Axis(-80.0, -5.0, "dB", ticks=(-70, -50, -30, -10), name="Level")
BAR = Axis(0.0, 4.0, "beat", ticks=(0, 1, 2, 3, 4), name="Beat")


def _start_words(gap_ms: float) -> str:
    if not np.isfinite(gap_ms):
        return ""
    return f", bass starts {abs(gap_ms):.1f} ms {'before' if gap_ms < 0 else 'after'} it"


class LowEndView(FitView):
    """Chooses a kick and a bass."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "fit.low_end")
        self.pair: tuple[PairView | None, PairView | None] = (None, None)  # in A and in B
        self.kick_box, self.bass_box = QComboBox(), QComboBox()
        for box, name, text in ((self.kick_box, "fit.kick", "Kick track"), (self.bass_box, "fit.bass", "Bass track")):
            box.setObjectName(name)
            box.setAccessibleName(text)
            box.activated.connect(self._ask)
        head = row(self.kick_box, label("against", "soft"), self.bass_box, 1, spacing=10)
        self.spectra = Plot(FREQUENCY, LEVEL, name="fit.spectra", accessible="Spectra of kick and bass", height=170)
        self.bar = Plot(
            BAR, Axis(0.0, 1.0, "", ticks=()), name="fit.bar", accessible="Low end over one bar", height=104
        )
        self.bar_note = label("30–120 Hz, who is on top", "soft")
        self.setLayout(
            column(
                head,
                self.spectra,
                row(label("Low end over one bar", "heading"), self.bar_note, 1, spacing=12),
                self.bar,
                spacing=6,
            )
        )
        stretch(self, 1, 3)
        stretch(self, 3, 1)
        self._watch = WhileVisible(self, desk.measuring, self._question, self._show_pair)

    def _ask(self) -> None:
        self._watch.ask()

    def bring_up_to_date(self) -> None:
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
        self._watch.ask()

    @property
    def pair_ids(self) -> tuple[str, str] | None:
        kick, bass = self.kick_box.currentData(), self.bass_box.currentData()
        return (kick, bass) if kick and bass else None

    @property
    def title(self) -> str:
        return "Kick against bass"

    @property
    def tracks(self) -> tuple[str, ...]:
        return self.pair_ids or ()

    @staticmethod
    def takes(finding: Finding) -> bool:
        return finding.rule in ("kick_bass_clash", "kick_bass_timing", "kick_click_buried")

    def show_finding(self, finding: Finding) -> None:
        if len(finding.tracks) == 2:
            self.kick_box.setCurrentIndex(self.kick_box.findData(finding.tracks[0]))
            self.bass_box.setCurrentIndex(self.bass_box.findData(finding.tracks[1]))
            self._watch.ask()

    def quiet_words(self) -> str:
        """What is said where nothing is wrong."""
        view = self.pair[1] or self.pair[0]
        how = f"The kick is {signed(view.clear_db, 'dB')} clear of the bass" if view else "Nothing clashes here"
        return f"{how}; nothing to do. Clear from {signed(CLEAR_DB, 'dB', 0)}."

    def _question(self) -> PairOf | None:
        if self.pair_ids is None:
            self._show_pair((None, None))
            return None
        bench = self.desk.bench
        return PairOf(bench.kept_graph, bench.trial_graph, self.desk.selection.section, self.pair_ids)

    # --- pictures ------------------------------------------------------------------------------------------

    def _show_pair(self, pair: tuple[PairView | None, PairView | None]) -> None:
        self.pair = a, b = pair
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
