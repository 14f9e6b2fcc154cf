"""Ladders in the order that the Brief has chosen."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TypeVar

from zygotone.session.schools import Schools

_T = TypeVar("_T")
_MOVING, _DRAWN, _DUCK = "moving cut", "carve", "duck"


def _order(schools: Schools) -> tuple[str, ...]:
    cuts = (_DRAWN, _MOVING) if schools.cut == "drawn" else (_MOVING, _DRAWN)
    return (*cuts, _DUCK) if schools.room == "carve" else (_DUCK, *cuts)


def in_order(schools: Schools, rungs: Iterable[_T], school_of: Callable[[_T], str | None]) -> list[_T]:
    """Rungs as the schools want them. Those that schools disagree about change places among each other; what is less harmful than
    any of them, or more, stays where it is."""
    listed, order = list(rungs), _order(schools)
    at = [n for n, rung in enumerate(listed) if school_of(rung) in order]
    wanted = sorted((listed[n] for n in at), key=lambda rung: order.index(school_of(rung) or ""))
    for n, rung in zip(at, wanted, strict=True):
        listed[n] = rung
    return listed
