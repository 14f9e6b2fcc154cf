"""Findings that are meant: accepted with a reason, and quiet until their number gets worse by more than was said."""

from __future__ import annotations

from dataclasses import replace

from zygotone.advise.findings import RULES, Finding
from zygotone.measure.quantities import find_quantity
from zygotone.session.models import OnPurpose, Session

_ROOM = {
    "%": 0.1,
    "dB": 2.0,
    "LU": 2.0,
    "ms": 5.0,
    "Hz": 5.0,
    "cents": 20.0,
}  # how far a number may move unless more is said


def room_of(finding: Finding) -> float:
    """How far its number may get worse, unless more or less is said; in the quantity's own unit."""
    name = RULES[finding.rule].reads[0]
    return _ROOM.get(find_quantity(name).unit, 0.2 * abs(finding.evidence.get(name, 0.0)))


def accepted(
    session: Session, finding: Finding, reason: str, *, may_change: float | None = None, everywhere: bool = True
) -> Session:
    """The session in which a finding is meant; ``may_change`` in the unit of the rule's first quantity."""
    name = RULES[finding.rule].reads[0]
    room = room_of(finding) if may_change is None else may_change
    mine = OnPurpose(
        rule=finding.rule, tracks=finding.tracks, layers=finding.layers, section=None if everywhere else finding.section.id,
        reason=reason, quantity=name, value=finding.evidence.get(name, 0.0), may_change=room,
    )  # fmt: skip
    rest = tuple(each for each in session.on_purpose if not _same(each, finding))
    return session.replace(on_purpose=(*rest, mine))


def withdrawn(session: Session, finding: Finding) -> Session:
    """The session in which it is judged again."""
    return session.replace(on_purpose=tuple(each for each in session.on_purpose if not _same(each, finding)))


def _same(each: OnPurpose, finding: Finding) -> bool:
    return (
        each.rule == finding.rule and each.tracks == finding.tracks and each.layers == finding.layers
        and each.section in (None, finding.section.id)
    )  # fmt: skip


def marked(session: Session, finding: Finding) -> Finding:
    """The finding with the reason for which it is meant, as far as it still is what was accepted."""
    for each in session.on_purpose:
        if not _same(each, finding):
            continue
        better, now = find_quantity(each.quantity).better, finding.evidence.get(each.quantity, each.value)
        worse = (
            each.value - now if better == "higher" else now - each.value if better == "lower" else abs(now - each.value)
        )
        if worse <= each.may_change + 1e-9:
            return replace(finding, on_purpose=each.reason or "meant")
    return finding
