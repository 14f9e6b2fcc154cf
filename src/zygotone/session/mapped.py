"""Audio that several processes read: files that are mapped into memory, so that a take exists once on the machine.

The folder is a cache: every file in it can be made again, is found by the digest of what it was made from and by the program that
made it, and may be deleted at any time. What is mapped then stays readable until it is let go.
"""

from __future__ import annotations

import contextlib
import errno
import functools
import hashlib
import mmap
import os
import sys
import tempfile
import threading
import weakref
from collections.abc import Iterable
from pathlib import Path

import numpy as np
import platformdirs

from zygotone.dsp.types import FloatArray

DEFAULT_BYTES = 4 << 30
Stretches = tuple[tuple[int, int], ...]  # frames from and to
_SUFFIX = ".take"
_PIECE_FRAMES = 8192  # what is silent for so long is left out of a file
_MADE_BY = ("dsp", "music", "session", "sources")


def user_cache() -> Path:
    """The person's own folder for what can be made again."""
    return Path(platformdirs.user_cache_dir("zygotone"))


def takes_below(cache: Path) -> Path:
    return cache / "takes"


def sounds(stretches: Stretches | None, start: int, stop: int) -> bool:
    """Whether there may be something between these frames; ``stretches`` as of ``MappedCache.sounding``."""
    return stretches is None or any(first < stop and start < last for first, last in stretches)


def stretches(audio: FloatArray) -> Stretches:
    """Where audio (channels, n) is not silent all along, as far as pieces of 8192 frames tell."""
    frames = audio.shape[1]
    pieces = ((at, min(frames, at + _PIECE_FRAMES)) for at in range(0, frames, _PIECE_FRAMES))
    return tuple((first, last) for first, last in pieces if audio[:, first:last].any())


@functools.cache
def _program() -> str:
    """Names the code that notes and clips become audio by: what another version of it made may sound otherwise."""
    package, found = Path(__file__).parents[1], hashlib.sha256()
    for name in _MADE_BY:
        for module in sorted((package / name).glob("*.py")):
            found.update(module.read_bytes())
    return found.hexdigest()[:12]


class MappedCache:
    """Arrays (channels, frames) in single precision by digest. Used from several threads and processes."""

    def __init__(self, folder: Path, limit_bytes: int = DEFAULT_BYTES) -> None:
        self.folder, self._limit = folder, limit_bytes
        self._open: weakref.WeakValueDictionary[str, np.memmap] = weakref.WeakValueDictionary()
        self._maps: weakref.WeakSet[mmap.mmap] = weakref.WeakSet()  # of those, and of what still reads them
        self._lock = threading.Lock()  # who goes through them must not meet who adds one

    def _path(self, digest: str) -> Path:
        return self.folder / f"{_program()}-{digest}{_SUFFIX}"

    def holds(self, digest: str) -> bool:
        return digest in self._open or self._path(digest).exists()

    def get(self, digest: str) -> FloatArray | None:
        """Not to be written to; None where there is none, or where it is not whole."""
        held = self._open.get(digest)
        if held is not None:
            return held
        path = self._path(digest)
        try:
            made = np.lib.format.open_memmap(path, mode="r")
            if made.ndim != 2 or made.dtype != np.float32:
                return None
            os.utime(path)  # what is used is deleted last
        except (OSError, ValueError):
            return None
        self._open[digest] = made
        if isinstance(made.base, mmap.mmap):
            with self._lock:
                self._maps.add(made.base)
        return made

    def let_pages_go(self) -> None:
        """What was read of the files is no longer this process's. The system has it at hand for as long as there is room, so who
        reads on hardly waits; but who plays long clips to their end would hold all of them."""
        with self._lock:
            maps = tuple(self._maps)
        for each in maps:
            with contextlib.suppress(OSError, ValueError):
                each.madvise(mmap.MADV_DONTNEED)

    def sounding(self, digest: str) -> Stretches | None:
        """Where it is not silent all along, as far as the folder's file system knows; what lies between need not be read, and takes
        no room. None where it is not known."""
        held = self.get(digest)
        if held is None:
            return None
        channels, frames = held.shape
        found: list[tuple[int, int]] = []
        try:
            with open(self._path(digest), "rb") as f:
                begin = os.fstat(f.fileno()).st_size - 4 * channels * frames
                for channel in range(channels):
                    row, end = begin + 4 * channel * frames, begin + 4 * (channel + 1) * frames
                    at = row
                    while at < end and (data := _next_data(f.fileno(), at)) < end:
                        at = min(end, os.lseek(f.fileno(), data, os.SEEK_HOLE))
                        found.append((max(0, (data - row) // 4), -(-(at - row) // 4)))
        except OSError:  # deleted meanwhile
            return None
        return tuple(found)

    def put(self, digest: str, audio: FloatArray) -> FloatArray:
        """``audio`` as it is mapped; as it is, where the folder cannot be written."""
        mapped = self.fill(digest, audio.shape, [audio])
        return mapped if mapped is not None else np.asarray(audio, dtype=np.float32)

    def fill(self, digest: str, shape: tuple[int, ...], blocks: Iterable[FloatArray]) -> FloatArray | None:
        """Audio of this shape (channels, frames) from consecutive ``blocks``, as it is mapped; None where the folder cannot be
        written. What ``blocks`` raises is let through, and nothing is left."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(prefix=f"{os.getpid()}-", suffix=".part", dir=self.folder)
        except OSError:
            return None
        try:
            with os.fdopen(handle, "wb") as f:
                head = {"descr": "<f4", "fortran_order": False, "shape": tuple(map(int, shape))}
                np.lib.format.write_array_header_1_0(f, head)
                begin = f.tell()
                f.truncate(begin + 4 * shape[0] * shape[1])
                at = 0
                for block in blocks:
                    for channel, row in enumerate(np.asarray(block, dtype="<f4")):
                        for piece in range(0, len(row), _PIECE_FRAMES):
                            frames = row[piece : piece + _PIECE_FRAMES]
                            if frames.any():
                                f.seek(begin + 4 * (channel * shape[1] + at + piece))
                                f.write(frames.tobytes())
                    at += block.shape[1]
            os.replace(name, self._path(digest))
        except OSError:  # a full disk, or no right to write
            with contextlib.suppress(OSError):
                os.unlink(name)
            return None
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(name)
            raise
        self.tidy()
        return self.get(digest)

    def tidy(self) -> None:
        """Deletes what was used longest ago, as far as there is too much, and what a crash left half written."""
        found: list[tuple[float, int, Path]] = []
        with contextlib.suppress(OSError):
            for entry in os.scandir(self.folder):
                with contextlib.suppress(OSError):
                    stat = entry.stat()
                    if entry.name.endswith(_SUFFIX):
                        found.append((stat.st_mtime, stat.st_size, Path(entry.path)))
                    elif entry.name.endswith(".part") and not _alive(entry.name.partition("-")[0]):
                        os.unlink(entry.path)
        held = sum(size for _, size, _ in found)
        for _, size, path in sorted(found):
            if held <= self._limit:
                break
            with contextlib.suppress(OSError):
                path.unlink()
            held -= size


def _next_data(handle: int, at: int) -> int:
    """Where something is written in a file from ``at`` on; behind its end where nothing is."""
    try:
        return os.lseek(handle, at, os.SEEK_DATA)
    except OSError as problem:
        if problem.errno == errno.ENXIO:
            return sys.maxsize
        raise


def _alive(process: str) -> bool:
    """Whether a file's writer still runs."""
    return process.isdigit() and Path(f"/proc/{process}").exists()
