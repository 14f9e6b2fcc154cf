"""A process of our own that works for this one: how it is started, spoken to, watched and ended.

It goes with whoever started it, however that ends: it dies with its parent, and the memory they share has no name.
"""

from __future__ import annotations

import ctypes
import mmap
import os
import queue
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from contextlib import suppress
from multiprocessing.connection import Connection, Pipe
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self, TypeVar

import numpy as np

from zygotone.engine import cores

if TYPE_CHECKING:
    from zygotone.engine.standby import Standby

_T = TypeVar("_T")
HUNG_S = 1.0
DEVICE_S = 15.0  # what a device that is opened may take
START_S = 20.0  # from its start to its first sign of life
_BECOMES_S = 5.0  # the same, where all was loaded before
_LOADS_S = 5.0  # of its life, and of processor time without a sign in it: a large library is loaded in one go
_QUICK_S, _PATIENCE_S, _MOST_PATIENCE_S = 5.0, 0.25, 30.0
_PR_SET_PDEATHSIG = 1
# One thread each for what would otherwise wake a pool in every process.
_CORES = "ZYGOTONE_CORES"
_ONE_THREAD = {"OPENBLAS_NUM_THREADS": "1", "NUMBA_NUM_THREADS": "1"}
# Audio that is let go goes back to the system at once: else glibc keeps what it once needed, hundreds of MiB of it.
_LETS_GO = {
    "MALLOC_ARENA_MAX": "2",
    "MALLOC_MMAP_THRESHOLD_": str(1 << 20),
    "MALLOC_TRIM_THRESHOLD_": str(8 << 20),
}


class SharedNumbers:
    """Numbers by name, and a row without names, in memory that two processes share. Each is written by one of them alone, in
    one go, so that no lock is needed."""

    NAMES: tuple[str, ...] = ("alive",)
    ROW = 0

    def __init__(self, handle: int | None = None) -> None:
        """Of an open file of ``os.memfd_create``, or a new one, with zeros: it goes with the last process that has it."""
        size = 8 * (len(self.NAMES) + self.ROW)
        self.handle = os.memfd_create("zygotone") if handle is None else handle
        if handle is None:
            os.ftruncate(self.handle, size)
        self._memory = mmap.mmap(self.handle, size)
        numbers = np.frombuffer(self._memory, dtype=np.float64)
        self._numbers, self.row = numbers[: len(self.NAMES)], numbers[len(self.NAMES) :]

    def __getitem__(self, name: str) -> float:
        return float(self._numbers[self.NAMES.index(name)])

    def __setitem__(self, name: str, value: float) -> None:
        self._numbers[self.NAMES.index(name)] = value


def _used_s(pid: int) -> float:
    """Processor time that all threads of a process have had, in s; 0 where that is not told (proc(5), fields 14 and 15)."""
    with suppress(OSError, ValueError, IndexError):
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    return 0.0


def _is_held_up(pid: int) -> bool:
    """Whether one of its threads runs, or would if there were a core for it or the disk answered."""
    with suppress(OSError, IndexError):
        for task in Path(f"/proc/{pid}/task").iterdir():
            with suppress(OSError):  # a thread that ended meanwhile
                if (task / "stat").read_text().rpartition(")")[2].split()[0] in "RD":
                    return True
    return False


def start_process(
    module: str, handles: Sequence[int], arguments: Sequence[str]
) -> tuple[subprocess.Popen[bytes], Connection]:
    """A process that runs ``module``, and this end of a pipe to it. It is called with the numbers of its end and of the open files
    ``handles``, and with ``arguments``."""
    ours, theirs = Pipe()
    passed = (theirs.fileno(), *handles)
    process = subprocess.Popen(
        [sys.executable, "-m", module, *map(str, passed), *arguments], pass_fds=passed, stdin=subprocess.DEVNULL,
        env={**os.environ, **_ONE_THREAD, **_LETS_GO, _CORES: cores.as_words(), "PYTHONPATH": os.pathsep.join(sys.path)},
    )  # fmt: skip
    theirs.close()
    return process, ours


def go_with_parent() -> None:
    """In a process that was started: it ends with whoever did, and on the cores that are allowed to it."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    cores.use_those_of(os.environ.get(_CORES, ""))


def let_free_memory_go() -> None:
    """Gives back what the C library keeps of what was freed (malloc_trim(3), where there is one)."""
    with suppress(AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


class Child:
    """One run of a process. Its module is called with two open files, the pipe and the shared numbers, and ``arguments``."""

    def __init__(
        self, module: str, state: SharedNumbers, arguments: Sequence[str] = (), standby: Standby | None = None
    ) -> None:
        self.state = state
        loaded = standby.become(module, state.handle, arguments) if standby is not None else None
        self._process, self.connection = loaded or start_process(module, (state.handle,), arguments)
        self._start_s = START_S if loaded is None else _BECOMES_S
        os.close(state.handle)
        # Sent by a thread of its own: a process that hangs must not hold up whoever speaks to it.
        self._out: queue.SimpleQueue[tuple[Any, ...] | None] = queue.SimpleQueue()
        threading.Thread(target=self._send_all, name=f"to {module}", daemon=True).start()
        self.started = time.monotonic()
        self._seen, self._seen_at, self._looked_at, self._used_then_s = 0.0, self.started, self.started, 0.0

    @property
    def pid(self) -> int:
        return self._process.pid

    def send(self, *message: Any) -> None:
        self._out.put(message)

    def _send_all(self) -> None:
        with suppress(OSError, ValueError, TypeError):  # a process that is gone is seen by ``works``
            while (message := self._out.get()) is not None:
                self.connection.send(message)

    @property
    def works(self) -> bool:
        """Whether it runs and said so of late. To be asked again and again."""
        if self._process.poll() is not None:
            return False
        now, alive = time.monotonic(), self.state["alive"]
        # Where this process did not come to ask for a while, the other may have had no time either.
        late, self._looked_at = now - self._looked_at > 0.5 * HUNG_S, now
        if alive != self._seen or late:
            self._seen, self._seen_at, self._used_then_s = alive, now, _used_s(self.pid)
        patience = HUNG_S if self._seen > 1.0 else self._start_s
        if now - self._seen_at < patience:
            return True
        # Silent for long: it hangs, unless it would go on if others left it a core. To start another then would not help.
        loads = self._seen_at - self.started < _LOADS_S
        return _is_held_up(self.pid) and _used_s(self.pid) - self._used_then_s < (_LOADS_S if loads else HUNG_S)

    def how_it_ended(self) -> str:
        """In words, for whoever reads the log."""
        code = self._process.poll()
        return (
            "fell silent" if code is None else f"ended with signal {-code}" if code < 0 else f"ended with code {code}"
        )

    def end(self, *, at_once: bool = False) -> None:
        """It is asked to go, and made to where it does not, or ``at_once``. What it told last can still be read."""
        self._out.put(("quit",))
        self._out.put(None)
        try:
            self._process.wait(0.0 if at_once else 0.5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            # Where others leave it no core to end on, it will later, and nobody waits for it.
            with suppress(subprocess.TimeoutExpired):
                self._process.wait(2.0)
        # Whoever reads or writes is woken, and the pipe is closed with the last of them: its number would go to the next
        # process's pipe at once, and be written to by a thread that was about to.
        with suppress(OSError), socket.socket(fileno=os.dup(self.connection.fileno())) as pipe:
            pipe.shutdown(socket.SHUT_RDWR)


class Patience:
    """When to start a process again that has ended: at once, but one that dies as soon as it begins would do so again."""

    def __init__(self) -> None:
        self._not_before, self._wait_s = 0.0, _PATIENCE_S

    def allows(self) -> bool:
        return time.monotonic() >= self._not_before

    def restarted(self, child: Child) -> None:
        now = time.monotonic()
        quick = now - child.started < _QUICK_S
        self._wait_s = min(_MOST_PATIENCE_S, 2.0 * self._wait_s) if quick else _PATIENCE_S
        self._not_before = now + self._wait_s


class Served:
    """The other side: takes commands, calls ``do_<command>`` for each, and says that it is alive, until its parent is gone."""

    TELL_S = 0.01  # how often it says so, at least

    def __init__(self, connection: Connection, state: SharedNumbers) -> None:
        self.connection, self.state = connection, state
        self._sending = threading.Lock()
        self._at_length = ThreadPoolExecutor(1, thread_name_prefix="at length")

    @classmethod
    def of_arguments(cls, arguments: Sequence[str], state: type[SharedNumbers], *more: Any) -> Self:
        """From what ``Child`` was given; ends with its parent."""
        go_with_parent()
        return cls(Connection(int(arguments[0])), state(int(arguments[1])), *more)

    def tell(self, *message: Any) -> None:
        with self._sending, suppress(OSError, ValueError):
            self.connection.send(message)

    def serve(self) -> None:
        """Until the other side is gone, or asks for it."""
        self.state["alive"] = 2.0
        while True:
            try:
                if self.connection.poll(self.TELL_S):
                    command, *rest = self.connection.recv()
                    if command == "quit":
                        return
                    getattr(self, f"do_{command}")(*rest)
            except (EOFError, ConnectionError):
                return
            except Exception as problem:  # one command that fails is no reason to fall silent
                self.tell("error", f"That could not be done: {problem}")
            self.state["alive"] += 1.0
            self.look_around()

    def patiently(self, work: Callable[[], _T]) -> _T:
        """Does what takes its time without fault, as a device does that opens, and says meanwhile that it is alive; for as long
        as that may take: what takes longer hangs."""
        doing, until = self._at_length.submit(work), time.monotonic() + DEVICE_S
        while not doing.done():
            wait([doing], self.TELL_S)
            if time.monotonic() < until:
                self.state["alive"] += 1.0
        return doing.result()

    def look_around(self) -> None:
        """After each command, and else each ``TELL_S``."""
