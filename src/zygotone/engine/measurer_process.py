"""The measurer as a process of its own. Started by ``engine.measurer``.

Three threads: one takes questions and says that it is alive, one answers what is wanted at once, one all else, and gives way
to whoever plays, to the window and to what is wanted at once: it begins nothing meanwhile, lest both make one thing.
"""

from __future__ import annotations

import ctypes
import importlib
import os
import queue
import sys
import threading
import traceback
from contextlib import suppress
from multiprocessing.connection import Connection
from multiprocessing.reduction import send_handle
from pathlib import Path

from zygotone.dsp.giving_up import Cancelled, given_up_when, share_told_to
from zygotone.dsp.tiny import tiny_as_zero
from zygotone.engine.child import let_free_memory_go
from zygotone.engine.measurer import SLOTS, MeasurerState, pack_answer, unpack_question
from zygotone.engine.pipeline import begin_helpers
from zygotone.engine.renderer import Renderer
from zygotone.engine.sent_versions import ServedVersions, VersionReceiver
from zygotone.errors import ZygotoneError
from zygotone.session.audio_store import AudioStore
from zygotone.session.held import Held
from zygotone.session.laid_aside import LaidAside
from zygotone.session.mapped import MappedCache

_SWITCH_S = 1e-3
_LOOK_S = 0.02  # how often who waits looks whether it is still wanted


class Server(ServedVersions):
    TELL_S = 0.1

    def __init__(self, connection: Connection, state: MeasurerState, takes: Path, held_bytes: int) -> None:
        super().__init__(connection, state)
        store = AudioStore(Held(held_bytes, aside := LaidAside(takes)))
        self.received = VersionReceiver(store, "measurer")
        self._aside, self._mapped = aside, MappedCache(takes)
        self._renderer = Renderer(store, store.held, mapped=self._mapped)
        self._lanes: dict[bool, queue.SimpleQueue[tuple[int, bytes]]] = {}
        for at_once in (True, False):
            self._lanes[at_once] = queue.SimpleQueue()
        self._helpers_begun = threading.Event()
        self._urgent = 0  # questions that are wanted at once and not answered yet
        self._nothing_urgent = threading.Condition()
        # Each begun here: who gives way once is not let back everywhere.
        for work in (self._measure, self._answer_at_once):
            threading.Thread(target=work, daemon=True).start()

    def _measure(self) -> None:
        with suppress(OSError, AttributeError):  # of this thread alone, and of those that it begins
            os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
        begin_helpers()
        self._helpers_begun.set()
        self._work(at_once=False)

    def _answer_at_once(self) -> None:
        self._helpers_begun.wait()  # whoever needs them first gives them its priority
        self._work(at_once=True)

    def _work(self, at_once: bool) -> None:
        while True:
            number, data = self._lanes[at_once].get()
            if not at_once:
                with self._nothing_urgent:
                    while self._urgent and not self._is_unwanted(number):
                        self._nothing_urgent.wait(_LOOK_S)
            self._answer(number, data)
            self._renderer.recent.forget()
            if at_once:
                with self._nothing_urgent:
                    self._urgent -= 1
                    self._nothing_urgent.notify()
            else:
                self._mapped.let_pages_go()
                self._aside.let_pages_go()
                let_free_memory_go()

    def _is_unwanted(self, number: int) -> bool:
        return bool(self.state.row[number % SLOTS] != number)

    def _answer(self, number: int, data: bytes) -> None:
        row = self.state.row

        def unwanted() -> bool:
            return self._is_unwanted(number)

        def hear(share: float) -> None:
            row[SLOTS + number % SLOTS] = share

        try:
            if unwanted():
                raise Cancelled
            question, asked = unpack_question(data, self.received)
            with given_up_when(unwanted), share_told_to(hear), tiny_as_zero():
                answer = question.answer(self._renderer, unwanted)
            packed = pack_answer(answer, asked)
            if isinstance(packed, bytes):
                self.tell("answer", number, packed)
            else:
                self._tell_large(number, packed)
        except Cancelled:
            self.tell("cancelled", number, None)
        except ZygotoneError as problem:
            self.tell("refused", number, str(problem))
        except Exception as problem:
            traceback.print_exc()
            self.tell("failed", number, f"{type(problem).__name__}: {problem}")

    def _tell_large(self, number: int, handle: int) -> None:
        with self._sending, suppress(OSError, ValueError):
            self.connection.send(("large", number, None))
            send_handle(self.connection, handle, None)
        os.close(handle)

    # --- commands ------------------------------------------------------------------------------------------

    def do_ask(self, number: int, at_once: bool, data: bytes) -> None:
        if at_once:
            with self._nothing_urgent:
                self._urgent += 1
        self._lanes[at_once].put((number, data))


_OWN_MAP_BYTES = 4 << 20
_M_MMAP_THRESHOLD = -3


def _map_what_is_large() -> None:
    """Audio of a section lies in maps of its own, which go when it does, and leaves no gaps among what stays (mallopt(3), where
    there is one)."""
    with suppress(AttributeError):
        ctypes.CDLL(None).mallopt(_M_MMAP_THRESHOLD, _OWN_MAP_BYTES)


def main(arguments: list[str]) -> None:
    server = Server.of_arguments(arguments, MeasurerState, Path(arguments[2]), int(arguments[3]))
    sys.setswitchinterval(_SWITCH_S)
    _map_what_is_large()
    threading.Thread(target=lambda: [importlib.import_module(name) for name in arguments[4:]], daemon=True).start()
    server.serve()
    os._exit(0)


if __name__ == "__main__":
    main(sys.argv[1:])
