"""The bench of the window with all that goes on around it: files, selection, listening, measuring.

Views read from here and listen to the part that they show; they change the session only through ``edit`` and the trial's own
actions.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QObject, QSettings, Qt, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication

from zygotone.advise.findings import Finding
from zygotone.advise.on_purpose import accepted, withdrawn
from zygotone.advise.settling import Settled
from zygotone.app.key_player import KeyPlayer
from zygotone.app.listening import Listening
from zygotone.app.measuring import Measuring
from zygotone.app.project_files import ProjectFiles
from zygotone.app.selection import Selection
from zygotone.app.widgets.basic import say_beside
from zygotone.engine.bench import Bench, Edit
from zygotone.engine.measurer import Answers, AnswersHere, Measurer
from zygotone.engine.renderer import Renderer
from zygotone.engine.standby import Standby
from zygotone.errors import ZygotoneError, one_line
from zygotone.session.audio_store import AudioStore
from zygotone.session.history import LogEntry, Trial
from zygotone.session.mapped import MappedCache, takes_below
from zygotone.session.models import Session, Song
from zygotone.session.project_file import Project

MEASURED_BYTES = 160 << 20  # of audio and facts that the measurer keeps in memory; what is more lies on the disk
_QUESTIONS = ("zygotone.advise.questions", "zygotone.advise.rules")

Made = TypeVar("Made")


class Desk(QObject):
    opened = Signal()  # another project
    session_changed = Signal()  # any change of the bench
    message = Signal(str)
    stage_wanted = Signal(str)

    def __init__(
        self,
        project: Project,
        path: Path | None = None,
        *,
        settings: QSettings | None = None,
        own_processes: bool = True,
    ) -> None:
        """With processes of their own the player and the measurer are held up by nothing that happens in this one."""
        super().__init__()
        self.settings = settings or QSettings("zygotone", "zygotone")
        self.files = ProjectFiles(self.settings)
        self._bring(project)
        self.selection = Selection(self.bench)
        self.standby = Standby(_QUESTIONS) if own_processes else None
        self.answers: Answers = (
            Measurer(self.renderer, held_bytes=MEASURED_BYTES, modules=_QUESTIONS, standby=self.standby)
            if own_processes
            else AnswersHere(self.renderer)
        )
        self.listening = Listening(
            self.bench, self.renderer, self.selection, self.answers, self.standby, own_process=own_processes
        )
        self.measuring = Measuring(self.bench, self.answers, self.selection, self.listening)
        self.files.reset(self.bench, self.store, path, project)
        self.keys = KeyPlayer(self)
        for part in (self.files, self.listening, self.measuring):
            part.message.connect(self.message)
        self.selection.loop_changed.connect(self._on_loop)
        self.selection.changed.connect(self.listening.on_other_track)
        self.listening.changed.connect(self.measuring.soon)  # what is heard is level-matched

    def _bring(self, project: Project) -> None:
        self.bench = Bench(project.session, log=project.log, trial=project.trial, second=project.second)
        self.bench.listen(self._on_bench)
        if getattr(self, "store", None) is not project.store:  # else what is known of its clips stays true
            self.store: AudioStore = project.store
            self.renderer = Renderer(
                self.store, self.store.held, mapped=MappedCache(takes_below(self.files.cache_folder))
            )

    def open_project(self, project: Project, path: Path | None) -> None:
        self.keys.release_all()
        self._bring(project)
        self.selection.reset(self.bench)
        self.answers.reset(self.renderer)
        self.listening.reset(self.bench, self.renderer)
        self.measuring.reset(self.bench)
        self.files.reset(self.bench, self.store, path, project)
        if path is not None:
            self.files.remember(path)
        self.start()
        self.opened.emit()

    def start(self) -> None:
        """Begin to measure; separate from opening, so that the window is there first."""
        self._on_bench()
        for signal in (
            self.files.changed, self.selection.changed, self.selection.loop_changed, self.measuring.match_changed,
        ):  # fmt: skip
            signal.emit()

    def look_after(self) -> None:
        """Called now and then: a process that died or hangs is started anew, with what it was about."""
        self.listening.look_after()
        if self.answers.look_after():
            self.message.emit("The measurer had stopped; it was started again and asked again. Nothing is lost.")
        if self.standby is not None:
            self.standby.look_after()

    def close(self) -> None:
        self.listening.close()
        self.measuring.close()
        self.answers.close()
        if self.standby is not None:
            self.standby.close()
        self.files.close()

    # --- the session ---------------------------------------------------------------------------------------

    @property
    def session(self) -> Session:
        return self.bench.session

    @property
    def song(self) -> Song:
        return self.session.song

    def edit(self, label: str, change: Callable[[Session], Session], *, merge_key: object = None) -> bool:
        """Whether the edit was possible; if not, a message says why and nothing changed."""
        try:
            held = bool(QGuiApplication.mouseButtons() & Qt.MouseButton.LeftButton)
            self.bench.apply(Edit(label, change, merge_key, held))
        except (ZygotoneError, ValueError) as error:
            self.refuse(one_line(error))
            return False
        return True

    def refuse(self, words: str) -> None:
        """Says why something is not possible: in the status line, and beside the field that it was asked for in."""
        self.message.emit(words)
        field = QApplication.focusWidget()
        if field is not None and field.isVisible():
            say_beside(field, words)

    def make(self, label: str, change: Callable[[Session], tuple[Session, Made]]) -> Made | None:
        """An edit that also says what it made, such as the id of a new track; None where it was not possible."""
        made: list[Made] = []

        def edit(session: Session) -> Session:
            new, what = change(session)
            made.append(what)
            return new

        return made[-1] if self.edit(label, edit) and made else None

    def end_merge(self) -> None:
        """The hand let go: the next edit is a step of its own. (Of the bench that is here then: projects come and go.)"""
        self.bench.end_merge()

    def _on_bench(self) -> None:
        self.selection.follow()
        self.listening.follow_loop()  # another tempo or length moves it
        self.listening.follow()  # before anything is drawn: the ear is to hear an edit at once
        self.session_changed.emit()
        self.measuring.soon()
        self.files.follow()

    def _on_loop(self) -> None:
        self.listening.follow_loop()
        self.measuring.forget_loop()

    # --- trials --------------------------------------------------------------------------------------------

    def try_fix(self, finding: Finding, number: int) -> None:
        """Put fix ``number`` (from 1) on trial, and hear it."""
        found = LogEntry(
            number=0, time="", action="found", title=finding.sentence, tracks=finding.tracks,
            section=finding.section.id, stage=finding.stage, finding=finding.id, readings=finding.readings(),
        )  # fmt: skip
        self.measuring.forget_match()
        self.bench.try_out(finding.trial(number), found=found)
        self.listening.hear(1)

    def try_own(self) -> None:
        """Open a trial from nothing: all that is done by hand then belongs to it."""
        if self.bench.trial is not None:
            self.refuse("A trial is open already; what you do belongs to it.")
            return
        selection = self.selection
        self.measuring.forget_match()
        self.bench.try_out(Trial(session=self.bench.kept, title="My own", section=selection.section.id, stage="fit"))
        self.listening.hear(1)
        self.message.emit("A trial of your own is open: all you change now belongs to B. Keep (K) or drop (D) it.")

    def try_settled(self, settled: Settled, *, whole: bool = False) -> None:
        """Put what settles a section, or the ``whole`` song, on trial, and hear it."""
        section = settled.left[0].section if settled.left and not whole else self.selection.section
        title = f"Settle {'the song' if whole else section.name}: {settled.title.lower()}"
        self.measuring.forget_match()
        self.bench.try_out(
            Trial(session=settled.session, title=title, section=section.id, stage="fit", readings=settled.readings())
        )
        self.listening.hear(1)

    def set_aside(self) -> None:
        """B stands aside as C, and what stood there comes back."""
        if self.bench.trial is None and self.bench.second is None:
            self.refuse("Nothing is on trial.")
            return
        self.measuring.forget_match()
        self.bench.set_aside()
        self.listening.hear(1 if self.bench.trial is not None else 0)

    def accept_finding(self, finding: Finding, reason: str, may_change: float, everywhere: bool) -> None:
        """A finding is meant; the log says why."""
        done = self.edit(
            f"On purpose: {finding.sentence}",
            lambda session: accepted(session, finding, reason, may_change=may_change, everywhere=everywhere),
        )
        if done:
            self.bench.note(
                "made", f"On purpose: {finding.sentence}", reason=reason, tracks=finding.tracks, section=finding.section.id,
                stage=finding.stage, finding=finding.id, readings=finding.readings(),
            )  # fmt: skip

    def judge_again(self, finding: Finding) -> None:
        self.edit(f"Judge again: {finding.sentence}", lambda session: withdrawn(session, finding))

    def keep(self, reason: str = "") -> None:
        if self.bench.trial is not None:
            self.bench.keep(reason, self.measuring.readings_now())

    def drop(self, reason: str = "") -> None:
        if self.bench.trial is not None:
            self.bench.drop(reason, self.measuring.readings_now())
