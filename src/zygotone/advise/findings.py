"""What a finding and a fix are, and what a rule declares."""

from __future__ import annotations

import importlib
import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, Literal

from zygotone.advise.hearing import Hearing
from zygotone.errors import ParameterError
from zygotone.measure.quantities import find_quantity
from zygotone.session.history import Reading, Trial
from zygotone.session.models import Section, Session, Strip, Track


def reading_of(name: str, before: float | None = None, after: float | None = None) -> Reading:
    """A quantity before and after, in the words and the unit that it is shown in; what is not finite is left out.

    Raises
    ------
    ParameterError : no such quantity is declared.
    """
    quantity = find_quantity(name)
    ends = [None if v is None or not math.isfinite(v) else v * quantity.shown_times for v in (before, after)]
    return Reading(name=name, label=quantity.label, unit=quantity.unit, before=ends[0], after=ends[1])


def loudness_of(strip_id: str) -> str:
    """The name among numbers of the loudness of one of several strips."""
    return f"loudness_lufs {strip_id}"


@dataclass(frozen=True, slots=True)
class Fix:
    """One way out, worked out on the real audio. One that does not apply says why and has no session."""

    label: str
    detail: str = ""  # its settings in a few words
    school: str | None = None
    applies: bool = True
    why_not: str | None = None
    gain: dict[str, float] = field(default_factory=dict)  # changes, after minus before
    cost: dict[str, float] = field(default_factory=dict)
    losses_lu: dict[str, float] = field(default_factory=dict)  # how much softer it makes each track that it does, by id
    readings: tuple[Reading, ...] = ()
    session: Session | None = None
    depth_db: float = 0.0  # of a cut or a dip, below 0

    def to_json(self, session: Session) -> dict[str, Any]:
        return {
            "label": self.label,
            "detail": self.detail,
            "school": self.school,
            "applies": self.applies,
            "why_not": self.why_not,
            "gain": {k: round(v, 3) for k, v in self.gain.items()},
            "cost": {k: round(v, 3) for k, v in self.cost.items()},
            "losses_lu": [{"track": session.strip(k).name, "lu": round(v, 3)} for k, v in self.losses_lu.items()],
        }


@dataclass(frozen=True, slots=True)
class Finding:
    """A measured problem with its evidence. ``fixes`` is empty until they have been worked out."""

    id: str
    rule: str
    severity: float  # 0 to 1
    tracks: tuple[str, ...]  # ids
    section: Section
    stage: str
    sentence: str
    advice: str
    evidence: dict[str, float]
    fixes: tuple[Fix, ...] = ()
    layers: tuple[str, ...] = ()  # ids, where it is about layers of the first track
    bars: tuple[int, int] | None = None  # first and last, of the section from 0; None: all of it
    band_hz: tuple[float, float] | None = None
    subject: tuple[str, ...] = ()  # what the rule was asked about
    on_purpose: str | None = None  # the reason for which it was accepted

    @property
    def strength(self) -> str:
        return "strong" if self.severity >= 0.66 else "fair" if self.severity >= 0.33 else "slight"

    def to_json(self, session: Session) -> dict[str, Any]:
        return {
            "id": self.id,
            "rule": self.rule,
            "severity": round(self.severity, 3),
            "tracks": [session.strip(t).name for t in self.tracks],
            "section": self.section.name,
            "bars": list(self.song_bars(session)),
            "band_hz": None if self.band_hz is None else [round(hz, 1) for hz in self.band_hz],
            "hidden_share": None if (share := self.evidence.get("hidden_share")) is None else round(share, 3),
            "stage": self.stage,
            "on_purpose": self.on_purpose,
            "sentence": self.sentence,
            "evidence": {k: round(v, 3) for k, v in self.evidence.items()},
            "fixes": [fix.to_json(session) for fix in self.fixes],
        }

    def song_bars(self, session: Session) -> tuple[int, int]:
        """First and last bar, in the song, counted from 1."""
        first = next(f for s, f, _ in session.song.spans() if s.id == self.section.id)
        start, end = self.bars or (0, self.section.bars - 1)
        return first + start + 1, first + end + 1

    def readings(self) -> tuple[Reading, ...]:
        """The evidence as the log shows it: with words and units."""
        return tuple(reading_of(name, value) for name, value in self.evidence.items())

    def trial(self, number: int) -> Trial:
        """The trial that fix ``number`` (from 1) opens."""
        fix = self.fixes[number - 1]
        assert fix.session is not None
        return Trial(
            session=fix.session, title=fix.label if not fix.detail else f"{fix.label}: {fix.detail}", finding=self.id,
            fix=number, rule=self.rule, tracks=self.tracks, layers=self.layers, section=self.section.id, stage=self.stage,
            readings=fix.readings,
        )  # fmt: skip


Over = Literal["track", "layers", "pair", "bus", "section", "boundary", "mix"]
Subject = tuple[str, ...]  # ids of the strips that a rule is asked about; of a section or boundary none
FindProblems = Callable[[Hearing, Subject], list[Finding]]
WorkOutFixes = Callable[[Hearing, Finding], tuple[Fix, ...]]
OneByOne = Callable[[Hearing, Finding], Iterator[Fix]]
Numbers = Callable[[Hearing, Subject, tuple[str, ...]], dict[str, float]]  # for strips, and layers of the first


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """What is looked for, and what is done about it.

    ``threshold`` is the value of the quantity ``reads[0]`` from where it is a problem, ``source`` says where that comes from.
    ``subjects`` names what it is asked about in a session; ``find`` looks at one of them, and may ask of it what
    ``Hearing.reads`` covers, of the others nothing. ``fixes`` works out the ways out of a finding, and ``numbers`` reads the
    measures that those change. ``one_by_one`` gives the same fixes as they are asked for. A rule with ``ladder`` shows all its fixes side by side, on its stage's page.
    One that is asked ``first`` needs little to be heard and matters much: its findings are shown while the rest is still listened to.
    """

    name: str
    title: str
    over: Over
    reads: tuple[str, ...]  # quantities
    threshold: float
    source: str
    stage: str
    subjects: Callable[[Session], Iterable[Subject]]
    find: FindProblems
    fixes: WorkOutFixes
    numbers: Numbers
    ladder: bool = False
    one_by_one: OneByOne | None = None
    first: bool = False

    def each_fix(self, hearing: Hearing, finding: Finding) -> Iterator[Fix]:
        """The fixes in their order, each worked out when it is asked for."""
        if self.one_by_one is not None:
            yield from self.one_by_one(hearing, finding)
        else:
            yield from self.fixes(hearing, finding)

    def to_json(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "title": self.title,
            "over": self.over,
            "reads": list(self.reads),
            "threshold": self.threshold,
            "source": self.source,
            "stage": self.stage,
        }

    def asked_about(self, hearing: Hearing, subject: Subject) -> str:
        """What the answer depends on."""
        if self.over == "layers":
            read = [hearing.reads_of_layers(hearing.session.track(track_id)) for track_id in subject]
        else:
            read = [hearing.reads(hearing.session.strip(strip_id)) for strip_id in subject]
        whole = [] if self.over in ("track", "layers", "pair", "bus") else [hearing.session.digest]
        return "|".join((self.name, *read, *whole))


class Rules:
    """All rules by name. The modules of ``advise.rules`` enter theirs; they are loaded when somebody first asks."""

    def __init__(self) -> None:
        self._entered: dict[str, Rule] = {}

    def enter(self, rule: Rule) -> Rule:
        """Raises ParameterError where the name is taken, or a quantity it reads is not declared."""
        if rule.name in self._entered:
            raise ParameterError(f"there are two rules {rule.name!r}")
        for name in rule.reads:
            find_quantity(name)
        self._entered[rule.name] = rule
        return rule

    def leave(self, name: str) -> None:
        del self._entered[name]

    @property
    def _rules(self) -> dict[str, Rule]:
        importlib.import_module("zygotone.advise.rules")
        return self._entered

    def __iter__(self) -> Iterator[Rule]:
        return iter(tuple(self._rules.values()))

    def __contains__(self, name: object) -> bool:
        return name in self._rules

    def __getitem__(self, name: str) -> Rule:
        return self._rules[name]


RULES = Rules()


def share_lost(value: float, found: float, strong: float) -> float:
    """How much of what matters is lost: a fifth where a number has only just got to where it is ``found``, all of it at ``strong``
    or past it, a straight line between; 0 of what is no number."""
    if not math.isfinite(value):
        return 0.0
    return 0.2 + 0.8 * min(1.0, max(0.0, (value - found) / (strong - found)))


# How much of a loss counts by whose it is: the first seat's whole, the eighth's little more than a third (common practice: what keeps
# its place matters most).
_PER_SEAT = 0.09


def seat_of(strip: Strip) -> int:
    """Buses and the mix stand first: what is wrong with them is wrong with all of theirs."""
    return strip.seat if isinstance(strip, Track) else 1


def weighed(lost: float, seat: int = 1, long: float = 1.0) -> float:
    """Severity in the one currency of all findings: the share of what matters that is lost, 0 to 1, weighed by the seat of whose
    it is, and by the share of the time for which it is so (half counts for seven tenths). At least 0.05, as it was found.
    """
    seated = 1.0 - _PER_SEAT * min(7, max(0, seat - 1))
    return min(1.0, max(0.05, lost * seated * math.sqrt(min(1.0, max(0.0, long)))))


def finite(values: dict[str, float]) -> dict[str, float]:
    """Those that are numbers."""
    return {name: value for name, value in values.items() if math.isfinite(value)}
