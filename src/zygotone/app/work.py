"""Work in the background: one thread, the most urgent job first, the newest of a name only."""

from __future__ import annotations

import itertools
import threading
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, Signal

from zygotone.engine.renderer import Cancelled
from zygotone.errors import ZygotoneError

Cancel = Callable[[], bool]


@dataclass(order=True)
class _Job:
    urgency: int
    number: int
    name: str = field(compare=False)
    run: Callable[[Cancel], Any] = field(compare=False)
    done: Callable[[Any], None] = field(compare=False)
    failed: Callable[[str], None] | None = field(compare=False)
    stop: threading.Event = field(default_factory=threading.Event, compare=False)


class Worker(QObject):
    """``submit`` replaces and cancels an older job of the same name. Results come back in the interface's thread."""

    _finished = Signal(object, object, object)
    busy_changed = Signal(bool)
    failed = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._jobs: dict[str, _Job] = {}
        self._running: _Job | None = None
        self._count = itertools.count()
        self._wake = threading.Condition()
        self._closing = False
        self._since = 0.0
        self.share: float | None = None  # how much of the running job is done, where it says so
        self._finished.connect(self._deliver)
        self._thread = threading.Thread(target=self._loop, name="worker", daemon=True)
        self._thread.start()

    def submit(
        self, name: str, run: Callable[[Cancel], Any], done: Callable[[Any], None], *, urgency: int = 5,
        failed: Callable[[str], None] | None = None,
    ) -> None:  # fmt: skip
        with self._wake:
            if self._running is not None and self._running.name == name:
                self._running.stop.set()
            self._jobs[name] = _Job(urgency, next(self._count), name, run, done, failed)
            self._wake.notify()
        self.busy_changed.emit(True)

    def cancel(self, name: str) -> None:
        with self._wake:
            self._jobs.pop(name, None)
            if self._running is not None and self._running.name == name:
                self._running.stop.set()

    @property
    def running(self) -> str | None:
        """Name of the job that is being worked on."""
        job = self._running
        return job.name if job is not None else None

    @property
    def running_s(self) -> float:
        return time.monotonic() - self._since if self._running is not None else 0.0

    @property
    def idle(self) -> bool:
        with self._wake:
            return not self._jobs and self._running is None

    def close(self) -> None:
        with self._wake:
            self._closing = True
            self._jobs.clear()
            if self._running is not None:
                self._running.stop.set()
            self._wake.notify()
        self._thread.join(5.0)

    def _loop(self) -> None:
        while True:
            with self._wake:
                while not self._jobs and not self._closing:
                    self._wake.wait()
                if self._closing:
                    return
                job = min(self._jobs.values())
                del self._jobs[job.name]
                self._running, self._since, self.share = job, time.monotonic(), None
            result, error = None, None
            try:
                result = job.run(job.stop.is_set)
            except Cancelled:
                job.stop.set()
            except Exception as problem:  # reported in the interface, where somebody can see it
                error = problem
            if self._closing:
                return
            self._finished.emit(job, result, error)
            with self._wake:
                self._running = None

    def _deliver(self, job: _Job, result: object, error: Exception | None) -> None:
        if not job.stop.is_set() and not self._closing:
            if error is None:
                job.done(result)
            else:
                if not isinstance(error, ZygotoneError):
                    traceback.print_exception(error)
                (job.failed or self.failed.emit)(f"{job.name}: {error}")
        if self.idle:
            self.busy_changed.emit(False)
