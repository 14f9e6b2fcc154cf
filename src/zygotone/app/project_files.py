"""The project's file: saving, the journal beside it, and what an earlier run left."""

from __future__ import annotations

import math
import os
import time
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path

import platformdirs
from PySide6.QtCore import QObject, QSettings, QTimer, Signal

from zygotone.app.work import Worker
from zygotone.dsp.giving_up import IsUnwanted
from zygotone.engine.bench import Bench
from zygotone.engine.coming_take import forget_coming, takes_on_their_way, with_takes
from zygotone.errors import BadFileError
from zygotone.plain_files import why_not
from zygotone.session.audio_store import AudioStore
from zygotone.session.journal import Journal, end_journal, journal_path, recover
from zygotone.session.mapped import user_cache
from zygotone.session.project_file import Project, save_project
from zygotone.session.workplaces import Lock, Workplace, claim, left_by_others, tidy_locks

MAX_RECENT = 8
JOURNAL_MS = 500  # from an edit to its line, whether or not others follow


class ProjectFiles(QObject):
    changed = Signal()  # the file, or whether it is up to date
    message = Signal(str)

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self.settings = settings
        self._workplace: Workplace | None = None
        self._lock: Lock | None = None
        self._claimed: Path | None = None  # where this window alone may save
        self._brought_back: list[Path] = []  # takes that an earlier window left
        self._taken_in: list[Path] = []  # takes that are in the song, and not in its journal yet
        # Lines are written off the window's thread: a large project takes its time.
        self._writer = Worker()
        self._writer.failed.connect(self.message)
        self._due = QTimer(self, singleShot=True, interval=JOURNAL_MS)
        self._due.timeout.connect(self.write_journal)

    def reset(self, bench: Bench, store: AudioStore, path: Path | None, project: Project) -> None:
        """Another project; ``path`` is where it was read from. ``claim`` comes before, where it is to be saved there."""
        self._due.stop()
        self._writer.wait()
        self._bench, self._store, self.path = bench, store, path
        self.saved_changes = bench.changes
        self.saved_at: float | None = time.time() if path else None
        self.read_only = path is not None and not self.claim(path)
        if self.read_only or path is None:
            self._let_go()
        self._move_in()
        saved = None if path is None or self.read_only else project
        self._journal = Journal(self._journal_of, saved) if self._journal_of is not None else None
        self._warned = False

    # --- who has it ----------------------------------------------------------------------------------------

    def claim(self, path: Path) -> bool:
        """Whether this window is the one that may save to ``path``. It stays so until another project is open, or saved to."""
        real = path.resolve()
        if self._claimed == real:
            return True
        lock: Lock | None = None
        with suppress(OSError):  # where no lock can be made nobody is kept from saving
            lock = claim(self.data_folder / "locks", path)
            if lock is None:
                return False
        self._let_go()
        self._lock, self._claimed = lock, real
        return True

    def _let_go(self) -> None:
        if self._lock is not None:
            self._lock.release()
        self._lock = self._claimed = None

    def _move_in(self) -> None:
        """A workplace for what no file holds; that of the project before is not needed any more."""
        old, self._workplace = self._workplace, None
        try:
            self._workplace = Workplace.make(self._workplaces)
            self._workplace.belongs_to(None if self.read_only else self.path)
            self._store.keep_aside_in(self._workplace.clips)
            if self._journal_of != self.path:  # a file that another window may save to does not stay as it is
                self._store.hold_others(())
        except (OSError, BadFileError) as error:
            reason = why_not(error) if isinstance(error, OSError) else str(error)
            self.message.emit(
                f"Unsaved work cannot be kept safe from a crash: {self.data_folder}: {reason}. Save often."
            )
        self._leave(old)

    @property
    def _workplaces(self) -> Path:
        return self.data_folder / "open"

    @property
    def _journal_of(self) -> Path | None:
        """What the journal lies beside."""
        if self.path is not None and not self.read_only:
            return self.path
        return self._workplace.unsaved if self._workplace is not None else None

    @property
    def takes(self) -> Path:
        """Where takes come as they are recorded: what is there outlives a crash."""
        return self._workplace.takes if self._workplace is not None else self.cache_folder / "recorded"

    def take_begins(self) -> None:
        """What it will belong to is known after a crash, too. A file that nothing has changed since is that itself."""
        if self._journal_of != self.path:
            self.write_journal(though_saved=True)

    def taken_in(self, take: Path) -> None:
        """It is in the song; what came of it goes once that is on the disk."""
        self._taken_in.append(take)

    @property
    def dirty(self) -> bool:
        return self._bench.changes != self.saved_changes

    @property
    def project(self) -> Project:
        """As it is now."""
        return Project(self._bench.kept, self._bench.log, self._bench.trial, self._store, self._bench.second)

    def follow(self) -> None:
        """After a change. The clock runs on where it runs already: who edits without a pause loses no more than others."""
        if self.dirty and not self._due.isActive():
            self._due.start()
        self.changed.emit()

    def came_back(self) -> None:
        """What is open is in no file of the person's own yet."""
        self.saved_changes = -1
        self.follow()

    def save(self, path: Path | None = None) -> None:
        """Raises BadFileError; the file that was there before is untouched then."""
        target = path or self.path
        assert target is not None
        self._due.stop()
        self._writer.wait()
        mine = self.path if not self.read_only else None
        if not self.claim(target):
            raise BadFileError(target, "", "is open in another window; choose another name")
        project, old = self.project, self._journal_of
        try:
            save_project(target, project)
        except BadFileError:
            if mine is None:
                self._let_go()
            else:
                self.claim(mine)  # what is open is still this window's
            raise
        if old is not None and old != target:
            end_journal(old)
        end_journal(target)
        self.path, self.read_only = target, False
        if self._workplace is not None:
            self._workplace.belongs_to(target)
        self._journal = Journal(target, project)
        self._forget(self._taken_in)
        self.saved_changes, self.saved_at = self._bench.changes, time.time()
        self.remember(target)
        self.changed.emit()

    # --- the journal ---------------------------------------------------------------------------------------

    @property
    def data_folder(self) -> Path:
        """The application's own folder: what is unsaved, and the library."""
        return Path(self.settings.value("data_folder") or platformdirs.user_data_dir("zygotone"))

    @property
    def cache_folder(self) -> Path:
        """What can be made again: may be deleted at any time."""
        return Path(self.settings.value("cache_folder") or user_cache())

    def write_journal(self, *, though_saved: bool = False) -> None:
        """A line with the present state, in the background."""
        if not (self.dirty or though_saved) or self._journal is None:
            return
        project, journal, taken_in = self.project, self._journal, tuple(self._taken_in)

        def write(unwanted: IsUnwanted) -> None:
            # Values only: what is edited meanwhile is the next line's.
            try:
                journal.write(project)
                self._warned = False
            except BadFileError as error:
                if not self._warned:  # once is enough, until it works again
                    self.message.emit(f"{error}. What you do now is safe only once it is saved.")
                self._warned = True
            else:
                self._forget(taken_in)

        self._writer.submit("The journal", write, lambda _: None, goes_on_s=math.inf)

    def _forget(self, takes: Iterable[Path]) -> None:
        for take in tuple(takes):
            forget_coming(take)
            with suppress(ValueError):  # a save came before
                self._taken_in.remove(take)

    def written(self) -> None:
        """Returns when every line that was begun is on disk."""
        if self._due.isActive():
            self._due.stop()
            self.write_journal()
        self._writer.wait()

    # --- what an earlier run left --------------------------------------------------------------------------

    def recoverable(self, path: Path, project: Project) -> Project | None:
        """What a crash left beside a file, where it differs from it. Raises BadFileError where it cannot be read."""
        found = None
        for left in (*self._left_of(path), None):
            found = recover(path, project, left.clips if left is not None else None)
            if left is not None and takes_on_their_way(left.takes):
                found, self._brought_back = with_takes(found or project, left.takes)
            if found is not None:
                break
        if found is None:
            return None
        old, new = ((p.session, p.trial, p.second, p.log) for p in (project, found))
        return found if new != old else None

    def forget_brought_back(self) -> None:
        """Takes that ``recoverable`` found are in this window's journal, or not wanted."""
        for take in self._brought_back:
            forget_coming(take)
        self._brought_back = []

    def _left_of(self, path: Path) -> Iterator[Workplace]:
        for left in left_by_others(self._workplaces):
            if left.project == path.resolve():
                yield left
            left.release()

    def unsaved(self) -> tuple[Workplace, Project] | None:
        """The newest work that an earlier run left and that was never saved to a file. Whoever asks ends or releases it."""
        for left in left_by_others(self._workplaces):
            if left.project is None:
                try:
                    project = recover(left.unsaved, None, left.clips)
                except BadFileError as error:
                    self.message.emit(f"{error}. It was left alone.")
                    left.release()
                    continue
                if project is not None:
                    return left, with_takes(project, left.takes)[0]
                left.end()
            else:
                self._end_if_done(left)
        return None

    def _end_if_done(self, left: Workplace) -> None:
        """The clips of a project whose journal is gone are in its file, or were not wanted. A take that was on its way is not."""
        project = left.project
        if project is not None and (
            os.path.lexists(journal_path(project)) or (project.exists() and takes_on_their_way(left.takes))
        ):
            left.release()
        else:
            left.end()

    def tidy(self) -> None:
        """Takes away what nothing needs that earlier runs left."""
        tidy_locks(self.data_folder / "locks")
        for left in left_by_others(self._workplaces):
            if left.project is None:
                left.release()  # it is offered
            else:
                self._end_if_done(left)

    def discard_unsaved(self) -> None:
        """What is not saved is not wanted: leave nothing to recover."""
        self._due.stop()
        self._writer.wait()
        if self._journal_of is not None:
            end_journal(self._journal_of)

    # --- recent files --------------------------------------------------------------------------------------

    def remember(self, path: Path) -> None:
        recent = [str(path.resolve()), *(p for p in self.recent() if p != str(path.resolve()))]
        self.settings.setValue("recent", recent[:MAX_RECENT])
        self.settings.sync()
        if self.settings.status() != QSettings.Status.NoError:
            place = self.settings.fileName()
            self.message.emit(
                f"Settings cannot be kept, the list of recent projects among them: {place} cannot be written."
            )

    def recent(self) -> list[str]:
        value = self.settings.value("recent") or []
        return [value] if isinstance(value, str) else list(value)

    def close(self) -> None:
        self._due.stop()
        self._writer.close()
        self._leave(self._workplace)
        self._let_go()

    def _leave(self, place: Workplace | None) -> None:
        """It goes; but a take that could not be finished, as on a full disk, is offered with its project again."""
        self._forget(self._taken_in)
        if place is not None and place.project is not None and takes_on_their_way(place.takes):
            place.release()
        elif place is not None:
            place.end()
