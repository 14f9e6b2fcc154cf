"""What is kept of decoded and worked-out audio, and of what was measured of it: all under one bound in bytes."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

from zygotone.dsp.giving_up import give_up_if_unwanted

DEFAULT_BYTES = 896 << 20
_ASKS_S = 0.02  # how often who waits asks whether it is still wanted


class Held:
    """Values by key; the least used are let go when there are too many bytes in all. Used from several threads.

    What was let go but is still in use elsewhere (as what a player reads from) is found again: it takes no room twice.
    """

    def __init__(self, limit_bytes: int = DEFAULT_BYTES) -> None:
        self.limit_bytes, self.held_bytes = limit_bytes, 0
        self._held: OrderedDict[object, tuple[Any, int]] = OrderedDict()
        self._cheap: OrderedDict[object, tuple[Any, int]] = OrderedDict()  # these go first
        self._making: dict[object, threading.Event] = {}
        self._in_use: weakref.WeakValueDictionary[object, Any] = weakref.WeakValueDictionary()
        # Entered again by whoever holds it where Python, tidying up just then, lets go of something that asks.
        self._lock = threading.RLock()

    def get(self, key: object) -> Any | None:
        with self._lock:
            for held in (self._held, self._cheap):
                if key in held:
                    held.move_to_end(key)
                    return held[key][0]
            return self._in_use.get(key)

    def put(self, key: object, value: Any, *, cheap: bool = False) -> None:
        """What is ``cheap`` is soon worked out again from others: it is let go before them."""
        size = bytes_of(value)
        with self._lock:
            if key in self._held or key in self._cheap:
                return
            if hasattr(value, "nbytes"):  # audio, alone or as a take; what is small is not worth it
                self._in_use[key] = value
            if size > self.limit_bytes:
                return
            (self._cheap if cheap else self._held)[key] = (value, size)
            self.held_bytes += size
            while self.held_bytes > self.limit_bytes:
                _, (_, old) = (self._cheap or self._held).popitem(last=False)
                self.held_bytes -= old

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
            self.put(key, found)
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
