"""Which cores who plays and who draws keep to, where there are only two or three.

A thread that waits behind the player is not moved to a core that is busy with measuring, even though measuring gives way at once:
a window was seen to wait a tenth of a second so. Kept apart, neither waits for the other.
"""

from __future__ import annotations

import os
from contextlib import suppress

_FEW = 3


def _allowed() -> frozenset[int]:
    try:
        return frozenset(os.sched_getaffinity(0))
    except (OSError, AttributeError):  # another system, or a sandbox
        return frozenset()


# Read as the program begins: what it restricts later holds for the processes that it starts, too.
_ALL = _allowed()


def as_words() -> str:
    """All cores that this program may use, for a process that it starts."""
    return ",".join(map(str, sorted(_ALL)))


def use_those_of(words: str) -> None:
    """In a process that was started: the cores of ``as_words``."""
    global _ALL
    _ALL = frozenset(map(int, words.split(","))) if words else _ALL
    use_all()


def use_all() -> None:
    """This thread, and those that it begins, may work on any core."""
    _keep_to(_ALL)


def keep_as_player() -> None:
    """This thread, and those that it begins, keep to the last core."""
    if 1 < len(_ALL) <= _FEW:
        _keep_to(frozenset({max(_ALL)}))


def keep_off_the_player() -> None:
    """This thread, and those that it begins, keep to the others."""
    if 1 < len(_ALL) <= _FEW:
        _keep_to(_ALL - {max(_ALL)})


def _keep_to(cores: frozenset[int]) -> None:
    with suppress(OSError, AttributeError, ValueError):
        os.sched_setaffinity(0, cores)
