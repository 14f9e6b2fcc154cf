"""Projects in files: new, open, save, render, and what a crash left behind."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QFileDialog, QMenu, QMessageBox

from zygotone.app.stages import STAGES
from zygotone.app.widgets.basic import as_action, as_plain
from zygotone.demo import build_demo
from zygotone.errors import ZygotoneError, printable
from zygotone.plain_files import tidy_parts
from zygotone.session.audio_store import AudioStore
from zygotone.session.models import Section, Session, Song
from zygotone.session.project_file import Project, load_project

if TYPE_CHECKING:
    from zygotone.app.window import Window

FILTER = "Zygotone projects (*.zygotone)"


def empty_project() -> Project:
    song = Song(title="Untitled", sections=(Section(id="song", name="Song", bars=8),))
    return Project(Session(song=song), store=AudioStore())


class Files:
    """Asks the person where the window's project comes from and goes to."""

    def __init__(self, window: Window) -> None:
        self._window, self._desk = window, window.desk

    def show(self) -> None:
        name = self._desk.files.path.name if self._desk.files.path else self._desk.song.title or "Untitled"
        only = ", read-only" if self._desk.files.read_only else ""
        self._window.setWindowTitle(f"{name.replace('[*]', '')}[*]{only} – Zygotone")
        self._window.setWindowModified(self._desk.files.dirty)

    def may_leave(self) -> bool:
        """Asks about unsaved changes; False is stay."""
        if not self._desk.files.dirty:
            return True
        answer = self._choose(
            "Save first?",
            f"{self._desk.song.title} has changes that are not saved.",
            "Save",
            "Leave without saving",
            "Stay",
        )
        if answer == "Save":
            return self.save()
        if answer == "Leave without saving":
            self._desk.files.discard_unsaved()
            return True
        return False

    def new(self) -> None:
        if self.may_leave():
            self._desk.open_project(empty_project(), None)
            self._window.show_stage(STAGES.first.key)

    def new_from_stems(self) -> None:
        if self.may_leave():
            self._desk.open_project(empty_project(), None)
            self._window.show_stage(STAGES.first.key)
            self._window.stages[STAGES.first.key].ask_for_files()

    def open(self) -> None:
        if self.may_leave():
            path, _ = QFileDialog.getOpenFileName(self._window, "Open a project", "", FILTER)
            if path:
                self.open_path(Path(path))

    def open_path(self, path: Path) -> bool:
        """Open a project, offering what a crash left in its journal; an error is told and what is open stays."""
        self._desk.files.written()
        try:
            project = load_project(path)
        except ZygotoneError as error:
            self._warn(
                "This project cannot be opened", f"{error}\n\nWhat was open is still open; the file was not changed."
            )
            return False
        if not self._desk.files.claim(path):
            return self._open_again(path, project)
        tidy_parts(path)
        try:
            found = self._desk.files.recoverable(path, project)
        except ZygotoneError as error:
            found = None
            self._warn("The journal cannot be read", f"{error}\n\nThe project is opened as it was saved.")
        if found is not None and self._ask(
            "Bring back unsaved work?",
            f"{path.name} was left without saving, and that work was kept. Bring it back? "
            "The saved file is not touched until you save.",
        ):
            self._desk.open_project(found, path)
            self._desk.files.came_back()
            self._desk.files.written()  # it is in this window's own journal before takes that an earlier one left go
            self._desk.files.forget_brought_back()
            return True
        if found is not None:
            self._desk.files.forget_brought_back()
        self._desk.open_project(project, path)
        return True

    def _open_again(self, path: Path, project: Project) -> bool:
        """Another window has it: two that save to one file would undo each other's work."""
        answer = self._choose(
            "Open in another window",
            f"{path.name} is open in another window already. Here it can be looked at and listened to, or be opened as a copy, "
            "which is saved under another name.",
            "Open read-only", "Open a copy", "Leave",
        )  # fmt: skip
        if answer == "Open read-only":
            self._desk.open_project(project, path)
            return True
        if answer == "Open a copy":
            self._desk.open_project(project, None)
            self._desk.files.came_back()
            return True
        return False

    def _choose(self, title: str, text: str, *answers: str) -> str:
        """One of three: the first is what Enter gives, the last what Escape does."""
        box = QMessageBox(QMessageBox.Icon.Question, title, text, parent=self._window)
        box.setTextFormat(Qt.TextFormat.PlainText)
        role = QMessageBox.ButtonRole
        buttons = [
            box.addButton(*each)
            for each in zip(answers, (role.AcceptRole, role.DestructiveRole, role.RejectRole), strict=True)
        ]
        box.setDefaultButton(buttons[0])
        box.setEscapeButton(buttons[-1])
        box.exec()
        return next((a for a, each in zip(answers, buttons, strict=True) if box.clickedButton() is each), answers[-1])

    def _warn(self, title: str, text: str) -> None:
        QMessageBox.warning(self._window, title, as_plain(text))

    def _ask(self, title: str, text: str) -> bool:
        return QMessageBox.question(self._window, title, as_plain(text)) == QMessageBox.StandardButton.Yes

    def offer_unsaved(self) -> bool:
        """After a crash before the first save: bring that work back, or let it go. Whether it came back."""
        while (left := self._desk.files.unsaved()) is not None:
            workplace, project = left
            title = printable(project.session.song.title or "Untitled", 60)
            if self._ask(
                "Bring back unsaved work?",
                f"Zygotone ended with work that had never been saved to a file: {title}. Bring it back?",
            ):
                self._desk.open_project(project, None)
                self._desk.files.came_back()
                self._desk.files.written()  # it is in this window's own journal before the old one goes
                workplace.end()
                self._window.show_stage(STAGES.leading.key)
                return True
            workplace.end()
        return False

    def take_files(self, paths: list[Path]) -> None:
        projects = [p for p in paths if p.suffix == ".zygotone"]
        if projects:
            if self.may_leave():
                self.open_path(projects[0])
        elif paths:
            self._window.show_stage(STAGES.first.key)
            self._window.stages[STAGES.first.key].take_files(paths)

    def open_demo(self) -> None:
        """The demo is synthesized, which takes a second or so: in the background."""
        if not self.may_leave():
            return
        self._window.say("Making the demo song…")

        def opened(project: Project) -> None:
            self._desk.open_project(project, None)
            self._window.show_stage(STAGES.leading.key)
            self._window.say("Slack Tide is open. Kick and bass fight in it; work down the ladder.")

        self._desk.measuring.worker.submit("Opening the demo", lambda cancel: build_demo(), opened, urgency=0)

    def fill_recent(self, menu: QMenu) -> None:
        menu.clear()
        recent = self._desk.files.recent()
        for path in recent:
            action = QAction(as_action(path), menu)
            action.triggered.connect(lambda _=False, p=path: self.may_leave() and self.open_path(Path(p)))
            menu.addAction(action)
        if not recent:
            nothing = QAction("Nothing opened yet", menu)
            nothing.setEnabled(False)
            menu.addAction(nothing)

    def save(self) -> bool:
        if self._desk.files.path is None or self._desk.files.read_only:
            return self.save_as()
        return self._save_to(self._desk.files.path)

    def save_as(self) -> bool:
        start = str(self._desk.files.path or f"{self._desk.song.title or 'Untitled'}.zygotone")
        path, _ = QFileDialog.getSaveFileName(self._window, "Save the project", start, FILTER)
        if not path:
            return False
        target = Path(path)
        return self._save_to(target if target.suffix == ".zygotone" else target.with_name(target.name + ".zygotone"))

    def _save_to(self, path: Path) -> bool:
        try:
            self._desk.files.save(path)
        except ZygotoneError as error:
            self._warn(
                "Not saved", f"{error}\n\nThe project is still open, and what was in the file before is still there."
            )
            return False
        self._window.say(f"Saved {path.name}")
        return True

    def render(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self._window, "Render the mix", f"{self._desk.song.title}.wav", "WAV (*.wav);;FLAC (*.flac)"
        )
        if not path:
            return
        from zygotone.reports.rendering import MixFile

        self._window.say("Rendering…")
        self._desk.measuring.ask(
            MixFile(self._desk.session, Path(path)),
            lambda clipped: self._window.say(
                f"Rendered {Path(path).name}" + (", parts were over full scale" if clipped else "")
            ),
            urgency=1,
        )
