"""Answers to questions, from a process of its own: measuring holds up neither the window nor the player.

A question is a frozen value with a method ``answer(renderer, unwanted)``. Both sides name versions by digest; an answer comes
back in memory that both share. A process that dies or hangs is started anew, and asked again what it was being asked.
"""

from __future__ import annotations

import io
import json
import mmap
import os
import pickle
import struct
import threading
from collections.abc import Callable, Iterable
from contextlib import suppress
from multiprocessing.connection import Connection
from multiprocessing.reduction import recv_handle
from typing import Any, Protocol

from zygotone.dsp.giving_up import Cancelled, IsUnwanted, tell_share
from zygotone.engine.child import Child, Patience, SharedNumbers
from zygotone.engine.graph import Graph, compile_session
from zygotone.engine.renderer import Renderer
from zygotone.engine.sent_versions import VersionReceiver, VersionSender
from zygotone.engine.standby import Standby
from zygotone.errors import ZygotoneError
from zygotone.session.models import Session
from zygotone.session.versions import PartReader, PartWriter, part_digests

SLOTS = 64  # questions that can be open at a time
_LOOK_S = 0.005  # how often somebody who waits for an answer is asked whether he still does
_MOST_TRIES = 2
_LARGE_BYTES = 1 << 16
_ALIGN = 64


class Question(Protocol):
    @property
    def name(self) -> str:
        """Of two questions of one name only the newer is answered."""

    def answer(self, renderer: Renderer, unwanted: IsUnwanted) -> Any:
        """Raises Cancelled as soon as ``unwanted`` says so."""


class Answers(Protocol):
    """Whoever answers questions."""

    def answer(self, question: Question, unwanted: IsUnwanted, *, at_once: bool = False) -> Any:
        """Raises Cancelled where it is not wanted any more, ZygotoneError where it cannot be answered. What is wanted
        ``at_once`` waits for nothing that is not."""

    def look_after(self) -> bool:
        """Called now and then; whether something that had died was started anew."""

    def reset(self, renderer: Renderer) -> None:
        """Another project."""

    def close(self) -> None:
        """Nothing is asked any more."""


class AnswersHere:
    """In this process, by whoever asks; what cannot be sent to another process is refused here too."""

    def __init__(self, renderer: Renderer) -> None:
        self._renderer = renderer

    def answer(self, question: Question, unwanted: IsUnwanted, *, at_once: bool = False) -> Any:
        _, sessions = pack_question(question)
        try:
            return unpack_answer(pack_answer(question.answer(self._renderer, unwanted), sessions), sessions)
        finally:
            self._renderer.recent.forget()

    def look_after(self) -> bool:
        return False

    def reset(self, renderer: Renderer) -> None:
        self._renderer = renderer

    def close(self) -> None:
        pass


class MeasurerState(SharedNumbers):
    # The number of the question that is wanted, at its number modulo SLOTS; then how much of each is done.
    ROW = 2 * SLOTS


# --- what goes from one process to the other --------------------------------------------------------------------------


class _Pickler(pickle.Pickler):
    def __init__(
        self, file: io.BytesIO, name: Callable[[Session], str], buffers: list[pickle.PickleBuffer] | None
    ) -> None:
        super().__init__(file, protocol=5, buffer_callback=None if buffers is None else buffers.append)
        self._name = name

    def persistent_id(self, thing: Any) -> tuple[str, str] | None:
        if isinstance(thing, Graph):
            return "graph", self._name(thing.session)
        return ("session", self._name(thing)) if isinstance(thing, Session) else None


class _Unpickler(pickle.Unpickler):
    def __init__(
        self, data: bytes, session: Callable[[str], Session], graph: Callable[[str], Graph], buffers: Any = ()
    ) -> None:
        super().__init__(io.BytesIO(data), buffers=buffers)
        self._session, self._graph = session, graph

    def persistent_load(self, pid: tuple[str, str]) -> Session | Graph:
        kind, digest = pid
        return self._graph(digest) if kind == "graph" else self._session(digest)


def pack_question(question: Question) -> tuple[bytes, tuple[Session, ...]]:
    """As bytes, and the versions that it names by digest."""
    sessions: dict[str, Session] = {}

    def name(session: Session) -> str:
        return sessions.setdefault(session.digest, session).digest

    file = io.BytesIO()
    _Pickler(file, name, None).dump(question)
    return file.getvalue(), tuple(sessions.values())


def unpack_question(data: bytes, received: VersionReceiver) -> tuple[Question, tuple[Session, ...]]:
    """The question, and the versions that it names."""
    sessions: dict[str, Session] = {}

    def session(digest: str) -> Session:
        return sessions.setdefault(digest, received.session(digest))

    def graph(digest: str) -> Graph:
        made = received.graph(digest)
        sessions.setdefault(digest, made.session)
        return made

    question: Question = _Unpickler(data, session, graph).load()
    return question, tuple(sessions.values())


def pack_answer(answer: Any, asked: Iterable[Session]) -> int | bytes:
    """As bytes, or as an open file without a name where it is large. Of versions only what those ``asked`` about do not have."""
    writer = PartWriter(digest for session in asked for digest in part_digests(session))
    file, buffers = io.BytesIO(), list[pickle.PickleBuffer]()
    _Pickler(file, writer.session, buffers).dump(answer)
    head = pickle.dumps((tuple(writer.new.values()), file.getvalue()))
    raw = [buffer.raw() for buffer in buffers]
    size = sum(map(len, raw))
    if size < _LARGE_BYTES:
        return pickle.dumps((head, [bytearray(each) for each in raw]))
    handle = os.memfd_create("zygotone-answer")
    with os.fdopen(os.dup(handle), "wb") as f:
        sizes = [len(head), *map(len, raw)]
        f.write(struct.pack(f"<{len(sizes) + 1}q", len(sizes), *sizes))
        f.write(b"\0" * (-f.tell() % _ALIGN) + head)
        for part in raw:
            f.write(b"\0" * (-f.tell() % _ALIGN))
            f.write(part)
    return handle


def unpack_answer(data: int | bytes, asked: Iterable[Session]) -> Any:
    """What ``pack_answer`` packed; an open file is closed, its memory is let go with the last array of it."""
    buffers: list[Any]
    if isinstance(data, bytes):
        head, buffers = pickle.loads(data)
    else:
        memory = memoryview(mmap.mmap(data, 0, access=mmap.ACCESS_COPY))
        os.close(data)
        (count,) = struct.unpack_from("<q", memory)
        at, parts = 8 * (count + 1), []
        for size in struct.unpack_from(f"<{count}q", memory, 8):
            at += -at % _ALIGN
            parts.append(memory[at : at + size])
            at += size
        head, *buffers = parts
    lines, body = pickle.loads(head)
    reader = PartReader("measurer")
    for known in asked:
        reader.hold(known)
    reader.add((json.loads(line), "answer") for line in lines)

    def session(digest: str) -> Session:
        return reader.session(digest, "measurer", "answer")

    return _Unpickler(body, session, lambda digest: compile_session(session(digest)), buffers).load()


# --- whoever asks -----------------------------------------------------------------------------------------------------


class _Open:
    """A question that waits for its answer."""

    def __init__(self, number: int, message: tuple[Any, ...], sessions: tuple[Session, ...]) -> None:
        self.number, self.message, self.sessions = number, message, sessions
        self.tries = 0
        self.answered = threading.Event()
        self.answer: tuple[str, Any] = ("", None)

    def taken_answer(self) -> tuple[str, Any]:
        """It belongs to whoever takes it."""
        answer, self.answer = self.answer, ("", None)
        return answer

    def let_go(self) -> None:
        """Of an answer that nobody took; one that is large is an open file."""
        _, told = self.taken_answer()
        if isinstance(told, int):
            os.close(told)


class Measurer:
    """Questions are asked from any thread, and answered one after the other; those that are wanted at once beside."""

    def __init__(
        self, renderer: Renderer, *, held_bytes: int, modules: Iterable[str] = (), standby: Standby | None = None
    ) -> None:
        """``modules``: where its questions are, so that it need not look for them when the first comes. ``standby``: as of
        ``RemotePlayer``."""
        assert renderer.mapped is not None, "its takes are read by both processes"
        self._renderer, self._held_bytes, self._modules = renderer, held_bytes, tuple(modules)
        self._standby = standby
        self._lock = threading.RLock()
        self._count = 0
        self._open: dict[int, _Open] = {}
        self._patience = Patience()
        self.restarts = 0
        self._closed = False
        self._begin()

    def _begin(self) -> None:
        assert self._renderer.mapped is not None
        self.state = MeasurerState()
        arguments = (str(self._renderer.mapped.folder), str(self._held_bytes), *self._modules)
        self._process = Child("zygotone.engine.measurer_process", self.state, arguments, self._standby)
        self._sent = VersionSender(self._renderer.store)
        threading.Thread(target=self._hear, args=(self._process,), name="measurer told", daemon=True).start()

    @property
    def pid(self) -> int:
        return self._process.pid

    def answer(self, question: Question, unwanted: IsUnwanted, *, at_once: bool = False) -> Any:
        data, sessions = pack_question(question)
        with self._lock:
            self._count += 1
            taken = {number % SLOTS for number in self._open}
            while self._count % SLOTS in taken:  # by one that takes long
                self._count += 1
            asked = _Open(self._count, (self._count, at_once, data), sessions)
            self._open[asked.number] = asked
            self._ask(asked)
        try:
            while not asked.answered.wait(_LOOK_S):
                if unwanted() or self._closed:
                    raise Cancelled
                if share := float(self.state.row[SLOTS + asked.number % SLOTS]):
                    tell_share(share)
            kind, told = asked.taken_answer()
            if kind == "answer":
                return unpack_answer(told, sessions)
            if kind == "cancelled":
                raise Cancelled
            raise (ZygotoneError if kind == "refused" else RuntimeError)(told)
        finally:
            with self._lock:
                self._open.pop(asked.number, None)
                asked.let_go()
                if self.state.row[asked.number % SLOTS] == asked.number:
                    self.state.row[asked.number % SLOTS] = 0.0

    def _ask(self, asked: _Open) -> None:
        asked.tries += 1
        in_use = [session for each in self._open.values() for session in each.sessions]
        for message in self._sent.news(asked.sessions, in_use):
            self._process.send(*message)
        self.state.row[asked.number % SLOTS] = asked.number
        self.state.row[SLOTS + asked.number % SLOTS] = 0.0
        self._process.send("ask", *asked.message)

    def _hear(self, process: Child) -> None:
        connection: Connection = process.connection
        with suppress(EOFError, OSError, TypeError, ValueError):  # whatever a pipe says that is closed meanwhile
            while True:
                kind, number, told = connection.recv()
                if kind == "large":
                    kind, told = "answer", recv_handle(connection)
                with self._lock:
                    asked = self._open.get(number) or _Open(number, (), ())
                    asked.let_go()
                    asked.answer = (kind, told)
                    asked.answered.set()
                    if number not in self._open:
                        asked.let_go()

    def look_after(self) -> bool:
        with self._lock:
            if self._closed or self._process.works or not self._patience.allows():
                return False
            self._patience.restarted(self._process)
            how = self._process.how_it_ended()
            self._process.end(at_once=True)
            self._begin()
            self.restarts += 1
            for asked in tuple(self._open.values()):
                if asked.answered.is_set():
                    continue
                if asked.tries < _MOST_TRIES:
                    self._ask(asked)
                else:
                    asked.answer = ("refused", f"the measurer ended over it twice (it {how})")
                    asked.answered.set()
            return True

    def reset(self, renderer: Renderer) -> None:
        with self._lock:
            self._renderer = renderer
            self._process.send("forget", self._sent.known)
            self._sent = VersionSender(renderer.store)

    def close(self) -> None:
        with self._lock:
            self._closed = True
            self._process.end()
