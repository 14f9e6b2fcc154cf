"""Schools: where good producers disagree, the Brief chooses which way comes first, and each choice says what it costs.

They order ladders; they never leave a rung out. All of it is common practice.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from zygotone.session.value import Value


class Schools(Value):
    """What is chosen; ``SCHOOLS`` says it in words."""

    room: Literal["carve", "duck"] = "carve"
    cut: Literal["drawn", "moving"] = "drawn"


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
