"""Files at places that others may have touched: read and written wholly or not at all, and what stands in the way in words."""

from __future__ import annotations

import errno
import io
import os
import stat
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from zygotone.errors import BadFileError

_WHY = {
    errno.ENOSPC: "the disk is full; make room, or choose another place",
    errno.EDQUOT: "no more room is allowed there; make some, or choose another place",
    errno.EROFS: "nothing can be written there; choose another place",
    errno.EACCES: "it is not allowed there; choose another place, or ask whoever may",
    errno.EPERM: "it is not allowed there; choose another place, or ask whoever may",
    errno.ENOENT: "the folder is not there any more; choose another place",
    errno.ENOTDIR: "the folder is not there any more; choose another place",
    errno.EISDIR: "there is a folder of that name; choose another name",
    errno.ENAMETOOLONG: "the name is too long; choose a shorter one",
    errno.EIO: "the disk reports an error; choose another place",
    errno.ELOOP: "it is a symbolic link; choose the file that it leads to",
    errno.EBUSY: "something else uses it; try again, or choose another place",
}


def why_not(error: OSError) -> str:
    """What happened and what to do, as the end of a sentence."""
    return _WHY.get(error.errno or 0, (error.strerror or str(error)).lower())


@contextmanager
def passing_folder() -> Iterator[None]:
    """What is put into temporary folders within, here and by processes that are begun, goes at its end."""
    before = tempfile.tempdir, os.environ.get("TMPDIR")
    with tempfile.TemporaryDirectory(prefix="zygotone-", ignore_cleanup_errors=True) as folder:
        tempfile.tempdir = os.environ["TMPDIR"] = folder
        try:
            yield
        finally:
            tempfile.tempdir = before[0]
            if before[1] is None:
                del os.environ["TMPDIR"]
            else:
                os.environ["TMPDIR"] = before[1]


def open_plain(path: Path) -> BinaryIO:
    """An ordinary file, for reading. A device that would be waited for, or a link that leads elsewhere, is none.

    Raises
    ------
    BadFileError : there is none, it is something else, or it may not be read.
    """
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        raise BadFileError(path, "", "there is no such file") from None
    except OSError as error:
        reason = why_not(error) if error.errno == errno.ELOOP else (error.strerror or str(error)).lower()
        raise BadFileError(path, "", f"cannot be read ({reason})") from None
    kind = os.fstat(handle).st_mode
    if not stat.S_ISREG(kind):
        os.close(handle)
        raise BadFileError(path, "", "is a folder" if stat.S_ISDIR(kind) else "is no ordinary file")
    return os.fdopen(handle, "rb")


def replace_file(path: Path, write: Callable[[BinaryIO], object], *, what: str = "saved") -> None:
    """Writes a file of a passing name beside ``path``, flushes it to disk, then renames it.

    Raises
    ------
    BadFileError : it cannot be ``what``; what was there before is untouched.
    """
    temporary = path.with_name(f".{path.name[:180]}.{os.getpid()}.part")
    try:
        if path.is_symlink() or (path.exists() and not path.is_file()):
            kind = errno.ELOOP if path.is_symlink() else errno.EISDIR
            raise OSError(kind, os.strerror(kind))
        with open(temporary, "wb") as f:
            write(f)
            f.flush()
            os.fsync(f.fileno())
        os.replace(temporary, path)
        _sync_folder(path.parent)
    except OSError as error:
        with suppress(OSError):
            temporary.unlink(missing_ok=True)
        raise BadFileError(path, "", f"cannot be {what}: {why_not(error)}") from None
    except BaseException:
        with suppress(OSError):
            temporary.unlink(missing_ok=True)
        raise


def append_line(path: Path, line: bytes) -> None:
    """A line at the end of a file that nobody but this program writes, flushed to disk; whole or not at all.

    Raises
    ------
    OSError : it cannot be written; what was there before is untouched.
    """
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, 0o600)
    with os.fdopen(handle, "r+b", buffering=0) as f:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise OSError(errno.EINVAL, "is no ordinary file")
        end = f.seek(0, io.SEEK_END)
        if end:
            f.seek(end - 1)
            if f.read(1) != b"\n":  # one that a crash cut in half must not spoil this one
                line = b"\n" + line
        try:
            left = memoryview(line + b"\n")
            while left:
                left = left[f.write(left) :]
            os.fsync(handle)
        except OSError:
            with suppress(OSError):
                f.truncate(end)
            raise


def tidy_parts(path: Path) -> None:
    """Takes away what a process that has gone left half written beside ``path``."""
    with suppress(OSError):
        for part in path.parent.glob(f".{_plain(path.name[:180])}.*.part"):
            owner = part.name.split(".")[-2]
            if owner.isdigit() and not Path(f"/proc/{owner}").exists():
                with suppress(OSError):
                    part.unlink()


def _plain(name: str) -> str:
    return "".join(f"[{c}]" if c in "*?[" else c for c in name)


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
