"""A folder for what an open project does not hold yet, so that it outlives a crash; and who has which project open.

Each window has a workplace of its own: the clips that were taken in since the last save, takes that are being recorded, and the
journal of a project that was never saved. A lock says that it is in use, and goes with the process. What is left by one that died is offered, or tidied away.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import time
import uuid
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from zygotone.errors import BadFileError
from zygotone.plain_files import replace_file

_NEW, _NEW_S = ".new", 60.0  # how long one may be in the making
_LOCK, _OF = "lock", "of"  # files of a workplace: who uses it, and the project that it belongs to


class Lock:
    """Held by one process at a time, by the system: it ends with the process, however that ends."""

    def __init__(self, path: Path) -> None:
        """Raises OSError where another has it, BlockingIOError among them, or where it cannot be made."""
        while True:
            self._handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
            try:
                fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                if os.path.samestat(os.fstat(self._handle), os.stat(path)):
                    return
            except FileNotFoundError:
                pass  # it was tidied away between the one call and the other: the next may have it, so this one must not
            except OSError:
                os.close(self._handle)
                raise
            os.close(self._handle)

    def release(self) -> None:
        with suppress(OSError):
            os.close(self._handle)


class Workplace:
    """The folder of one window's project. ``left_by`` finds those that nobody uses any more."""

    def __init__(self, folder: Path, lock: Lock) -> None:
        self.folder, self._lock = folder, lock

    @classmethod
    def make(cls, all_of_them: Path) -> Workplace:
        """Raises OSError where it cannot be made."""
        folder = all_of_them / uuid.uuid4().hex
        made = folder.with_suffix(
            _NEW
        )  # it has its name when it is locked, so that nobody takes it for one that was left
        made.mkdir(parents=True, mode=0o700)
        lock = Lock(made / _LOCK)
        made.rename(folder)
        return cls(folder, lock)

    @property
    def clips(self) -> Path:
        """Where clips lie that no project file holds yet."""
        return self.folder / "clips"

    @property
    def takes(self) -> Path:
        """Where takes come as they are recorded."""
        return self.folder / "takes"

    @property
    def unsaved(self) -> Path:
        """The name under which the journal of a project without a file lies."""
        return self.folder / "unsaved"

    @property
    def project(self) -> Path | None:
        """The file that it belongs to."""
        with suppress(OSError):
            if name := os.fsdecode((self.folder / _OF).read_bytes()):
                return Path(name)
        return None

    def belongs_to(self, project: Path | None) -> None:
        with suppress(OSError, BadFileError):  # then it is not found again after a crash, and nothing else
            if project is None:
                (self.folder / _OF).unlink(missing_ok=True)
            else:
                # In one go: who is killed as it is written must not leave half a name.
                replace_file(self.folder / _OF, lambda f: f.write(os.fsencode(project.resolve())))

    def release(self) -> None:
        """It stays, for another time."""
        self._lock.release()

    def end(self) -> None:
        """Nothing of it is needed any more."""
        shutil.rmtree(self.folder, ignore_errors=True)
        self._lock.release()


def left_by_others(all_of_them: Path) -> Iterator[Workplace]:
    """Workplaces that nobody uses, the newest first. Each is the caller's, to ``end`` or to ``release``."""
    found = []
    with suppress(OSError):
        found = [Path(entry.path) for entry in os.scandir(all_of_them) if entry.is_dir(follow_symlinks=False)]
    for folder in sorted(found, key=_changed, reverse=True):
        if folder.suffix == _NEW and time.time() - _changed(folder) < _NEW_S:
            continue
        with suppress(OSError):
            yield Workplace(folder, Lock(folder / _LOCK))


def _changed(folder: Path) -> float:
    with suppress(OSError):
        return folder.stat().st_mtime
    return 0.0


def claim(locks: Path, project: Path) -> Lock | None:
    """Whoever has it is the one window that may write to ``project``; None where another one is.

    Raises
    ------
    OSError : no lock can be made there.
    """
    locks.mkdir(parents=True, exist_ok=True, mode=0o700)
    name = hashlib.sha256(os.fsencode(project.resolve())).hexdigest()[:40]
    try:
        return Lock(locks / name)
    except BlockingIOError:
        return None


def tidy_locks(locks: Path) -> None:
    """Takes away those that nobody holds."""
    with suppress(OSError):
        for entry in os.scandir(locks):
            with suppress(OSError):
                lock = Lock(Path(entry.path))
                os.unlink(entry.path)
                lock.release()
