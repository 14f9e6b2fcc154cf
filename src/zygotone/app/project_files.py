"""The project's file: saving, the journal beside it, and what an earlier run left."""

from __future__ import annotations

import time
from pathlib import Path

import platformdirs
from PySide6.QtCore import QObject, QSettings, QTimer, Signal

from zygotone.app.work import Worker
from zygotone.dsp.giving_up import IsUnwanted
from zygotone.engine.bench import Bench
from zygotone.session.audio_store import AudioStore
from zygotone.session.journal import Journal, end_journal, recover
from zygotone.session.project_file import Project, assets_needed, save_project

MAX_RECENT = 8
JOURNAL_MS = 500  # from an edit to its line, whether or not others follow


class ProjectFiles(QObject):
    changed = Signal()  # the file, or whether it is up to date
    message = Signal(str)

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self.settings = settings
        # Lines are written off the window's thread: a large project takes its time.
        self._writer = Worker()
        self._writer.failed.connect(self.message)
        self._due = QTimer(self, singleShot=True, interval=JOURNAL_MS)
        self._due.timeout.connect(self.write_journal)

    def reset(self, bench: Bench, store: AudioStore, path: Path | None, project: Project) -> None:
        """Another project; ``path`` is where it was read from."""
        self._due.stop()
        self._bench, self._store, self.path = bench, store, path
        self.saved_changes = bench.changes
        self._journal = Journal(path, project) if path is not None else None
        self._unsaved_assets: set[str] | None = None  # clips that the unsaved project's own file holds
        self.saved_at: float | None = time.time() if path else None

    @property
    def dirty(self) -> bool:
        return self._bench.changes != self.saved_changes

    @property
    def project(self) -> Project:
        """As it is now."""
        return Project(self._bench.kept, self._bench.log, self._bench.trial, self._store)

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
        project = self.project
        save_project(target, project)
        if self.path is not None and self.path != target:
            end_journal(self.path)
        if self.path is None:
            self.forget_unsaved()
        self.path = target
        end_journal(target)
        self._journal = Journal(target, project)
        self.saved_changes, self.saved_at = self._bench.changes, time.time()
        self.remember(target)
        self.changed.emit()

    # --- the journal ---------------------------------------------------------------------------------------

    @property
    def data_folder(self) -> Path:
        """The application's own folder: what is unsaved, and the library."""
        folder = Path(self.settings.value("data_folder") or platformdirs.user_data_dir("zygotone"))
        folder.mkdir(parents=True, exist_ok=True)
        return folder

    @property
    def cache_folder(self) -> Path:
        """What can be made again: may be deleted at any time."""
        return Path(self.settings.value("cache_folder") or platformdirs.user_cache_dir("zygotone"))

    def _unsaved_path(self) -> Path:
        return self.data_folder / "unsaved.zygotone"

    def write_journal(self) -> None:
        """A line with the present state, in the background."""
        if not self.dirty:
            return
        project = self.project

        def write(unwanted: IsUnwanted) -> None:
            # Values only: what is edited meanwhile is the next line's.
            if self._journal is not None:
                self._write_line(self._journal, project)
            else:
                self._write_unsaved(project)

        self._writer.submit("The journal", write, lambda _: None, gives_way=False)

    def _write_line(self, journal: Journal, project: Project) -> None:
        try:
            journal.write(project)
        except OSError as error:
            self.message.emit(f"The journal could not be written: {error}")

    def _write_unsaved(self, project: Project) -> None:
        """Nothing holds the clips yet: the whole project is written, but only when its clips have changed."""
        base = self._unsaved_path()
        assets = set(assets_needed(project))
        if self._unsaved_assets != assets or self._unsaved_journal is None:
            save_project(base, project)
            end_journal(base)
            self._unsaved_assets, self._unsaved_journal = assets, Journal(base, project)
        else:
            self._write_line(self._unsaved_journal, project)

    _unsaved_journal: Journal | None = None

    def written(self) -> None:
        """Returns when every line that was begun is on disk."""
        if self._due.isActive():
            self._due.stop()
            self.write_journal()
        self._writer.wait()

    def recoverable(self, path: Path, project: Project) -> Project | None:
        """What a crash left beside a file, where it differs from it."""
        found = recover(path, project)
        if found is None:
            return None
        old, new = ((p.session, p.trial, p.log) for p in (project, found))
        return found if new != old else None

    def unsaved(self) -> Path | None:
        """What an earlier run left that was never saved to a file."""
        base = self._unsaved_path()
        return base if self.path is None and base.exists() else None

    def forget_unsaved(self) -> None:
        end_journal(self._unsaved_path())
        self._unsaved_path().unlink(missing_ok=True)
        self._unsaved_assets = None

    def discard_unsaved(self) -> None:
        """What is not saved is not wanted: leave nothing to recover."""
        self._due.stop()
        self._writer.wait()
        if self.path is not None:
            end_journal(self.path)
        else:
            self.forget_unsaved()

    # --- recent files --------------------------------------------------------------------------------------

    def remember(self, path: Path) -> None:
        recent = [str(path.resolve()), *(p for p in self.recent() if p != str(path.resolve()))]
        self.settings.setValue("recent", recent[:MAX_RECENT])

    def recent(self) -> list[str]:
        value = self.settings.value("recent") or []
        return [value] if isinstance(value, str) else list(value)

    def close(self) -> None:
        self._due.stop()
        self._writer.close()
