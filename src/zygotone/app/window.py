"""The window: header, stages and tracks, the stage itself, the margin, the status line, menus and keys."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QFileDialog,
    QFrame,
    QGridLayout,
    QLineEdit,
    QMainWindow,
    QMessageBox,
    QProgressBar,
    QStackedWidget,
    QWidget,
)

from zygotone.advise.findings import Finding
from zygotone.app.audio import SimulatedOutput, portaudio_outputs
from zygotone.app.desk import Desk
from zygotone.app.header import Header
from zygotone.app.margin import Margin
from zygotone.app.midi_ports import MidiInput, ports
from zygotone.app.stages.brief import BriefStage
from zygotone.app.stages.chains import ChainsStage
from zygotone.app.stages.fit import FitStage
from zygotone.app.stages.log import LogStage
from zygotone.app.stages.sounds import SoundsStage
from zygotone.app.theme import theme
from zygotone.app.tracks import STAGES, Left
from zygotone.app.widgets.basic import button, column, label, row
from zygotone.app.widgets.meter import Meter
from zygotone.demo import build_demo
from zygotone.engine.renderer import Cancelled
from zygotone.errors import ZygotoneError
from zygotone.session.audio_store import AudioStore
from zygotone.session.edits import change_strip
from zygotone.session.journal import recover
from zygotone.session.models import Section, Session, Song
from zygotone.session.project_file import Project, load_project

FILTER = "Zygotone projects (*.zygotone)"
MESSAGE_MS = 9000
LONG_LISTENING_S = 45 * 60
SHORT_WORK_S = 0.7


def empty_project() -> Project:
    song = Song(title="Untitled", sections=(Section(id="song", name="Song", bars=8),))
    return Project(Session(song=song), store=AudioStore())


class Window(QMainWindow):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setObjectName("window")
        self.resize(1280, 800)
        self.setMinimumSize(1040, 640)
        self.stage = "fit"
        self.header = Header(desk)
        self.left = Left(desk, self.show_stage)
        self.brief, self.sounds, self.chains, self.fit, self.log = (
            BriefStage(desk),
            SoundsStage(desk),
            ChainsStage(desk),
            FitStage(desk),
            LogStage(desk),
        )
        self.stages = {
            "brief": self.brief,
            "sounds": self.sounds,
            "chains": self.chains,
            "fit": self.fit,
            "log": self.log,
        }
        self.midi = MidiInput()
        self.midi.pressed.connect(self.sounds.piano.press)
        self.midi.released.connect(self.sounds.piano.release)
        self.midi.wheel.connect(desk.keys.turn_wheel)
        self.stack = QStackedWidget()
        for each in self.stages.values():
            self.stack.addWidget(each)
        self.margin = Margin(
            desk,
            add_device=self.chains.add_device,
            add_series=self.chains.add_peaks_then_gentle,
            show_finding=self.act_on,
        )
        self.margin.setFixedWidth(300)
        self.status = self._make_status()
        middle = row(self.left, self.stack, self.margin, spacing=0)
        middle.setStretch(1, 1)
        body = QWidget()
        body.setLayout(column(self.header, middle, self.status, spacing=0))
        body.layout().setStretch(1, 1)
        self.setCentralWidget(body)
        self._make_menus()
        desk.message.connect(self.say)
        desk.stage_wanted.connect(self.show_stage)
        desk.file_changed.connect(self._show_file)
        desk.session_changed.connect(self._show_undo)
        self._clock = QTimer(self, interval=60)
        self._clock.timeout.connect(self._tick)
        self._clock.start()
        self._quiet = QTimer(self, singleShot=True, interval=MESSAGE_MS)
        self._quiet.timeout.connect(lambda: self.message.setText(""))
        self._reminded = False
        self.show_stage("fit")
        self._show_undo()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFocus()
        self.setAcceptDrops(True)

    # --- status line ---------------------------------------------------------------------------------------

    def _make_status(self) -> QFrame:
        frame = QFrame()
        frame.setObjectName("status")
        frame.setFixedHeight(28)
        self.output_label = label("", name="status.output")
        self.meter = Meter()
        self.progress = QProgressBar()
        self.progress.setObjectName("status.progress")
        self.progress.setAccessibleName("Progress")
        self.progress.setFixedSize(150, 14)
        self.stop_work = button(
            "Stop", "status.stop", self._stop_work, kind="plain", accessible="Stop the work in progress"
        )
        for each in (self.progress, self.stop_work):
            each.hide()
        self.message = label("", name="status.message")
        self.engine_label = label("", name="status.engine")
        self.keys_label = label("Space play · X swap A/B · K keep · D drop · F1 keys", name="status.keys")
        frame.setLayout(
            row(
                self.output_label,
                self.meter,
                1,
                self.message,
                self.progress,
                self.stop_work,
                1,
                self.engine_label,
                self.keys_label,
                spacing=18,
                margins=(16, 0, 16, 0),
            )
        )
        return frame

    def say(self, text: str) -> None:
        """A message in the status line, readable in full as its tip."""
        shown = self.message.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 620)
        self.message.setText(shown)
        self.message.setToolTip(text)
        self.message.setStyleSheet(f"color: {theme().colours.b};")
        self._quiet.start()

    def _stop_work(self) -> None:
        name = self.desk.worker.running
        if name is not None:
            self.desk.worker.cancel(name)
            self.say(f"Stopped: {name}. Nothing was changed by it.")

    def _show_progress(self) -> None:
        """Work that takes longer than a moment: what it is, how far, and a way to stop it."""
        worker = self.desk.worker
        long = worker.running_s > SHORT_WORK_S
        for each in (self.progress, self.stop_work):
            each.setVisible(long)
        if long:
            self.progress.setRange(0, 0 if worker.share is None else 100)
            self.progress.setValue(round(100 * (worker.share or 0.0)))
            self.progress.setToolTip(str(worker.running))
            self.progress.setFormat(f"{str(worker.running).split(' kick')[0][:20]}")

    def _tick(self) -> None:
        """Meters and playhead, at a steady rate."""
        desk, transport = self.desk, self.desk.transport
        if transport.error:
            self.say(transport.error)
            transport.error = None
            self.header.play.update()
        minutes = int(transport.played_s // 60)
        frames = f"{transport.output.name}, {desk.session.rate_hz / 1000:g} kHz"
        self.output_label.setText(f"Output: {frames}")
        drop_outs = f"{transport.drop_outs} drop-outs"
        self.engine_label.setText(
            f"Engine {100 * transport.load:.0f} % · {drop_outs} · listening {minutes // 60}:{minutes % 60:02d}"
        )
        self.meter.show_peak(transport.peak)
        self._show_progress()
        bad = desk.player.bad_samples
        if bad:
            self.engine_label.setText(self.engine_label.text() + f" · {bad} bad samples replaced")
        if desk.playing:
            self.header.ribbon.update()
            if transport.played_s > LONG_LISTENING_S and not self._reminded:
                self._reminded = True
                self.say(
                    "You have listened for 45 minutes. Ears tire before one notices; a break of ten minutes helps both them and the mix."
                )

    # --- stages --------------------------------------------------------------------------------------------

    def show_stage(self, stage: str) -> None:
        if stage not in self.stages:
            stage = "fit"
        self.stage = stage
        self.stack.setCurrentWidget(self.stages[stage])
        self.left.show_stage(stage)
        self.margin.show_stage(stage)
        self.margin.setVisible(stage != "brief")

    def act_on(self, finding: Finding) -> None:
        """A finding's button: show the ladder, or put the one fix on trial."""
        if finding.rule == "kick_bass_clash":
            self.show_stage("fit")
            self.fit.choose(*finding.tracks)
            return
        self.desk.select_track(finding.tracks[-1])

        def worked_out(done: Finding) -> None:
            number = next((n for n, fix in enumerate(done.fixes, 1) if fix.applies), None)
            if number is None:
                self.say(f"No fix here: {done.fixes[0].why_not}." if done.fixes else "No fix is known for this.")
            else:
                self.desk.try_fix(done, number)

        self.desk.work_out(finding, worked_out)

    # --- menus and keys ------------------------------------------------------------------------------------

    def _make_menus(self) -> None:
        bar = self.menuBar()

        def add(menu, text, name, slot, key=None):
            action = QAction(text, self)
            action.setObjectName(name)
            if key is not None:
                action.setShortcut(QKeySequence(key))
            action.triggered.connect(lambda _=False: slot())
            menu.addAction(action)
            return action

        file = bar.addMenu("&File")
        add(file, "New", "file.new", self.new, "Ctrl+N")
        add(file, "New from stems…", "file.new_stems", self.new_from_stems, "Ctrl+Shift+N")
        add(file, "Open…", "file.open", self.open, "Ctrl+O")
        self.recent_menu = file.addMenu("Open recent")
        self.recent_menu.aboutToShow.connect(self._fill_recent)
        add(file, "Open the demo", "file.demo", self.open_demo)
        file.addSeparator()
        add(file, "Save", "file.save", self.save, "Ctrl+S")
        add(file, "Save as…", "file.save_as", self.save_as, "Ctrl+Shift+S")
        add(file, "Render the mix…", "file.render", self.render, "Ctrl+R")
        file.addSeparator()
        add(file, "Quit", "file.quit", self.close, "Ctrl+Q")

        edit = bar.addMenu("&Edit")
        self.undo_action = add(edit, "Undo", "edit.undo", self.desk_undo, "Ctrl+Z")
        self.redo_action = add(edit, "Redo", "edit.redo", self.desk_redo, "Ctrl+Shift+Z")
        edit.addSeparator()
        self._typing_guarded = [
            add(edit, "Keep the trial", "edit.keep", self.margin.keep, "K"),
            add(edit, "Drop the trial", "edit.drop", self.margin.drop, "D"),
            add(edit, "Mute track", "edit.mute", lambda: self._toggle("mute"), "M"),
            add(edit, "Solo track", "edit.solo", lambda: self._toggle("solo"), "S"),
        ]
        edit.addSeparator()
        add(edit, "Device on or off", "edit.device_on", self.chains.toggle, "Shift+O")
        add(edit, "Device earlier", "edit.earlier", lambda: self.chains._move(-1), "Alt+Left")
        add(edit, "Device later", "edit.later", lambda: self.chains._move(1), "Alt+Right")
        add(edit, "Duplicate device", "edit.duplicate", self.chains._duplicate, "Ctrl+D")

        play = bar.addMenu("&Play")
        self._typing_guarded += [
            add(play, "Play or stop", "play.toggle", self.desk.toggle_play, "Space"),
            add(play, "Swap A and B", "play.swap", self.desk.swap, "X"),
        ]
        add(play, "Loop the next section", "play.next", lambda: self._step_section(1), "Ctrl+Right")
        add(play, "Loop the previous section", "play.previous", lambda: self._step_section(-1), "Ctrl+Left")
        play.addSeparator()
        self.output_menu = play.addMenu("Output")
        self.output_menu.aboutToShow.connect(self._fill_outputs)
        self.midi_menu = play.addMenu("MIDI keyboard")
        self.midi_menu.aboutToShow.connect(self._fill_midi)
        add(play, "Write what the simulated output plays…", "play.record", self._record)

        view = bar.addMenu("&View")
        for n, (key, title) in enumerate(STAGES, 1):
            add(view, title, f"view.{key}", lambda k=key: self.show_stage(k), f"Alt+{n}")
        view.addSeparator()
        group = QActionGroup(self)
        for preference, title in (("desktop", "As the desktop"), ("paper", "Paper (light)"), ("night", "Night (dark)")):
            action = add(view, title, f"view.{preference}", lambda p=preference: self._prefer(p))
            action.setCheckable(True)
            action.setChecked(theme().preference == preference)
            group.addAction(action)
        help_ = bar.addMenu("&Help")
        add(help_, "Keys", "help.keys", self.show_keys, "F1")
        add(help_, "Hearing", "help.hearing", self.show_hearing)
        add(help_, "About", "help.about", self.show_about)
        # Single letters must not fire while somebody types a name or a reason.
        QApplication.instance().focusChanged.connect(self._on_focus)

    def _on_focus(self, old: QWidget | None, new: QWidget | None) -> None:
        typing = isinstance(new, QLineEdit) and not new.isReadOnly()
        for action in self._typing_guarded:
            action.setEnabled(not typing)

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape and isinstance(self.focusWidget(), QLineEdit):
            self.stages[self.stage].setFocus()
        elif event.key() == Qt.Key.Key_Delete and self.stage == "chains":
            self.chains._remove()
        else:
            super().keyPressEvent(event)

    def _prefer(self, preference: str) -> None:
        self.desk.settings.setValue("theme", preference)
        theme().prefer(preference)

    def _toggle(self, name: str) -> None:
        strip = self.desk.session.strip(self.desk.track_id)
        if strip.id != self.desk.session.mix.id:
            self.desk.edit(name.capitalize(), lambda s: change_strip(s, strip.id, **{name: not getattr(strip, name)}))

    def _step_section(self, step: int) -> None:
        ids = [s.id for s in self.desk.song.sections]
        at = min(len(ids) - 1, max(0, ids.index(self.desk.loop[0]) + step))
        self.desk.set_loop((ids[at],))

    def _fill_midi(self) -> None:
        self.midi_menu.clear()
        current = self.midi.port.name if self.midi.port is not None else None
        for name, port in (("None", None), *((p.name, p) for p in ports())):
            action = QAction(name, self)
            action.setCheckable(True)
            action.setChecked((port.name if port is not None else None) == current)
            action.triggered.connect(lambda _=False, p=port: self.use_midi(p))
            self.midi_menu.addAction(action)

    def use_midi(self, port) -> None:
        """Play the selected track's instrument from a MIDI port, or from none."""
        wrong = self.midi.choose(port)
        self.sounds.piano.release_all()
        self.say(wrong or (f"{port.name} plays the selected track." if port is not None else "No MIDI keyboard plays."))

    def _fill_outputs(self) -> None:
        self.output_menu.clear()
        current = self.desk.transport.output.name
        for output in (SimulatedOutput(), *portaudio_outputs()):
            action = QAction(output.name, self)
            action.setCheckable(True)
            action.setChecked(output.name == current)
            action.triggered.connect(lambda _=False, o=output: self._use_output(o))
            self.output_menu.addAction(action)

    def _use_output(self, output) -> None:
        self.desk.transport.set_output(output)
        self.desk.settings.setValue("output", output.name)

    def _record(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write what is played", "played.wav", "WAV (*.wav)")
        if path:
            output = SimulatedOutput()
            output.record_to = Path(path)
            self._use_output(output)
            self.say(f"From the next play on, what is played goes to {path} until you stop.")

    # --- undo ----------------------------------------------------------------------------------------------

    def desk_undo(self) -> None:
        self.desk.bench.undo()

    def desk_redo(self) -> None:
        self.desk.bench.redo()

    def _show_undo(self) -> None:
        bench = self.desk.bench
        self.undo_action.setEnabled(bench.undo_label is not None)
        self.undo_action.setText(f"Undo {bench.undo_label}" if bench.undo_label else "Undo")
        self.redo_action.setEnabled(bench.redo_label is not None)
        self.redo_action.setText(f"Redo {bench.redo_label}" if bench.redo_label else "Redo")

    # --- files ---------------------------------------------------------------------------------------------

    def _show_file(self) -> None:
        name = self.desk.path.name if self.desk.path else self.desk.song.title or "Untitled"
        self.setWindowTitle(f"{name}[*] – Zygotone")
        self.setWindowModified(self.desk.dirty)

    def may_leave(self) -> bool:
        """Asks about unsaved changes; False is stay."""
        if not self.desk.dirty:
            return True
        box = QMessageBox(
            QMessageBox.Icon.Question,
            "Save first?",
            f"{self.desk.song.title} has changes that are not saved.",
            parent=self,
        )
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        leave = box.addButton("Leave without saving", QMessageBox.ButtonRole.DestructiveRole)
        stay = box.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(save)
        box.setEscapeButton(stay)
        box.exec()
        if box.clickedButton() is save:
            return self.save()
        if box.clickedButton() is leave:
            self.desk.discard_unsaved()
            return True
        return False

    def new(self) -> None:
        if self.may_leave():
            self.desk.open_project(empty_project(), None)
            self.show_stage("brief")

    def new_from_stems(self) -> None:
        if self.may_leave():
            self.desk.open_project(empty_project(), None)
            self.show_stage("brief")
            self.brief._ask_stems()

    def open(self) -> None:
        if self.may_leave():
            path, _ = QFileDialog.getOpenFileName(self, "Open a project", "", FILTER)
            if path:
                self.open_path(Path(path))

    def open_path(self, path: Path) -> bool:
        """Open a project, offering what a crash left in its journal; an error is told and what is open stays."""
        try:
            project = load_project(path)
        except ZygotoneError as error:
            QMessageBox.warning(
                self,
                "This project cannot be opened",
                f"{error}\n\nWhat was open is still open; the file was not changed.",
            )
            return False
        found = self.desk.recoverable(path, project)
        if found is not None:
            answer = QMessageBox.question(
                self, "Bring back unsaved work?",
                f"{path.name} was left without saving, and a journal of that work is beside it. Bring it back? "
                "The saved file is not touched until you save.",
            )  # fmt: skip
            if answer == QMessageBox.StandardButton.Yes:
                self.desk.open_project(found, path)
                self.desk.saved_changes = -1  # what came back is not in the file yet
                self.desk.file_changed.emit()
                return True
        self.desk.open_project(project, path)
        return True

    def offer_unsaved(self) -> bool:
        """After a crash before the first save: bring that work back, or let it go. Whether it came back."""
        left = self.desk.unsaved()
        if left is None:
            return False
        answer = QMessageBox.question(
            self,
            "Bring back unsaved work?",
            "The last time, Zygotone ended with work that had never been saved to a file. Bring it back?",
        )
        if answer != QMessageBox.StandardButton.Yes:
            self.desk.forget_unsaved()
            return False
        try:
            project = load_project(left)
        except ZygotoneError as error:
            self.say(str(error))
            return False
        self.desk.open_project(recover(left, project) or project, None)
        self.desk.saved_changes = -1  # it is in no file of the person's own yet
        self.desk.file_changed.emit()
        self.show_stage("fit")
        return True

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        """Stems become tracks wherever they are dropped; a project is opened."""
        self.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])

    def take_files(self, paths: list[Path]) -> None:
        projects = [p for p in paths if p.suffix == ".zygotone"]
        if projects:
            if self.may_leave():
                self.open_path(projects[0])
        elif paths:
            self.show_stage("brief")
            self.brief.add_files(paths)

    def open_demo(self) -> None:
        """The demo is synthesized, which takes a second or so: in the background."""
        if not self.may_leave():
            return
        self.say("Making the demo song…")

        def opened(project: Project) -> None:
            self.desk.open_project(project, None)
            self.show_stage("fit")
            self.say("Slack Tide is open. Kick and bass fight in it; work down the ladder.")

        self.desk.worker.submit("Opening the demo", lambda cancel: build_demo(), opened, urgency=0)

    def _fill_recent(self) -> None:
        self.recent_menu.clear()
        recent = self.desk.recent()
        for path in recent:
            action = QAction(path, self)
            action.triggered.connect(lambda _=False, p=path: self.may_leave() and self.open_path(Path(p)))
            self.recent_menu.addAction(action)
        if not recent:
            nothing = QAction("Nothing opened yet", self)
            nothing.setEnabled(False)
            self.recent_menu.addAction(nothing)

    def save(self) -> bool:
        if self.desk.path is None:
            return self.save_as()
        return self._save_to(self.desk.path)

    def save_as(self) -> bool:
        start = str(self.desk.path or f"{self.desk.song.title or 'Untitled'}.zygotone")
        path, _ = QFileDialog.getSaveFileName(self, "Save the project", start, FILTER)
        if not path:
            return False
        target = Path(path)
        return self._save_to(target if target.suffix == ".zygotone" else target.with_name(target.name + ".zygotone"))

    def _save_to(self, path: Path) -> bool:
        try:
            self.desk.save(path)
        except ZygotoneError as error:
            QMessageBox.warning(
                self,
                "Not saved",
                f"{error}\n\nThe project is still open, and what was in the file before is still there.",
            )
            return False
        self.say(f"Saved {path.name}")
        return True

    def render(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Render the mix", f"{self.desk.song.title}.wav", "WAV (*.wav);;FLAC (*.flac)"
        )
        if not path:
            return
        from zygotone.reports.rendering import render_files

        project = Project(self.desk.session, store=self.desk.store)

        worker = self.desk.worker

        def run(cancel):
            def progress(share: float) -> None:
                worker.share = share
                if cancel():
                    raise Cancelled

            return render_files(
                project, mix=Path(path), stems=None, track=None, section=None, subtype="PCM_24", progress=progress,
            )  # fmt: skip

        self.say("Rendering…")
        worker.submit(
            "Rendering the mix",
            run,
            lambda clipped: self.say(
                f"Rendered {Path(path).name}" + (", parts were over full scale" if clipped else "")
            ),
            urgency=1,
        )

    # --- help ----------------------------------------------------------------------------------------------

    def show_keys(self) -> None:
        dialog = QDialog(self)
        dialog.setObjectName("help.keys.dialog")
        dialog.setWindowTitle("Keys")
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(3)
        plain = {self.undo_action: "Undo", self.redo_action: "Redo"}
        actions = [a for a in self.findChildren(QAction) if not a.shortcut().isEmpty()]
        keys = [(a.shortcut().toString(), plain.get(a, a.text())) for a in actions]
        keys += [
            ("Tab", "To the next part of the window"),
            ("← → on a ruler", "A hundredth; with Shift a thousandth"),
            ("Page Up, Page Down", "A tenth of a ruler"),
            ("Home, End", "The ends of a ruler"),
            ("Backspace on a ruler", "Back to the usual value; so does a double-click"),
            ("Enter in a number", "Take what was typed: 250, 2.5k, A#2, −3, 1/8d"),
            ("← → on a plot", "Move the reading"),
            ("← → on the ribbon", "Loop another section; with Shift, more of them"),
        ]
        half = (len(keys) + 1) // 2
        for at, (key, text) in enumerate(keys):
            side = 0 if at < half else 2
            grid.addWidget(label(key, "number"), at % half, side)
            grid.addWidget(label(text), at % half, side + 1)
        dialog.setLayout(
            column(
                label("Keys", "title"),
                grid,
                row(1, button("Close", "help.keys.close", dialog.accept)),
                spacing=12,
                margins=(20, 16, 20, 14),
            )
        )
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def show_hearing(self) -> None:
        QMessageBox.information(
            self, "Hearing",
            "Zygotone cannot know how loud your room or headphones are. Keep the level where you can talk over it, and take "
            "breaks. Output never exceeds full scale and versions are swapped without a jump, but full scale can still be far too "
            "loud. This is no medical device; the rules of your country and hearing professionals come first.",
        )  # fmt: skip

    def show_about(self) -> None:
        from zygotone import __version__

        QMessageBox.information(
            self, "About",
            f"Zygotone {__version__}, Apache-2.0.\nText is set in Karla, numbers in B612, both under the SIL Open Font License; "
            "the licences are beside the fonts.",
        )  # fmt: skip

    def closeEvent(self, event) -> None:
        if not self.may_leave():
            event.ignore()
            return
        self._clock.stop()
        self.midi.choose(None)
        self.desk.close()
        event.accept()
