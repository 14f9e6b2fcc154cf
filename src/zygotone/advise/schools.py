"""Schools: where good producers disagree, the Brief chooses which way comes first, and each choice says what it costs.

They order ladders; they never leave a rung out. All of it is common practice.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TypeVar

from zygotone.session.models import Schools, Session

_T = TypeVar("_T")


@dataclass(frozen=True, slots=True)
class Choice:
    value: str
    label: str
    cost: str  # a sentence


@dataclass(frozen=True, slots=True)
class School:
    """``name`` is a field of ``Schools``."""

    name: str
    label: str
    choices: tuple[Choice, ...]

    def chosen(self, schools: Schools) -> Choice:
        return next(c for c in self.choices if c.value == getattr(schools, self.name))


SCHOOLS = (
    School(
        "room", "To make room",
        (
            Choice("carve", "carve first", "What gives way loses that part of its tone for good; nothing moves."),
            Choice("duck", "duck first", "What gives way keeps its tone, and all of it goes down and comes back: it can be heard to pump."),
        ),
    ),
    School(
        "cut", "To cut",
        (
            Choice("drawn", "a drawn curve first", "The cut is there also where nothing is in the way."),
            Choice("moving", "a moving cut first", "The cut opens only while it is needed; what moves can be heard, and it hangs on its key."),
        ),
    ),
)  # fmt: skip

_MOVING, _DRAWN, _DUCK = "moving cut", "carve", "duck"


def _order(schools: Schools) -> tuple[str, ...]:
    cuts = (_DRAWN, _MOVING) if schools.cut == "drawn" else (_MOVING, _DRAWN)
    return (*cuts, _DUCK) if schools.room == "carve" else (_DUCK, *cuts)


def in_order(session: Session, rungs: Iterable[_T], school_of: Callable[[_T], str | None]) -> list[_T]:
    """Rungs as the session's schools want them. Those that schools disagree about change places among each other; what is less
    harmful than any of them, or more, stays where it is."""
    listed, order = list(rungs), _order(session.schools)
    at = [n for n, rung in enumerate(listed) if school_of(rung) in order]
    wanted = sorted((listed[n] for n in at), key=lambda rung: order.index(school_of(rung) or ""))
    for n, rung in zip(at, wanted, strict=True):
        listed[n] = rung
    return listed
