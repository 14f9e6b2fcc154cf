"""What is kept of decoded and worked-out audio, and of what was measured of it: all under one bound in bytes."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.session.laid_aside import LaidAside

DEFAULT_BYTES = 896 << 20
# How soon something is made again: facts take long for the room that they need, what is cheap is made from what is dear.
Grade = Literal["fact", "dear", "cheap"]
_FACTS_SHARE = 1 / 3  # of the room, before old ones make room for new ones
_LARGE = 64 << 10  # bytes from which a fact is let go like audio, and something dear is worth being laid aside
_DEAR_SHARE = 0.8  # of what facts leave, as long as anything cheap is kept
_LEAVING_SHARE = 0.5  # of the room, before whoever lets something go waits until it is laid aside
_ASKS_S = 0.02  # how often who waits asks whether it is still wanted


@dataclass(slots=True)
class _Entry:
    value: Any
    size: int


class Held:
    """Values by key; the least used are let go when there are too many bytes in all. Used from several threads.

    What was let go but is still in use elsewhere (as what a player reads from) is found again: it takes no room twice. What is dear
    is laid ``aside``, if there is a place for it, and read from there.
    """

    def __init__(self, limit_bytes: int = DEFAULT_BYTES, aside: LaidAside | None = None) -> None:
        self.limit_bytes, self.aside = limit_bytes, aside
        self._leaving: dict[object, Any] = {}  # let go, and not laid aside yet
        self._leaving_bytes = 0
        self._laying = threading.Lock()
        self._bytes: dict[Grade, int] = {"fact": 0, "dear": 0, "cheap": 0}
        # Each in order of use.
        self._kept: dict[Grade, OrderedDict[object, _Entry]] = {grade: OrderedDict() for grade in self._bytes}
        self._making: dict[object, threading.Event] = {}
        self._in_use: weakref.WeakValueDictionary[object, Any] = weakref.WeakValueDictionary()
        # Entered again by whoever holds it where Python, tidying up just then, lets go of something that asks.
        self._lock = threading.RLock()

    @property
    def held_bytes(self) -> int:
        return sum(self._bytes.values())

    def get(self, key: object) -> Any | None:
        with self._lock:
            for held in self._kept.values():
                if key in held:
                    held.move_to_end(key)
                    return held[key].value
            found = self._in_use.get(key, self._leaving.get(key))
        return self.aside.get(key) if found is None and self.aside is not None else found

    def __contains__(self, key: object) -> bool:
        with self._lock:
            there = any(key in held for held in (*self._kept.values(), self._in_use, self._leaving))
        return there or (self.aside is not None and key in self.aside)

    def put(self, key: object, value: Any, *, grade: Grade = "dear") -> None:
        """What is cheap is let go first, then what is dear, then facts; unless a grade fills its share of the room."""
        size = bytes_of(value)
        with self._lock:
            if any(key in held for held in self._kept.values()) or (self.aside is not None and key in self.aside):
                return
            if hasattr(value, "nbytes"):  # audio, alone or as a take; what is small is not worth it
                self._in_use[key] = value
            self._kept[grade][key] = _Entry(value, size)
            self._bytes[grade] += size
            self._let_go_over(self.limit_bytes)
        self._lay_aside()

    def make_room(self, size: int) -> None:
        """Lets go now what ``size`` bytes more would make it let go, so that both are never there together."""
        with self._lock:
            self._let_go_over(max(0, self.limit_bytes - size))
        self._lay_aside()

    def _let_go_over(self, limit_bytes: int) -> None:
        while self.held_bytes > limit_bytes:
            grade = self._first_to_go()
            key, old = self._kept[grade].popitem(last=False)
            self._bytes[grade] -= old.size
            if self.aside is not None and grade == "dear" and old.size >= _LARGE:
                self._leaving_bytes += old.size if key not in self._leaving else 0
                self._leaving[key] = old.value

    def _lay_aside(self) -> None:
        """One thread at a time, and not under the lock: nobody who asks or puts waits for the disk, nor for a thread that is lent no
        processor, unless too much is on its way."""
        while self.aside is not None and self._leaving:
            if not self._laying.acquire(blocking=self._leaving_bytes > _LEAVING_SHARE * self.limit_bytes):
                return
            try:
                with self._lock:
                    leaving = next(iter(self._leaving.items()), None)
                if leaving is not None:
                    self._write_aside(self.aside, *leaving)
            finally:
                self._laying.release()

    def _write_aside(self, aside: LaidAside, key: object, value: Any) -> None:
        try:
            aside.put(key, value)
        finally:  # what cannot be written is let go, whatever it was
            with self._lock:
                del self._leaving[key]
                self._leaving_bytes -= bytes_of(value)

    def _first_to_go(self) -> Grade:
        """The grade whose least used value is the next to be let go: so versions that are gone make room for the present one."""
        facts, dear, cheap = (self._bytes[grade] for grade in self._kept)
        if facts > _FACTS_SHARE * self.limit_bytes or not dear + cheap:
            return "fact"
        if not dear or (cheap and dear <= _DEAR_SHARE * (self.limit_bytes - facts)):
            return "cheap"
        return "dear"

    def remember(self, key: object, work: Callable[[], Any]) -> Any:
        """Result of ``work``, remembered by ``key``, which must name everything the result depends on. What another thread
        is working out already is waited for.

        Raises
        ------
        Cancelled : nobody waits for it any more.
        """
        while True:
            with self._lock:
                found = self.get(key)
                if found is not None:
                    return found
                other = self._making.get(key)
                if other is None:
                    made = self._making[key] = threading.Event()
                    break
            while not other.wait(_ASKS_S):  # where it failed there, it is worked out here
                give_up_if_unwanted()
        try:
            found = work()
            # What is large has a place elsewhere, if there is one; what is small stays.
            self.put(key, found, grade="fact" if self.aside is None or bytes_of(found) < _LARGE else "dear")
            return found
        finally:
            with self._lock:
                del self._making[key]
            made.set()


def bytes_of(value: Any) -> int:
    """About how much memory a value takes: of arrays exactly, of small things a guess."""
    if hasattr(value, "nbytes"):
        return int(value.nbytes)
    if isinstance(value, (list, tuple)):
        return 64 + sum(map(bytes_of, value))
    if isinstance(value, dict):
        return 64 + sum(map(bytes_of, value.values()))
    if hasattr(value, "__dataclass_fields__"):
        return 64 + sum(bytes_of(getattr(value, name, None)) for name in value.__dataclass_fields__)
    return 64
