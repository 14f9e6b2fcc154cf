"""What nobody expected: an error in a handler or in a picture ends neither the application nor the work. It is said in a line, and
written down whole for whoever is to mend it.
"""

from __future__ import annotations

import sys
import traceback
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from types import TracebackType

_MOST_BYTES = 200_000  # of what is written down


class Mishaps:
    """An ``excepthook``. What fails again and again, as a picture may at each painting, is told once."""

    def __init__(self, path: Callable[[], Path], tell: Callable[[str], None]) -> None:
        self._path, self._tell = path, tell
        self._known: set[tuple[str, int]] = set()

    def __call__(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        sys.__excepthook__(kind, error, trace)
        if issubclass(kind, Exception):
            last = (traceback.extract_tb(trace) or [traceback.FrameSummary("", 0, "")])[-1]
            place = (last.filename, last.lineno or 0)
            if place not in self._known:
                self._known.add(place)
                self._note("".join(traceback.format_exception(kind, error, trace)))

    def _note(self, text: str) -> None:
        path, words = self._path(), "Something failed here; your work is kept"
        with suppress(OSError):
            path.parent.mkdir(parents=True, exist_ok=True)
            before = path.read_bytes()[-_MOST_BYTES:] if path.exists() else b""
            path.write_bytes(before + f"--- {datetime.now():%Y-%m-%d %H:%M:%S}\n{text}\n".encode())
            words += f". What happened is written in {path}"
        self._tell(f"{words}.")
