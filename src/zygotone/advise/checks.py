"""Rules of one number: it is read for each subject, is a problem past a threshold, and has a ladder that brings it back."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from zygotone.advise.findings import (
    RULES,
    Finding,
    Fix,
    Over,
    Rule,
    Subject,
    finite,
    loudness_of,
    seat_of,
    share_lost,
    weighed,
)
from zygotone.advise.hearing import Hearing
from zygotone.advise.ladder import Aim, Rung, has_strip, work_out
from zygotone.measure.quantities import find_quantity
from zygotone.session.models import Session


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """The number that is judged, and what is said of it. It is read whether or not it is a problem."""

    value: float
    sentence: str = ""
    advice: str = ""
    evidence: dict[str, float] = field(default_factory=dict)
    tracks: Subject | None = None  # where that is not the subject: whose it is first, then who does it
    bars: tuple[int, int] | None = None
    band_hz: tuple[float, float] | None = None
    long: float = 1.0  # share of the time for which it is so


Measure = Callable[[Hearing, Subject], Measured | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """``threshold`` is where it is found, ``strong`` where all that matters is lost; ``target`` is what its ladder aims at.

    ``measure`` is asked of strips that sound, and gives None where there is nothing to judge. ``again`` reads the number of a finding in another version, of the
    tracks it was found on, where that is not what ``measure`` gives.
    """

    name: str
    title: str
    quantity: str
    threshold: float
    strong: float
    target: float
    source: str
    stage: str
    over: Over = "track"
    subjects: Callable[[Session], Iterable[Subject]]
    measure: Measure
    rungs: Callable[[Hearing, Finding], Iterable[Rung]]
    again: Callable[[Hearing, Subject], float] | None = None
    reads: tuple[str, ...] = ()
    least: float = 0.0

    @property
    def lower(self) -> bool:
        """Whether the number is to come down."""
        return self.strong > self.threshold

    def find(self, hearing: Hearing, subject: Subject) -> list[Finding]:
        if not all(hearing.plays(strip_id) for strip_id in subject):
            return []
        found = self.measure(hearing, subject)
        if found is None or not math.isfinite(found.value):
            return []
        if not (found.value > self.threshold if self.lower else found.value < self.threshold):
            return []
        tracks = found.tracks or subject
        strip = hearing.session.strip(tracks[0])
        lost = share_lost(found.value, self.threshold, self.strong)
        return [
            Finding(
                id="-".join(self.name.split("_")) + "." + ".".join((*tracks, hearing.section.id)),
                rule=self.name, severity=weighed(lost, seat_of(strip), found.long),
                tracks=tracks, section=hearing.section, stage=self.stage, sentence=found.sentence, advice=found.advice,
                evidence=finite({self.quantity: found.value, **found.evidence}), bars=found.bars, band_hz=found.band_hz,
            )
        ]  # fmt: skip

    def value(self, hearing: Hearing, tracks: Subject) -> float:
        """NaN where a version has it no more."""
        if not all(has_strip(hearing.session, t) for t in tracks):
            return math.nan
        if self.again is not None:
            return self.again(hearing, tracks)
        if not all(hearing.sounds(t) for t in tracks):
            return math.nan
        found = self.measure(hearing, tracks)
        return math.nan if found is None else found.value

    def aim(self, finding: Finding) -> Aim:
        return Aim(
            quantity=self.quantity, read=lambda h: self.value(h, finding.tracks), target=self.target, lower=self.lower,
            least=self.least or 0.05 * abs(self.strong - self.threshold),
        )  # fmt: skip

    def shown(self, finding: Finding) -> tuple[str, ...]:
        return (*finding.tracks[1:], finding.tracks[0])

    def fixes(self, hearing: Hearing, finding: Finding) -> tuple[Fix, ...]:
        return tuple(self.one_by_one(hearing, finding))

    def one_by_one(self, hearing: Hearing, finding: Finding) -> Iterator[Fix]:
        return work_out(hearing, self.aim(finding), self.rungs(hearing, finding), self.shown(finding))

    def numbers(self, hearing: Hearing, tracks: Subject, layers: tuple[str, ...] = ()) -> dict[str, float]:
        found = {self.quantity: self.value(hearing, tracks)}
        for strip_id in (tracks[0], *reversed(tracks[1:])):
            if has_strip(hearing.session, strip_id):
                found["loudness_lufs"] = found[loudness_of(strip_id)] = hearing.lufs(strip_id)
        return finite(found)


def enter(check: Check) -> Check:
    """Makes a rule of it."""
    find_quantity(check.quantity)
    RULES.enter(
        Rule(
            name=check.name, title=check.title, over=check.over, reads=(check.quantity, *check.reads),
            threshold=check.threshold, source=check.source, stage=check.stage, subjects=check.subjects, find=check.find,
            fixes=check.fixes, numbers=check.numbers, ladder=True,
            one_by_one=check.one_by_one,
        )
    )  # fmt: skip
    return check


def tracks_with(*roles: str) -> Callable[[Session], list[Subject]]:
    """Each track that is not muted, of some roles or of any."""

    def subjects(session: Session) -> list[Subject]:
        return [(t.id,) for t in session.tracks if not t.mute and (not roles or t.role in roles)]

    return subjects


def tracks_without(*roles: str) -> Callable[[Session], list[Subject]]:
    def subjects(session: Session) -> list[Subject]:
        return [(t.id,) for t in session.tracks if not t.mute and t.role not in roles]

    return subjects


def the_mix(session: Session) -> list[Subject]:
    return [(session.mix.id,)]


def all_strips(session: Session) -> list[Subject]:
    return [(s.id,) for s in session.strips() if not s.mute]
