"""Work that nobody waits for any more is given up: long loops ask now and then, whoever wants them stopped says so.

What is asked belongs to the thread that works, so that no function of the core has to hand it on.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import TypeAlias

IsUnwanted: TypeAlias = Callable[[], bool]

_here = threading.local()


class Cancelled(Exception):
    """The work was called off; nothing was kept."""


@contextmanager
def _held_here(name: str, value: object) -> Iterator[None]:
    before = getattr(_here, name, None)
    setattr(_here, name, value)
    try:
        yield
    finally:
        setattr(_here, name, before)


def share_told_to(hear: Callable[[float], None]) -> AbstractContextManager[None]:
    """Within it ``tell_share`` calls ``hear``, in this thread."""
    return _held_here("hear", hear)


def tell_share(share: float) -> None:
    """Says how much of this thread's work is done, 0 to 1, to whoever wants to know."""
    hear = getattr(_here, "hear", None)
    if hear is not None:
        hear(share)


def given_up_when(unwanted: IsUnwanted) -> AbstractContextManager[None]:
    """Within it ``give_up_if_unwanted`` asks ``unwanted``, in this thread."""
    return _held_here("unwanted", unwanted)


def give_up_if_unwanted() -> None:
    """Raises Cancelled where nobody waits for the work of this thread any more."""
    unwanted = getattr(_here, "unwanted", None)
    if unwanted is not None and unwanted():
        raise Cancelled


def asked_here() -> IsUnwanted:
    """What this thread asks, for helpers that work on its behalf in theirs."""
    unwanted: IsUnwanted | None = getattr(_here, "unwanted", None)
    return unwanted if unwanted is not None else lambda: False
