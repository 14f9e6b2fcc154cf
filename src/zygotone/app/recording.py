"""Records from an input while the song plays, take after take, and puts each into the song where it was sung."""

from __future__ import annotations

import shutil
import uuid
from contextlib import suppress
from pathlib import Path

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QDoubleSpinBox, QFileDialog, QFormLayout, QWidget

from zygotone.app.desk import Desk
from zygotone.app.widgets.basic import button, column, label, number_box, row, whole_number_box
from zygotone.app.widgets.meter import LevelBar
from zygotone.engine.coming_take import RecordingPlan, Taken
from zygotone.engine.inputs import Input, SimulatedInput, portaudio_inputs
from zygotone.engine.recording import SIDES, count_in
from zygotone.errors import ZygotoneError
from zygotone.session.audio_files import AUDIO_SUFFIXES, read_audio
from zygotone.session.clip_edits import with_take
from zygotone.session.models import ClipSource, Session, Track

_LOOK_MS = 50
_MOST_BARS = 4
_MOST_EARLIER_MS = 500.0
_FULL = 0.999


class RecordDialog(QDialog):
    """Stays open beside the window: one listens, goes back, and takes another."""

    def __init__(self, parent: QWidget, desk: Desk) -> None:
        super().__init__(parent)
        self.setObjectName("record")
        self.setWindowTitle("Record")
        self._desk = desk
        self.input, self.side, self.onto = QComboBox(), QComboBox(), QComboBox()
        self.bars = whole_number_box()
        self.bars.setRange(0, _MOST_BARS)
        self.bars.setSpecialValueText("none")
        self.bars.valueChanged.connect(lambda bars: self.bars.setSuffix(" bar" if bars == 1 else " bars"))
        self.earlier: QDoubleSpinBox = number_box()
        self.earlier.setRange(-_MOST_EARLIER_MS, _MOST_EARLIER_MS)
        self.earlier.setDecimals(1)
        self.earlier.setSuffix(" ms")
        self.earlier.setToolTip(
            "What the devices tell of the time they need is made up for by itself; this is for what they do not tell. "
            "Below 0 puts takes later."
        )
        self.level = LevelBar("record.level", "Input level")
        form = QFormLayout()
        for words, name, field in (
            ("Input", "input", self.input), ("Channels", "side", self.side), ("Level", "level", self.level), ("Count-in", "bars", self.bars),
            ("It goes", "onto", self.onto), ("Put earlier by", "earlier", self.earlier),
        ):  # fmt: skip
            field.setObjectName(f"record.{name}")
            field.setAccessibleName(words)
            form.addRow(words, field)
        for side, words in SIDES.items():
            self.side.addItem(words, side)
        self.told = label("", "soft", name="record.told", wrap=True)
        self.state = label("", name="record.state", wrap=True)
        self.go = button("Record", "record.go", self._toggle, kind="strong")
        self.go.setDefault(True)
        close = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        close.rejected.connect(self.reject)
        self.setLayout(column(self.told, form, self.state, row(self.go, 1, close, spacing=8), spacing=10, margins=(14, 12, 14, 12)))  # fmt: skip
        self.setMinimumWidth(460)
        self._inputs: list[Input | None] = []
        self._fill_inputs()
        self.bars.setValue(round(self._last("bars", 1.0)))
        self.earlier.setValue(self._last("earlier_ms", 0.0))
        self.input.activated.connect(self._use)
        self._recorded_onto: str | None = None
        self._path: Path | None = None  # where the take comes that was asked for
        self._began = False
        for signal in (desk.selection.changed, desk.selection.loop_changed, desk.session_changed):
            signal.connect(self._show)
        desk.listening.taken.connect(self._on_taken)
        desk.opened.connect(self.reject)  # what was to be recorded belongs to the song that was here
        self._clock = QTimer(self, interval=_LOOK_MS)
        self._clock.timeout.connect(self._look)
        self._clock.start()
        self._show()

    def _last(self, name: str, else_: float) -> float:
        """What was set the last time; the settings are a file, which may hold anything."""
        with suppress(ValueError):
            return float(str(self._desk.settings.value(f"record/{name}", else_)))
        return else_

    # --- what is asked for ---------------------------------------------------------------------------------

    def _fill_inputs(self) -> None:
        self._inputs = [None, *portaudio_inputs(), None]
        self.input.addItem("choose one")
        for each in self._inputs[1:-1]:
            assert each is not None
            self.input.addItem(each.name)
        self.input.addItem("simulated singer, who sings a file…")

    def _use(self, at: int) -> None:
        wanted = self._inputs[at]
        if at == self.input.count() - 1:
            pattern = " ".join(f"*{s}" for s in AUDIO_SUFFIXES)
            path, _ = QFileDialog.getOpenFileName(self, "What is sung", "", f"Audio ({pattern})")
            if not path:
                self.input.setCurrentIndex(0)
                self.use(None)
                return
            wanted = SimulatedInput(Path(path))
            self._inputs[at] = wanted
            self.input.setItemText(at, wanted.name)
        self.use(wanted)

    def use(self, wanted: Input | None) -> None:
        """From now on its level is shown."""
        if wanted is not None and wanted not in self._inputs:
            self._inputs[-1] = wanted
            self.input.setItemText(self.input.count() - 1, wanted.name)
        self.input.setCurrentIndex(self._inputs.index(wanted))
        self._desk.listening.transport.recorder.open(wanted)
        self._show()

    @property
    def _used(self) -> Input | None:
        return self._inputs[self.input.currentIndex()]

    def _track(self) -> Track | None:
        """The selected one, where it plays clips."""
        strip = self._desk.session.strip(self._desk.selection.track_id)
        return strip if isinstance(strip, Track) and isinstance(strip.source, ClipSource) else None

    def _show(self) -> None:
        desk, track = self._desk, self._track()
        sections = [desk.song.section(i).name for i in desk.selection.loop]
        span = sections[0] if len(sections) == 1 else f"{sections[0]} to {sections[-1]}"
        self.told.setText(
            f"Records once over what is looped, {span}, while the song plays. Use headphones: an input hears loudspeakers too, and "
            "what it hears is not played back while it records."
        )
        wanted = self.onto.currentData()
        self.onto.clear()
        self.onto.addItem("onto a new track", None)
        if track is not None:
            self.onto.addItem(f"onto {track.name}, in the place of what it plays there", track.id)
        self.onto.setCurrentIndex(max(0, self.onto.findData(wanted)))
        recording = desk.listening.recording
        self.go.setText("Stop" if recording else "Record")
        self.go.setEnabled(recording or self._used is not None)
        for field in (self.input, self.side, self.bars, self.onto, self.earlier):
            field.setEnabled(not recording)

    # --- takes ---------------------------------------------------------------------------------------------

    def _toggle(self) -> None:
        desk, listening = self._desk, self._desk.listening
        if listening.recording:
            listening.transport.recorder.stop()
            return
        song, rate = desk.song, desk.session.rate_hz
        start, end = desk.selection.loop_span()
        beats = self.bars.value() * song.beats_per_bar
        beat_s = song.bar_s / song.beats_per_bar
        for name, value in (("bars", self.bars.value()), ("earlier_ms", self.earlier.value())):
            desk.settings.setValue(f"record/{name}", value)
        folder = desk.files.takes
        with suppress(OSError):  # who records says what is the matter
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        desk.files.take_begins()
        self._recorded_onto, self._began = self.onto.currentData(), True
        self._path = folder / f"{uuid.uuid4().hex}.wav"
        self.state.setText("")
        listening.record(
            RecordingPlan(
                self._path, start, end, count_in(beats, song.beats_per_bar, beat_s, rate) if beats else np.zeros(0),
                self.side.currentData(), self.earlier.value(),
            )
        )  # fmt: skip
        self._show()

    def _look(self) -> None:
        listening = self._desk.listening
        self.level.show_peak(listening.transport.recorder.peak)
        if listening.recording:
            start, end = self._desk.selection.loop_span()
            rate = self._desk.session.rate_hz
            done = (listening.player.heard_position() - start) / rate
            words = "Counting in." if done <= 0.05 else f"Recording: {done:.0f} of {(end - start) / rate:.0f} s."
            self.state.setText(words)
        elif self._began:
            self._began = False
            self.state.setText("")
            self._show()

    def _on_taken(self, taken: Taken) -> None:
        """In the song, as one step that can be undone; the file it came in is not needed then."""
        desk, onto = self._desk, self._recorded_onto
        if taken.path != self._path:  # of a song that was here before
            return
        self._began = False

        def put(session: Session) -> tuple[Session, str]:
            asset = desk.store.add(read_audio(taken.path), "Take", session.rate_hz)
            return with_take(session, asset, taken.start, onto=onto, after=desk.selection.track_id)

        try:
            made = desk.make("Record a take", put)
        except (ZygotoneError, OSError) as problem:
            self.state.setText(f"The take could not be taken in: {problem}. It lies at {self._kept(taken.path)}.")
            return
        if made is None:
            self.state.setText(f"The take could not be put there. It lies at {self._kept(taken.path)}.")
            return
        taken.path.unlink(missing_ok=True)
        desk.files.taken_in(taken.path)
        desk.selection.track(made)
        words = [f"A take of {taken.frames / desk.session.rate_hz:.1f} s is on {desk.session.track(made).name}."]
        if taken.peak >= _FULL:
            words.append("It was too loud for the input and is cut off: turn the input down.")
        elif taken.peak < 1e-4:
            words.append("It is silent.")
        if taken.drop_outs:
            often = "once" if taken.drop_outs == 1 else f"{taken.drop_outs} times"
            words.append(f"Playback or input dropped out {often}; what came after is where the song went on.")
        self.state.setText(" ".join(words))
        self._show()

    def _kept(self, take: Path) -> Path:
        """A take that is in no song, where it outlives this window."""
        folder = self._desk.files.cache_folder / "recorded"
        try:
            folder.mkdir(parents=True, exist_ok=True)
            return Path(shutil.move(take, folder / take.name))
        except OSError:
            return take

    def done(self, result: int) -> None:
        """The input is let go with the dialog; a take that runs is stopped, and kept as far as it came."""
        recorder = self._desk.listening.transport.recorder
        if self._desk.listening.recording:
            recorder.stop()
            self.state.setText("Stopping.")
            return
        self._clock.stop()
        recorder.open(None)
        super().done(result)
