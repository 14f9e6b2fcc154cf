"""Settle: a search for the fixes of a section's findings, within limits, that comes back with a few trials and their numbers.

The gravest finding first; of its rungs the least harmful that does away with it, or the one that helps most. What is done changes
what is found, so the section is looked at again until nothing is left that can be mended, or the limits are reached. The same
session and limits give the same trials.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

from zygotone.advise.advisor import asked, find_in
from zygotone.advise.findings import RULES, Finding, Fix
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import costs
from zygotone.dsp.giving_up import give_up_if_unwanted
from zygotone.session.history import Reading
from zygotone.session.models import Session, walk

_ROUNDS = 3
_GRAVE = 0.3  # severity from which a finding is one of the worst
_COARSE = ("level first", "arrange", "duck")  # schools of fixes that change all of a track
_LEAST = 0.02  # less of severity is no gain


@dataclass(frozen=True, slots=True)
class Limits:
    """``deepest_db``: of any cut, dip or fader, below 0; ``untouched``: ids of strips that stay as they are."""

    deepest_db: float = -9.0
    untouched: tuple[str, ...] = ()
    ducking: bool = True
    most_devices: int = 16


@dataclass(frozen=True, slots=True)
class Step:
    """One fix that was taken, for one finding."""

    finding: Finding
    fix: Fix


@dataclass(frozen=True, slots=True)
class Settled:
    """One way in which the section is settled."""

    title: str
    session: Session
    steps: tuple[Step, ...]
    severity: tuple[float, float]  # sum over all findings, before and after
    left: tuple[Finding, ...]  # what is still found
    cost: dict[str, float] = field(default_factory=dict)

    def readings(self) -> tuple[Reading, ...]:
        before, after = self.severity
        few = (Reading(name="severity", label="All findings, severity", before=before, after=after),)
        return (*few, *(r for step in self.steps for r in step.fix.readings[:1]))

    def to_json(self, session: Session) -> dict[str, Any]:
        return {
            "title": self.title,
            "severity_before": round(self.severity[0], 3),
            "severity_after": round(self.severity[1], 3),
            "cost": {name: round(value, 3) for name, value in self.cost.items()},
            "steps": [
                {"finding": s.finding.id, "sentence": s.finding.sentence, "label": s.fix.label, "detail": s.fix.detail,
                 "promised": {name: round(value, 3) for name, value in s.fix.gain.items()}}
                for s in self.steps
            ],
            "left": [finding.to_json(session) for finding in self.left],
        }  # fmt: skip


Progress = Callable[[float, str], None]
Order = Callable[[list[Fix]], list[Fix]]


def _as_listed(fixes: list[Fix]) -> list[Fix]:
    return fixes


def _carved_first(fixes: list[Fix]) -> list[Fix]:
    """Those that take only what is in the way before those that take all of a track."""
    return sorted(fixes, key=lambda fix: fix.school in _COARSE)


def settle(
    hearing: Hearing, limits: Limits | None = None, *, progress: Progress = lambda share, words: None
) -> list[Settled]:
    """At most three trials, the one that leaves least first: all findings by the least harmful rungs, all of them by carving
    where that does, and only the worst ones.

    Raises
    ------
    Cancelled : nobody waits for them any more.
    """
    limits = limits or Limits()
    found = _unmeant(hearing)
    made = _search(hearing, limits, found, _as_listed, lambda s, w: progress(0.55 * s, w))
    first = _measured(hearing, "Least harmful first", found, *made)
    second = _otherwise(hearing, limits, found, first, lambda s, w: progress(0.55 + 0.35 * s, w))
    progress(0.92, "Only the worst")
    third = _only_grave(hearing, first, found)
    trials: list[Settled] = []
    for each in (first, second, third):
        if each.steps and all(each.session != known.session for known in trials):
            trials.append(each)
    progress(1.0, "")
    return sorted(trials, key=lambda s: s.severity[1])


def settle_song(
    hearing: Hearing, limits: Limits | None = None, *, progress: Progress = lambda share, words: None
) -> list[Settled]:
    """One trial for all sections, the gravest first, each as those before it left it; what a later one brought back into an earlier
    one is looked for once more. ``hearing`` is of any section.

    Raises
    ------
    Cancelled : nobody waits for it any more.
    """
    limits, session = limits or Limits(), hearing.session
    sections = session.song.sections
    heard = [hearing.with_section(section) for section in sections]
    before: list[list[Finding]] = []
    for n, each in enumerate(heard):
        progress(0.2 * n / len(heard), f"Listening to {each.section.name}")
        before.append(_unmeant(each))
    steps: list[Step] = []
    left = list(before)
    for round_, share in ((0, 0.6), (1, 0.1)):
        order = sorted(range(len(sections)), key=lambda n: -_severity(left[n]))
        for at, n in enumerate(order):
            part = 0.2 + 0.7 * round_ + share * at / len(order), share / len(order)
            now = heard[n].with_session(session)
            found = left[n] if now.session is hearing.session else _unmeant(now)
            if found:
                tell = _of(progress, *part, sections[n].name)
                made, taken, _ = _search(now, limits, found, _as_listed, tell, since=hearing.session)
                steps += taken
                session = made.session
        progress(0.8 + 0.1 * round_, "Listening again")
        left = [_unmeant(each.with_session(session)) for each in heard] if steps else left
        if not steps or not any(left):
            break
    progress(1.0, "")
    if not steps:
        return []
    severity = sum(map(_severity, before)), sum(map(_severity, left))
    cost = costs(heard[0], heard[0].with_session(session))
    return [
        Settled("Section by section", session, tuple(steps), severity, tuple(f for each in left for f in each), cost)
    ]


def _of(progress: Progress, begin: float, width: float, name: str) -> Progress:
    """The progress of a part of a whole."""
    return lambda share, words: progress(begin + width * share, f"{name}: {words}")


def _unmeant(hearing: Hearing) -> list[Finding]:
    return [f for f in find_in(hearing) if f.on_purpose is None]


def _severity(found: list[Finding]) -> float:
    return sum((f.severity for f in found), 0.0)


def _otherwise(hearing: Hearing, limits: Limits, found: list[Finding], whole: Settled, progress: Progress) -> Settled:
    """Another way from where the first turned a track down, moved or left out a part, or ducked it; none where it never did."""
    at = next((i for i, step in enumerate(whole.steps) if step.fix.school in _COARSE), None)
    if at is None:
        return replace(whole, steps=())
    made = _search(hearing, limits, found, _carved_first, progress, done=whole.steps[:at])
    return _measured(hearing, "Carve before turning down", found, *made)


def _search(
    hearing: Hearing, limits: Limits, found: list[Finding], order: Order, progress: Progress, *, done: tuple[Step, ...] = (),
    since: Session | None = None,
) -> tuple[Hearing, list[Step], list[Finding]]:  # fmt: skip
    """What was made, by which steps, and what is still found. ``since``: the version that new devices are counted from, where it is
    not the one heard."""
    now, steps, hopeless = hearing, list(done), set[str]()
    if done and done[-1].fix.session is not None:
        now = hearing.with_session(done[-1].fix.session)
    left = _unmeant(now) if done else found
    for round_ in range(_ROUNDS):
        todo = [f for f in left if f.id not in hopeless]
        if not todo:
            break
        changed = False
        for at, finding in enumerate(todo):
            give_up_if_unwanted()
            progress((round_ + at / len(todo)) / _ROUNDS, finding.sentence)
            still = _again(now, finding)
            if still is None:  # gone with what was done before
                continue
            fix = _best(now, since or hearing.session, still, limits, order)
            if fix is None or fix.session is None:
                hopeless.add(finding.id)
                continue
            steps.append(Step(still, fix))
            now, changed = now.with_session(fix.session), True
        left = _unmeant(now)
        if not changed:
            break
    return now, steps, left


def _again(hearing: Hearing, finding: Finding) -> Finding | None:
    """The same finding in another version, as it is there; None where it is not found any more."""
    rule = RULES[finding.rule]
    return next((f for f in asked(hearing, rule, finding.subject) if f.id == finding.id), None)


def _best(now: Hearing, first: Session, finding: Finding, limits: Limits, order: Order) -> Fix | None:
    """The first rung in order that does away with a finding; where none does, the one that leaves least of it."""
    rule = RULES[finding.rule]
    allowed: list[tuple[float, Fix]] = []

    def left_of(fix: Fix) -> float:
        assert fix.session is not None
        still = _again(now.with_session(fix.session), finding)
        return 0.0 if still is None else still.severity

    listed = order is _as_listed
    for fix in rule.each_fix(now, finding):
        if not _within(fix, now, first, limits):
            continue
        left = left_of(fix)
        if listed and left == 0.0:
            return fix
        if left < finding.severity - _LEAST:
            allowed.append((left, fix))
        if not listed and left == 0.0 and fix.school not in _COARSE:
            break
    if not allowed:
        return None
    least = min(left for left, _ in allowed)
    return order([fix for left, fix in allowed if left <= least + 1e-9])[0]


def _within(fix: Fix, now: Hearing, first: Session, limits: Limits) -> bool:
    session = fix.session
    if not fix.applies or session is None:
        return False
    if (not limits.ducking and fix.school == "duck") or fix.depth_db < limits.deepest_db - 1e-6:
        return False
    before = {s.id: s for s in now.session.strips()}
    touched = {s.id for s in session.strips() if before.get(s.id) is not s and before.get(s.id) != s}
    touched |= {lane.strip for lane in session.lanes if lane not in now.session.lanes}
    return not touched & set(limits.untouched) and _devices(session) - _devices(first) <= limits.most_devices


def _devices(session: Session) -> int:
    return sum(1 for strip in session.strips() for _ in walk(strip.chain))


def _only_grave(hearing: Hearing, whole: Settled, found: list[Finding]) -> Settled:
    """What was done for the worst findings, as long as those came first."""
    grave: list[Step] = []
    for step in whole.steps:
        if step.finding.severity < _GRAVE:
            break
        grave.append(step)
    if not grave or len(grave) == len(whole.steps):
        return replace(whole, steps=())
    session = grave[-1].fix.session
    assert session is not None
    now = hearing.with_session(session)
    return _measured(hearing, "Only the worst", found, now, grave, _unmeant(now))


def _measured(
    hearing: Hearing, title: str, found: list[Finding], now: Hearing, steps: list[Step], left: list[Finding]
) -> Settled:
    severity = _severity(found), _severity(left)
    return Settled(title, now.session, tuple(steps), severity, tuple(left), costs(hearing, now) if steps else {})
