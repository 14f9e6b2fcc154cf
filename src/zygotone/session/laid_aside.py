"""What memory has no room for: values with arrays, written to files and read where they lie, by mapping.

The files have no name: they are gone with the process, whatever ends it. The system has what was written at hand for as long as
there is room, so reading on hardly waits; and unlike memory of the process itself, it may take that back.
"""

from __future__ import annotations

import itertools
import mmap
import os
import pickle
import shutil
import tempfile
import threading
from collections import deque
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

DEFAULT_BYTES = 8 << 30
_SEGMENT_BYTES = 64 << 20
_LEFT_FREE = 4  # of what is free on the disk, one part in so many may be taken
_AT_HAND_BYTES = 64 << 20  # of what was read, before its pages are given back
_ALIGNED = 64


@dataclass(eq=False, slots=True)
class _Segment:
    """A file, written from its begin to its end. What is read of it stays there, also when the file is let go."""

    handle: int
    map: mmap.mmap
    size: int
    used: int = 0

    def __del__(self) -> None:
        os.close(self.handle)


@dataclass(slots=True)
class _Place:
    segment: _Segment
    spans: Sequence[tuple[int, int]]  # first and last byte: of the pickled value, and of each of its arrays


class LaidAside:
    """Values by key, the oldest let go first. Arrays that come back are equal to the last bit, and not to be written to. Used from
    several threads; what cannot be written, as on a full disk, is not there."""

    def __init__(self, folder: Path, limit_bytes: int = DEFAULT_BYTES, segment_bytes: int = _SEGMENT_BYTES) -> None:
        self._folder, self._limit, self._segment_bytes = folder, limit_bytes, segment_bytes
        self._segments: deque[_Segment] = deque()
        self._places: dict[object, _Place] = {}
        self._lock = threading.Lock()
        self._read_bytes = 0

    @property
    def bytes_used(self) -> int:
        return sum(segment.size for segment in tuple(self._segments))

    def __contains__(self, key: object) -> bool:
        return key in self._places

    def put(self, key: object, value: Any) -> bool:
        """Whether it is there now."""
        if key in self._places:
            return True
        buffers: list[pickle.PickleBuffer] = []
        try:
            parts: list[bytes | memoryview] = [pickle.dumps(value, protocol=5, buffer_callback=buffers.append)]
        except (pickle.PicklingError, TypeError, AttributeError):  # nothing but numbers and arrays
            return False
        parts += [each.raw() for each in buffers]
        ends = list(itertools.accumulate(_rounded(len(part)) for part in parts))
        try:
            with self._lock:
                if key in self._places:  # by another thread meanwhile
                    return True
                segment = self._segment_for(ends[-1])
                spans = []
                for part, end in zip(parts, ends, strict=True):
                    first = segment.used + end - _rounded(len(part))
                    _write(segment.handle, part, first)
                    spans.append((first, first + len(part)))
                segment.used += ends[-1]
                self._places[key] = _Place(segment, spans)
        except OSError:  # a full disk, or no right to write
            return False
        return True

    def get(self, key: object) -> Any | None:
        place = self._places.get(key)
        if place is None:
            return None
        whole = memoryview(place.segment.map)
        data, *arrays = (whole[first:last] for first, last in place.spans)
        self._read_bytes += place.spans[-1][1] - place.spans[0][0]
        if self._read_bytes > _AT_HAND_BYTES:
            self.let_pages_go()
        return pickle.loads(data, buffers=arrays)

    def let_pages_go(self) -> None:
        """What was read is no longer this process's memory; whoever still reads it finds it again."""
        self._read_bytes = 0
        for segment in tuple(self._segments):
            with suppress(OSError, ValueError):
                segment.map.madvise(mmap.MADV_DONTNEED)

    def _segment_for(self, size: int) -> _Segment:
        if self._segments and self._segments[-1].used + size <= self._segments[-1].size:
            return self._segments[-1]
        segment_bytes = max(size, self._segment_bytes)
        self._folder.mkdir(parents=True, exist_ok=True)
        while self._segments and self.bytes_used + segment_bytes > self._room():
            gone = self._segments.popleft()
            self._places = {key: place for key, place in self._places.items() if place.segment is not gone}
        if self.bytes_used + segment_bytes > self._room():
            raise OSError("no room")
        with tempfile.TemporaryFile(dir=self._folder, buffering=0) as file:
            file.truncate(segment_bytes)
            mapped = mmap.mmap(file.fileno(), segment_bytes, prot=mmap.PROT_READ)
            # A number, not the file: whichever of the two Python lets go of first, none is left open.
            self._segments.append(_Segment(os.dup(file.fileno()), mapped, segment_bytes))
        return self._segments[-1]

    def _room(self) -> int:
        written = sum(segment.used for segment in self._segments)
        return min(self._limit, (shutil.disk_usage(self._folder).free + written) // _LEFT_FREE)


def _rounded(size: int) -> int:
    return -(-size // _ALIGNED) * _ALIGNED


def _write(handle: int, part: bytes | memoryview, at: int) -> None:
    whole, done = memoryview(part), 0
    while done < len(whole):
        done += os.pwrite(handle, whole[done:], at + done)
