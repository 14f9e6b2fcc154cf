"""Work in the background: one thread, the most urgent job first, the newest of a name only."""

from __future__ import annotations

import itertools
import os
import threading
import time
import traceback
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, Signal

from zygotone.dsp.giving_up import Cancelled, IsUnwanted, given_up_when, share_told_to
from zygotone.engine import cores
from zygotone.errors import ZygotoneError

_NICE = 5
_LEAVE_S = 0.5  # how long a closing window waits for work to be given up


@dataclass(order=True)
class _Job:
    urgency: int
    number: int
    name: str = field(compare=False)
    run: Callable[[IsUnwanted], Any] = field(compare=False)
    done: Callable[[Any], None] = field(compare=False)
    failed: Callable[[str], None] | None = field(compare=False)
    goes_on_s: float = field(default=0.0, compare=False)  # see ``Worker.submit``
    stop: threading.Event = field(default_factory=threading.Event, compare=False)


class Worker(QObject):
    """``submit`` replaces and cancels an older job of the same name. Results come back in the interface's thread; each job
    has a number, and of one name only the newest one's result is delivered, however late an older one comes."""

    _finished = Signal(object, object, object)
    busy_changed = Signal(bool)
    failed = Signal(str)

    def __init__(self, *, gives_way: bool = False) -> None:
        """``gives_way``: whoever plays, and the window, come before it."""
        super().__init__()
        self._gives_way = gives_way
        self._jobs: dict[str, _Job] = {}
        self._running: _Job | None = None
        self._count = itertools.count()
        self._newest: dict[str, int] = {}
        self._wake = threading.Condition()
        self._closing = False
        self._since = 0.0
        self.share: float | None = None  # how much of the running job is done, where it says so
        self._finished.connect(self._deliver)
        self._thread = threading.Thread(target=self._loop, name="worker", daemon=True)
        self._thread.start()

    def submit(
        self, name: str, run: Callable[[IsUnwanted], Any], done: Callable[[Any], None], *, urgency: int = 5,
        failed: Callable[[str], None] | None = None, goes_on_s: float = 0.0,
    ) -> None:  # fmt: skip
        """``goes_on_s``: for so long since it began it does not give way to a newer one of its name."""
        with self._wake:
            running = self._running
            if running is not None and running.name == name and self.running_s >= running.goes_on_s:
                running.stop.set()
            job = _Job(urgency, next(self._count), name, run, done, failed, goes_on_s)
            self._jobs[name], self._newest[name] = job, job.number
            self._wake.notify_all()
        self.busy_changed.emit(True)

    def cancel(self, name: str) -> None:
        with self._wake:
            self._jobs.pop(name, None)
            self._newest.pop(name, None)
            if self._running is not None and self._running.name == name:
                self._running.stop.set()

    def forget_all(self) -> None:
        """Nothing that was asked for is wanted any more."""
        with self._wake:
            self._jobs.clear()
            self._newest.clear()
            if self._running is not None:
                self._running.stop.set()

    def wait(self, most_s: float = 30.0) -> None:
        """Returns when all that was submitted is done; its results are delivered later, by the event loop."""
        with self._wake:
            self._wake.wait_for(lambda: not self._jobs and self._running is None, most_s)

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
            self._wake.notify_all()
        self._thread.join(_LEAVE_S)

    def _loop(self) -> None:
        cores.use_all()
        if self._gives_way:
            with suppress(OSError, AttributeError):  # of this thread alone, and of those that it begins
                os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICE)
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
                with given_up_when(job.stop.is_set), share_told_to(self._hear_share):
                    result = job.run(job.stop.is_set)
            except Cancelled:
                job.stop.set()
            except Exception as problem:  # reported in the interface, where somebody can see it
                error = problem
            if not self._closing:
                self._finished.emit(job, result, error)
            with self._wake:
                self._running = None
                self._wake.notify_all()

    def _hear_share(self, share: float) -> None:
        self.share = share

    def _deliver(self, job: _Job, result: object, error: Exception | None) -> None:
        if not job.stop.is_set() and not self._closing and self._newest.get(job.name) == job.number:
            if error is None:
                job.done(result)
            else:
                if not isinstance(error, ZygotoneError):
                    traceback.print_exception(error)
                (job.failed or self.failed.emit)(f"{job.name}: {error}")
        if self.idle:
            self.busy_changed.emit(False)
