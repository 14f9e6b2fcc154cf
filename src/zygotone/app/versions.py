"""Versions: any two compared as sentences, taken over whole or in part, named, and told apart blind."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QDialog, QLineEdit, QListWidget, QListWidgetItem, QWidget

from zygotone.advise.blind import LEAST, MOST, USUAL_ANSWERS, Blind
from zygotone.advise.findings import reading_of
from zygotone.advise.questions import LevelMatch, Match, MixNumbers, NullOf
from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, column, label, restyle, row, stretch, whole_number_box
from zygotone.dsp.types import Stereo
from zygotone.engine.graph import compile_session
from zygotone.errors import ParameterError, ZygotoneError, one_line
from zygotone.measure.loudness import integrated_lufs
from zygotone.session.audio_files import AudioData
from zygotone.session.differences import Difference, differences, merged
from zygotone.session.models import ClipSource, Session, Track

_KEY = Qt.ItemDataRole.UserRole


@dataclass(frozen=True, slots=True)
class NamedVersion:
    name: str
    session: Session


def versions_of(desk: Desk) -> list[NamedVersion]:
    """What is kept, what is on trial, what stands aside, and what the log holds, the newest first."""
    bench = desk.bench
    found = [NamedVersion("A, kept", bench.kept)]
    if bench.trial is not None:
        found.append(NamedVersion(f"B, on trial: {bench.trial.title}", bench.trial.session))
    if bench.second is not None:
        found.append(NamedVersion(f"C, aside: {bench.second.title}", bench.second.session))
    for entry in reversed(bench.log):
        if entry.session is not None:
            found.append(NamedVersion(f"{entry.number}  {entry.action}: {entry.title}", entry.session))
    return found


def null_session(desk: Desk, audio: Stereo) -> Session:
    """A session that plays ``audio`` (2, n) where the loop is, and nothing else."""
    session = desk.session
    data = AudioData(np.ascontiguousarray(audio, dtype=np.float64), session.rate_hz, "FLOAT", "WAV")
    asset = desk.store.add(data, "null", session.rate_hz)
    start = desk.selection.loop_span()[0] / session.rate_hz
    track = Track(id="null", name="Null", source=ClipSource(asset=asset.id, start_s=start))
    return Session(rate_hz=session.rate_hz, song=session.song, tracks=(track,), assets=(asset,))


class VersionsDialog(QDialog):
    """Two versions, what the second has other than the first, and what to do about it."""

    def __init__(self, parent: QWidget, desk: Desk) -> None:
        super().__init__(parent)
        self.setObjectName("versions.dialog")
        self.setWindowTitle("Compare versions")
        self.desk = desk
        self._differences: tuple[Difference, ...] = ()
        self.first, self.second = QComboBox(), QComboBox()
        for box, name, text in (
            (self.first, "versions.first", "Version"),
            (self.second, "versions.second", "Other version"),
        ):
            box.setObjectName(name)
            box.setAccessibleName(text)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(34)
            box.activated.connect(self._compare)
        self.list = QListWidget()
        self.list.setObjectName("versions.differences")
        self.list.setAccessibleName("What the other version has other than the first")
        self.list.itemChanged.connect(self._on_ticked)
        self.words = label("", "soft", wrap=True, name="versions.words")
        self.take = button("Take over what is ticked", "versions.take", self._take, kind="keep")
        self.aside = button(
            "Swap B and C",
            "versions.aside",
            self._set_aside,
            tip="B stands aside as C, and what stood there comes back",
        )
        self.null = button(
            "Hear the null",
            "versions.null",
            self._hear_null,
            tip="Second less first, at equal loudness: all that differs",
        )
        self.null.setCheckable(True)
        self.null.setProperty("kind", "choice")
        self.name = QLineEdit()
        self.name.setObjectName("versions.name")
        self.name.setAccessibleName("Name of the kept version")
        self.name.setPlaceholderText("Name of the version that is kept now")
        self.name.setMaxLength(80)
        self.sentence = QLineEdit()
        self.sentence.setObjectName("versions.sentence")
        self.sentence.setAccessibleName("What it is, in a sentence")
        self.sentence.setPlaceholderText("A sentence about it (may be left empty)")
        self.sentence.setMaxLength(500)
        self.setLayout(
            column(
                row(self.first, label("against", "soft"), self.second, spacing=8), self.list, self.words,
                row(
                    button("Tick all", "versions.all", lambda: self._tick(True)), button("Tick none", "versions.none", lambda: self._tick(False)), 1,
                    self.null, button("Compare blind…", "versions.blind", self._blind), self.aside, self.take, spacing=8,
                ),
                row(self.name, self.sentence, button("Name it", "versions.name_it", self._name_it), spacing=8),
                row(1, button("Close", "versions.close", self.accept)), spacing=10, margins=(18, 16, 18, 14),
            )
        )  # fmt: skip
        stretch(self, 1, 1)
        self.resize(760, 560)
        self._fill()

    def _fill(self) -> None:
        self._versions = versions_of(self.desk)
        for box, at in ((self.first, 0), (self.second, 1)):
            chosen = max(0, box.currentIndex()) if box.count() else at
            box.clear()
            box.addItems([v.name for v in self._versions])
            box.setCurrentIndex(min(chosen, len(self._versions) - 1))
        self._compare()

    def versions(self) -> tuple[NamedVersion, NamedVersion]:
        return self._versions[self.first.currentIndex()], self._versions[self.second.currentIndex()]

    def _compare(self) -> None:
        one, other = self.versions()
        self._differences = differences(one.session, other.session)
        self.list.blockSignals(True)
        self.list.clear()
        for each in self._differences:
            item = QListWidgetItem(each.sentence)
            item.setData(_KEY, each.key)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        self._on_ticked()

    def ticked(self) -> tuple[str, ...]:
        items = [self.list.item(i) for i in range(self.list.count())]
        return tuple(i.data(_KEY) for i in items if i.checkState() == Qt.CheckState.Checked)

    def _tick(self, on: bool) -> None:
        for i in range(self.list.count()):
            self.list.item(i).setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)

    def _on_ticked(self) -> None:
        one, _ = self.versions()
        present = one.session is self.desk.session
        count = len(self._differences)
        if not count:
            self.words.setText("They are the same.")
        elif not present:
            self.words.setText(
                f"{count} differences. To take some over, let the first be the version that you work on now."
            )
        else:
            self.words.setText(
                f"{count} differences. What is ticked comes into the version that you work on now, as one step."
            )
        self.take.setEnabled(present and bool(self.ticked()))
        self.aside.setEnabled(self.desk.bench.trial is not None or self.desk.bench.second is not None)

    def _take(self) -> None:
        _, other = self.versions()
        keys = self.ticked()
        try:
            merged(self.desk.session, other.session, keys)
        except (ZygotoneError, ValueError) as error:
            self.words.setText(f"That does not go by itself: {one_line(error)}")
            return
        if self.desk.edit(
            f"Take over {len(keys)} of {other.name.split(':')[0]}", lambda s: merged(s, other.session, keys)
        ):
            self._fill()

    def _set_aside(self) -> None:
        self.desk.set_aside()
        self._fill()

    def _name_it(self) -> None:
        name = self.name.text().strip()
        if not name:
            self.words.setText("A version needs a name.")
            return
        match = self.desk.measuring.match
        readings = (
            ()
            if match is None
            else (reading_of("integrated_lufs", None, match.a.lufs), reading_of("mix_dbtp", None, match.a.dbtp))
        )
        self.desk.bench.name_version(name, self.sentence.text().strip(), readings)
        self.name.clear()
        self.sentence.clear()
        self._fill()
        self.words.setText(f"“{name}” is in the log, and in this list.")

    def _hear_null(self) -> None:
        desk = self.desk
        if not self.null.isChecked():
            desk.listening.compare(None)
            return
        one, other = self.versions()
        if one.session == other.session:
            self.null.setChecked(False)
            self.words.setText("They are the same; nothing is left of one less the other.")
            return
        kept = desk.bench.kept_graph
        a, b = (compile_session(v.session, kept) for v in (one, other))
        self.words.setText("Working out what is left of one less the other…")
        desk.measuring.ask(NullOf(a, b, desk.selection.loop_span()), self._on_null, urgency=1)

    def _on_null(self, audio: Stereo) -> None:
        if not self.null.isChecked():
            return
        desk = self.desk
        peak = float(np.max(np.abs(audio), initial=0.0))
        if peak < 1e-6:
            self.null.setChecked(False)
            self.words.setText("Nothing is left: in this loop the two sound the same.")
            return
        graph = compile_session(null_session(desk, audio))
        desk.listening.compare((graph, graph), Match(MixNumbers(0.0, 0.0), MixNumbers(0.0, 0.0)))
        desk.listening.hear(0)
        if not desk.listening.playing:
            desk.listening.toggle_play()
        lufs = integrated_lufs(audio, desk.session.rate_hz)
        told = "softer than can be measured" if lufs < -70.0 else f"{lufs:.1f} LUFS".replace("-", "−")
        self.words.setText(
            f"You hear what differs: {told}, {20.0 * math.log10(peak):.1f} dBFS at its peak.".replace("-", "−")
        )

    def done(self, result: int) -> None:
        self.desk.measuring.worker.cancel("null")
        self.desk.listening.compare(None)
        super().done(result)

    def _blind(self) -> None:
        self.null.setChecked(False)
        self.desk.listening.compare(None)
        one, other = self.versions()
        if one.session == other.session:
            self.words.setText("They are the same; there is nothing to tell apart.")
            return
        dialog = BlindDialog(self, self.desk, one, other)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()


class BlindDialog(QDialog):
    """Hear one, the other, and X, which is one of both; say which. At equal loudness."""

    def __init__(self, parent: QWidget, desk: Desk, one: NamedVersion, other: NamedVersion) -> None:
        super().__init__(parent)
        self.setObjectName("blind.dialog")
        self.setWindowTitle("Compare blind")
        self.desk, self.one, self.other = desk, one, other
        self.test: Blind | None = None
        self.count = whole_number_box()
        self.count.setObjectName("blind.count")
        self.count.setAccessibleName("How many answers")
        self.count.setRange(LEAST, MOST)
        self.count.setValue(USUAL_ANSWERS)
        self.begin = button("Begin", "blind.begin", self._begin, kind="keep")
        self.hear = {
            key: button(f"Hear {word}", f"blind.hear.{key}", lambda key=key: self.play(key))
            for key, word in (("one", "first"), ("other", "second"), ("x", "X"))
        }
        self.says = [
            button(f"X is the {word}", f"blind.answer.{i}", lambda i=i: self._answer(i))
            for i, word in enumerate(("first", "second"))
        ]
        self.words = label(
            "Say how many answers you will give; the result counts when all are given. Both play at equal loudness, in the loop.", "soft",
            wrap=True, name="blind.words",
        )  # fmt: skip
        self.setLayout(
            column(
                label(f"First: {one.name}", "heading", wrap=True), label(f"Second: {other.name}", "heading", wrap=True),
                row(label("Answers"), self.count, self.begin, 1, spacing=8), row(*self.hear.values(), 1, spacing=8), row(*self.says, 1, spacing=8),
                self.words, row(1, button("Close", "blind.close", self.accept)), spacing=10, margins=(18, 16, 18, 14),
            )
        )  # fmt: skip
        self.setMinimumWidth(460)
        self._enable(False)
        kept = desk.bench.kept_graph
        self._graphs = compile_session(one.session, kept), compile_session(other.session, kept)

    def _enable(self, on: bool) -> None:
        for each in (*self.hear.values(), *self.says):
            each.setEnabled(on)

    def _begin(self) -> None:
        try:
            self.test = Blind(self.count.value())
        except ParameterError as error:
            self.words.setText(str(error))
            return
        self.begin.setEnabled(False)
        self.count.setEnabled(False)
        self.words.setText("Measuring their loudness…")
        span = self.desk.selection.loop_span()
        self.desk.measuring.ask(LevelMatch(*self._graphs, span, name="blind match"), self._on_match, urgency=1)

    def _on_match(self, match: Match) -> None:
        self.desk.listening.compare(self._graphs, match)
        self._enable(True)
        self.play("x")
        if not self.desk.listening.playing:
            self.desk.listening.toggle_play()
        self._tell()

    def play(self, key: str) -> None:
        """One of one, other and x."""
        assert self.test is not None
        self.desk.listening.hear({"one": 0, "other": 1}.get(key, self.test.x))
        for name, each in self.hear.items():
            restyle(each, kind="chosen" if name == key else "")

    def _answer(self, x_is: int) -> None:
        assert self.test is not None
        self.test.answer(x_is)
        if self.test.done:
            self._enable(False)
            self.desk.bench.note(
                "made", f"Blind comparison: {self.test.verdict}", reason=f"{self.one.name} against {self.other.name}",
                section=self.desk.selection.section.id,
            )  # fmt: skip
            self.desk.listening.compare(None)
        else:
            self.play("x")
        self._tell()

    def _tell(self) -> None:
        assert self.test is not None
        given = len(self.test.given)
        self.words.setText(self.test.verdict if self.test.done else f"{given} of {self.test.answers} answers given.")

    def done(self, result: int) -> None:
        self.desk.measuring.worker.cancel("blind match")
        self.desk.listening.compare(None)
        super().done(result)
