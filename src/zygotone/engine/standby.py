"""A process kept ready, so that whoever dies is followed at once: Python, the libraries and compiled code take seconds to load, and a
machine that has no time for one process takes still longer for the next."""

from __future__ import annotations

import subprocess
import threading
import time
from collections.abc import Iterable, Sequence
from contextlib import suppress
from multiprocessing.connection import Connection
from multiprocessing.reduction import send_handle

from zygotone.engine.child import start_process

_AFTER_S = 6.0  # what has just begun is left the processor first


class Standby:
    """Becomes the player or the measurer, whichever needs it first; another is loaded some time after."""

    def __init__(self, modules: Iterable[str] = ()) -> None:
        """``modules``: what is loaded beside what both need."""
        self._modules = tuple(modules)
        self._lock = threading.Lock()
        self._held: tuple[subprocess.Popen[bytes], Connection] | None = None
        self._ready = False
        self._not_before = time.monotonic() + _AFTER_S

    def look_after(self) -> None:
        """Called now and then, by a thread that stays as long as the process shall (prctl(2), PR_SET_PDEATHSIG)."""
        with self._lock:
            if self._held is not None and self._held[0].poll() is not None:
                self._let_go()
            if self._held is None and time.monotonic() >= self._not_before:
                self._held = start_process("zygotone.engine.standby_process", (), self._modules)

    @property
    def pid(self) -> int | None:
        return self._held[0].pid if self._held is not None else None

    @property
    def ready(self) -> bool:
        with self._lock:
            return self._is_ready()

    def become(
        self, module: str, state: int, arguments: Sequence[str]
    ) -> tuple[subprocess.Popen[bytes], Connection] | None:
        """As ``start_process``, of a process that has all loaded; None where there is none yet. ``state``: of an open file."""
        with self._lock:
            if self._held is None or not self._is_ready():
                return None
            process, connection = held = self._held
            self._forget()
            with suppress(OSError):
                connection.send((module, tuple(arguments)))
                send_handle(connection, state, process.pid)
                return held
            process.kill()
            return None

    def close(self) -> None:
        with self._lock:
            self._let_go()

    def _is_ready(self) -> bool:
        if self._held is None or self._held[0].poll() is not None:
            return False
        with suppress(EOFError, OSError):
            while self._held[1].poll():
                self._ready = self._held[1].recv() == "ready"
        return self._ready

    def _let_go(self) -> None:
        if self._held is not None:
            process, connection = self._held
            self._forget()
            process.kill()
            process.wait()
            connection.close()

    def _forget(self) -> None:
        self._held, self._ready, self._not_before = None, False, time.monotonic() + _AFTER_S
