"""The window: header, stages and tracks, the stage itself, the margin, the status line, menus and keys."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QAction, QActionGroup, QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractButton,
    QFileDialog,
    QLineEdit,
    QMainWindow,
    QMenu,
    QStackedWidget,
    QWidget,
)

from zygotone.advise.findings import RULES, Finding
from zygotone.app.clipboard import holds_track
from zygotone.app.desk import Desk
from zygotone.app.exporting import ask_and_export
from zygotone.app.files import Files
from zygotone.app.header import Header
from zygotone.app.help import show_about, show_hearing, show_keys
from zygotone.app.history import HistoryDialog
from zygotone.app.margin import Margin
from zygotone.app.midi_ports import MidiInput, Port, ports
from zygotone.app.recording import RecordDialog
from zygotone.app.stages import STAGES, StageWidget
from zygotone.app.status import StatusLine
from zygotone.app.theme import application, theme
from zygotone.app.tracks import Left, TrackRow
from zygotone.app.versions import VersionsDialog
from zygotone.app.widgets.basic import as_action, column, row, stretch
from zygotone.engine.ears import WAYS
from zygotone.engine.transport import Output, SimulatedOutput, portaudio_outputs


class Window(QMainWindow):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setObjectName("window")
        self.resize(1280, 800)
        self.setMinimumSize(1040, 640)
        self.stage = STAGES.leading.key
        self.header = Header(desk)
        self.left = Left(desk, self.show_stage, lambda paths: self.files.take_files(paths), self.record)
        self.stages: dict[str, StageWidget] = {stage.key: stage.make(desk) for stage in STAGES}
        self.midi = MidiInput()
        self.midi.wheel.connect(desk.keys.turn_wheel)
        self.stack = QStackedWidget()
        for each in self.stages.values():
            each.listen_to_midi(self.midi)
            self.stack.addWidget(each)
        self.margin = Margin(desk, self.stages, show_finding=self.act_on)
        self.margin.setFixedWidth(300)
        self.status = StatusLine(desk)
        self.say = self.status.say
        self.status.engine_failed.connect(self.header.play.update)
        self.files = Files(self)
        middle = row(self.left, self.stack, self.margin, spacing=0)
        middle.setStretch(1, 1)
        body = QWidget()
        body.setLayout(column(self.header, middle, self.status, spacing=0))
        stretch(body, 1, 1)
        self.setCentralWidget(body)
        self._make_menus()
        desk.stage_wanted.connect(self.show_stage)
        desk.files.changed.connect(self.files.show)
        desk.session_changed.connect(self._show_undo)
        self._clock = QTimer(self, interval=60)
        self._clock.timeout.connect(self._tick)
        self._clock.start()
        self.show_stage(self.stage)
        self._show_undo()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFocus()
        self.setAcceptDrops(True)

    # --- stages --------------------------------------------------------------------------------------------

    def show_stage(self, stage: str) -> None:
        if stage not in self.stages:
            stage = STAGES.leading.key
        self.stage = stage
        self.stages[stage].bring_up_to_date()
        if self.isVisible():  # what is filled is shown a moment later: two short holds instead of a long one
            QTimer.singleShot(0, self._show_page)
        else:
            self._show_page()
        self.left.show_stage(stage)
        self.margin.show_stage(stage)
        shown = STAGES.get(stage)
        self.margin.setVisible(shown is None or shown.margin)

    def _show_page(self) -> None:
        self.stack.setCurrentWidget(self.stages[self.stage])

    def act_on(self, finding: Finding) -> None:
        """A finding's button: show the ladder, or put the one fix on trial."""
        if RULES[finding.rule].ladder:
            self.show_stage(STAGES.of_ladders.key)
            self.stages[self.stage].show_finding(finding)
            return
        self.desk.selection.track(finding.tracks[-1])

        def worked_out(done: Finding) -> None:
            number = next((n for n, fix in enumerate(done.fixes, 1) if fix.applies), None)
            if number is None:
                self.say(f"No fix here: {done.fixes[0].why_not}." if done.fixes else "No fix is known for this.")
            else:
                self.desk.try_fix(done, number)

        self.desk.measuring.work_out(finding, worked_out)

    def compare_versions(self) -> None:
        dialog = VersionsDialog(self, self.desk)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    # --- menus and keys ------------------------------------------------------------------------------------

    def _make_menus(self) -> None:
        bar = self.menuBar()

        def add(menu: QMenu, text: str, name: str, slot: Callable[[], object], key: str | None = None) -> QAction:
            action = QAction(text, self)
            action.setObjectName(name)
            if key is not None:
                action.setShortcut(QKeySequence(key))
            action.triggered.connect(lambda _=False: slot())
            menu.addAction(action)
            return action

        file = bar.addMenu("&File")
        add(file, "New", "file.new", self.files.new, "Ctrl+N")
        add(file, "New from stems…", "file.new_stems", self.files.new_from_stems, "Ctrl+Shift+N")
        add(file, "Open…", "file.open", self.files.open, "Ctrl+O")
        self.recent_menu = file.addMenu("Open recent")
        self.recent_menu.aboutToShow.connect(lambda: self.files.fill_recent(self.recent_menu))
        add(file, "Open the demo", "file.demo", self.files.open_demo)
        file.addSeparator()
        add(file, "Save", "file.save", self.files.save, "Ctrl+S")
        add(file, "Save as…", "file.save_as", self.files.save_as, "Ctrl+Shift+S")
        add(file, "Render the mix…", "file.render", self.files.render, "Ctrl+R")
        add(file, "Export…", "file.export", lambda: ask_and_export(self, self.desk), "Ctrl+E")
        add(file, "Bounce the track…", "file.bounce", self.left.hands.bounce, "Ctrl+B")
        add(file, "Compare versions…", "file.versions", self.compare_versions, "Ctrl+Shift+V")
        file.addSeparator()
        add(file, "Quit", "file.quit", self.close, "Ctrl+Q")

        edit = bar.addMenu("&Edit")
        self.undo_action = add(edit, "Undo", "edit.undo", self.desk_undo, "Ctrl+Z")
        self.redo_action = add(edit, "Redo", "edit.redo", self.desk_redo, "Ctrl+Shift+Z")
        add(edit, "History…", "edit.history", lambda: HistoryDialog(self, self.desk.bench).exec(), "Ctrl+H")
        edit.addSeparator()
        for text, keys in (("Cut", "Ctrl+X"), ("Copy", "Ctrl+C"), ("Paste", "Ctrl+V"), ("Select all", "Ctrl+A")):
            name = text.lower().replace(" ", "_")
            add(edit, text, f"edit.{name}", functools.partial(self._by_hand, name), keys)
        edit.addSeparator()
        add(edit, "New track…", "edit.new_track", self.left.open_new, "Ctrl+T")
        edit.addSeparator()
        self._typing_guarded = [
            add(edit, "Keep the trial", "edit.keep", self.margin.keep, "K"),
            add(edit, "Drop the trial", "edit.drop", self.margin.drop, "D"),
            add(edit, "Mute track", "edit.mute", lambda: self._toggle("mute"), "M"),
            add(edit, "Solo track", "edit.solo", lambda: self._toggle("solo"), "S"),
        ]
        for stage in self.stages.values():
            actions = stage.actions_offered()
            if actions:
                edit.addSeparator()
            for action in actions:
                add(edit, action.text, action.name, action.slot, action.key)

        play = bar.addMenu("&Play")
        self._typing_guarded += [
            add(play, "Play or stop", "play.toggle", self.desk.listening.toggle_play, "Space"),
            add(play, "Swap A and B", "play.swap", self.desk.listening.swap, "X"),
        ]
        add(play, "Loop the next section", "play.next", lambda: self._step_section(1), "Ctrl+Right")
        add(play, "Loop the previous section", "play.previous", lambda: self._step_section(-1), "Ctrl+Left")
        ears = play.addMenu("Listen")
        for way, keys in zip(WAYS[1:], ("F5", "F6", "F7", "F8"), strict=True):
            act = functools.partial(self.status.ears.toggle, way)
            add(ears, way.capitalize(), f"play.listen.{way}", act, keys)
        add(ears, "Dim", "play.listen.dim", self.status.ears.toggle_dim, "F9")
        play.addSeparator()
        self.output_menu = play.addMenu("Output")
        self.output_menu.aboutToShow.connect(self._fill_outputs)
        self.midi_menu = play.addMenu("MIDI keyboard")
        self.midi_menu.aboutToShow.connect(self._fill_midi)
        add(play, "Record from an input…", "play.input", self.record, "Ctrl+Shift+R")
        add(play, "Write what the simulated output plays…", "play.record", self._record)

        view = bar.addMenu("&View")
        for n, each in enumerate(STAGES, 1):
            key = f"Alt+{n}" if n < 10 else None
            add(view, each.title, f"view.{each.key}", functools.partial(self.show_stage, each.key), key)
        view.addSeparator()
        group = QActionGroup(self)
        for preference, title in (("desktop", "As the desktop"), ("paper", "Paper (light)"), ("night", "Night (dark)")):
            theme_action = add(view, title, f"view.{preference}", functools.partial(self._prefer, preference))
            theme_action.setCheckable(True)
            theme_action.setChecked(theme().preference == preference)
            group.addAction(theme_action)
        help_ = bar.addMenu("&Help")
        add(help_, "Keys", "help.keys", lambda: show_keys(self), "F1")
        add(help_, "Hearing", "help.hearing", lambda: show_hearing(self))
        add(help_, "About", "help.about", lambda: show_about(self))
        # Single letters must not fire while somebody types a name or a reason.
        application().focusChanged.connect(self._on_focus)

    def _on_focus(self, old: QWidget | None, new: QWidget | None) -> None:
        typing = isinstance(new, QLineEdit) and not new.isReadOnly()
        for action in self._typing_guarded:
            action.setEnabled(not typing)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and isinstance(self.focusWidget(), QLineEdit):
            self.stages[self.stage].setFocus()
        elif event.key() == Qt.Key.Key_Delete:
            self.stages[self.stage].delete()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and isinstance(
            pressed := self.focusWidget(), QAbstractButton
        ):
            pressed.click()  # Space, which would do it else, is for playing
        else:
            super().keyPressEvent(event)

    def _prefer(self, preference: str) -> None:
        self.desk.settings.setValue("theme", preference)
        theme().prefer(preference)

    def _by_hand(self, what: str) -> None:
        """Cut, copy, paste or select all: of tracks where one of them has the focus, else of what the stage shows. What is no
        track is pasted into the stage, wherever the focus is: one chooses a track to paste something there."""
        on_track = isinstance(self.focusWidget(), TrackRow)
        if what == "paste":
            on_track = on_track and holds_track()
        act = getattr(self.left.hands, what, None) if on_track else getattr(self.stages[self.stage], what)
        if act is not None:
            act()

    def _toggle(self, name: str) -> None:
        self.left.hands.toggle(name)

    def _step_section(self, step: int) -> None:
        ids = [s.id for s in self.desk.song.sections]
        at = min(len(ids) - 1, max(0, ids.index(self.desk.selection.loop[0]) + step))
        self.desk.selection.set_loop((ids[at],))

    def _fill_midi(self) -> None:
        self.midi_menu.clear()
        current = self.midi.port.name if self.midi.port is not None else None
        for name, port in (("None", None), *((p.name, p) for p in ports())):
            action = QAction(as_action(name), self)
            action.setCheckable(True)
            action.setChecked((port.name if port is not None else None) == current)
            action.triggered.connect(lambda _=False, p=port: self.use_midi(p))
            self.midi_menu.addAction(action)

    def use_midi(self, port: Port | None) -> None:
        """Play the selected track's instrument from a MIDI port, or from none."""
        wrong = self.midi.choose(port)
        for stage in self.stages.values():
            stage.let_keys_go()
        self.say(wrong or (f"{port.name} plays the selected track." if port is not None else "No MIDI keyboard plays."))

    def _fill_outputs(self) -> None:
        self.output_menu.clear()
        current = self.desk.listening.transport.output.name
        outputs: tuple[Output, ...] = (SimulatedOutput(), *portaudio_outputs())
        for output in outputs:
            action = QAction(as_action(output.name), self)
            action.setCheckable(True)
            action.setChecked(output.name == current)
            action.triggered.connect(lambda _=False, o=output: self._use_output(o))
            self.output_menu.addAction(action)

    def _use_output(self, output: Output) -> None:
        self.desk.listening.transport.set_output(output)
        self.desk.settings.setValue("output", output.name)

    def record(self) -> None:
        """Takes from an input, beside the window."""
        opened = self.findChild(RecordDialog)
        if isinstance(opened, RecordDialog):
            opened.raise_()
            opened.activateWindow()
            return
        dialog = RecordDialog(self, self.desk)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()

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
        self.undo_action.setText(f"Undo {as_action(bench.undo_label)}" if bench.undo_label else "Undo")
        self.redo_action.setEnabled(bench.redo_label is not None)
        self.redo_action.setText(f"Redo {as_action(bench.redo_label)}" if bench.redo_label else "Redo")

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Stems become tracks wherever they are dropped; a project is opened."""
        self.files.take_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])

    def _tick(self) -> None:
        """Meters and playhead, at a steady rate."""
        self.status.tick()
        self.desk.look_after()
        playing = self.desk.listening.playing
        self.left.show_peaks(self.desk.listening.transport.strip_peaks if playing else None)
        if playing:
            self.header.ribbon.show_playhead()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self._clock.stop()
        self.midi.choose(None)
        self.desk.close()
        event.accept()
